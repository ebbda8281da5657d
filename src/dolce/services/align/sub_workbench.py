"""The subs together: what each does alone, as they are, by distance, as found and by hand, at every seat."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import speed_of_sound
from dolce.core.dsp import in_band
from dolce.core.geometry import distance_m
from dolce.core.job import Job, Round
from dolce.core.subs import (
    BAND_HZ,
    BassField,
    SearchLimits,
    SubGroup,
    SubSetting,
    SubState,
    by_distance,
    neutral,
    same_as_shown,
    state_of,
)
from dolce.core.subs.group import How
from dolce.core.tuning import SUM_HZ, Alignment, BassAtSeats, FoundBass, bass_at_seats, usual_seat_weighting
from dolce.errors import Conflict, NotFound
from dolce.services.align.aligning import Aligning
from dolce.services.align.bass_takes import bass_responses, summable
from dolce.services.align.common_bass import BassSearch, CommonBassBench
from dolce.services.align.sub_searches import Searching, SubSearches
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.store import UnitOfWork

_NEAR = in_band(SUM_HZ, BAND_HZ, octaves=1 / 6)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class WorkbenchView:
    """All of the workbench; `missing` says why there is nothing to show.

    Attributes
    ----------
    seats : names, in the order of all curves
    spots : how many spots they stand for
    without : spots, in words, at which a sub was not taken: left out for all subs
    frequency_hz : ndarray, shape (points,)
    states : by code: "alone-Sub1", "as-they-are", "distances", "search", "used", "by-hand" or "trade-3"
    shown : code of the one whose curves are drawn
    common : the search for filters of the common bass, with what it found
    common_used : the common bass in use
    common_stands : whether it still stands on the trims, delays and crossovers in use
    at_seats : the common bass by code: "shared-..." as found, "kept-1" as saved, "used"
    kept : alignments with a common bass that were saved, by code
    pareto_front : what else the search met, as (output, spread and what an equaliser would leave together, code)
    """

    job: Job
    round: Round | None
    missing: str
    seats: tuple[str, ...] = ()
    spots: int = 0
    without: tuple[str, ...] = ()
    frequency_hz: NDArray[np.float64]
    states: Mapping[str, SubState]
    shown: str = ""
    searching: Searching | None = None
    limits: SearchLimits
    group: SubGroup | None = None
    common: BassSearch | None = None
    common_used: FoundBass | None = None
    common_stands: bool = True
    at_seats: Mapping[str, BassAtSeats] = field(default_factory=dict)
    kept: Mapping[str, Alignment] = field(default_factory=dict)
    pareto_front: tuple[tuple[float, float, str], ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Bench:
    """The field of a job's subs, and what it rests on."""

    subs: tuple[str, ...]
    field: BassField
    seats: tuple[str, ...]
    without: tuple[str, ...]
    spot_ids: tuple[int, ...]
    rests_on: tuple


