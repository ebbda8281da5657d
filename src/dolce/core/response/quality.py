"""How far a take can be trusted."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

_RUN = 3
_LEAST_PEAK = 0.05
_STEEP = 4 * 2**-15


# Below this a twelfth of an octave may be off by more than 1.5 dB.
NOISY_BELOW_DB = 20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Quality:
    """Figures of one take.

    Attributes
    ----------
    signal_to_noise_db : float
        Energy that the response explains over the energy that it doesn't (noise and distortion).
    peak_dbfs : float
    clipped_samples : int
    """

    signal_to_noise_db: float
    peak_dbfs: float
    clipped_samples: int

    @property
    def word(self) -> Literal["clean", "noisy", "clipped"]:
        """One word for the board."""
        if self.clipped_samples:
            return "clipped"
        return "clean" if self.signal_to_noise_db >= NOISY_BELOW_DB else "noisy"

    @property
    def usable(self) -> bool:
        """Whether averages and corrections may use it: clipping 3 dB deep already costs 1 to 2 dB."""
        return self.word in ("clean", "noisy")


def clipped_samples(recording: NDArray[np.float64], *, step: float = 0.0) -> int:
    """Number of samples in plateaus: runs of three or more at the highest value, entered or left by a step.

    A converter that runs out of range repeats its end value and falls off it steeply. The top of a slow sine also
    repeats in a recording of few bits, but its neighbours lie one or two steps of the converter lower: a parabola
    within half a step of its top over n samples falls by no more than three steps over the next one. So a plateau
    counts only where a neighbour lies more than four steps below it: steps of a 16-bit converter, or of `step` where
    the recording has fewer bits. Look at the samples as recorded: resampling rounds plateaus off.
    """
    magnitude = np.abs(recording)
    highest = magnitude.max(initial=0.0)
    if highest < _LEAST_PEAK:
        return 0
    flat = magnitude >= highest * (1 - 1e-6)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flat, [False]]).astype(np.int8)))
    first, last = edges[::2], edges[1::2] - 1
    before = magnitude[np.maximum(first - 1, 0)]
    after = magnitude[np.minimum(last + 1, magnitude.size - 1)]
    steep = highest - np.minimum(before, after) > max(_STEEP, 4 * step)
    plateau = steep & (last - first + 1 >= _RUN)
    return int((last - first + 1)[plateau].sum())
