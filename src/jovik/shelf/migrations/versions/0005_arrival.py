"""In which order runs arrived, and where those came from that were not measured here."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.add_column("run", sa.Column("arrival", sa.Integer(), nullable=True))
    op.add_column("run", sa.Column("imported", sa.String(), nullable=True))
    run = sa.table("run", sa.column("id"), sa.column("started"), sa.column("arrival"))
    connection = op.get_bind()
    found = connection.execute(sa.select(run.c.id).order_by(run.c.started, run.c.id)).scalars()
    for number, key in enumerate(found.all(), 1):
        connection.execute(run.update().where(run.c.id == key).values(arrival=number))
