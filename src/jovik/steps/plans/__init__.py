"""The plans that ship with Jovik, a TOML file each."""
