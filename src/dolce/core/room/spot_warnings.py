"""What common practice says against a microphone place."""

from dataclasses import dataclass
from typing import Literal

from dolce.core.geometry import distance_m
from dolce.core.room.plan import CLOSE_M, RoomPlan, is_close

WALL_M, POINT_SOURCE_M, LINE_SOURCE_M = 0.5, 1.0, 3.0  # common practice
WIDEST_SPREAD_M = 1.5  # common practice: one correction serves about a sofa


@dataclass(frozen=True, slots=True, kw_only=True)
class SpotWarning:
    """One warning: about a spot (number) or a seat (name of the far one), with the distance found and the least."""

    kind: Literal["wall", "speaker", "not close", "spread"]
    spot: int
    about: str
    found_m: float
    limit_m: float


def spot_warnings(plan: RoomPlan) -> list[SpotWarning]:
    """Warnings by spot number, then one for each seat that is too far away to share a correction."""
    warnings = []
    size = plan.size
    for spot in plan.spots:
        p = spot.place
        gaps = {
            "left wall": p.x_m,
            "right wall": size.width_m - p.x_m,
            "front wall": p.y_m,
            "back wall": size.length_m - p.y_m,
            "floor": p.z_m,
            "ceiling": size.height_m - p.z_m,
        }
        wall, gap = min(gaps.items(), key=lambda item: item[1])
        if gap < WALL_M - 1e-9:
            warnings.append(SpotWarning(kind="wall", spot=spot.number, about=wall, found_m=gap, limit_m=WALL_M))
        for speaker in plan.speakers:
            limit = LINE_SOURCE_M if speaker.source == "line" else POINT_SOURCE_M
            gap = distance_m(p, speaker.place)
            if speaker.channel == spot.close_to:
                if not is_close(gap):
                    warnings.append(
                        SpotWarning(
                            kind="not close", spot=spot.number, about=speaker.channel, found_m=gap, limit_m=CLOSE_M[1]
                        )
                    )
            elif gap < limit - 1e-9:
                warnings.append(
                    SpotWarning(kind="speaker", spot=spot.number, about=speaker.channel, found_m=gap, limit_m=limit)
                )
    main = plan.main_seat
    for seat in plan.seats:
        spots = plan.spots_of(seat.id)
        if seat.is_main or not spots:
            continue
        far = distance_m(seat.place, main.place)
        if far > WIDEST_SPREAD_M:
            warnings.append(
                SpotWarning(kind="spread", spot=spots[0].number, about=seat.name, found_m=far, limit_m=WIDEST_SPREAD_M)
            )
    return warnings
