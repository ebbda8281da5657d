"""Jobs with room, rig, rounds, takes, passes, corrections and a logbook."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def _id() -> sa.Column:
    return sa.Column("id", sa.Integer, primary_key=True)


def _of(table: str) -> sa.Column:
    return sa.Column(
        f"{table[:-1]}_id", sa.Integer, sa.ForeignKey(f"{table}.id", ondelete="CASCADE"), nullable=False, index=True
    )


def _place() -> list[sa.Column]:
    return [sa.Column(axis, sa.Float, nullable=False) for axis in ("x_m", "y_m", "z_m")]


def upgrade() -> None:
    op.create_table(
        "jobs",
        _id(),
        *(sa.Column(name, sa.Text, nullable=False) for name in ("name", "place", "notes", "units")),
        *(sa.Column(name, sa.DateTime, nullable=False) for name in ("created_at", "changed_at")),
        sa.Column("deleted_at", sa.DateTime),
        sa.Column("seed", sa.Integer, nullable=False),
        *(sa.Column(name, sa.Float, nullable=False) for name in ("length_m", "width_m", "height_m", "temperature_c")),
        sa.Column("rig", sa.JSON, nullable=False),
        sa.Column("processor", sa.JSON, nullable=False),
        sa.Column("round_id", sa.Integer),
        sa.Column("align_wish", sa.JSON),
        sa.Column("shape_position", sa.Integer),
    )
    op.create_table(
        "speakers",
        _id(),
        _of("jobs"),
        sa.Column("channel", sa.Text, nullable=False),
        sa.Column("output", sa.Integer, nullable=False),
        *_place(),
    )
    op.create_table("seats", _id(), _of("jobs"), sa.Column("name", sa.Text, nullable=False), *_place())
    op.create_table(
        "spots",
        _id(),
        _of("jobs"),
        _of("seats"),
        sa.Column("number", sa.Integer, nullable=False),
        *_place(),
        sa.UniqueConstraint("job_id", "number"),
    )
    op.create_table(
        "rounds",
        _id(),
        _of("jobs"),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("state", sa.JSON),
        sa.Column("created_at", sa.DateTime, nullable=False),
    )
    op.create_table(
        "takes",
        _id(),
        _of("rounds"),
        sa.Column("channel", sa.Text, nullable=False),
        sa.Column("spot_number", sa.Integer, nullable=False),
        sa.Column("attempt", sa.Integer, nullable=False),
        sa.Column("taken_at", sa.DateTime, nullable=False),
        sa.Column("source", sa.Text, nullable=False),
        sa.Column("sample_rate_hz", sa.Integer, nullable=False),
        sa.Column("arrival_s", sa.Float, nullable=False),
        sa.Column("arrival_known", sa.Boolean, nullable=False),
        sa.Column("polarity", sa.Text, nullable=False),
        sa.Column("signal_to_noise_db", sa.Float, nullable=False),
        sa.Column("peak_dbfs", sa.Float, nullable=False),
        sa.Column("clipped_samples", sa.Integer, nullable=False),
        sa.Column("warnings", sa.JSON, nullable=False),
        sa.Column("level_db", sa.LargeBinary, nullable=False),
        sa.UniqueConstraint("round_id", "channel", "spot_number", "attempt"),
    )
    # Samples stand apart, so that a board of takes is read without them.
    op.create_table(
        "take_samples",
        sa.Column("take_id", sa.Integer, sa.ForeignKey("takes.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("response", sa.LargeBinary, nullable=False),
        sa.Column("response_start_s", sa.Float, nullable=False),
        sa.Column("recording", sa.LargeBinary, nullable=False),
        sa.Column("recording_name", sa.Text, nullable=False),
        sa.Column("sweep", sa.JSON, nullable=False),
    )
    op.create_table(
        "passes",
        _id(),
        _of("jobs"),
        *(sa.Column(name, sa.Text, nullable=False) for name in ("kind", "state", "message")),
        sa.Column("steps", sa.JSON, nullable=False),
        sa.Column("done_steps", sa.Integer, nullable=False),
        sa.Column("fraction", sa.Float, nullable=False),
        sa.Column("seconds_per_step", sa.Float, nullable=False),
        sa.Column("started_at", sa.DateTime, nullable=False),
        sa.Column("result", sa.JSON, nullable=False),
    )
    # One sound at a time in the whole application: the second one to start is refused by the file itself.
    op.create_index("one_running_pass", "passes", ["state"], unique=True, sqlite_where=sa.text("state = 'running'"))
    op.create_table(
        "shape_steps",
        _id(),
        _of("jobs"),
        sa.Column("position", sa.Integer, nullable=False),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("shape", sa.JSON, nullable=False),
        sa.UniqueConstraint("job_id", "position"),
    )
    op.create_table(
        "logbook",
        _id(),
        _of("jobs"),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("text", sa.Text, nullable=False),
    )
