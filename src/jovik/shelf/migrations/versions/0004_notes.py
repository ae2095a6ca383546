"""Notes by hand, and readings taken by other means."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "note",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("drive_id", sa.Integer(), nullable=False),
        sa.Column("sort", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("written", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["drive_id"], ["drive.id"], name=op.f("fk_note_drive_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_note")),
    )
    op.create_index(op.f("ix_note_drive_id"), "note", ["drive_id"])
    op.create_table(
        "reading",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("drive_id", sa.Integer(), nullable=False),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("value", sa.Float(), nullable=False),
        sa.Column("unit", sa.String(), nullable=False),
        sa.Column("method", sa.String(), nullable=False),
        sa.Column("instrument", sa.String(), nullable=False),
        sa.Column("phrase", sa.String(), nullable=True),
        sa.Column("written", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["drive_id"], ["drive.id"], name=op.f("fk_reading_drive_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_reading")),
    )
    op.create_index(op.f("ix_reading_drive_id"), "reading", ["drive_id"])
