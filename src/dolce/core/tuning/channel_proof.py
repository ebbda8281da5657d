"""The proof of one channel: what was there, what was predicted, and what was measured, against its target."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import PairDifference, pair_differences
from dolce.core.correction import low_frequency_extension_hz
from dolce.core.correction.outcome import TREBLE_HZ
from dolce.core.dsp import energy_mean_db
from dolce.core.job import Job, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES, partner_of
from dolce.core.subs import CROSSOVER_OCTAVES
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.core.tuning.correction import Correction
from dolce.core.tuning.prediction import level_of
from dolce.core.tuning.proof import Proof, SpotLevels, prove
from dolce.core.tuning.seats_proof import SeatsProof
from dolce.core.tuning.shape import fronts_level_db, judged_range_hz, target_level_db


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelProof:
    """The proof of one channel, its curves relative to its target's level, and its target, shape (points,).

    `judged_hz` is the range of its deviations. `after_spots_db` are the spots one by one, shape (spots, points);
    `crossover_hz` is where subs take over, None without. `seats` is the bass of every seat, None of one alone.
    `level_db` was taken off all curves, after what was there before was raised by `trim_db`.
    """

    channel: str
    proof: Proof
    target_db: NDArray[np.float64]
    after_spots_db: NDArray[np.float64]
    judged_hz: tuple[float, float]
    crossover_hz: float | None = None
    seats: SeatsProof | None = None
    level_db: float = 0.0
    trim_db: float = 0.0

    def beside_db(self, curves: ChannelCurves, taken_in: Round, weights: Mapping[int, float]) -> "RoundBeside | None":
        """Another round of the channel at the level of these curves; None where it has none of their spots.

        As with the rounds of the proof: one through the bypass with the trim of now, others without their common cut.
        """
        spots = tuple(spot for spot in self.proof.spots if spot in curves.spots.spots)
        if not spots:
            return None
        average = energy_mean_db(curves.spots.at(spots), weights=[weights[spot] for spot in spots])
        raised = self.trim_db if taken_in.bypassed else taken_in.held.cut_db
        return RoundBeside(round=taken_in, level_db=average + raised - self.level_db, spots=len(spots))

    @property
    def whole_range(self) -> bool:
        """Whether it plays the whole range, so that a deviation over all of it means something."""
        return self.channel not in SUB_CODES

    @property
    def around_crossover_db(self) -> float | None:
        """What was measured against what was predicted, mean over an octave to both sides of the crossover."""
        if self.crossover_hz is None:
            return None
        near = np.abs(np.log2(ANALYSIS_GRID_HZ / self.crossover_hz)) <= CROSSOVER_OCTAVES
        return float(np.mean((self.proof.after_db - self.proof.predicted_db)[near]))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RoundBeside:
    """A channel in another round, beside its proof: its average in dB, shape (points,), over so many of the spots."""

    round: Round
    level_db: NDArray[np.float64]
    spots: int


def channel_proof(
    job: Job,
    correction: Correction,
    after_round: Round,
    before: ChannelCurves,
    after: ChannelCurves,
    weights: dict[int, float],
    summed: SpotLevels | None,
    fronts_db: float | None,
) -> ChannelProof | None:
    """Everything relative to the target's level; the common cut for headroom is taken out of what was measured.

    Predicted is what was there before through what the processor held while the round after was taken; `summed` where
    several outputs play the channel.
    """
    held = after_round.held
    grid, settings, cut_db = ANALYSIS_GRID_HZ, held.settings_for(before.channel), held.cut_db
    target = correction.target_db(before.channel, grid)
    whole = before.averaged_over_seats(weights)
    if whole is None:
        return None
    trim_db, switches_db = settings.trim_db + cut_db, correction.switches_db(before.channel, grid)
    level = target_level_db(
        before.channel,
        whole.average.level_db + trim_db + switches_db,
        target,
        at_hz=grid,
        correction=correction,
        fronts_db=fronts_db,
    )
    change = level_of(settings, at_hz=grid, sample_rate_hz=job.rig.sample_rate_hz) - settings.trim_db + switches_db
    start = SpotLevels(spots=before.spots.spots, level_db=before.level_db + trim_db - level)
    # What sounds in the channel before its filters: over the same range as on Shape.
    level_db = whole.average.level_db if summed is None else energy_mean_db(summed.level_db)
    judged = judged_range_hz(
        correction.limits_for(before.channel),
        low_frequency_extension_hz(grid, level_db, is_sub=before.channel in SUB_CODES),
    )
    predicted = (
        SpotLevels(spots=start.spots, level_db=start.level_db + change)
        if summed is None
        else SpotLevels(spots=summed.spots, level_db=summed.level_db + cut_db - level)
    )
    found = prove(
        grid,
        start,
        predicted,
        SpotLevels(spots=after.spots.spots, level_db=after.level_db + cut_db - level),
        weights=weights,
        target_db=target,
        range_hz=judged,
        plays_to_hz=judged[1] if before.channel in SUB_CODES else TREBLE_HZ,
    )
    if found is None:
        return None
    crossover = held.crossover_of(before.channel)
    shown = SpotLevels(spots=after.spots.spots, level_db=after.level_db + cut_db - level)
    names = {seat.id: seat.name for seat in job.plan.seats}
    at_seats = [spot for spot in found.spots if job.spot(spot).seat_id in names]
    return ChannelProof(
        channel=before.channel,
        proof=found,
        target_db=target,
        after_spots_db=shown.at(found.spots),
        crossover_hz=crossover.frequency_hz if crossover is not None else None,
        judged_hz=judged,
        level_db=level,
        trim_db=trim_db,
        seats=SeatsProof.of(
            *(levels.at(tuple(at_seats)) for levels in (start, predicted, shown)),
            seat_of=[names[seat] for spot in at_seats if (seat := job.spot(spot).seat_id) is not None],
        ),
    )


def paired_differences(curves: Mapping[str, ChannelCurves], weights: Mapping[int, float]) -> list[PairDifference]:
    """Left and right of each kind against each other, at the spots that both have."""
    names = list(curves)
    found = []
    for place, name in enumerate(names):
        partner = partner_of(name)
        if partner not in names[place:]:
            continue
        first, other = curves[name].spots, curves[partner].spots
        spots = tuple(spot for spot in first.spots if spot in other.spots and weights.get(spot, 0) > 0)
        if spots:
            found += pair_differences(
                ANALYSIS_GRID_HZ, {name: first.at(spots), partner: other.at(spots)}, [weights[spot] for spot in spots]
            )
    return found


def spots_matched_at(
    weights: dict[int, float], before: Mapping[str, ChannelCurves], after: Mapping[str, ChannelCurves]
) -> int:
    """At how many spots the levels of every channel are known in both rounds."""
    return min(
        (len(set(weights) & set(before[c].spots.spots) & set(after[c].spots.spots)) for c in before if c in after),
        default=0,
    )


def loaded_fronts_db(
    correction: Correction, after: Round, before: Mapping[str, ChannelCurves], weights: dict[int, float]
) -> float | None:
    """Level of the fronts as they were loaded, where targets are hung by that."""
    found = {}
    for name, curves in before.items():
        whole = curves.averaged_over_seats(weights) if correction.anchor == "fronts" else None
        if whole is not None:
            raised = after.held.settings_for(name).trim_db + after.held.cut_db
            found[name] = whole.average.level_db + raised + correction.switches_db(name, ANALYSIS_GRID_HZ)
    return fronts_level_db(found, correction, at_hz=ANALYSIS_GRID_HZ)
