"""Levels over frequency as a drawing that needs no script: for paper, saved files, and what moves while it sounds."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.web.shared.formatting import short_hertz


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelFrame:
    """Where curves stand in a box, in the units of its SVG; frequency by its logarithm.

    Attributes
    ----------
    left, right, top, bottom : margins
    range_hz, range_db : what is shown, lowest first; levels beyond are drawn at the edge
    """

    width: float
    height: float
    left: float
    bottom: float
    right: float = 0.0
    top: float = 0.0
    range_hz: tuple[float, float] = (20.0, 20_000.0)
    range_db: tuple[float, float]

    def x(self, frequency_hz: ArrayLike) -> NDArray[np.float64]:
        low, high = self.range_hz
        part = np.log(np.clip(frequency_hz, low, high) / low) / np.log(high / low)
        return self.left + (self.width - self.left - self.right) * part

    def y(self, level_db: ArrayLike) -> NDArray[np.float64]:
        low, high = self.range_db
        part = (high - np.clip(level_db, low, high)) / (high - low)
        return self.top + (self.height - self.top - self.bottom) * part

    def path(self, frequency_hz: NDArray, level_db: NDArray) -> str:
        """A curve, both of shape (points,), as the `d` of a path."""
        return "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in zip(self.x(frequency_hz), self.y(level_db), strict=True))

    def x_ticks(self, at_hz: Sequence[float]) -> tuple[tuple[float, str], ...]:
        """Where lines of the grid stand, and what stands at them."""
        return tuple((float(self.x(hz)), short_hertz(hz)) for hz in at_hz)

    def y_ticks(self, at_db: Sequence[float], *, sign: bool = False) -> tuple[tuple[float, str], ...]:
        """The same for levels; with a plus where `sign` is set."""
        return tuple(
            (float(self.y(db)), f"{db:{'+' if sign and db else ''}.0f}".replace("-", "\N{MINUS SIGN}")) for db in at_db
        )
