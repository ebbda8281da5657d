"""Promise and result at the same spots."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import PAIR_DB, Match, PairDifference
from dolce.core.correction import Outcome, judge
from dolce.core.correction.outcome import (
    ARRIVAL_WITHIN_S,
    TREBLE_HZ,
    besides_within_db,
    level_within_db,
    predicted_within_db,
)
from dolce.core.dsp import energy_mean_db


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpotLevels:
    """Levels of one channel by spot: ids of the spots, and levels in dB of shape (spots, points)."""

    spots: tuple[int, ...]
    level_db: NDArray[np.float64]

    def at(self, spots: tuple[int, ...]) -> NDArray[np.float64]:
        """Rows of some of the spots, in their order."""
        return self.level_db[[self.spots.index(spot) for spot in spots]]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Proof:
    """One channel before, as predicted and after, each averaged over the same spots, shape (points,)."""

    spots: tuple[int, ...]
    before_db: NDArray[np.float64]
    predicted_db: NDArray[np.float64]
    after_db: NDArray[np.float64]
    outcome: Outcome


def prove(
    frequency_hz: NDArray,
    before: SpotLevels,
    predicted: SpotLevels,
    measured: SpotLevels,
    *,
    weights: Mapping[int, float],
    target_db: NDArray,
    range_hz: tuple[float, float],
    plays_to_hz: float = TREBLE_HZ,
) -> Proof | None:
    """Compare what was measured with what was before and predicted, at the spots that all of them have.

    Parameters
    ----------
    weights : mapping of spot id to its weight
        Spots that are not in it count nothing.
    target_db : ndarray, shape (points,)
        At the level of the curves.

    Returns
    -------
    Proof or None
        None where no spot is common.
    """
    common = tuple(
        spot for spot in before.spots if spot in measured.spots and spot in predicted.spots and weights.get(spot, 0) > 0
    )
    if not common:
        return None
    weight = [weights[spot] for spot in common]
    curves = [energy_mean_db(levels.at(common), weights=weight) for levels in (before, predicted, measured)]
    return Proof(
        spots=common,
        before_db=curves[0],
        predicted_db=curves[1],
        after_db=curves[2],
        outcome=judge(
            frequency_hz,
            before_db=curves[0],
            predicted_db=curves[1],
            after_db=curves[2],
            target_db=target_db,
            range_hz=range_hz,
            plays_to_hz=plays_to_hz,
        ),
    )


ObjectionKind = Literal[
    "prediction missed",
    "changed besides",
    "no closer",
    "levels differ",
    "arrivals differ",
    "pair differs",
    "line wrong",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Objection:
    """One thing that speaks against the proof: what, of which channels, the figure that says so, and its bound.

    kind : "prediction missed" (dB), "changed besides" (dB at `at_hz`, against what was predicted, also beyond the range
    that is corrected), "no closer", "levels differ" (dB; loudest, softest), "arrivals differ" (s; latest, earliest),
    "pair differs" (dB at `at_hz`; louder, softer), "line wrong" (all such lines)
    """

    kind: ObjectionKind
    channels: tuple[str, ...]
    value: float = 0.0
    within: float = 0.0
    at_hz: float | None = None


def objections_to(
    proofs: Mapping[str, Proof], match: Match | None, *, matched_at: int, pairs: Sequence[PairDifference] = ()
) -> tuple[Objection, ...]:
    """What speaks against the proof; empty where everything holds.

    Parameters
    ----------
    matched_at : int
        At how many spots levels were matched.
    pairs : what was measured of left and right of a kind
    """
    found = [
        Objection(
            kind="pair differs",
            channels=(pair.louder, pair.softer),
            value=pair.value_db,
            within=PAIR_DB,
            at_hz=pair.at_hz,
        )
        for pair in pairs
        if pair.stands_out
    ]
    for channel, proof in proofs.items():
        missed, within = proof.outcome.predicted_against_measured_db, predicted_within_db(len(proof.spots))
        if missed > within:
            found.append(Objection(kind="prediction missed", channels=(channel,), value=missed, within=within))
        besides, most = besides_within_db(len(proof.spots)), proof.outcome.most_off_db
        if abs(most) > besides:
            found.append(
                Objection(
                    kind="changed besides",
                    channels=(channel,),
                    value=most,
                    within=besides,
                    at_hz=proof.outcome.most_off_hz,
                )
            )
        if not proof.outcome.improved:
            found.append(Objection(kind="no closer", channels=(channel,)))
    if match is None:
        return tuple(found)
    level_within = level_within_db(matched_at)
    if match.level_db is not None and match.level_db > level_within:
        found.append(
            Objection(
                kind="levels differ", channels=(match.loudest, match.softest), value=match.level_db, within=level_within
            )
        )
    if match.arrival_s is not None and match.arrival_s > ARRIVAL_WITHIN_S:
        found.append(
            Objection(
                kind="arrivals differ",
                channels=(match.latest, match.earliest),
                value=match.arrival_s,
                within=ARRIVAL_WITHIN_S,
            )
        )
    return tuple(found)
