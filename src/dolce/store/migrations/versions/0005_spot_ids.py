"""Takes hang on the id of a spot, which stays; its number is for people. So far both were the same."""

from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.execute("ALTER TABLE takes RENAME COLUMN spot_number TO spot_id")
