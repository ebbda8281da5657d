"""Which job's room, seats and spots a job follows."""

from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    op.execute("ALTER TABLE jobs ADD COLUMN follows_id INTEGER REFERENCES jobs (id) ON DELETE SET NULL")
