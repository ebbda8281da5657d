"""The tables as rows. They stay inside the store."""

from datetime import datetime

from sqlalchemy import JSON, ForeignKey, LargeBinary, String
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from dolce.core.job import PassKind, PassState, TakeSource, Units
from dolce.core.response import Polarity
from dolce.core.signals import SignalKind


class Row(DeclarativeBase):
    """Base of all rows."""


class StepRow(Row):
    """What the rows of all states have that can be undone; each kind adds a value."""

    __abstract__ = True
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    position: Mapped[int]
    what: Mapped[str]


class JobRow(Row):
    __tablename__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    place: Mapped[str]
    notes: Mapped[str]
    units: Mapped[Units] = mapped_column(String)
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    deleted_at: Mapped[datetime | None]
    seed: Mapped[int]
    # As text: a job that can't be decoded must not keep the list of the others from being read.
    rig: Mapped[str]
    processor_id: Mapped[str | None] = mapped_column(ForeignKey("states.id"))
    simulated_id: Mapped[str | None] = mapped_column(ForeignKey("states.id"))
    round_id: Mapped[int | None]
    alignment_position: Mapped[int | None]
    correction_position: Mapped[int | None]
    plan_position: Mapped[int | None]
    rows: Mapped[str | None]
    follows_id: Mapped[int | None] = mapped_column(ForeignKey("jobs.id", ondelete="SET NULL"))


class StateRow(Row):
    """What a processor held, under the hash of its text; kept once."""

    __tablename__ = "states"
    id: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[str]
    bypassed: Mapped[bool]
    corrects: Mapped[bool]


class TapsRow(Row):
    """Samples of a convolution, under their hash."""

    __tablename__ = "taps"
    id: Mapped[str] = mapped_column(primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class StateTapsRow(Row):
    __tablename__ = "state_taps"
    state_id: Mapped[str] = mapped_column(ForeignKey("states.id", ondelete="CASCADE"), primary_key=True)
    taps_id: Mapped[str] = mapped_column(ForeignKey("taps.id"), primary_key=True)


class PlanStepRow(StepRow):
    __tablename__ = "plan_steps"
    plan: Mapped[dict] = mapped_column(JSON)


class RoundRow(Row):
    __tablename__ = "rounds"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    name: Mapped[str]
    state_id: Mapped[str | None] = mapped_column(ForeignKey("states.id"))
    created_at: Mapped[datetime]
    edits: Mapped[int] = mapped_column(default=0)


class TakeRow(Row):
    __tablename__ = "takes"
    id: Mapped[int] = mapped_column(primary_key=True)
    round_id: Mapped[int] = mapped_column(ForeignKey("rounds.id"))
    channel: Mapped[str]
    spot_id: Mapped[int]
    attempt: Mapped[int]
    taken_at: Mapped[datetime]
    source: Mapped[TakeSource] = mapped_column(String)
    sample_rate_hz: Mapped[int]
    arrival_s: Mapped[float]
    arrival_known: Mapped[bool]
    polarity: Mapped[Polarity] = mapped_column(String)
    signal_to_noise_db: Mapped[float]
    peak_dbfs: Mapped[float]
    clipped_samples: Mapped[int]
    warnings: Mapped[list] = mapped_column(JSON)
    level_db: Mapped[bytes] = mapped_column(LargeBinary)
    places: Mapped[dict | None] = mapped_column(JSON(none_as_null=True))
    checksum: Mapped[str | None]
    recorder: Mapped[str | None]
    samples_id: Mapped[int | None] = mapped_column(ForeignKey("samples.id"))
    note: Mapped[str] = mapped_column(default="")
    left_out: Mapped[str] = mapped_column(default="")
    removed: Mapped[bool] = mapped_column(default=False)
    preferred: Mapped[int] = mapped_column(default=0)
    signal: Mapped[SignalKind | None] = mapped_column(String)
    sounded: Mapped[list | None] = mapped_column(JSON(none_as_null=True))
    repeats: Mapped[int] = mapped_column(default=1)
    repeats_db: Mapped[float | None]
    level_dbfs: Mapped[float | None]


class SamplesRow(Row):
    """Never changed once kept; copies of a job share them."""

    __tablename__ = "samples"
    id: Mapped[int] = mapped_column(primary_key=True)
    response: Mapped[bytes] = mapped_column(LargeBinary)
    response_start_s: Mapped[float]
    recording: Mapped[bytes] = mapped_column(LargeBinary)
    recording_name: Mapped[str]
    sweep: Mapped[dict] = mapped_column(JSON)
    checksum: Mapped[str]
    fine_db: Mapped[bytes | None] = mapped_column(LargeBinary)
    fine_checksum: Mapped[str | None]


class PassRow(Row):
    __tablename__ = "passes"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    kind: Mapped[PassKind] = mapped_column(String)
    state: Mapped[PassState] = mapped_column(String)
    message: Mapped[str]
    steps: Mapped[list] = mapped_column(JSON)
    done_steps: Mapped[int]
    fraction: Mapped[float]
    seconds_per_step: Mapped[float]
    started_at: Mapped[datetime]
    result: Mapped[dict | None] = mapped_column(JSON, nullable=False)


class AlignmentStepRow(StepRow):
    __tablename__ = "alignment_steps"
    alignment: Mapped[dict] = mapped_column(JSON)


class CorrectionStepRow(StepRow):
    __tablename__ = "correction_steps"
    correction: Mapped[dict] = mapped_column(JSON)


class LogbookRow(Row):
    __tablename__ = "logbook"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    at: Mapped[datetime]
    text: Mapped[str]


class ShelfRow(Row):
    """What is saved by name for every job, and can be deleted and brought back."""

    __abstract__ = True
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    deleted_at: Mapped[datetime | None]
    data: Mapped[dict] = mapped_column(JSON)


class MicrophoneRow(ShelfRow):
    __tablename__ = "microphones"


class ProcessorRow(ShelfRow):
    __tablename__ = "processors"


class SelectionRow(Row):
    __tablename__ = "selections"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id", ondelete="CASCADE"))
    name: Mapped[str]
    address: Mapped[str]


class VersionRow(Row):
    """What is saved by name in a job; each kind adds a value."""

    __abstract__ = True
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id", ondelete="CASCADE"))
    name: Mapped[str]
    at: Mapped[datetime]


class AlignmentVersionRow(VersionRow):
    __tablename__ = "alignment_versions"
    alignment: Mapped[dict] = mapped_column(JSON)


class CorrectionVersionRow(VersionRow):
    __tablename__ = "correction_versions"
    correction: Mapped[dict] = mapped_column(JSON)


class TargetRow(ShelfRow):
    __tablename__ = "targets"


class MonitorSwitchesRow(ShelfRow):
    __tablename__ = "monitor_switches"


class ToleranceRow(ShelfRow):
    __tablename__ = "tolerances"


class ReportRow(Row):
    __tablename__ = "reports"
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id", ondelete="CASCADE"), primary_key=True)
    data: Mapped[dict] = mapped_column(JSON)


class KeptStateRow(Row):
    __tablename__ = "kept_states"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    at: Mapped[datetime]
    state_id: Mapped[str] = mapped_column(ForeignKey("states.id"))


class StartRow(Row):
    __tablename__ = "starts"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime]
