"""Verdicts held against what filters really do: each region says the gain applied, and its label is true."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.evidence import Needs
from dolce.core.correction.plan import LEAVE_DB, ONLY_CUT_DB, CorrectionPlan, Region, Verdict
from dolce.core.dsp import smoothed_db

_PER_OCTAVE = 12  # over which gains are told (common practice for bass)


def plan_as_corrected(plan: CorrectionPlan, needs: Needs, applied_db: NDArray) -> CorrectionPlan:
    """The plan whose regions say what filters do there, and what that is worth at spots left out.

    Parameters
    ----------
    applied_db : ndarray, shape (points,)
        Level of the filters on the plan's frequencies.

    Notes
    -----
    Filters have skirts, and a person may set any. Where they do more than a verdict allows (1 dB in "leave" and "move
    something", +0.5 dB in "only cut", over 1/12 octave), the verdict becomes what they do, and the region says so.
    Regions outside the range are parted where the skirts end. At each spot left out, the filters are taken to follow
    what the other spots ask for in the proportion in which they follow all of them.
    """
    if not np.any(applied_db):
        return plan
    at_hz = plan.frequency_hz
    gain = smoothed_db(at_hz, applied_db, at_hz=at_hz, per_octave=_PER_OCTAVE)
    lack = needs.weight @ needs.error_db**2
    residual = needs.weight @ (needs.error_db - _left_out(plan, applied_db)) ** 2
    found: list[Region] = []
    for region in plan.regions:
        for part in _parts(region, at_hz, gain):
            at = part.covers(at_hz)
            k = np.flatnonzero(at)[int(np.argmax(np.abs(gain[at])))]
            worth = None
            if needs.spots > 1:
                worth = float(np.sqrt(lack[at].mean()) - np.sqrt(residual[at].mean()))
            part = replace(
                part,
                applied_db=float(gain[k]),
                applied_hz=float(at_hz[k]),
                worth_db=worth,
                costs_db=float(max(0.0, gain[at].max())),
            )
            found.append(_true(part, lowest_db=float(gain[at].min())))
    return replace(plan, regions=tuple(found))


def _left_out(plan: CorrectionPlan, applied_db: NDArray) -> NDArray[np.float64]:
    """What filters would do had each spot been left out, shape (spots, points), or (1, points) for one spot."""
    if not len(plan.without_each_db):
        return applied_db[None]
    desired = plan.desired_db
    asked = np.abs(desired) > 0.1
    follows = np.where(asked, np.clip(applied_db / np.where(asked, desired, 1.0), 0, 1), 0.0)
    return applied_db + follows * (plan.without_each_db - desired)


def _parts(region: Region, at_hz: NDArray, gain_db: NDArray) -> Sequence[Region]:
    """A region outside the range parted into skirts of filters and the rest; any other as it is."""
    inside = np.flatnonzero(region.covers(at_hz))
    busy = np.abs(gain_db[inside]) > LEAVE_DB
    if region.kind != "outside" or not busy.any():
        return [region]
    edges = [0, *(np.flatnonzero(np.diff(busy)) + 1).tolist(), inside.size]
    return [
        replace(
            region,
            from_hz=float(at_hz[inside[a]]),
            to_hz=float(at_hz[inside[b - 1]]),
            kind="skirt" if busy[a] else "outside",
        )
        for a, b in pairwise(edges)
    ]


def _true(region: Region, *, lowest_db: float) -> Region:
    """With the verdict that filters keep to."""
    does = verdict_of(highest_db=region.costs_db, lowest_db=lowest_db)
    held = {"correct": True, "only cut": region.costs_db <= ONLY_CUT_DB}.get(region.verdict, does == "leave")
    if held:
        return region
    does = "correct" if does == "leave" else does
    kind = region.kind if region.kind in ("skirt", "overruled") else "reached"
    return replace(region, kind=kind, planned=region.verdict, verdict=does)


def verdict_of(*, highest_db: float, lowest_db: float) -> Verdict:
    """What filters with these largest and least gains do: leave, only cut, or correct."""
    if max(highest_db, -lowest_db) <= LEAVE_DB:
        return "leave"
    return "only cut" if highest_db <= ONLY_CUT_DB else "correct"
