"""`python -m jovik`."""

from jovik.cli import main

if __name__ == "__main__":
    main()
