"""How a shelf gets from one revision to the next (Alembic)."""
