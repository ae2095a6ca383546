"""The conditions of a claim, and the method and the instrument of a log."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.add_column("claim", sa.Column("span_bytes", sa.BigInteger()))
    op.add_column("claim", sa.Column("compressible_percent", sa.Integer()))
    for name in ("method", "instrument"):
        op.add_column(
            "instrument_log", sa.Column(name, sa.String(), nullable=False, server_default="")
        )
    op.add_column(
        "claim", sa.Column("conditions", sa.String(), nullable=False, server_default="")
    )
