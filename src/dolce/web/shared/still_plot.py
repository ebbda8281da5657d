"""The plots of `plot_data` as drawings that need no script: on paper, in saved files, and while it sounds."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.words.numbers import short_hertz

_OVER_FREQUENCY_HZ = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000)


@dataclass(frozen=True, slots=True, kw_only=True)
class StillCurve:
    """A curve as the `d` of a path; its state ("before", "after" ...) decides its line, its channel its colour."""

    state: str
    channel: str
    label: str
    d: str


@dataclass(frozen=True, slots=True, kw_only=True)
class StillPlot:
    """A plot in the units of its SVG: axes, where lines of the grid stand and what stands at them, and curves."""

    width: float
    height: float
    left: float
    right: float
    top: float
    bottom: float
    x_ticks: tuple[tuple[float, str], ...]
    y_ticks: tuple[tuple[float, str], ...]
    curves: tuple[StillCurve, ...]


def still(
    plot: dict[str, Any],
    *,
    width: float,
    height: float,
    left: float,
    bottom: float,
    right: float = 0.0,
    top: float = 0.0,
    at_levels: Sequence[float],
    sign: bool = False,
) -> StillPlot:
    """A plot over frequency, drawn.

    Parameters
    ----------
    plot : dict
        As `plot_data.frequency_plot` describes it; curves are broken where their levels lie beyond its range.
    width, height, left, right, top, bottom : float
        Of the box, and its margins.
    at_levels : sequence of float
        Where lines of the grid stand; with a plus at their numbers where `sign` is set.
    """
    (from_hz, to_hz), (low, high) = plot["xRange"], plot["yRange"]

    def x(frequency_hz: ArrayLike) -> NDArray[np.float64]:
        part = np.log(np.clip(frequency_hz, from_hz, to_hz) / from_hz) / np.log(to_hz / from_hz)
        return left + (width - left - right) * part

    def y(level_db: ArrayLike) -> NDArray[np.float64]:
        return top + (height - top - bottom) * (high - np.asarray(level_db)) / (high - low)

    def path(curve: dict[str, Any]) -> str:
        level_db = np.asarray(curve["y"])
        across, down = x(np.asarray(curve.get("x", plot["x"]))), y(level_db)
        inside = np.flatnonzero((level_db >= low) & (level_db <= high))
        pieces = np.split(inside, np.flatnonzero(np.diff(inside) > 1) + 1)
        return "".join(
            "M" + "L".join(f"{across[k]:.1f} {down[k]:.1f}" for k in piece) for piece in pieces if piece.size
        )

    return StillPlot(
        width=width,
        height=height,
        left=left,
        right=right,
        top=top,
        bottom=bottom,
        x_ticks=tuple((float(x(hz)), short_hertz(hz)) for hz in _OVER_FREQUENCY_HZ if from_hz <= hz <= to_hz),
        y_ticks=tuple(
            (float(y(db)), f"{db:{'+' if sign and db else ''}.0f}".replace("-", "\N{MINUS SIGN}")) for db in at_levels
        ),
        curves=tuple(
            StillCurve(state=curve["state"], channel=curve["channel"], label=curve["label"], d=path(curve))
            for curve in plot["curves"]
        ),
    )
