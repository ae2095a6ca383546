"""Claims about the steady state."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column(
        "claim", sa.Column("steady", sa.Boolean(), nullable=False, server_default=sa.false())
    )
