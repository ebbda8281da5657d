"""The room as one plan per state, with undo and redo; takes remember where speaker and microphone were."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"

_SIZE = ("length_m", "width_m", "height_m", "temperature_c")


def upgrade() -> None:
    steps = op.create_table(
        "plan_steps",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("position", sa.Integer, nullable=False),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("plan", sa.JSON, nullable=False),
        sa.UniqueConstraint("job_id", "position"),
    )
    op.add_column("jobs", sa.Column("plan_position", sa.Integer))
    op.add_column("takes", sa.Column("places", sa.JSON))
    connection = op.get_bind()
    for job in connection.execute(sa.text("SELECT * FROM jobs")).mappings().all():
        connection.execute(
            steps.insert().values(job_id=job["id"], position=1, what="start", plan=_plan(connection, job))
        )
    connection.execute(sa.text("UPDATE jobs SET plan_position = 1"))
    for table in ("spots", "seats", "speakers"):
        op.drop_table(table)
    for column in _SIZE:
        op.execute(f"ALTER TABLE jobs DROP COLUMN {column}")


def _plan(connection: sa.Connection, job: sa.RowMapping) -> dict:
    """The plan of a job as the first version of the document of a room has it."""

    def rows(table: str, order: str) -> list[sa.RowMapping]:
        return (
            connection.execute(
                sa.text(f"SELECT * FROM {table} WHERE job_id = :job ORDER BY {order}"), {"job": job["id"]}
            )
            .mappings()
            .all()
        )

    def place(row: sa.RowMapping) -> dict:
        return {axis: row[axis] for axis in ("x_m", "y_m", "z_m")}

    speakers = rows("speakers", "id")
    channels = {s["channel"] for s in speakers}
    partners = {"L": "R", "R": "L"}
    return {
        "format": "dolce room",
        "version": 1,
        "room": {name: job[name] for name in _SIZE},
        "layout": "2.0" if channels == {"L", "R"} else "free",
        "speakers": [
            {
                "channel": s["channel"],
                "output": s["output"],
                "low_limit_hz": None,
                "partner": partners.get(s["channel"]),
                **place(s),
            }
            for s in speakers
        ],
        "seats": [
            {"id": s["id"], "name": s["name"], "is_main": k == 0, "weight": 1.0, **place(s)}
            for k, s in enumerate(rows("seats", "id"))
        ],
        "spots": [{"number": s["number"], "seat_id": s["seat_id"], **place(s)} for s in rows("spots", "number")],
    }
