"""Alignment and correction are values with versions; each keeps the round it starts from."""

import json

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    steps = op.create_table(
        "alignment_steps",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("position", sa.Integer, nullable=False),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("alignment", sa.JSON, nullable=False),
        sa.UniqueConstraint("job_id", "position"),
    )
    op.add_column("jobs", sa.Column("alignment_position", sa.Integer))
    op.execute("ALTER TABLE shape_steps RENAME TO correction_steps")
    op.execute("ALTER TABLE correction_steps RENAME COLUMN shape TO correction")
    op.execute("ALTER TABLE jobs RENAME COLUMN shape_position TO correction_position")
    connection = op.get_bind()
    jobs = connection.execute(sa.text("SELECT id, align_wish, correction_position FROM jobs")).mappings().all()
    for job in jobs:
        base = _base(connection, job["id"])
        alignment = _alignment(job["align_wish"], base)
        if alignment is not None:
            connection.execute(steps.insert().values(job_id=job["id"], position=1, what="start", alignment=alignment))
            connection.execute(sa.text("UPDATE jobs SET alignment_position = 1 WHERE id = :id"), {"id": job["id"]})
        _complete(connection, job["id"], base, alignment)
    op.execute("ALTER TABLE jobs DROP COLUMN align_wish")


def _base(connection: sa.Connection, job_id: int) -> int | None:
    """What older versions took to start from: the latest round with takes that was made while bypassed."""
    rows = (
        connection.execute(
            sa.text(
                "SELECT id, state FROM rounds WHERE job_id = :job AND state IS NOT NULL AND EXISTS "
                "(SELECT 1 FROM takes WHERE round_id = rounds.id) ORDER BY id DESC"
            ),
            {"job": job_id},
        )
        .mappings()
        .all()
    )
    return next((row["id"] for row in rows if json.loads(row["state"]).get("active") == "bypass"), None)


def _alignment(wish: str | None, base: int | None) -> dict | None:
    chosen = None if wish is None else json.loads(wish)
    if not chosen:
        return None
    return {
        "round_id": base,
        "channels": {channel: {**values, "high_pass": None, "low_pass": None} for channel, values in chosen.items()},
        "routing": None,
        "subs_together": True,
        "name": "",
    }


def _complete(connection: sa.Connection, job_id: int, base: int | None, alignment: dict | None) -> None:
    """Old corrections get the round that they started from, what they stood on, and all seats."""
    plan = connection.execute(
        sa.text(
            "SELECT plan FROM plan_steps JOIN jobs ON jobs.id = job_id AND position = plan_position WHERE job_id = :job"
        ),
        {"job": job_id},
    ).scalar()
    seats = json.loads(plan).get("seats", []) if plan else []
    seat_weighting = {"name": "All seats, weighted", "weights": {str(s["id"]): s.get("weight", 1.0) for s in seats}}
    for row in (
        connection.execute(sa.text("SELECT id, correction FROM correction_steps WHERE job_id = :job"), {"job": job_id})
        .mappings()
        .all()
    ):
        values = {
            **json.loads(row["correction"]),
            "round_id": base,
            "alignment": alignment,
            "seat_weighting": seat_weighting,
        }
        connection.execute(
            sa.text("UPDATE correction_steps SET correction = :value WHERE id = :id"),
            {"value": json.dumps(values), "id": row["id"]},
        )
