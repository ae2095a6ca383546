"""The address of a drive's page on a site."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.add_column("drive", sa.Column("address", sa.String()))
    op.create_index(op.f("ix_drive_address"), "drive", ["address"], unique=True)
