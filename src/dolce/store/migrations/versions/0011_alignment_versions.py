"""Alignments are kept by name."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.create_table(
        "alignment_versions",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("alignment", sa.JSON, nullable=False),
        sa.UniqueConstraint("job_id", "name"),
    )