class SubWorkbench:
    """Subs of a job as one."""

    def __init__(self, context: Context, aligning: Aligning, common: CommonBassBench) -> None:
        self._context, self._aligning, self._common = context, aligning, common
        self._benches: dict[int, _Bench] = {}
        self._searches = SubSearches()

    def view(self, job_id: int, *, shown: str = "", hand: Mapping[str, SubSetting] | None = None) -> WorkbenchView:
        """What some settings do; `hand` are those by hand."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            alignment = work.alignments.current(job_id)
            base = base_round(work, job, kept=alignment.round_id if alignment else None)
            group = alignment.subs if alignment else None
            bench = self._bench(work, job, base)
            common = self._common.search_of(job_id)
            kept = {
                f"kept-{version.number}": version.alignment
                for version in work.alignment_versions.all(job_id)
                if version.alignment.common_bass is not None
            }
            at_seats = (
                {}
                if isinstance(bench, str) or base is None
                else self._common_at_seats(work, job, base, bench, alignment, common, kept)
            )
        search = self._searches.of(job_id)
        if isinstance(bench, str):
            return WorkbenchView(
                job=job, round=base, missing=bench, frequency_hz=np.zeros(0), states={}, limits=SearchLimits()
            )
        if search is not None and search.rests_on != bench.rests_on:
            search = None  # takes, seats or subs are others now: it says nothing of these
        limits = search.limits if search else SearchLimits()
        used = alignment.common_bass if alignment else None
        states, pareto_front = self._states(job, bench, search, None if used else group, hand, limits)
        states |= {code: found.state for code, found in at_seats.items()}
        latest = [f"shared-{code}" for code in reversed(common.results)] if common else []
        order = ["by-hand"] if hand else [*latest, "search", "used"]
        fallback = next((code for code in order if code in states), "as-they-are")
        return WorkbenchView(
            job=job,
            round=base,
            missing="",
            seats=bench.seats,
            spots=len(bench.spot_ids),
            without=bench.without,
            frequency_hz=bench.field.grid_hz,
            states=states,
            shown=shown if shown in states else fallback,
            searching=search,
            limits=limits,
            group=group,
            common=common,
            common_used=used,
            common_stands=alignment is None or alignment.common_bass_stands,
            at_seats=at_seats,
            kept=kept,
            pareto_front=pareto_front,
        )

    def _common_at_seats(
        self,
        work: UnitOfWork,
        job: Job,
        base: Round,
        bench: _Bench,
        alignment: Alignment | None,
        common: BassSearch | None,
        kept: Mapping[str, Alignment],
    ) -> dict[str, BassAtSeats]:
        """What filters of the common bass do that were found, saved or are in use."""
        shared = {f"shared-{code}": result.alignment for code, result in common.results.items()} if common else {}
        shared |= {code: alignment for code, alignment in kept.items() if set(alignment.channels) == set(job.channels)}
        if alignment is not None and alignment.common_bass is not None:
            shared["used"] = alignment
        if not shared:
            return {}
        responses = bass_responses(self._context.bass, work, job, base.id, job.channels, spots=bench.spot_ids)
        found = {
            code: bass_at_seats(tried, bench.field, responses, sample_rate_hz=job.rig.sample_rate_hz)
            for code, tried in shared.items()
        }
        return {code: at_seats for code, at_seats in found.items() if at_seats is not None}

    def search(self, job_id: int, limits: SearchLimits) -> None:
        """Look for the settings that serve all seats, in a thread of its own.

        Raises
        ------
        Conflict
            If subs or takes are missing.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            alignment = work.alignments.current(job_id)
            base = base_round(work, job, kept=alignment.round_id if alignment else None)
            bench = self._bench(work, job, base)
        if isinstance(bench, str):
            raise Conflict(bench, where="subs", remedy="Take what is missing first.")
        self._searches.look_for(job_id, bench.field, limits, rests_on=bench.rests_on)

    def search_state(self, job_id: int) -> Literal["none", "running", "found"]:
        """Whether settings are searched, or were found from the takes that count now."""
        search = self._searches.of(job_id)
        if search is None:
            return "none"
        if search.running:
            return "running"
        return "found" if "search" in self.view(job_id).states else "none"

    def stop(self, job_id: int) -> None:
        """End a search; the best until then is kept."""
        self._searches.stop(job_id)

    def wait(self, job_id: int) -> None:
        """Until a search is done."""
        self._searches.wait(job_id)

    def close(self) -> None:
        self._searches.close()

    def use(self, job_id: int, code: str, *, hand: Mapping[str, SubSetting] | None = None) -> None:
        """Take over the settings of a state: from now on the subs are one.

        Raises
        ------
        NotFound
            If there is no such state any more.
        """
        if code.startswith("shared-"):
            self._common.use(job_id, code.removeprefix("shared-"))
            return
        if code.startswith("kept-"):
            self._aligning.use_version(job_id, int(code.removeprefix("kept-")))
            return
        view = self.view(job_id, hand=hand)
        state = view.states.get(code)
        if state is None or len(state.settings) < len([s for s in view.job.speakers if s.is_sub]):
            raise NotFound("these settings are no longer there.", where="subs", remedy="Search again, or reload.")
        if code == "by-hand":
            # As it is shown, somebody else's settings stay theirs.
            code = next(
                (
                    other
                    for other, found in view.states.items()
                    if other != "by-hand" and same_as_shown(found.settings, state.settings)
                ),
                code,
            )
        paths: dict[str, How] = {
            "as-they-are": "as they are",
            "distances": "distances",
            "by-hand": "by hand",
            "used": view.group.how if view.group else "search",
        }
        how = paths.get(code, "search")
        kept = SubGroup.of(view.states[code].settings, how=how)
        self._aligning.change(
            job_id,
            f"of subs {how if how != 'search' else 'optimised'}",
            lambda alignment: replace(alignment, subs=kept, common_bass=None),
        )

    def apart(self, job_id: int) -> None:
        """Subs stand for themselves again."""
        self._aligning.change(
            job_id, "of subs one by one", lambda alignment: replace(alignment, subs=None, common_bass=None)
        )

    def _bench(self, work: UnitOfWork, job: Job, base: Round | None) -> _Bench | str:
        """The field of all subs, or why there is none."""
        subs = job.subs
        if not subs:
            return "There is no sub in this room."
        if base is None:
            return "Nothing is taken yet with the processor bypassed."
        weights = {seat: weight for seat, weight in usual_seat_weighting(job).weights.items() if weight > 0}
        spots = [spot for spot in job.spots if spot.seat_id in weights]
        rests_on = (
            base.id,
            work.takes.newest(base.id),
            subs,
            tuple((spot.id, spot.seat_id) for spot in spots),
            tuple(weights.items()),
        )
        kept = self._benches.get(job.id)
        if kept is not None and kept.rests_on == rests_on:
            return kept
        takes = summable(work, base.id, subs)
        by_cell = {(take.channel, take.spot_id): take for take in takes}
        whole = [spot for spot in spots if all((sub, spot.id) in by_cell for sub in subs)]
        if not whole:
            absent = [sub for sub in subs if not any(code == sub for code, _ in by_cell)]
            return (
                f"Round {base.name} lacks {', '.join(absent)} with a known arrival."
                if absent
                else "No spot of a seat has all subs with a known arrival."
            )
        spectra = self._context.bass.spectra(work, [by_cell[sub, spot.id] for sub in subs for spot in whole])
        names = {seat.id: seat.name for seat in job.plan.seats}
        bass = BassField(
            np.array([[spectra[by_cell[sub, spot.id].id][_NEAR] for spot in whole] for sub in subs]),
            SUM_HZ[_NEAR],
            seat_of=[spot.seat_id for spot in whole],
            weights=weights,
        )
        bench = _Bench(
            subs=subs,
            field=bass,
            seats=tuple(names[seat] for seat in bass.seats),
            spot_ids=tuple(spot.id for spot in whole),
            without=tuple(job.at_spot(spot.id) for spot in spots if spot not in whole),
            rests_on=rests_on,
        )
        self._benches[job.id] = bench
        return bench

    def _states(
        self,
        job: Job,
        bench: _Bench,
        search: Searching | None,
        group: SubGroup | None,
        hand: Mapping[str, SubSetting] | None,
        limits: SearchLimits,
    ) -> tuple[dict[str, SubState], tuple[tuple[float, float, str], ...]]:
        bass, subs = bench.field, bench.subs
        plain = bass.levels_db(bass.weights_of(neutral(bass.count)))
        as_they_are = bass.by_seat_db(plain).mean(axis=-1)
        wanted: dict[str, Mapping[str, SubSetting]] = (
            {f"alone-{sub}": {sub: SubSetting()} for sub in subs} if len(subs) > 1 else {}
        )
        wanted["as-they-are"] = dict.fromkeys(subs, SubSetting())
        ear = job.plan.centre_spot.place if job.plan.centre_spot else job.seat.place
        far = {s.channel: distance_m(s.place, ear) for s in job.speakers if s.is_sub}
        wanted["distances"] = by_distance(far, speed_m_s=speed_of_sound(job.room.temperature_c)).settings
        pareto_front = []
        if search is not None and search.found is not None:
            wanted["search"] = dict(zip(subs, search.found.settings, strict=True))
            for number, result in enumerate(search.pareto_front):
                code = "search" if result.settings == search.found.settings else f"trade-{number}"
                wanted.setdefault(code, dict(zip(subs, result.settings, strict=True)))
                pareto_front.append((result.output_db, result.deviation_db, code))
        if group is not None and set(group.settings) == set(subs):
            wanted["used"] = group.settings
        if hand:
            wanted["by-hand"] = hand
        return {code: state_of(bass, subs, settings, as_they_are, limits) for code, settings in wanted.items()}, tuple(
            pareto_front
        )
