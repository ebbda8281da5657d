"""Corrections kept by name, each for its seat weighting, and what each does at every seat."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from dolce.core import checked
from dolce.core.correction import deviations_db
from dolce.core.job import Job
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES
from dolce.core.tuning import SUB_RANGE_HZ, Correction, SeatWeighting
from dolce.errors import InvalidValue
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.shape.present_correction import present_correction
from dolce.services.shape.seat_responses import shaped_channels
from dolce.services.shape.shaping import Shaping
from dolce.store import CorrectionVersion, UnitOfWork

_WORSE_DB = 0.05  # less can't be told from nothing


@dataclass(frozen=True, slots=True, kw_only=True)
class WeightingRow:
    """A correction and what is left of the deviation at every seat, mean over channels and spots, in dB.

    Attributes
    ----------
    number : of a kept one; None for the present one
    before_db, after_db : by seat, None where no channel was taken there
    most_db : largest gain of its filters
    found_for : the seat weighting of its filters, where that is another one
    """

    number: int | None
    name: str
    seat_weighting: SeatWeighting
    before_db: tuple[float | None, ...]
    after_db: tuple[float | None, ...]
    most_db: float
    found_for: SeatWeighting | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class WeightingTable:
    """All corrections of a job side by side, over one range: the widest of theirs; subs to `sub_to_hz`."""

    range_hz: tuple[float, float]
    sub_to_hz: float
    seats: tuple[tuple[int, str], ...]
    rows: tuple[WeightingRow, ...]

    def cells(self, row: WeightingRow) -> list["WeightingCell"]:
        """Seat by seat."""
        return [
            WeightingCell(counts=row.seat_weighting.weights.get(seat, 0) > 0, before_db=before, after_db=after)
            for (seat, _), before, after in zip(self.seats, row.before_db, row.after_db, strict=True)
        ]


@dataclass(frozen=True, slots=True, kw_only=True)
class WeightingCell:
    """One correction at one seat: whether that counts for it, and the deviations; None where nothing was taken."""

    counts: bool
    before_db: float | None
    after_db: float | None

    @property
    def is_worse(self) -> bool:
        return self.before_db is not None and self.after_db is not None and self.after_db > self.before_db + _WORSE_DB


class CorrectionVersions:
    """Seat weightings and versions of one job."""

    def __init__(self, context: Context, shaping: Shaping) -> None:
        self._context = context
        self._shaping = shaping

    def table(self, job_id: int) -> WeightingTable:
        """What each correction does at each seat."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            present = present_correction(work, job)
            seats = tuple((seat.id, seat.name) for seat in job.plan.seats)
            kept: list[CorrectionVersion] = work.correction_versions.all(job_id)
            every = [present, *(version.correction for version in kept)]
            by_channel_settings = [
                correction_settings.limits
                for version in every
                for correction_settings in (version.correction_settings(""), *version.by_channel.values())
            ]
            common = (
                min(setting.from_hz for setting in by_channel_settings),
                max(setting.to_hz for setting in by_channel_settings),
            )
            rows = [self._row(work, job, None, replace(present, name="as it is now"), seats, common)]
            rows += [self._row(work, job, version.number, version.correction, seats, common) for version in kept]
        return WeightingTable(
            seats=seats,
            range_hz=common,
            sub_to_hz=min(SUB_RANGE_HZ[1], common[1]),
            rows=tuple(row for row in rows if row is not None),
        )

    def _row(
        self,
        work: UnitOfWork,
        job: Job,
        number: int | None,
        correction: Correction,
        seats: tuple[tuple[int, str], ...],
        common_hz: tuple[float, float],
    ) -> WeightingRow | None:
        base = base_round(work, job, kept=correction.round_id)
        if base is None or not correction.found:
            return None
        # Every seat is looked at, whomever the correction is for.
        everywhere = replace(
            correction, seat_weighting=SeatWeighting(name="everywhere", weights={seat: 1.0 for seat, _ in seats})
        )
        before: dict[int, list[float]] = {}
        after: dict[int, list[float]] = {}
        most = 0.0
        seat_of = {spot.id: spot.seat_id for spot in job.spots}
        for channel in shaped_channels(self._context, work, job, everywhere, base.id):
            shape, spots = self._shaping.shape(work, job, everywhere, base.id, channel)
            if shape is None:
                continue
            to_hz = min(SUB_RANGE_HZ[1], common_hz[1]) if channel in SUB_CODES else common_hz[1]
            over = min(max(common_hz[0], shape.extension_hz), to_hz / np.sqrt(2)), to_hz
            most = max(most, shape.headroom.gain_db)
            for found, change in ((before, np.zeros(ANALYSIS_GRID_HZ.size)), (after, shape.effect_db)):
                values = deviations_db(
                    shape.needs.error_db,
                    change,
                    at_hz=ANALYSIS_GRID_HZ,
                    range_hz=over,
                    level_band_hz=shape.level_band_hz,
                )
                for spot, value in zip(spots, values, strict=True):
                    seat = seat_of[spot]
                    if seat is not None:
                        found.setdefault(seat, []).append(float(value))

        def means_of(found: Mapping[int, list[float]]) -> tuple[float | None, ...]:
            return tuple(float(np.mean(found[seat])) if seat in found else None for seat, _ in seats)

        return WeightingRow(
            number=number,
            name=correction.name,
            seat_weighting=correction.seat_weighting,
            before_db=means_of(before),
            after_db=means_of(after),
            most_db=most,
            found_for=correction.found_for_others,
        )

    def set_weights(self, job_id: int, name: str, weights: Mapping[int, float]) -> None:
        """For a seat weighting of one's own; the filters stay until they are looked for again."""
        if not any(weights.values()):
            raise InvalidValue("no seat has a weight above 0.", where="weights", remedy="Give one of them a weight.")
        self._shaping.set_seat_weighting(
            job_id,
            SeatWeighting(
                name=name.strip() or "own seat weighting", weights={seat: w for seat, w in weights.items() if w > 0}
            ),
        )

    def keep(self, job_id: int, name: str, note: str = "") -> None:
        """Keep the present correction by name."""
        name = checked.text(name.strip(), longest=60, where="name")
        if not name:
            raise InvalidValue("a kept correction needs a name.", where="name", remedy="Type one.")
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            present = present_correction(work, job)
            if not present.found:
                raise InvalidValue("there are no filters to keep.", where="name", remedy="Find them first.")
            work.correction_versions.keep(
                job_id,
                replace(present, name=name, note=checked.text(note.strip(), longest=1000, where="note")),
                at=self._context.now(),
            )
            work.logbook.add(job_id, f"Correction kept as {name}.", at=self._context.now())

    def use(self, job_id: int, number: int) -> None:
        """Make a kept correction the present one."""
        with self._context.look() as work:
            kept = work.correction_versions.get(job_id, number)
        self._shaping.change(job_id, f"correction {kept.correction.name}", lambda _: kept.correction)

    def forget(self, job_id: int, number: int) -> None:
        """Forget a kept one."""
        with self._context.change() as work:
            work.correction_versions.remove(job_id, number)
