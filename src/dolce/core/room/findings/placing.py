"""Findings about where speakers and seats stand: angles, distances, heights, symmetry, depth of the main seat."""

import math

import numpy as np

from dolce.core.geometry import distance_m, pair_angle_deg
from dolce.core.room.channels import side_of
from dolce.core.room.findings.model import Finding
from dolce.core.room.laying_out import place_at
from dolce.core.room.layouts import Reference, reference_of
from dolce.core.room.plan import RoomPlan, Speaker
from dolce.core.room.sights import Sights, off_axis_deg

# Common practice, for lack of a published limit.
AXIS_HEIGHT_DEG = 10.0
OFF_AXIS_DEG = 20.0
UNEQUAL_WALL_M = 0.10
UNEQUAL_ARRIVAL_S = 0.0003
UNEQUAL_LEVEL_DB = 3.0
FRONT_PART = 0.40
HALF_WIDTH = 0.04
BACK_WALL_M = 0.6


def placing_findings(plan: RoomPlan, sights: Sights) -> list[Finding]:
    """All findings of this module."""
    main = plan.seats.index(plan.main_seat)
    found: list[Finding] = []
    for k, speaker in enumerate(plan.speakers):
        reference = None if speaker.is_sub else reference_of(plan.layout, speaker.channel)
        if reference is not None:
            found += _direction(
                plan, speaker, reference, float(sights.azimuth_deg[k, main]), float(sights.elevation_deg[k, main])
            )
        if not speaker.is_sub and (reference is None or not reference.overhead):
            found += _axis(plan, speaker)
    found += _distances(plan, sights, main)
    found += _pairs(plan, sights, main)
    found += _main_seat_depth(plan)
    return found


def _distances(plan: RoomPlan, sights: Sights, main: int) -> list[Finding]:
    """Channels much nearer or farther than the front pair, which the layout wants alike."""
    main_channels = [k for k, s in enumerate(plan.speakers) if not s.is_sub and reference_of(plan.layout, s.channel)]
    front = [k for k in main_channels if plan.speakers[k].channel in ("L", "R")] or main_channels[:1]
    if not front:
        return []
    usual = float(np.mean(sights.distance_m[front, main]))
    found = []
    for k in main_channels:
        away = float(sights.distance_m[k, main])
        level = 20 * math.log10(usual / away)
        if k not in front and abs(level) > UNEQUAL_LEVEL_DB:
            found.append(
                Finding(
                    kind="distance",
                    subjects=(plan.speakers[k].channel,),
                    weight=min(0.5, 0.1 + abs(level) / 15),
                    values={
                        "away_m": away,
                        "usual_m": usual,
                        "by_m": usual - away,
                        "level_db": level,
                        "late_ms": (away - usual) / plan.speed_m_s * 1000,
                    },
                )
            )
    return found


def _direction(
    plan: RoomPlan, speaker: Speaker, reference: Reference, azimuth: float, elevation: float
) -> list[Finding]:
    """Angle off its range, in the plan or in height."""
    found = []
    low, high = reference.azimuth_range_deg
    off = max(low - azimuth, azimuth - high, 0.0)
    seat = plan.main_seat.place
    if off > 0.25:
        # The nearest allowed direction, at the same distance along the floor.
        wanted = Reference(
            azimuth_deg=min(max(azimuth, low), high),
            azimuth_range_deg=(low, high),
            elevation_deg=0.0,
            elevation_range_deg=(0, 0),
            source="",
        )
        across = math.hypot(speaker.place.x_m - seat.x_m, speaker.place.y_m - seat.y_m)
        to = place_at(wanted, seat=seat, size=plan.size, distance_m=across)
        found.append(
            Finding(
                kind="angle",
                subjects=(speaker.channel,),
                about=reference.source,
                weight=min(1.0, 0.25 + off / 40),
                values={
                    "azimuth_deg": azimuth,
                    "low_deg": low,
                    "high_deg": high,
                    "off_deg": off,
                    "to_x_m": to.x_m,
                    "to_y_m": to.y_m,
                    "by_m": math.hypot(to.x_m - speaker.place.x_m, to.y_m - speaker.place.y_m),
                },
            )
        )
    low, high = reference.elevation_range_deg
    off = max(low - elevation, elevation - high, 0.0)
    if reference.overhead and off > 0.5:
        across = math.hypot(speaker.place.x_m - seat.x_m, speaker.place.y_m - seat.y_m)
        height = seat.z_m + across * math.tan(math.radians(min(max(elevation, low), high)))
        nearer = (speaker.place.z_m - seat.z_m) / math.tan(math.radians(max(low, 1)))
        found.append(
            Finding(
                kind="elevation",
                subjects=(speaker.channel,),
                about=reference.source,
                weight=min(0.8, 0.2 + off / 40),
                values={
                    "elevation_deg": elevation,
                    "low_deg": low,
                    "high_deg": high,
                    "to_z_m": height,
                    "across_m": across,
                    "to_across_m": max(0.0, nearer),
                },
            )
        )
    return found


