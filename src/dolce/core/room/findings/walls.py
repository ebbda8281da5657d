"""Findings about walls, floor, ceiling and desks: cancellations and loading."""

from collections.abc import Sequence

import numpy as np

from dolce.core.acoustics import boundary_gain_db
from dolce.core.room.findings.model import Finding
from dolce.core.room.plan import RoomPlan, Speaker
from dolce.core.room.reflections import Reflections, reflections_of

STEP_M = 0.2  # how far a speaker is moved to say what moving would do
# Up to here a cancellation counts in full, and not at all from twice that on. By common practice a wall within 0.6 m
# (143 Hz) is easy to live with; desks colour 160-400 Hz; subs end where they are crossed over.
_FULL_HZ, _DESK_FULL_HZ, _SUB_FULL_HZ = 150.0, 400.0, 80.0
_FLOOR_PART = 0.45  # floor and ceiling can hardly be moved away from
_OTHER_SEAT_PART = 0.6
_LEAST_DEPTH_DB = 3.0
_NEAR_WALL_M = 1.0
LOADING_HZ = 63.0


def wall_findings(plan: RoomPlan) -> list[Finding]:
    """Cancellations of every speaker by every boundary, pairs that agree as one; then loading."""
    return [*_cancellations(plan), *_loading(plan)]


def cancellation_weights(plan: RoomPlan, reflections: Reflections) -> np.ndarray:
    """How much each cancellation matters, 0 to 1, shape (boundaries, speakers, seats).

    Deeper counts more. High up (see the limits of this module) and below a speaker's own limit it fades to nothing;
    walls count less the farther away they are, floor and ceiling by half, seats by their weight.
    """
    frequency = reflections.cancellations.frequency_hz
    desk = np.isin(reflections.boundaries, [box.title for box in plan.boxes if box.kind == "desk"])
    level = np.isin(reflections.boundaries, ["floor", "ceiling"])
    full = np.where(desk, _DESK_FULL_HZ, _FULL_HZ)[:, None, None]
    full = np.where(np.array([s.is_sub for s in plan.speakers])[None, :, None], _SUB_FULL_HZ, full)
    limit = np.array([s.low_limit_hz or 20.0 for s in plan.speakers])[None, :, None]
    with np.errstate(divide="ignore", invalid="ignore"):
        above = np.clip(2 - frequency / full, 0, 1)
        below = np.clip(2 * frequency / limit - 1, 0, 1)
    deep = np.clip((-reflections.cancellations.depth_db - _LEAST_DEPTH_DB) / 10, 0, 1)
    near = np.clip(1.25 - 0.35 * reflections.to_boundary_m, 0.15, 1.0)
    near = np.where(level[:, None], _FLOOR_PART, np.where(desk[:, None], 1.0, near))[:, :, None]
    most = max(seat.weight for seat in plan.seats) or 1.0
    seats = np.array([seat.weight / most * (1.0 if seat.is_main else _OTHER_SEAT_PART) for seat in plan.seats])
    return np.where(np.isfinite(frequency), deep * above * below * near * seats, 0.0)


def _cancellations(plan: RoomPlan) -> list[Finding]:
    now = reflections_of(plan)
    nearer, farther = reflections_of(plan, toward_m=STEP_M), reflections_of(plan, toward_m=-STEP_M)
    weights = cancellation_weights(plan, now)
    worst = weights.argmax(axis=2)
    found: list[Finding] = []
    for s, speaker in enumerate(plan.speakers):
        for b, boundary in enumerate(now.boundaries):
            t = int(worst[b, s])
            weight = float(weights[b, s, t])
            if weight <= 0.02:
                continue
            hertz = now.cancellations.frequency_hz[b, s]
            reached = hertz[np.isfinite(hertz)]
            found.append(
                Finding(
                    kind="cancellation",
                    subjects=(speaker.channel, f"seat-{plan.seats[t].id}"),
                    about=boundary,
                    weight=round(weight, 3),
                    values={
                        "frequency_hz": float(hertz[t]),
                        "depth_db": float(now.cancellations.depth_db[b, s, t]),
                        "lowest_hz": float(reached.min()),
                        "highest_hz": float(reached.max()),
                        "distance_m": float(now.to_boundary_m[b, s]),
                        "nearer_hz": float(nearer.cancellations.frequency_hz[b, s, t]),
                        "farther_hz": float(farther.cancellations.frequency_hz[b, s, t]),
                    },
                )
            )
    return _pairs_as_one(plan, found)


