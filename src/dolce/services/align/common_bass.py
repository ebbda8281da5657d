"""The common bass of a job: filters searched behind the page, looked at beside other settings of the subs, and used."""

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import ClassVar

import numpy as np

from dolce.core.bass import QUICK, BassMeasure, BassTakes, SearchSteps, shared_bass
from dolce.core.bass.lattice import FREQUENCY_HZ, spectrum_of
from dolce.core.correction import Target, low_frequency_extension_hz
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.processor import BassManagement, Crossover, Effects
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import TYPICAL_LOW_LIMIT_HZ, Spot
from dolce.core.subs import SubGroup, SubSetting
from dolce.core.tuning import Alignment, BassRequest, FoundBass, bass_problem, trim_step_db, usual_seat_weighting
from dolce.errors import Conflict, NotFound
from dolce.services.align.aligning import Aligning
from dolce.services.align.bass_takes import summable
from dolce.services.align.proposing import Proposing
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.searches import ReportedSearch, Searches
from dolce.store import UnitOfWork

_MOST_RESULTS = 6  # that are compared


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BassResult:
    """Filters that were found, as they would be used.

    Attributes
    ----------
    alignment : with the filters
    unable : main channels that end too high to take part, and where in Hz
    without : spots that were left out since a loudspeaker was not taken there, in words
    turned_down_db : by how much main channels are turned down, since the subs' trim ends
    """

    alignment: Alignment
    unable: Mapping[str, float]
    without: tuple[str, ...]
    turned_down_db: float


@dataclass(slots=True, kw_only=True)
class BassSearch(ReportedSearch):
    """A search for one job; what it and earlier ones found of the same takes, by the code of what was asked."""

    request: BassRequest
    rests_on: tuple
    results: dict[str, BassResult] = field(default_factory=dict)


