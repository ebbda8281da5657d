"""Findings about seats at the null or the peak of a strong mode."""

import numpy as np

from dolce.core.acoustics import Modes, modes_of_box
from dolce.core.room.box_model import box_model
from dolce.core.room.findings.model import Finding
from dolce.core.room.plan import RoomPlan

_HIGHEST_HZ = 120.0
_HIGHEST_ORDER = 2
_NULL, _PEAK = 0.2, 0.95  # part of the loudest pressure
_DRIVEN = 0.3
_MIDDLE_M = 0.15
_STEPS_M = np.round(np.concatenate([np.arange(0.05, 1.51, 0.05), -np.arange(0.05, 1.51, 0.05)]), 2)
AXES = ("x", "y", "z")


def mode_findings(plan: RoomPlan) -> list[Finding]:
    """Axial modes of first and second order whose null or peak a seat sits in, where a speaker drives them."""
    box = box_model(plan)
    modes = modes_of_box(box.size_m, up_to_hz=_HIGHEST_HZ, speed_m_s=box.speed_m_s)
    axial = np.flatnonzero((np.count_nonzero(modes.orders, axis=1) == 1) & (modes.orders.max(axis=1) <= _HIGHEST_ORDER))
    if not axial.size:
        return []
    seats = box.within([seat.place for seat in plan.seats])
    at_seats = np.abs(modes.pressure_at(seats)[:, axial])
    speakers = [s for s in plan.speakers if (s.low_limit_hz or 20) <= _HIGHEST_HZ]
    driven = np.abs(modes.pressure_at(box.within([s.place for s in speakers]))[:, axial]).max(axis=0, initial=0.0)
    found = []
    for k, mode in enumerate(axial):
        if driven[k] < _DRIVEN:
            continue
        axis = int(modes.orders[mode].argmax())
        for t, seat in enumerate(plan.seats):
            pressure = float(at_seats[t, k])
            if _NULL < pressure < _PEAK:
                continue
            kind = "mode null" if pressure <= _NULL else "mode peak"
            fixed = axis == 2  # the height of a head is hardly to be chosen
            weight = (0.5 if kind == "mode null" else 0.22) * (0.5 if fixed else 1) * (1 if seat.is_main else 0.7)
            weight *= min(seat.weight, 1.0)
            if axis == 0 and abs(seat.place.x_m - plan.size.width_m / 2) < _MIDDLE_M:
                weight *= 0.4  # the price of sitting between left and right alike
            by = _shortest_move(pressure_along(modes, int(mode), axis, seats[t]), kind)
            found.append(
                Finding(
                    kind=kind,
                    subjects=(f"seat-{seat.id}",),
                    about=f"{AXES[axis]}{modes.orders[mode].max()}",
                    weight=round(weight, 3),
                    values={
                        "frequency_hz": float(modes.frequency_hz[mode]),
                        "by_m": by / (1 if fixed else box.scale),
                        "level_db": float(20 * np.log10(max(pressure, 1e-3))),
                    },
                )
            )
    return found


def pressure_along(modes: Modes, mode: int, axis: int, place: np.ndarray) -> np.ndarray:
    """Pressure of a mode at steps along its axis from a place; nan outside the box."""
    at = place[axis] + _STEPS_M
    inside = (at > 0.1) & (at < modes.size_m[axis] - 0.1)
    return np.where(inside, np.abs(np.cos(np.pi * modes.orders[mode, axis] * at / modes.size_m[axis])), np.nan)


def _shortest_move(along: np.ndarray, kind: str) -> float:
    """The smallest step that leaves the null (to half the pressure) or the peak (to 0.7 of it); 0 if none does."""
    good = along >= 0.5 if kind == "mode null" else along <= 0.7
    steps = _STEPS_M[good & np.isfinite(along)]
    return float(steps[np.argmin(np.abs(steps))]) if steps.size else 0.0
