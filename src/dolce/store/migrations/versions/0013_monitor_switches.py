"""Switches at monitors' backs are kept for all jobs."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "monitor_switches",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("deleted_at", sa.DateTime),
        sa.Column("data", sa.JSON, nullable=False),
    )
