"""Rounds and takes."""

from collections.abc import Collection, Iterator, Sequence
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import delete, func, insert, literal, select
from sqlalchemy.orm import Session

from dolce.core.cache import Cache
from dolce.core.geometry import Point
from dolce.core.job import Round, TakeRecord
from dolce.core.processor import ProcessorState
from dolce.core.response import ANALYSIS_GRID_HZ, Capture, Caution, GridLevels, ImpulseResponse, Quality, level_on_grid
from dolce.errors import Damaged, NotFound
from dolce.store import encoding
from dolce.store.models import RoundRow, SamplesRow, StateRow, TakeRow
from dolce.store.repositories.states import States

Stamp = tuple[int, datetime, int]
Places = tuple[Point | None, Point]  # of the speaker, where one alone sounds; of the spot
TakeCache = Cache[tuple[int, int, datetime, int], list[TakeRecord]]


class Takes:
    """Rounds and takes."""

    def __init__(self, session: Session, states: States, cache: TakeCache) -> None:
        self._session = session
        self._states = states
        self._cache = cache
        # Asked for by several parts of a page: read once in a transaction, and anew after a change.
        self._rounds: dict[int, list[Round]] = {}
        self._latest: dict[int, list[TakeRecord]] = {}

    def rounds(self, job_id: int) -> list[Round]:
        if job_id not in self._rounds:
            self._rounds[job_id] = self._read_rounds(job_id)
        return self._rounds[job_id]

    def _read_rounds(self, job_id: int) -> list[Round]:
        rows = self._session.execute(
            select(RoundRow, StateRow.bypassed, StateRow.corrects)
            .outerjoin(StateRow, StateRow.id == RoundRow.state_id)
            .where(RoundRow.job_id == job_id)
            .order_by(RoundRow.id)
        ).all()
        states = self._states.all({row.state_id for row, *_ in rows if row.state_id is not None})
        return [
            Round(
                id=row.id,
                name=row.name,
                created_at=row.created_at,
                state=states.get(row.state_id or ""),
                bypassed=bool(bypassed),
                corrects=bool(corrects),
            )
            for row, bypassed, corrects in rows
        ]

    def add_round(self, job_id: int, *, name: str, at: datetime) -> Round:
        self._rounds.clear()
        row = RoundRow(job_id=job_id, name=name, created_at=at)
        self._session.add(row)
        self._session.flush()
        return Round(id=row.id, name=row.name, created_at=row.created_at, state=None)

    def set_round_state(self, round_id: int, state: ProcessorState, *, name: str) -> None:
        self._rounds.clear()
        row = self._session.get_one(RoundRow, round_id)
        row.state_id, row.name = self._states.keep(state), name
        self._session.flush()

    def latest(self, round_id: int) -> list[TakeRecord]:
        """The take that counts, of every channel at every spot of a round.

        That is the one that was put back by hand, else the last one that is not clipped, else the last.
        """
        if round_id not in self._latest:
            self._latest[round_id] = self._latest_cached(round_id)
        return self._latest[round_id]

    def _latest_cached(self, round_id: int) -> list[TakeRecord]:
        """Those that another transaction has read, as long as no take was added or edited since."""
        stamp = self.newest(round_id)
        if stamp is None:
            return []
        found = self._cache.get((round_id, *stamp))
        if found is None:
            found = self._read_latest(round_id)
            self._cache.add((round_id, *stamp), found)
        return found

    def _read_latest(self, round_id: int) -> list[TakeRecord]:
        rank = func.row_number().over(
            partition_by=(TakeRow.channel, TakeRow.spot_id),
            order_by=(TakeRow.preferred.desc(), (TakeRow.clipped_samples == 0).desc(), TakeRow.id.desc()),
        )
        ranked = (
            select(TakeRow.id, rank.label("place"))
            .where(TakeRow.round_id == round_id, TakeRow.removed.is_(False))
            .subquery()
        )
        rows = self._session.scalars(
            select(TakeRow)
            .join(ranked, TakeRow.id == ranked.c.id)
            .where(ranked.c.place == 1)
            .order_by(TakeRow.channel, TakeRow.spot_id)
        )
        return [self.record_of(row) for row in rows]

    def of_job(self, job_id: int) -> Iterator[TakeRecord]:
        """All takes of a job, one at a time."""
        for take_id in self._session.scalars(
            select(TakeRow.id)
            .join(RoundRow, RoundRow.id == TakeRow.round_id)
            .where(RoundRow.job_id == job_id)
            .order_by(TakeRow.id)
        ).all():
            yield self.get(take_id)

    def moving(self, round_ids: Sequence[int]) -> list[TakeRecord]:
        """Moving-microphone averages of rounds, the latest first."""
        rows = self._session.scalars(
            select(TakeRow)
            .where(TakeRow.round_id.in_(round_ids), TakeRow.source == "moving", TakeRow.removed.is_(False))
            .order_by(TakeRow.id.desc())
        )
        return [self.record_of(row) for row in rows]

    def newest(self, round_id: int) -> Stamp | None:
        """Number and moment of a round's last take, and how often takes were edited: while these stay, so do curves."""
        row = self._session.execute(
            select(TakeRow.id, TakeRow.taken_at, RoundRow.edits)
            .join(RoundRow, RoundRow.id == TakeRow.round_id)
            .where(TakeRow.round_id == round_id)
            .order_by(TakeRow.id.desc())
            .limit(1)
        ).first()
        return None if row is None else (row.id, row.taken_at, row.edits)

    def stamp_of_job(self, job_id: int) -> tuple[int | None, int | None]:
        """Number of a job's last take, and how often takes of it were edited: one statement, however many rounds."""
        last = select(func.max(TakeRow.id)).join(RoundRow, RoundRow.id == TakeRow.round_id)
        edits = select(func.sum(RoundRow.edits)).where(RoundRow.job_id == job_id)
        row = self._session.execute(
            select(last.where(RoundRow.job_id == job_id).scalar_subquery(), edits.scalar_subquery())
        ).one()
        return row[0], row[1]

    def of_cell(self, round_id: int, channel: str, spot_id: int) -> list[TakeRecord]:
        """All attempts at a cell, those that were removed too; the last first."""
        rows = self._session.scalars(
            select(TakeRow)
            .where(TakeRow.round_id == round_id, TakeRow.channel == channel, TakeRow.spot_id == spot_id)
            .order_by(TakeRow.id.desc())
        )
        return [self.record_of(row) for row in rows]

    def every_attempt(self, round_id: int, channel: str, spots: Collection[int]) -> list[TakeRecord]:
        """All attempts of a channel at some spots of a round, removed ones too, the earliest first."""
        rows = self._session.scalars(
            select(TakeRow)
            .where(TakeRow.round_id == round_id, TakeRow.channel == channel, TakeRow.spot_id.in_(spots))
            .order_by(TakeRow.id)
        )
        return [self.record_of(row) for row in rows]

    def edit(
        self, take_id: int, *, note: str | None = None, left_out: str | None = None, removed: bool | None = None
    ) -> None:
        """Change what a person says of a take; None leaves it as it is."""
        row = self._session.get_one(TakeRow, take_id)
        for name, value in (("note", note), ("left_out", left_out), ("removed", removed)):
            if value is not None:
                setattr(row, name, value)
        self._edited(row.round_id)

    def prefer(self, take_id: int) -> None:
        """From now on this attempt counts at its cell, until another is preferred or taken."""
        row = self._session.get_one(TakeRow, take_id)
        row.preferred = 1 + (
            self._session.scalar(select(func.max(TakeRow.preferred)).where(TakeRow.round_id == row.round_id)) or 0
        )
        self._edited(row.round_id)

    def _edited(self, round_id: int) -> None:
        self._session.get_one(RoundRow, round_id).edits += 1
        self._session.flush()
        self._latest.pop(round_id, None)

    def has_any(self, round_id: int) -> bool:
        return self._session.scalar(select(TakeRow.id).where(TakeRow.round_id == round_id).limit(1)) is not None

    def settled_count(self, round_id: int, cells: Collection[tuple[str, int]]) -> int:
        """How many of some cells (row and spot) ask for nothing more."""
        return sum(take.settled for take in self.latest(round_id) if (take.channel, take.spot_id) in cells)

    def highest_spot_id(self, job_id: int) -> int:
        """The highest id of a spot that any take of a job hangs on; 0 without takes."""
        return (
            self._session.scalar(
                select(func.max(TakeRow.spot_id))
                .join(RoundRow, RoundRow.id == TakeRow.round_id)
                .where(RoundRow.job_id == job_id)
            )
            or 0
        )

    def cells(self, round_ids: Collection[int], *, channels: Collection[str], spots: Collection[int]) -> dict[int, int]:
        """How many cells of the board hold a take, by round."""
        if not round_ids:
            return {}
        taken = (
            select(TakeRow.round_id, TakeRow.channel, TakeRow.spot_id)
            .distinct()
            .where(
                TakeRow.round_id.in_(round_ids),
                TakeRow.channel.in_(channels),
                TakeRow.spot_id.in_(spots),
                TakeRow.removed.is_(False),
            )
            .subquery()
        )
        rows = self._session.execute(select(taken.c.round_id, func.count()).group_by(taken.c.round_id))
        return {round_id: count for round_id, count in rows}  # noqa: C416

    def count_by_channel(self, job_id: int) -> dict[str, int]:
        """How many takes each channel has over all rounds."""
        rows = self._session.execute(
            select(TakeRow.channel, func.count())
            .join(RoundRow, RoundRow.id == TakeRow.round_id)
            .where(RoundRow.job_id == job_id)
            .group_by(TakeRow.channel)
        )
        return {channel: count for channel, count in rows}  # noqa: C416

    def attempts(self, round_id: int, channel: str, spot_id: int) -> int:
        return (
            self._session.scalar(
                select(func.count())
                .select_from(TakeRow)
                .where(TakeRow.round_id == round_id, TakeRow.channel == channel, TakeRow.spot_id == spot_id)
            )
            or 0
        )

    def add(
        self,
        *,
        round_id: int,
        channel: str,
        spot_id: int,
        at: datetime,
        source: str,
        capture: Capture,
        levels: GridLevels,
        arrival_known: bool,
        recording: bytes,
        recording_name: str,
        played: dict | None,
        places: Places | None = None,
        cautions: Sequence[Caution] = (),
        recorder: str = "",
        signal: str = "sweep",
        sounded: Sequence[str] = (),
        repeats: int = 1,
        repeats_db: float | None = None,
        softer: bool = False,
    ) -> int:
        """Keep a take with its samples, and where speaker and microphone were; earlier attempts stay below it.

        `played` is the test signal as plain values; None for a response that came without one. `softer` is for a take
        that only checks another, which goes on to count. Returns its number.
        """
        response = capture.response
        data = encoding.array_bytes(response.sample, kind="<f4")
        fine = encoding.array_bytes(levels.fine_db, kind="<f8")
        samples = SamplesRow(
            response=data,
            response_start_s=response.start_s,
            recording=recording,
            recording_name=recording_name,
            checksum=encoding.checksum(data, recording),
            fine_db=fine,
            fine_checksum=encoding.checksum(fine),
            sweep=played or {},
        )
        self._session.add(samples)
        self._session.flush()
        row = self._row(
            round_id,
            channel,
            spot_id,
            at,
            places,
            capture.quality,
            levels.level_db,
            [*capture.cautions, *cautions],
            source=source,
            sample_rate_hz=response.sample_rate_hz,
            arrival_s=capture.arrival.time_s,
            arrival_known=arrival_known,
            polarity=capture.arrival.polarity,
            samples_id=samples.id,
            recorder=recorder or None,
            signal=signal,
            sounded=list(sounded) or None,
            repeats=repeats,
            repeats_db=repeats_db,
            level_dbfs=(played or {}).get("level_dbfs"),
        )
        if softer:
            row.preferred = -1  # below all others
        self._session.expunge(samples)  # large: not held until the transaction ends
        return row.id

    def add_level(
        self,
        *,
        round_id: int,
        channel: str,
        spot_id: int,
        at: datetime,
        source: str,
        quality: Quality,
        level_db: NDArray,
        sample_rate_hz: int,
        places: Places,
        cautions: Sequence[Caution] = (),
        recorder: str = "",
    ) -> int:
        """Keep a level over frequency without samples: a moving average, or a curve of text. Returns its number."""
        return self._row(
            round_id,
            channel,
            spot_id,
            at,
            places,
            quality,
            level_db,
            cautions,
            source=source,
            sample_rate_hz=sample_rate_hz,
            arrival_s=0.0,
            arrival_known=False,
            polarity="unsure",
            recorder=recorder or None,
        ).id

    def _row(
        self,
        round_id: int,
        channel: str,
        spot_id: int,
        at: datetime,
        places: Places | None,
        quality: Quality,
        level_db: NDArray,
        cautions: Sequence[Caution],
        **values: Any,
    ) -> TakeRow:
        self._latest.pop(round_id, None)
        level = encoding.array_bytes(level_db, kind="<f8")
        row = TakeRow(
            round_id=round_id,
            channel=channel,
            spot_id=spot_id,
            attempt=self.attempts(round_id, channel, spot_id) + 1,
            taken_at=at,
            signal_to_noise_db=quality.signal_to_noise_db,
            peak_dbfs=quality.peak_dbfs,
            clipped_samples=quality.clipped_samples,
            warnings=[encoding.values_of(caution) for caution in cautions],
            level_db=level,
            checksum=encoding.checksum(level),
            places=places
            and {"speaker": places[0] and encoding.point_values(places[0]), "spot": encoding.point_values(places[1])},
            # Above any that was put back: what is taken now is meant to count.
            preferred=self._session.scalar(
                select(func.max(TakeRow.preferred)).where(
                    TakeRow.round_id == round_id, TakeRow.channel == channel, TakeRow.spot_id == spot_id
                )
            )
            or 0,
            **values,
        )
        self._session.add(row)
        self._session.flush()
        return row

    def get(self, take_id: int) -> TakeRecord:
        row = self._session.get(TakeRow, take_id)
        if row is None:
            raise NotFound(f"there is no take {take_id}.", where="takes", remedy="Reload the page.")
        return self.record_of(row)

    def job_of(self, take_id: int) -> int | None:
        """Number of the job that a take belongs to."""
        return self._session.scalar(
            select(RoundRow.job_id).join(TakeRow, TakeRow.round_id == RoundRow.id).where(TakeRow.id == take_id)
        )

    def response(self, take_id: int) -> ImpulseResponse:
        """The impulse response of a take; NotFound for a moving average, which has none; Damaged where it changed."""
        return self._response(*self._samples(take_id))

    def responses(self, take_ids: Collection[int]) -> Iterator[tuple[int, ImpulseResponse]]:
        """Numbers and responses of takes in one read, a few of them in memory at a time.

        Moving averages, which have none, are left out; Damaged where one changed.
        """
        rows = self._session.execute(
            select(TakeRow, SamplesRow)
            .join(SamplesRow, TakeRow.samples_id == SamplesRow.id)
            .where(TakeRow.id.in_(take_ids))
            .execution_options(yield_per=8)
        )
        for take, samples in rows:
            self._require_unchanged(take, samples)
            yield take.id, self._response(take, samples)
            if samples in self._session:
                self._session.expunge(samples)

    def fine_levels(self, take_ids: Collection[int]) -> dict[int, NDArray[np.float64]]:
        """Unsmoothed levels on the analysis grid by take; moving averages, which have none, are left out.

        Those of older versions, and those that the disk has changed, are computed from the responses.
        """
        rows = self._session.execute(
            select(TakeRow.id, SamplesRow.fine_db, SamplesRow.fine_checksum)
            .join(SamplesRow, TakeRow.samples_id == SamplesRow.id)
            .where(TakeRow.id.in_(take_ids))
        ).all()
        found = {
            take_id: encoding.bytes_array(fine, kind="<f8")
            for take_id, fine, checksum in rows
            if fine is not None and len(fine) == 8 * ANALYSIS_GRID_HZ.size and encoding.checksum(fine) == checksum
        }
        missing = [take_id for take_id, *_ in rows if take_id not in found]
        return found | {
            take_id: level_on_grid(response, at_hz=ANALYSIS_GRID_HZ, per_octave=None)
            for take_id, response in self.responses(missing)
        }

    @staticmethod
    def _response(take: TakeRow, samples: SamplesRow) -> ImpulseResponse:
        return ImpulseResponse(
            sample=encoding.bytes_array(samples.response, kind="<f4"),
            sample_rate_hz=take.sample_rate_hz,
            start_s=samples.response_start_s,
        )

    def recording(self, take_id: int) -> tuple[bytes, str]:
        """The raw recording as it was kept, and its file name; errors as for `response`."""
        _, samples = self._samples(take_id)
        return samples.recording, samples.recording_name

    def played(self, take_id: int) -> dict:
        """What defined the test signal of a take; errors as for `response`."""
        return dict(self._samples(take_id)[1].sweep)

    def samples_as_kept(self, job_id: int) -> Iterator[tuple[str, bytes, bool]]:
        """Name, raw recording, and whether it is unchanged, of every take of a job; one at a time."""
        ids = self._session.scalars(
            select(TakeRow.id)
            .join(RoundRow, RoundRow.id == TakeRow.round_id)
            .where(RoundRow.job_id == job_id, TakeRow.samples_id.is_not(None))
            .order_by(TakeRow.id)
        ).all()
        for take_id in ids:
            row = self._session.scalars(
                select(SamplesRow).join(TakeRow, TakeRow.samples_id == SamplesRow.id).where(TakeRow.id == take_id)
            ).one()
            yield row.recording_name, row.recording, encoding.checksum(row.response, row.recording) == row.checksum
            self._session.expunge(row)

    def _samples(self, take_id: int) -> tuple[TakeRow, SamplesRow]:
        take = self._session.get(TakeRow, take_id)
        samples = None if take is None or take.samples_id is None else self._session.get(SamplesRow, take.samples_id)
        if take is None or samples is None:
            raise self._no_samples(take_id, take)
        self._require_unchanged(take, samples)
        return take, samples

    @staticmethod
    def _require_unchanged(take: TakeRow, samples: SamplesRow) -> None:
        if encoding.checksum(samples.response, samples.recording) != samples.checksum:
            raise Damaged(
                "the samples of this take are not those that were kept: the disk has changed them.",
                where=f"{take.channel}, attempt {take.attempt}",
                remedy="Take it again, or restore a backup.",
            )

    def copy_all(self, from_job: int, to_job: int) -> dict[int, int]:
        """Copy rounds and takes of a job; samples are shared. Returns new round numbers by old ones."""
        self._rounds.clear()
        renumbered = {}
        kept = [c for c in TakeRow.__table__.columns if c.name not in ("id", "round_id")]
        for row in self._session.scalars(select(RoundRow).where(RoundRow.job_id == from_job).order_by(RoundRow.id)):
            new = RoundRow(job_id=to_job, name=row.name, state_id=row.state_id, created_at=row.created_at)
            self._session.add(new)
            self._session.flush()
            renumbered[row.id] = new.id
            self._session.execute(
                insert(TakeRow).from_select(
                    ["round_id", *(c.name for c in kept)],
                    select(literal(new.id), *kept).where(TakeRow.round_id == row.id).order_by(TakeRow.id),
                )
            )
        return renumbered

    def remove_rounds(self, job_id: int) -> None:
        self._rounds.clear()
        self._session.execute(delete(RoundRow).where(RoundRow.job_id == job_id))

    @staticmethod
    def _no_samples(take_id: int, take: TakeRow | None) -> NotFound:
        if take is None:
            return NotFound(f"there is no take {take_id}.", where="takes", remedy="Reload the page.")
        what = "a moving average" if take.source == "moving" else "a curve of text"
        return NotFound(
            f"{what} has a level over frequency, but no recording or impulse response.",
            where=f"{take.channel}, attempt {take.attempt}",
            remedy="Take a sweep there to see them.",
        )

    @staticmethod
    def record_of(row: TakeRow) -> TakeRecord:
        damaged = encoding.checksum(row.level_db) != row.checksum
        return TakeRecord(
            id=row.id,
            round_id=row.round_id,
            channel=row.channel,
            spot_id=row.spot_id,
            attempt=row.attempt,
            taken_at=row.taken_at,
            source=row.source,
            sample_rate_hz=row.sample_rate_hz,
            arrival_s=row.arrival_s,
            arrival_known=row.arrival_known,
            polarity=row.polarity,
            damaged=damaged,
            cautions=tuple(_caution(warning) for warning in row.warnings),
            recorder=row.recorder or "",
            note=row.note,
            left_out=row.left_out,
            removed=row.removed,
            signal=row.signal or "sweep",
            sounded=tuple(row.sounded or ()),
            repeats=row.repeats,
            repeats_db=row.repeats_db,
            level_dbfs=row.level_dbfs,
            quality=Quality(
                signal_to_noise_db=row.signal_to_noise_db, peak_dbfs=row.peak_dbfs, clipped_samples=row.clipped_samples
            ),
            level_db=np.zeros(ANALYSIS_GRID_HZ.size) if damaged else encoding.bytes_array(row.level_db, kind="<f8"),
            speaker_place=encoding.point_of(row.places["speaker"]) if row.places and row.places["speaker"] else None,
            spot_place=encoding.point_of(row.places["spot"]) if row.places else None,
        )


def _caution(kept: dict | str) -> Caution:
    """Older versions kept sentences."""
    return Caution(kind="said", text=kept) if isinstance(kept, str) else encoding.value_of(Caution, kept)
