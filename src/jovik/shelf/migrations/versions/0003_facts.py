"""What only some sorts of step tell, and whether a step was finished."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    with op.batch_alter_table("step") as step:
        step.add_column(sa.Column("facts", sa.JSON))
        step.add_column(sa.Column("finished", sa.Boolean))
    with op.batch_alter_table("pass") as one:
        one.add_column(sa.Column("facts", sa.JSON))
        one.add_column(sa.Column("late_written_bytes", sa.BigInteger))
