"""Takes have a note, may be left out with a reason, removed, or preferred; rounds count such edits."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("takes", sa.Column("note", sa.Text, nullable=False, server_default=""))
    op.add_column("takes", sa.Column("left_out", sa.Text, nullable=False, server_default=""))
    op.add_column("takes", sa.Column("removed", sa.Boolean, nullable=False, server_default=sa.false()))
    op.add_column("takes", sa.Column("preferred", sa.Integer, nullable=False, server_default="0"))
    op.add_column("rounds", sa.Column("edits", sa.Integer, nullable=False, server_default="0"))
