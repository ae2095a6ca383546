"""Samples, target devices, health logs before and after, and the pass environment."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "unit",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("drive_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("serial_hash", sa.String(), nullable=False),
        sa.Column("serial_tail", sa.String(), nullable=False),
        sa.Column("firmware", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["drive_id"], ["drive.id"], name=op.f("fk_unit_drive_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_unit")),
        sa.UniqueConstraint("drive_id", "serial_hash", name=op.f("uq_unit_drive_id_serial_hash")),
    )
    with op.batch_alter_table("run") as run:
        run.add_column(sa.Column("unit_id", sa.Integer(), nullable=True))
        run.create_foreign_key(op.f("fk_run_unit_id"), "unit", ["unit_id"], ["id"])
        for name in ("device", "health_before", "health_after", "notes"):
            run.add_column(sa.Column(name, sa.JSON(), nullable=True))
    op.add_column("rig", sa.Column("notes", sa.String(), nullable=True))
    op.add_column("pass", sa.Column("environment", sa.JSON(), nullable=True))
