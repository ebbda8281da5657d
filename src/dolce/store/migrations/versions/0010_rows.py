"""What is taken besides channels one by one: rows, and what is kept with a take of several channels or repeats."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.add_column("jobs", sa.Column("rows", sa.Text))
    # Boards that are full stay so: all subs together are a row of new jobs only.
    op.execute("UPDATE jobs SET rows = '{\"subs_together\": false}'")
    op.add_column("takes", sa.Column("signal", sa.Text))
    op.add_column("takes", sa.Column("sounded", sa.JSON))
    op.add_column("takes", sa.Column("repeats", sa.Integer, nullable=False, server_default="1"))
    op.add_column("takes", sa.Column("repeats_db", sa.Float))
    op.add_column("takes", sa.Column("level_dbfs", sa.Float))
