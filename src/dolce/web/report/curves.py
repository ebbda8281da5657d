"""Curves of one channel as a drawing that needs no script: paper and saved files have none."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import in_band
from dolce.core.response import ANALYSIS_GRID_HZ

WIDTH, HEIGHT, LEFT, BOTTOM = 340.0, 120.0, 30.0, 14.0
_LOW_HZ, _HIGH_HZ, _TOP_DB, _LOWEST_DB = 20.0, 20_000.0, 15.0, -25.0
_EVERY = slice(None, None, 3)


def x_of(hertz: ArrayLike) -> NDArray:
    return LEFT + (WIDTH - LEFT) * np.log(np.asarray(hertz) / _LOW_HZ) / np.log(_HIGH_HZ / _LOW_HZ)


def y_of(decibel: ArrayLike) -> NDArray:
    return (HEIGHT - BOTTOM) * (_TOP_DB - np.clip(decibel, _LOWEST_DB, _TOP_DB)) / (_TOP_DB - _LOWEST_DB)


def path_of(level_db: NDArray) -> str:
    """A curve on the analysis grid as the `d` of a path."""
    inside = in_band(ANALYSIS_GRID_HZ, (_LOW_HZ, _HIGH_HZ))
    x, y = x_of(ANALYSIS_GRID_HZ[inside][_EVERY]), y_of(np.asarray(level_db)[inside][_EVERY])
    return "M" + " L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y, strict=True))


def ticks() -> dict[str, list[tuple[float, str]]]:
    """Where lines of the grid stand, and what stands at them."""
    return {
        "x": [
            (float(x_of(hz)), text)
            for hz, text in (
                (50, "50"),
                (100, "100"),
                (200, "200"),
                (500, "500"),
                (1000, "1k"),
                (2000, "2k"),
                (5000, "5k"),
                (10_000, "10k"),
            )
        ],
        "y": [(float(y_of(db)), f"{db:+d}".replace("-", "−") if db else "0") for db in (10, 0, -10, -20)],
    }