class CommonBassBench:
    """Filters of the common bass by job; `search_steps` says how long they are looked for."""

    search_steps: ClassVar[SearchSteps] = QUICK

    def __init__(self, context: Context, aligning: Aligning, proposing: Proposing) -> None:
        self._context, self._aligning, self._proposing = context, aligning, proposing
        self._searches: Searches[BassSearch] = Searches()

    def search_of(self, job_id: int) -> BassSearch | None:
        """The last search, with what was found; None where takes, seats or the alignment have changed since."""
        search = self._searches.of(job_id)
        if search is None:
            return None
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            rests_on = _rests_on(work, job, self._base(work, job))
        return search if search.rests_on == rests_on else None

    def search(self, job_id: int, request: BassRequest) -> None:
        """Look for filters, in a thread of its own.

        Raises
        ------
        Conflict
            If subs, takes or a convolution in the processor are missing.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            base = self._base(work, job)
            request = _within_limits(job, request)
            self._spots(work, job, base)  # says what is missing, before anything begins
            rests_on = _rests_on(work, job, base)
        before = self.search_of(job_id)
        search = BassSearch(
            request=request, rests_on=rests_on, results=dict(before.results) if before is not None else {}
        )
        self._searches.begin(
            job_id,
            search,
            lambda: search.run(lambda _: self._find(job_id, search)),
            name="search of the common bass",
            asked=object(),
        )

    def stop(self, job_id: int) -> None:
        """End a search; nothing of it is kept."""
        self._searches.stop(job_id)

    def wait(self, job_id: int) -> None:
        """Until a search is done."""
        self._searches.wait(job_id)

    def close(self) -> None:
        self._searches.close()

    def use(self, job_id: int, code: str) -> None:
        """Take over filters that were found, with the crossovers and trims that they stand on.

        Raises
        ------
        NotFound
            If they are no longer there.
        """
        search = self.search_of(job_id)
        result = search.results.get(code) if search is not None else None
        if result is None:
            raise NotFound("these filters are no longer there.", where="common bass", remedy="Search again.")
        who = "the subs" if code.startswith("subs") else "all that reach low enough"
        self._aligning.keep(job_id, result.alignment, f"of the common bass, played by {who}")

    def leave(self, job_id: int) -> None:
        """Each sub gets gain, delay and polarity alone again."""
        self._aligning.change(
            job_id,
            "without the common bass",
            lambda alignment: replace(
                alignment, common_bass=None, subs=alignment.subs and replace(alignment.subs, held=False)
            ),
        )

    def _base(self, work: UnitOfWork, job: Job) -> Round | None:
        alignment = work.alignments.current(job.id)
        return base_round(work, job, kept=alignment.round_id if alignment else None)

    def _spots(
        self, work: UnitOfWork, job: Job, base: Round | None
    ) -> tuple[Round, dict[tuple[str, int], TakeRecord], list[Spot], list[Spot]]:
        """The round, takes by cell, and spots where all loudspeakers were taken, and where not."""
        if not job.subs:
            raise Conflict("there is no sub in this room.", where="common bass", remedy="Add one in Room.")
        if base is None:
            raise Conflict(
                "nothing is taken yet with the processor bypassed.",
                where="common bass",
                remedy="Take every loudspeaker at every spot first.",
            )
        weights = usual_seat_weighting(job).weights
        spots = [spot for spot in job.spots if spot.seat_id is not None and weights.get(spot.seat_id, 0) > 0]
        takes = {(take.channel, take.spot_id): take for take in summable(work, base.id, job.channels)}
        for channel in job.channels:
            if not any((channel, spot.id) in takes for spot in spots):
                raise Conflict(
                    f"round {base.name} has no take of {channel} with a known arrival at a seat that counts.",
                    where="common bass",
                    remedy="Take it, with the loop or a chirp that tells the time.",
                )
        whole = [spot for spot in spots if all((channel, spot.id) in takes for channel in job.channels)]
        lacking = [spot for spot in spots if spot not in whole]
        names = {seat.id: seat.name for seat in job.plan.seats}
        for seat in dict.fromkeys(spot.seat_id for spot in spots if spot.seat_id is not None):
            if not any(spot.seat_id == seat for spot in whole):
                raise Conflict(
                    f"no spot at {names[seat]} has takes of every loudspeaker.",
                    where="common bass",
                    remedy="Take what is missing there, or give that seat no weight.",
                )
        return base, takes, whole, lacking

    def _find(self, job_id: int, search: BassSearch) -> None:
        """The filters asked for, with all that is shown of them."""
        request = search.request
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            base, takes, spots, lacking = self._spots(work, job, self._base(work, job))
            correction = work.corrections.current(job_id)
            aligned = self._proposing.composed(
                work, job, base, _before(work.alignments.current(job_id) or Alignment(), job, request)
            )
            proposed = self._proposing.proposal(work, job, base, aligned).alignment_table
            close = self._ends_by_close_takes(work, job, base)
            typed = _ends_typed(job, but=close)
            as_taken = _as_taken(work, job, takes, spots, typed | close)
        weights = {str(seat): weight for seat, weight in usual_seat_weighting(job).weights.items()}
        rows = {row.reading.channel: row for row in proposed.channel_rows} if proposed else {}
        mains = {channel: rows[channel] for channel in job.main_channels if channel in rows}
        unknown = [channel for channel, row in mains.items() if row.reading.matched_db is None]
        if unknown:
            raise Conflict(
                f"the level of {', '.join(unknown[:6])} is not known.",
                where="common bass",
                remedy="Take all channels with one microphone gain.",
            )
        matched = {channel: (row.reading.matched_db or 0.0) + row.trim_db for channel, row in mains.items()}
        wanted = np.mean([matched[channel] - row.offset_db for channel, row in mains.items()])
        of_subs = next((row.offset_db for row in rows.values() if row.reading.is_sub), 0.0)
        limits = job.limits
        problem = bass_problem(
            aligned,
            as_taken,
            request,
            main_seat=str(job.seat.id),
            arrival_s={channel: [takes[channel, spot.id].arrival_s for spot in spots] for channel in mains},
            matched_db=matched,
            level_db=float(wanted) + of_subs,
            target=correction.target if correction is not None else Target(),
            weights=weights,
            highest_trim_db=limits.highest_trim_db if limits else 0.0,
            trim_step_db=trim_step_db(limits),
            sample_rate_hz=job.rig.sample_rate_hz,
        )

        def on_progress(fraction: float) -> None:
            search.fraction = fraction

        design = shared_bass(
            problem.takes,
            problem.aim,
            length_s=request.length_s,
            latency_s=request.latency_s,
            weights=weights,
            search_steps=self.search_steps,
            on_progress=on_progress,
            stopped=search.stop.is_set,
        )
        search.on_progress(1.0)  # a search that was stopped keeps nothing
        names = {seat.id: seat.name for seat in job.plan.seats}
        found = FoundBass(
            request=request,
            filters=design.filters,
            settings={channel: problem.alignment.settings(channel) for channel in job.channels},
            target_db_at_20=float(problem.aim.target_db[np.searchsorted(FREQUENCY_HZ, 20.0)]),
            given=design.given,
            subs_alone=BassMeasure(problem.takes, problem.aim).of(
                problem.takes.heard[list(problem.takes.is_sub)].sum(axis=0)
            ),
            expected=design.expected,
            spots_at=dict(Counter(names[spot.seat_id] for spot in spots if spot.seat_id is not None)),
            nodes=tuple(
                replace(node, seat=names[int(node.seat)], other=names[int(node.other)] if node.other else "")
                for node in design.nodes
            ),
            budget=design.budget,
            ends_by_close_take=tuple(close),
            ends_typed=tuple(typed),
        )
        for oldest in list(search.results)[: len(search.results) + 1 - _MOST_RESULTS]:
            del search.results[oldest]
        search.results.pop(request.code, None)
        search.results[request.code] = BassResult(
            alignment=replace(problem.alignment, common_bass=found),
            unable=problem.unable if request.play == "all" else {},
            without=tuple(job.at_spot(spot.id) for spot in lacking),
            turned_down_db=aligned.settings(job.main_channels[0]).trim_db
            - problem.alignment.settings(job.main_channels[0]).trim_db,
        )

    def _ends_by_close_takes(self, work: UnitOfWork, job: Job, base: Round) -> dict[str, float]:
        """Where loudspeakers end that were taken close to them, in Hz."""
        curves = self._context.curves.of(work, base.id)
        found: dict[str, float] = {}
        for channel, spot in ((c, spot) for c in job.channels for spot in job.plan.close_spots(c)):
            if channel in curves and spot.id in curves[channel].spots.spots:
                found[channel] = low_frequency_extension_hz(
                    ANALYSIS_GRID_HZ, curves[channel].spots.at((spot.id,))[0], close=True, is_sub=channel in job.subs
                )
        return found


def _ends_typed(job: Job, *, but: Collection[str]) -> dict[str, float]:
    """Low limits that a person typed on Room, in Hz; one that a layout begins with says nothing of a loudspeaker."""
    return {
        speaker.channel: speaker.low_limit_hz
        for speaker in job.plan.speakers
        if speaker.channel in job.main_channels
        and speaker.channel not in but
        and speaker.low_limit_hz not in (None, TYPICAL_LOW_LIMIT_HZ)
    }


def _as_taken(
    work: UnitOfWork,
    job: Job,
    takes: Mapping[tuple[str, int], TakeRecord],
    spots: Sequence[Spot],
    ends_hz: Mapping[str, float],
) -> BassTakes:
    """Every loudspeaker at the spots."""
    cells = {takes[channel, spot.id].id: (channel, spot.id) for channel in job.channels for spot in spots}
    spectra = {cells[number]: spectrum_of(response) for number, response in work.takes.responses(list(cells))}
    return BassTakes.of_spectra(
        job.channels,
        np.array([[spectra[channel, spot.id] for spot in spots] for channel in job.channels]),
        subs=job.subs,
        seat_of=[str(spot.seat_id) for spot in spots],
        ends_hz=ends_hz,
    )


def _within_limits(job: Job, request: BassRequest) -> BassRequest:
    """As long as the processor holds."""
    limits = job.limits
    if limits is None:
        return request
    if not limits.bass_taps:
        raise Conflict(
            f"{limits.name} has no convolution between inputs and outputs.",
            where="common bass",
            remedy=(
                "Type its taps on the Rig page under Processor, or use gain, delay and polarity of each sub: a few "
                "bands and all-passes for each gain little more."
            ),
        )
    longest = limits.bass_taps / job.rig.sample_rate_hz
    if longest < 0.1:
        raise Conflict(
            f"{limits.name} holds {limits.bass_taps} taps between inputs and outputs, {1000 * longest:.0f} ms at "
            f"{job.rig.sample_rate_hz} Hz; the common bass needs 100 ms.",
            where="common bass",
            remedy="Lower the sample rate, or use gain, delay and polarity of each sub.",
        )
    return replace(request, length_s=min(request.length_s, longest))


def _before(alignment: Alignment, job: Job, request: BassRequest) -> Alignment:
    """The alignment that filters are found for: subs without settings of their own, all main channels crossed over."""
    group = SubGroup.of(dict.fromkeys(job.subs, SubSetting()), how="as they are")
    before = alignment.routing
    routing = BassManagement(
        crossover=Crossover(frequency_hz=request.hand_over_hz),
        subs=job.subs,
        sub_gain_db=0.0,
        effects=before.effects if before is not None and before.effects is not None else Effects(),
        sends=before.sends if before is not None else {},
    )
    return replace(
        alignment,
        subs=group.against_main_channels(delay_s=0.0, polarity=1, held=True),
        routing=routing,
        common_bass=None,
    )


def _rests_on(work: UnitOfWork, job: Job, base: Round | None) -> tuple:
    """What filters follow from, besides what is asked."""
    alignment = work.alignments.current(job.id) or Alignment()
    correction = work.corrections.current(job.id)
    return (
        base.id if base else None,
        work.takes.newest(base.id) if base else None,
        job.channels,
        tuple((spot.id, spot.seat_id) for spot in job.spots),
        tuple(usual_seat_weighting(job).weights.items()),
        alignment.levels,
        alignment.seat_weighting,
        correction.target if correction is not None else Target(),
        job.limits,
        job.rig.sample_rate_hz,
    )
