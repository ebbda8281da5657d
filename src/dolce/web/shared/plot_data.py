"""Finished points for the plots: what the scripts draw, they do not compute."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.cache import cache
from dolce.core.dsp import in_band
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES
from dolce.core.subs import SUBS

FROM_HZ, TO_HZ = 20.0, 20_000.0
RANGE_DB = 50.0
_LARGEST_RANGE_DB = 100.0
Scale = tuple[float, float]
TO_CORRECT_DB = (-25.0, 15.0)  # of Shape and Prove, so that both can be compared
SUB_SHOWN_TO_HZ = 300.0  # above, a sub's curve is noise and what its crossover lets through
_SHOWN = in_band(ANALYSIS_GRID_HZ, (FROM_HZ, TO_HZ), octaves=0.02)
SHOWN_X = [round(float(f), 2) for f in ANALYSIS_GRID_HZ[_SHOWN]]


def shown(values: NDArray, *, digits: int = 2) -> list[float]:
    """The part of a curve on the analysis grid that is shown, to a hundredth."""
    return np.round(values[_SHOWN], digits).tolist()


def curve(label: str, channel: str, state: str, values: NDArray, *, note: str = "") -> dict:
    """A curve: the channel decides its colour, the state ("before", "predicted", "after", "target") its line."""
    return {"label": label, "channel": channel, "state": state, "note": note, **_played(channel, y=shown(values))}


def ribbon(channel: str, low: NDArray, high: NDArray) -> dict:
    """The range over the spots."""
    return {"channel": channel, **_played(channel, low=shown(low, digits=1), high=shown(high, digits=1))}


def _played(channel: str, **points: list[float]) -> dict:
    """Points of a curve; those of subs no further than they play, with frequencies of their own."""
    if channel not in (*SUB_CODES, SUBS):
        return points
    count = sum(f <= SUB_SHOWN_TO_HZ for f in SHOWN_X)
    return {"x": SHOWN_X[:count], **{name: values[:count] for name, values in points.items()}}


def response_plot(
    *,
    curves: list[dict],
    range_db: tuple[float, float],
    unit: str,
    ribbons: list[dict] | None = None,
    marks: list[dict] | None = None,
    strip: list[dict] | None = None,
) -> dict:
    """A plot of level over frequency, three decades of it."""
    return {
        "kind": "frequency-response",
        "x": SHOWN_X,
        "xRange": [FROM_HZ, TO_HZ],
        "yRange": list(range_db),
        "unit": unit,
        "curves": curves,
        "ribbons": ribbons or [],
        "marks": marks or [],
        "strip": strip or [],
    }


def fitting(
    curves: list[list[float]],
    kept: Scale | None,
    *,
    step: float = 5.0,
    least: float = 30.0,
    deepest: float = _LARGEST_RANGE_DB,
) -> Scale:
    """A scale in whole steps, at least so wide, that cuts off only what lies deeper than `deepest` below the highest;
    the one that was there, if it does as well."""
    values = np.concatenate([np.array([v for v in curve if v is not None], dtype=float) for curve in curves])
    if not values.size:
        return kept or (-40.0, 10.0)
    highest = float(values.max())
    lowest = max(float(values.min()), highest - deepest)
    if kept is not None and kept[0] <= lowest and kept[1] >= highest:
        return kept
    top = step * np.ceil((highest + step / 5) / step)
    bottom = step * np.floor((lowest - step / 5) / step)
    return float(min(bottom, top - least)), float(top)


def range_around(values: ArrayLike, *, least_db: float = 30.0, most_db: float = RANGE_DB) -> tuple[float, float]:
    """The range of an axis, in steps of 5 dB, that holds some levels: all of them, or the highest."""
    top = 5 * float(np.ceil((np.max(values) + 1) / 5))
    lowest = 5 * float(np.floor(np.min(values) / 5))
    return min(top - least_db, max(lowest, top - most_db)), top


def frequency_plot(
    x: list[float], curves: list[dict], *, x_range: tuple[float, float], y_range: tuple[float, float], unit: str = "dB"
) -> dict:
    """A plot of anything over frequencies of its own; curves without an `x` of theirs stand on this one."""
    return {
        "kind": "frequency-response",
        "x": x,
        "xRange": list(x_range),
        "yRange": list(y_range),
        "unit": unit,
        "curves": curves,
        "ribbons": [],
        "marks": [],
        "strip": [],
    }


def bass_plot(frequency_hz: NDArray, curves: list[dict], *, y_range: tuple[float, float]) -> dict:
    """A plot of level over low frequencies only, on their own grid."""
    return frequency_plot(
        np.round(frequency_hz, 2).tolist(),
        curves,
        y_range=y_range,
        x_range=(float(frequency_hz[0]), float(frequency_hz[-1])),
    )


# Seats, and curves of one channel, are told apart by the colours of channels, which stand for nothing there.
ORDER_COLOURS = ("L", "R", "C", "Ls", "Rs", "Ltf", "Rtf")


def seats_plot(
    frequency_hz: NDArray, seats: Sequence[str], after_db: NDArray, before_db: NDArray | None, *, before: str
) -> dict:
    """The bass of every seat, and faintly behind it how it was; levels of shape (seats, points).

    `before` is what the faint curves are called.
    """
    behind = [] if before_db is None else list(zip(seats, before_db, strict=True))
    curves = [
        {
            "label": f"{seat}, {before}",
            "channel": "Sub1",
            "state": "before",
            "note": "",
            "quiet": True,
            "y": np.round(level, 1).tolist(),
        }
        for seat, level in behind
    ]
    curves += [
        {
            "label": seat,
            "channel": ORDER_COLOURS[k % len(ORDER_COLOURS)],
            "state": "after",
            "note": "",
            "y": np.round(level, 1).tolist(),
        }
        for k, (seat, level) in enumerate(zip(seats, after_db, strict=True))
    ]
    everything = np.concatenate([after_db, *([] if before_db is None else [before_db])])
    return frequency_plot(
        np.round(frequency_hz, 2).tolist(),
        curves,
        x_range=(20.0, 120.0),
        y_range=range_around(everything, most_db=100.0),
    )


def small_path(level_db: NDArray, *, width: int, height: int) -> str:
    """A small curve as an SVG path: from left to right, 32 dB around a middle of 0."""
    return _path(np.asarray(level_db, dtype=np.float64).tobytes(), width, height)


@cache(4096)
def _path(level: bytes, width: int, height: int) -> str:
    """Kept, since a board shows the same hundreds of them again after every take."""
    level_db = np.frombuffer(level)
    x = np.linspace(0, width, level_db.size)
    y = np.clip(height / 2 - level_db / 32 * height, 0, height)
    # Relative steps in whole units: a full board has hundreds of these.
    points = np.rint(np.column_stack([x, y])).astype(int)
    steps = " ".join(f"{dx}{'' if dy < 0 else ' '}{dy}" for dx, dy in np.diff(points, axis=0).tolist())
    return f"M{points[0][0]} {points[0][1]}l{steps}"