def _pairs_as_one(plan: RoomPlan, found: list[Finding]) -> list[Finding]:
    """Left and right that are cancelled at the same frequency, by the same or the mirrored wall, as one finding."""
    partners = {s.channel: s.partner for s in plan.speakers if s.partner is not None and s.partner in plan.channels}
    mirrored = {"left wall": "right wall", "right wall": "left wall"}
    by_name = {(f.subjects[0], f.about, f.subjects[1]): f for f in found}
    joined: list[Finding] = []
    used: set[str] = set()
    for finding in found:
        channel, seat = finding.subjects
        if finding.key in used:
            continue
        other = by_name.get((partners.get(channel, ""), mirrored.get(finding.about, finding.about), seat))
        if (
            other is not None
            and other.key not in used
            and other is not finding
            and abs(other.values["frequency_hz"] / finding.values["frequency_hz"] - 1) < 0.04
        ):
            used.update((other.key, finding.key))
            about = "side walls" if finding.about in mirrored else finding.about
            joined.append(
                Finding(
                    kind="cancellation",
                    subjects=(channel, other.subjects[0], seat),
                    about=about,
                    weight=max(finding.weight, other.weight),
                    values=finding.values,
                )
            )
        else:
            used.add(finding.key)
            joined.append(finding)
    return joined


def walls_near(speaker: Speaker, plan: RoomPlan) -> list[float]:
    """Distances to the nearest boundary along x, y and z, those within a metre; at most three."""
    p, size = speaker.place, plan.size
    nearest = (min(p.x_m, size.width_m - p.x_m), min(p.y_m, size.length_m - p.y_m), min(p.z_m, size.height_m - p.z_m))
    return [gap for gap in nearest if gap <= _NEAR_WALL_M]


def loading_db(speakers: Sequence[Speaker], plan: RoomPlan, frequency_hz: float = LOADING_HZ) -> list[float]:
    """What the near walls add to each speaker at a frequency, in dB against the open."""
    gains = [0.0] * len(speakers)
    near = [walls_near(s, plan) for s in speakers]
    for count in (1, 2, 3):
        at = [k for k, gaps in enumerate(near) if len(gaps) == count]
        if at:
            found = boundary_gain_db(
                np.array([near[k] for k in at]), frequency_hz=np.array([frequency_hz]), speed_m_s=plan.speed_m_s
            )[:, 0]
            for k, gain in zip(at, found, strict=True):
                gains[k] = float(gain)
    return gains


def _loading(plan: RoomPlan) -> list[Finding]:
    """Speakers that two or three boundaries load, and pairs that are loaded differently."""
    if plan.outline:
        return []
    found = []
    gains = dict(zip(plan.channels, loading_db(plan.speakers, plan), strict=True))
    for speaker in plan.speakers:
        near = walls_near(speaker, plan)
        if len(near) >= 2 and gains[speaker.channel] >= 9:
            weight = 0.1 if speaker.is_sub else min(0.5, 0.1 + (gains[speaker.channel] - 9) / 15)
            found.append(
                Finding(
                    kind="loading",
                    subjects=(speaker.channel,),
                    weight=weight,
                    values={
                        "walls": len(near),
                        "up_to_db": 6.02 * len(near),
                        "gain_db": gains[speaker.channel],
                        "nearest_m": min(near),
                    },
                )
            )
        partner = speaker.partner
        if partner in gains and speaker.channel < partner and abs(gains[partner] - gains[speaker.channel]) > 1.0:
            apart = gains[speaker.channel] - gains[partner]
            found.append(
                Finding(
                    kind="unequal loading",
                    subjects=(speaker.channel, partner),
                    weight=min(0.6, 0.25 + abs(apart) / 10),
                    values={"first_db": gains[speaker.channel], "second_db": gains[partner]},
                )
            )
    return found
