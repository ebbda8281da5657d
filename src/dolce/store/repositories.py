"""What the store can be asked for. Rows go no further than here."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import delete, func, select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from dolce.core.geometry import Point, RoomSize
from dolce.core.job import Job, LogEntry, PassRecord, Rig, Round, Seat, Speaker, Spot, TakeRecord
from dolce.core.processor import ProcessorState
from dolce.core.response import Capture, ImpulseResponse, Quality
from dolce.core.shape import Shape
from dolce.core.signals import Sweep
from dolce.errors import Conflict, NotFound
from dolce.store import encoding
from dolce.store.models import (
    JobRow,
    LogbookRow,
    PassRow,
    RoundRow,
    SeatRow,
    ShapeStepRow,
    SpeakerRow,
    SpotRow,
    TakeRow,
    TakeSamplesRow,
)


def _point(row: SpeakerRow | SeatRow | SpotRow) -> Point:
    return Point(x_m=row.x_m, y_m=row.y_m, z_m=row.z_m)


def _place(row: SpeakerRow | SeatRow | SpotRow, point: Point) -> None:
    row.x_m, row.y_m, row.z_m = point.x_m, point.y_m, point.z_m


def _axes(point: Point) -> dict[str, float]:
    return {"x_m": point.x_m, "y_m": point.y_m, "z_m": point.z_m}


class Jobs:
    """Jobs with their room, rig and processor."""

    def __init__(self, session: Session) -> None:
        self._session = session
        # The session forgets rows that nobody holds, and would ask for a job again at every turn.
        self._held: dict[int, JobRow] = {}

    def all(self) -> list[Job]:
        """Jobs that are not deleted, the last changed first."""
        rows = self._session.scalars(select(JobRow).where(JobRow.deleted_at.is_(None))
                                     .order_by(JobRow.changed_at.desc(), JobRow.id.desc()))
        return [self._job(row) for row in rows]

    def deleted(self) -> list[tuple[int, str, datetime]]:
        """Number, name and moment of the jobs that can still be brought back, the latest first."""
        rows = self._session.scalars(select(JobRow).where(JobRow.deleted_at.is_not(None))
                                     .order_by(JobRow.deleted_at.desc()))
        return [(row.id, row.name, row.deleted_at) for row in rows]

    def get(self, job_id: int) -> Job:
        """One job that is not deleted, or NotFound."""
        return self._job(self._row(job_id))

    def add(self, *, name: str, place: str, notes: str, units: str, room: RoomSize, speakers: Sequence[Speaker],
            seat_name: str, seat: Point, spots: Sequence[Point], rig: Rig, seed: int, at: datetime) -> Job:
        """A new job with one round "Untouched"."""
        row = JobRow(name=name, place=place, notes=notes, units=units, created_at=at, changed_at=at, seed=seed,
                     length_m=room.length_m, width_m=room.width_m, height_m=room.height_m,
                     temperature_c=room.temperature_c, rig=encoding.rig_values(rig),
                     processor=encoding.processor_values(ProcessorState()))
        row.speakers = [SpeakerRow(channel=s.channel, output=s.output, **_axes(s.place)) for s in speakers]
        row.seats = [SeatRow(name=seat_name, **_axes(seat))]
        self._session.add(row)
        self._session.flush()
        row.spots = [SpotRow(number=n, seat_id=row.seats[0].id, **_axes(p)) for n, p in enumerate(spots, 1)]
        first = RoundRow(job_id=row.id, name="Untouched", created_at=at)
        self._session.add(first)
        self._session.flush()
        row.round_id = first.id
        return self._job(row)

    def rename(self, job_id: int, *, name: str, place: str, notes: str, units: str) -> None:
        row = self._row(job_id)
        row.name, row.place, row.notes, row.units = name, place, notes, units

    def touch(self, job_id: int, at: datetime) -> None:
        self._row(job_id).changed_at = at

    def delete(self, job_id: int, at: datetime) -> None:
        """Set aside; nothing is lost until `purge`."""
        self._row(job_id).deleted_at = at

    def restore(self, job_id: int) -> None:
        row = self._session.get(JobRow, job_id)
        if row is None:
            raise NotFound(f"job {job_id} is gone for good.", where="jobs")
        row.deleted_at = None

    def purge(self, *, deleted_before: datetime) -> None:
        """Remove for good what was deleted before a moment."""
        self._session.execute(delete(JobRow).where(JobRow.deleted_at < deleted_before))

    def set_room(self, job_id: int, room: RoomSize) -> None:
        row = self._row(job_id)
        row.length_m, row.width_m = room.length_m, room.width_m
        row.height_m, row.temperature_c = room.height_m, room.temperature_c

    def place_speaker(self, job_id: int, channel: str, point: Point, output: int | None = None) -> None:
        for row in self._row(job_id).speakers:
            if row.channel == channel:
                _place(row, point)
                row.output = row.output if output is None else output

    def place_seat(self, job_id: int, name: str, point: Point) -> None:
        row = self._row(job_id).seats[0]
        row.name = name
        _place(row, point)

    def place_spot(self, job_id: int, number: int, point: Point) -> None:
        for row in self._row(job_id).spots:
            if row.number == number:
                _place(row, point)

    def set_spots(self, job_id: int, points: Sequence[Point]) -> None:
        """Replace all spots by new ones, numbered from 1."""
        row = self._row(job_id)
        row.spots.clear()
        self._session.flush()
        row.spots = [SpotRow(number=n, seat_id=row.seats[0].id, **_axes(p)) for n, p in enumerate(points, 1)]

    def set_rig(self, job_id: int, rig: Rig) -> None:
        self._row(job_id).rig = encoding.rig_values(rig)

    def set_processor(self, job_id: int, state: ProcessorState) -> None:
        self._row(job_id).processor = encoding.processor_values(state)

    def set_round(self, job_id: int, round_id: int) -> None:
        self._row(job_id).round_id = round_id

    def align_wish(self, job_id: int) -> dict | None:
        """Trims and delays that the calibrator chose, or None."""
        return self._row(job_id).align_wish

    def set_align_wish(self, job_id: int, wish: dict | None) -> None:
        self._row(job_id).align_wish = wish

    def _row(self, job_id: int) -> JobRow:
        row = self._held.get(job_id) or self._session.get(JobRow, job_id)
        if row is None or row.deleted_at is not None:
            raise NotFound(f"there is no job {job_id}.", where="jobs", remedy="Go back to the list of jobs.")
        self._held[job_id] = row
        return row

    @staticmethod
    def _job(row: JobRow) -> Job:
        seat = row.seats[0]
        return Job(
            id=row.id, name=row.name, place=row.place, notes=row.notes, units=row.units, created_at=row.created_at,
            changed_at=row.changed_at, seed=row.seed,
            room=RoomSize(length_m=row.length_m, width_m=row.width_m, height_m=row.height_m,
                          temperature_c=row.temperature_c),
            speakers=tuple(Speaker(channel=s.channel, place=_point(s), output=s.output) for s in row.speakers),
            seat=Seat(id=seat.id, name=seat.name, place=_point(seat)),
            spots=tuple(Spot(id=s.id, number=s.number, seat_id=s.seat_id, place=_point(s)) for s in row.spots),
            rig=encoding.rig_of(row.rig), processor=encoding.processor_of(row.processor), round_id=row.round_id)


class Takes:
    """Rounds and takes."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def rounds(self, job_id: int) -> list[Round]:
        rows = self._session.scalars(select(RoundRow).where(RoundRow.job_id == job_id).order_by(RoundRow.id))
        return [self._round(row) for row in rows]

    def add_round(self, job_id: int, *, name: str, at: datetime) -> Round:
        row = RoundRow(job_id=job_id, name=name, created_at=at)
        self._session.add(row)
        self._session.flush()
        return self._round(row)

    def set_round_state(self, round_id: int, state: ProcessorState) -> None:
        self._session.get_one(RoundRow, round_id).state = encoding.processor_values(state)

    def rename_round(self, round_id: int, name: str) -> None:
        self._session.get_one(RoundRow, round_id).name = name

    def latest(self, round_id: int) -> list[TakeRecord]:
        """The last attempt of every channel at every spot of a round."""
        newest = (select(func.max(TakeRow.id)).where(TakeRow.round_id == round_id)
                  .group_by(TakeRow.channel, TakeRow.spot_number))
        rows = self._session.scalars(select(TakeRow).where(TakeRow.id.in_(newest))
                                     .order_by(TakeRow.channel, TakeRow.spot_number))
        return [self._take(row) for row in rows]

    def newest(self, round_id: int) -> tuple[int, datetime] | None:
        """Number and moment of a round's last take: while they stay, so do its curves."""
        row = self._session.execute(select(TakeRow.id, TakeRow.taken_at).where(TakeRow.round_id == round_id)
                                    .order_by(TakeRow.id.desc()).limit(1)).first()
        return None if row is None else (row.id, row.taken_at)

    def has_any(self, round_id: int) -> bool:
        return self._session.scalar(select(TakeRow.id).where(TakeRow.round_id == round_id).limit(1)) is not None

    def usable_count(self, round_id: int) -> int:
        """How many cells of a round hold a usable last attempt; reads no curves."""
        newest = (select(func.max(TakeRow.id)).where(TakeRow.round_id == round_id)
                  .group_by(TakeRow.channel, TakeRow.spot_number))
        rows = self._session.execute(select(TakeRow.signal_to_noise_db, TakeRow.peak_dbfs, TakeRow.clipped_samples)
                                     .where(TakeRow.id.in_(newest)))
        return sum(Quality(signal_to_noise_db=noise, peak_dbfs=peak, clipped_samples=clipped).usable
                   for noise, peak, clipped in rows)

    def count_by_spot(self, job_id: int) -> dict[int, int]:
        """How many takes each spot number has over all rounds."""
        rows = self._session.execute(select(TakeRow.spot_number, func.count()).join(
            RoundRow, RoundRow.id == TakeRow.round_id).where(RoundRow.job_id == job_id).group_by(TakeRow.spot_number))
        return {number: count for number, count in rows}                     # noqa: C416

    def attempts(self, round_id: int, channel: str, spot_number: int) -> int:
        return self._session.scalar(select(func.count()).select_from(TakeRow).where(
            TakeRow.round_id == round_id, TakeRow.channel == channel, TakeRow.spot_number == spot_number)) or 0

    def add(self, *, round_id: int, channel: str, spot_number: int, at: datetime, source: str, capture: Capture,
            level_db, arrival_known: bool, recording: bytes, recording_name: str, sweep: Sweep,
            warnings: Sequence[str] = ()) -> int:
        """Keep a take with its samples; earlier attempts stay below it. Returns its number."""
        response = capture.response
        row = TakeRow(
            round_id=round_id, channel=channel, spot_number=spot_number,
            attempt=self.attempts(round_id, channel, spot_number) + 1, taken_at=at, source=source,
            sample_rate_hz=response.sample_rate_hz, arrival_s=capture.arrival.time_s, arrival_known=arrival_known,
            polarity=capture.arrival.polarity, signal_to_noise_db=capture.quality.signal_to_noise_db,
            peak_dbfs=capture.quality.peak_dbfs, clipped_samples=capture.quality.clipped_samples,
            warnings=[*capture.warnings, *warnings], level_db=encoding.array_bytes(level_db, kind="<f8"))
        self._session.add(row)
        self._session.flush()
        self._session.add(TakeSamplesRow(
            take_id=row.id, response=encoding.array_bytes(response.sample, kind="<f4"),
            response_start_s=response.start_s, recording=recording, recording_name=recording_name,
            sweep={name: getattr(sweep, name) for name in sweep.__slots__}))
        return row.id

    def get(self, take_id: int) -> TakeRecord:
        row = self._session.get(TakeRow, take_id)
        if row is None:
            raise NotFound(f"there is no take {take_id}.", where="takes", remedy="Reload the page.")
        return self._take(row)

    def job_of(self, take_id: int) -> int | None:
        """Number of the job that a take belongs to."""
        return self._session.scalar(select(RoundRow.job_id).join(TakeRow, TakeRow.round_id == RoundRow.id).where(
            TakeRow.id == take_id))

    def response(self, take_id: int) -> ImpulseResponse:
        """The impulse response of a take."""
        take, samples = self._session.get(TakeRow, take_id), self._session.get(TakeSamplesRow, take_id)
        if take is None or samples is None:
            raise NotFound(f"there is no take {take_id}.", where="takes", remedy="Reload the page.")
        return ImpulseResponse(sample=encoding.bytes_array(samples.response, kind="<f4"),
                               sample_rate_hz=take.sample_rate_hz, start_s=samples.response_start_s)

    def recording(self, take_id: int) -> tuple[bytes, str]:
        """The raw recording as it was kept, and its file name."""
        row = self._session.get(TakeSamplesRow, take_id)
        if row is None:
            raise NotFound(f"there is no take {take_id}.", where="takes", remedy="Reload the page.")
        return row.recording, row.recording_name

    def copy_all(self, from_job: int, to_job: int) -> dict[int, int]:
        """Copy rounds and takes of a job; returns new round numbers by old ones."""
        renumbered = {}
        for row in self._session.scalars(select(RoundRow).where(RoundRow.job_id == from_job).order_by(RoundRow.id)):
            new = RoundRow(job_id=to_job, name=row.name, state=row.state, created_at=row.created_at)
            self._session.add(new)
            self._session.flush()
            renumbered[row.id] = new.id
            for take in self._session.scalars(select(TakeRow).where(TakeRow.round_id == row.id).order_by(TakeRow.id)):
                copied = TakeRow(**{c.name: getattr(take, c.name) for c in TakeRow.__table__.columns
                                    if c.name not in ("id", "round_id")}, round_id=new.id)
                self._session.add(copied)
                self._session.flush()
                samples = self._session.get_one(TakeSamplesRow, take.id)
                self._session.add(TakeSamplesRow(
                    **{c.name: getattr(samples, c.name) for c in TakeSamplesRow.__table__.columns
                       if c.name != "take_id"}, take_id=copied.id))
                self._session.flush()
                self._session.expunge(samples)                       # samples are large: one at a time
        return renumbered

    def remove_rounds(self, job_id: int) -> None:
        self._session.execute(delete(RoundRow).where(RoundRow.job_id == job_id))

    @staticmethod
    def _round(row: RoundRow) -> Round:
        return Round(id=row.id, name=row.name, created_at=row.created_at,
                     state=None if row.state is None else encoding.processor_of(row.state))

    @staticmethod
    def _take(row: TakeRow) -> TakeRecord:
        return TakeRecord(
            id=row.id, round_id=row.round_id, channel=row.channel, spot_number=row.spot_number, attempt=row.attempt,
            taken_at=row.taken_at, source=row.source, sample_rate_hz=row.sample_rate_hz, arrival_s=row.arrival_s,
            arrival_known=row.arrival_known, polarity=row.polarity, warnings=tuple(row.warnings),
            quality=Quality(signal_to_noise_db=row.signal_to_noise_db, peak_dbfs=row.peak_dbfs,
                            clipped_samples=row.clipped_samples),
            level_db=encoding.bytes_array(row.level_db, kind="<f8"))


