"""Rounds and takes."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from dolce.core.geometry import Point
from dolce.core.job import Round, TakeRecord
from dolce.core.processor import ProcessorState
from dolce.core.response import Capture, ImpulseResponse, Quality
from dolce.core.signals import Sweep
from dolce.errors import NotFound
from dolce.store import encoding
from dolce.store.models import (
    RoundRow,
    TakeRow,
    TakeSamplesRow,
)


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

    def set_round_state(self, round_id: int, state: ProcessorState, *, name: str) -> None:
        row = self._session.get_one(RoundRow, round_id)
        row.state, row.name = encoding.processor_values(state), name

    def latest(self, round_id: int) -> list[TakeRecord]:
        """The last attempt of every channel at every spot of a round."""
        newest = (select(func.max(TakeRow.id)).where(TakeRow.round_id == round_id)
                  .group_by(TakeRow.channel, TakeRow.spot_number))
        rows = self._session.scalars(select(TakeRow).where(TakeRow.id.in_(newest))
                                     .order_by(TakeRow.channel, TakeRow.spot_number))
        return [self._take(row) for row in rows]

    def moving(self, round_ids: Sequence[int]) -> list[TakeRecord]:
        """Moving-microphone averages of rounds, the latest first."""
        rows = self._session.scalars(select(TakeRow).where(TakeRow.round_id.in_(round_ids), TakeRow.source == "moving")
                                     .order_by(TakeRow.id.desc()))
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

    def count_by_channel(self, job_id: int) -> dict[str, int]:
        """How many takes each channel has over all rounds."""
        rows = self._session.execute(select(TakeRow.channel, func.count()).join(
            RoundRow, RoundRow.id == TakeRow.round_id).where(RoundRow.job_id == job_id).group_by(TakeRow.channel))
        return {channel: count for channel, count in rows}                   # noqa: C416

    def attempts(self, round_id: int, channel: str, spot_number: int) -> int:
        return self._session.scalar(select(func.count()).select_from(TakeRow).where(
            TakeRow.round_id == round_id, TakeRow.channel == channel, TakeRow.spot_number == spot_number)) or 0

    def add(self, *, round_id: int, channel: str, spot_number: int, at: datetime, source: str, capture: Capture,
            level_db, arrival_known: bool, recording: bytes, recording_name: str, sweep: Sweep,
            places: tuple[Point, Point] | None = None, warnings: Sequence[str] = ()) -> int:
        """Keep a take with its samples, and where speaker and microphone were; earlier attempts stay below it.

        Returns its number.
        """
        response = capture.response
        row = self._row(round_id, channel, spot_number, at, places, capture.quality, level_db,
                        [*capture.warnings, *warnings], source=source, sample_rate_hz=response.sample_rate_hz,
                        arrival_s=capture.arrival.time_s, arrival_known=arrival_known,
                        polarity=capture.arrival.polarity)
        self._session.add(TakeSamplesRow(
            take_id=row.id, response=encoding.array_bytes(response.sample, kind="<f4"),
            response_start_s=response.start_s, recording=recording, recording_name=recording_name,
            sweep={name: getattr(sweep, name) for name in sweep.__slots__}))
        return row.id

    def add_moving(self, *, round_id: int, channel: str, spot_number: int, at: datetime, quality: Quality, level_db,
                   sample_rate_hz: int, places: tuple[Point, Point], warnings: Sequence[str] = ()) -> int:
        """Keep a moving-microphone average: a level over frequency without samples. Returns its number."""
        return self._row(round_id, channel, spot_number, at, places, quality, level_db, warnings, source="moving",
                         sample_rate_hz=sample_rate_hz, arrival_s=0.0, arrival_known=False, polarity="unsure").id

    def _row(self, round_id: int, channel: str, spot_number: int, at: datetime, places: tuple[Point, Point] | None,
             quality: Quality, level_db, warnings: Sequence[str], **values) -> TakeRow:
        row = TakeRow(
            round_id=round_id, channel=channel, spot_number=spot_number,
            attempt=self.attempts(round_id, channel, spot_number) + 1, taken_at=at,
            signal_to_noise_db=quality.signal_to_noise_db, peak_dbfs=quality.peak_dbfs,
            clipped_samples=quality.clipped_samples, warnings=list(warnings),
            level_db=encoding.array_bytes(level_db, kind="<f8"),
            places=places and {"speaker": encoding.point_values(places[0]),
                               "spot": encoding.point_values(places[1])}, **values)
        self._session.add(row)
        self._session.flush()
        return row

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
        """The impulse response of a take; NotFound for a moving average, which has none."""
        take, samples = self._session.get(TakeRow, take_id), self._session.get(TakeSamplesRow, take_id)
        if take is None or samples is None:
            raise self._no_samples(take_id, take)
        return ImpulseResponse(sample=encoding.bytes_array(samples.response, kind="<f4"),
                               sample_rate_hz=take.sample_rate_hz, start_s=samples.response_start_s)

    def recording(self, take_id: int) -> tuple[bytes, str]:
        """The raw recording as it was kept, and its file name; NotFound for a moving average."""
        row = self._session.get(TakeSamplesRow, take_id)
        if row is None:
            raise self._no_samples(take_id, self._session.get(TakeRow, take_id))
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
                samples = self._session.get(TakeSamplesRow, take.id)
                if samples is None:                                  # a moving average
                    continue
                self._session.add(TakeSamplesRow(
                    **{c.name: getattr(samples, c.name) for c in TakeSamplesRow.__table__.columns
                       if c.name != "take_id"}, take_id=copied.id))
                self._session.flush()
                self._session.expunge(samples)                       # samples are large: one at a time
        return renumbered

    def remove_rounds(self, job_id: int) -> None:
        self._session.execute(delete(RoundRow).where(RoundRow.job_id == job_id))

    @staticmethod
    def _no_samples(take_id: int, take: TakeRow | None) -> NotFound:
        if take is None:
            return NotFound(f"there is no take {take_id}.", where="takes", remedy="Reload the page.")
        return NotFound("a moving average has a level over frequency, but no recording or impulse response.",
                        where=f"{take.channel}, spot {take.spot_number}", remedy="Take a sweep there to see them.")

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
            level_db=encoding.bytes_array(row.level_db, kind="<f8"),
            speaker_place=encoding.point_of(row.places["speaker"]) if row.places else None,
            spot_place=encoding.point_of(row.places["spot"]) if row.places else None)
