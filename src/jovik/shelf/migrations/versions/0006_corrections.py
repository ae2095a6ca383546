"""What was set aside and why, what was changed, and what a run met on its machine."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("run", sa.Column("excluded", sa.String(), nullable=True))
    op.add_column("run", sa.Column("circumstances", sa.JSON(), nullable=True))
    op.add_column("step", sa.Column("excluded", sa.String(), nullable=True))
    op.add_column("note", sa.Column("happened", sa.String(), nullable=True))
    op.add_column("note", sa.Column("run", sa.String(), nullable=True))
    op.add_column("drive", sa.Column("flash_bytes", sa.BigInteger(), nullable=True))
    op.add_column("drive", sa.Column("class_name", sa.String(), nullable=True))
    op.create_table(
        "change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("made", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("before", sa.String(), nullable=True),
        sa.Column("after", sa.String(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_change")),
    )
