"""Sets of tolerances of the calibrator's own."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.create_table(
        "tolerances",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("deleted_at", sa.DateTime),
        sa.Column("data", sa.JSON, nullable=False),
    )