class Passes:
    """Work with sound and where it stands."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def start(self, job_id: int, *, kind: str, steps: Sequence[tuple[str, int]], seconds_per_step: float,
              at: datetime) -> PassRecord:
        """A new running pass, or Conflict where one is running already."""
        row = PassRow(job_id=job_id, kind=kind, state="running", message="", steps=[list(s) for s in steps],
                      done_steps=0, fraction=0.0, seconds_per_step=seconds_per_step, started_at=at, result={})
        self._session.add(row)
        try:
            self._session.flush()
        except IntegrityError:
            self._session.rollback()
            raise Conflict("sound is playing already, perhaps from another tab.", where="pass",
                           remedy="Wait until it ends, or stop it first.") from None
        return self._record(row)

    def get(self, pass_id: int) -> PassRecord:
        return self._record(self._session.get_one(PassRow, pass_id))

    def running(self) -> PassRecord | None:
        """The one that makes sound now, in whichever job."""
        row = self._session.scalar(select(PassRow).where(PassRow.state == "running"))
        return None if row is None else self._record(row)

    def latest(self, job_id: int, kind: str) -> PassRecord | None:
        row = self._session.scalar(select(PassRow).where(PassRow.job_id == job_id, PassRow.kind == kind)
                                   .order_by(PassRow.id.desc()).limit(1))
        return None if row is None else self._record(row)

    def advance(self, pass_id: int, *, done_steps: int, fraction: float) -> None:
        self._session.execute(update(PassRow).where(PassRow.id == pass_id).values(
            done_steps=done_steps, fraction=fraction))

    def finish(self, pass_id: int, *, state: str, message: str = "", result: dict | None = None) -> None:
        self._session.execute(update(PassRow).where(PassRow.id == pass_id).values(
            state=state, message=message, **({} if result is None else {"result": result})))

    def interrupt_running(self) -> None:
        """After a start: what still counts as running was cut off with the process that ran it."""
        self._session.execute(update(PassRow).where(PassRow.state == "running").values(
            state="interrupted", message="The application was closed in the middle of this pass."))

    @staticmethod
    def _record(row: PassRow) -> PassRecord:
        return PassRecord(id=row.id, job_id=row.job_id, kind=row.kind, state=row.state,
                          steps=tuple((channel, spot) for channel, spot in row.steps), done_steps=row.done_steps,
                          fraction=row.fraction, seconds_per_step=row.seconds_per_step, message=row.message,
                          started_at=row.started_at, result=row.result)


class Shapes:
    """The states of the Shape stop, with undo and redo."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def current(self, job_id: int) -> Shape | None:
        step = self._step(job_id, self._position(job_id))
        return None if step is None else encoding.shape_of(step.shape)

    def add(self, job_id: int, shape: Shape, *, what: str) -> None:
        """Make `shape` the current state; what had been undone is dropped."""
        position = self._position(job_id)
        self._session.execute(delete(ShapeStepRow).where(ShapeStepRow.job_id == job_id,
                                                         ShapeStepRow.position > position))
        self._session.add(ShapeStepRow(job_id=job_id, position=position + 1, what=what,
                                       shape=encoding.shape_values(shape)))
        self._move(job_id, position + 1)

    def neighbours(self, job_id: int) -> tuple[str | None, str | None]:
        """What undo would take back and what redo would do again; None where there is nothing."""
        position = self._position(job_id)
        now, later = self._step(job_id, position), self._step(job_id, position + 1)
        return (now.what if now and position > 1 else None), (later.what if later else None)

    def undo(self, job_id: int) -> None:
        if self._position(job_id) <= 1:
            raise Conflict("there is nothing to undo.", where="shape")
        self._move(job_id, self._position(job_id) - 1)

    def redo(self, job_id: int) -> None:
        if self._step(job_id, self._position(job_id) + 1) is None:
            raise Conflict("there is nothing to do again.", where="shape")
        self._move(job_id, self._position(job_id) + 1)

    def position(self, job_id: int) -> int:
        """Number of the current state; 0 where there is none yet."""
        return self._position(job_id)

    def _position(self, job_id: int) -> int:
        return self._session.scalar(select(JobRow.shape_position).where(JobRow.id == job_id)) or 0

    def _move(self, job_id: int, position: int) -> None:
        self._session.get_one(JobRow, job_id).shape_position = position
        self._session.flush()

    def _step(self, job_id: int, position: int) -> ShapeStepRow | None:
        return self._session.scalar(select(ShapeStepRow).where(ShapeStepRow.job_id == job_id,
                                                               ShapeStepRow.position == position))


class Logbook:
    """What was done, when, and what it changed."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def add(self, job_id: int, text: str, *, at: datetime) -> None:
        self._session.add(LogbookRow(job_id=job_id, text=text, at=at))

    def all(self, job_id: int) -> list[LogEntry]:
        rows = self._session.scalars(select(LogbookRow).where(LogbookRow.job_id == job_id).order_by(LogbookRow.id))
        return [LogEntry(at=row.at, text=row.text) for row in rows]
