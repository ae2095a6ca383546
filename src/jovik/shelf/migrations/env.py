"""Alembic's way in: runs on the connection that `opening` gives it."""

from alembic import context

context.configure(
    connection=context.config.attributes["connection"], target_metadata=None, render_as_batch=True
)
with context.begin_transaction():
    context.run_migrations()
