"""The conditions of a claim: a file size, a payload, and the maker's own words."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.add_column("claim", sa.Column("span_bytes", sa.BigInteger()))
    op.add_column("claim", sa.Column("compressible_percent", sa.Integer()))
    op.add_column(
        "claim", sa.Column("conditions", sa.String(), nullable=False, server_default="")
    )