def _axis(plan: RoomPlan, speaker: Speaker) -> list[Finding]:
    """Acoustic axis off ear height, or pointing past the main seat."""
    seat, place = plan.main_seat.place, speaker.place
    across = math.hypot(place.x_m - seat.x_m, place.y_m - seat.y_m)
    rise = place.z_m - seat.z_m
    angle = math.degrees(math.atan2(rise, max(across, 0.01)))
    found = []
    if abs(angle) > AXIS_HEIGHT_DEG:
        found.append(
            Finding(
                kind="axis height",
                subjects=(speaker.channel,),
                weight=min(0.7, 0.25 + abs(angle) / 60),
                values={"rise_m": rise, "angle_deg": angle, "ear_m": seat.z_m},
            )
        )
    past = off_axis_deg(speaker, plan)
    if past > OFF_AXIS_DEG:
        found.append(
            Finding(
                kind="aim", subjects=(speaker.channel,), weight=min(0.6, 0.15 + past / 120), values={"past_deg": past}
            )
        )
    return found


def _pairs(plan: RoomPlan, sights: Sights, main: int) -> list[Finding]:
    """Each pair: unequal to its side walls, unequal in arrival, and for the front pair the angle between."""
    found = []
    index = {s.channel: k for k, s in enumerate(plan.speakers)}
    for left in plan.speakers:
        right = next((s for s in plan.speakers if s.channel == left.partner), None)
        if (
            right is None
            or side_of(left.channel) == "right"
            or (side_of(left.channel) == "middle" and index[left.channel] > index[right.channel])
        ):
            continue
        gaps = [min(s.place.x_m, plan.size.width_m - s.place.x_m) for s in (left, right)]
        if not plan.outline and abs(gaps[0] - gaps[1]) > UNEQUAL_WALL_M:
            apart = abs(gaps[0] - gaps[1])
            hertz = [plan.speed_m_s / (4 * max(g, 0.05)) for g in gaps]
            found.append(
                Finding(
                    kind="side walls",
                    subjects=(left.channel, right.channel),
                    weight=min(0.8, 0.25 + apart / 1.5),
                    values={
                        "left_m": gaps[0],
                        "right_m": gaps[1],
                        "shift_m": apart / 2,
                        "left_hz": hertz[0],
                        "right_hz": hertz[1],
                    },
                )
            )
        arrivals = [float(sights.arrival_s[index[s.channel], main]) for s in (left, right)]
        levels = [float(sights.level_db[index[s.channel], main]) for s in (left, right)]
        if abs(arrivals[0] - arrivals[1]) > UNEQUAL_ARRIVAL_S:
            late = abs(arrivals[0] - arrivals[1])
            found.append(
                Finding(
                    kind="distances",
                    subjects=(left.channel, right.channel),
                    weight=min(0.7, 0.2 + late / 0.003),
                    values={
                        "left_m": float(sights.distance_m[index[left.channel], main]),
                        "right_m": float(sights.distance_m[index[right.channel], main]),
                        "late_ms": late * 1000,
                        "level_db": abs(levels[0] - levels[1]),
                    },
                )
            )
        reference = reference_of(plan.layout, left.channel)
        if left.channel == "L" and reference is not None and reference.azimuth_range_deg[0] >= -34:
            found += _base(plan, left, right)
    return found


def _base(plan: RoomPlan, left: Speaker, right: Speaker) -> list[Finding]:
    """A stereo base that is not 60 degrees wide, though each speaker may be within its own range."""
    angle = pair_angle_deg(left.place, right.place, seen_from=plan.main_seat.place)
    if abs(angle - 60) <= 6:
        return []
    half = distance_m(left.place, right.place) / 2
    depth = half / math.tan(math.radians(30))
    line = (left.place.y_m + right.place.y_m) / 2
    return [
        Finding(
            kind="stereo base",
            subjects=("L", "R", f"seat-{plan.main_seat.id}"),
            weight=min(0.8, 0.2 + abs(angle - 60) / 50),
            values={"angle_deg": angle, "seat_y_m": line + depth, "by_m": line + depth - plan.main_seat.place.y_m},
        )
    ]


def _main_seat_depth(plan: RoomPlan) -> list[Finding]:
    """The main seat at half the length, outside the front part, or against the back wall."""
    seat, length = plan.main_seat, plan.size.length_m
    part, behind = seat.place.y_m / length, length - seat.place.y_m
    key = (f"seat-{seat.id}",)
    if behind < BACK_WALL_M:
        return [
            Finding(
                kind="back wall",
                subjects=key,
                weight=0.7,
                values={
                    "behind_m": behind,
                    "by_m": BACK_WALL_M - behind,
                    "notch_hz": plan.speed_m_s / (4 * max(behind, 0.05)),
                },
            )
        ]
    if abs(part - 0.5) < HALF_WIDTH:
        return [
            Finding(
                kind="half length",
                subjects=key,
                weight=0.65,
                values={
                    "part": 100 * part,
                    "mode_hz": plan.speed_m_s / (2 * length),
                    "to_y_m": 0.38 * length,
                    "by_m": seat.place.y_m - 0.38 * length,
                },
            )
        ]
    if part > FRONT_PART:
        return [
            Finding(
                kind="front part",
                subjects=key,
                weight=0.32 if len(plan.main_channels) <= 3 else 0.2,
                values={"part": 100 * part, "to_y_m": 0.38 * length, "by_m": seat.place.y_m - 0.38 * length},
            )
        ]
    return []
