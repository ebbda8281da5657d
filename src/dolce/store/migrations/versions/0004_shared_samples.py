"""Samples stand apart from takes, so that copies of a job share them; contents have checksums; starts are counted."""

import hashlib

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def _checksum(*parts: bytes) -> str:
    digest = hashlib.blake2b(digest_size=16)
    for part in parts:
        digest.update(part)
    return digest.hexdigest()


def upgrade() -> None:
    op.get_bind().connection.driver_connection.create_function("checksum", -1, _checksum, deterministic=True)
    op.create_table(
        "samples",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("response", sa.LargeBinary, nullable=False),
        sa.Column("response_start_s", sa.Float, nullable=False),
        sa.Column("recording", sa.LargeBinary, nullable=False),
        sa.Column("recording_name", sa.Text, nullable=False),
        sa.Column("sweep", sa.JSON, nullable=False),
        sa.Column("checksum", sa.Text, nullable=False),
    )
    op.execute(
        "INSERT INTO samples (id, response, response_start_s, recording, recording_name, sweep, checksum) "
        "SELECT take_id, response, response_start_s, recording, recording_name, sweep, "
        "checksum(response, recording) FROM take_samples"
    )
    op.execute("ALTER TABLE takes ADD COLUMN samples_id INTEGER REFERENCES samples (id)")
    op.add_column("takes", sa.Column("checksum", sa.Text))
    op.execute(
        "UPDATE takes SET checksum = checksum(level_db), "
        "samples_id = (SELECT id FROM samples WHERE samples.id = takes.id)"
    )
    op.create_index("takes_of_samples", "takes", ["samples_id"])
    op.drop_table("take_samples")
    op.create_table(
        "starts", sa.Column("id", sa.Integer, primary_key=True), sa.Column("at", sa.DateTime, nullable=False)
    )
