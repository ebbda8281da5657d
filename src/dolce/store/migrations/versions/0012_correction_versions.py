"""Corrections are kept by name, and targets for all jobs."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.create_table(
        "correction_versions",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("correction", sa.JSON, nullable=False),
        sa.UniqueConstraint("job_id", "name"),
    )
    op.create_table(
        "targets",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("deleted_at", sa.DateTime),
        sa.Column("data", sa.JSON, nullable=False),
    )
