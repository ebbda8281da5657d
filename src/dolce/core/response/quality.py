"""How far a take can be trusted."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

_FULL_SCALE = 0.9995
_RUN = 3


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
        """One word for the board. Below 20 dB a twelfth of an octave may be off by more than 1.5 dB."""
        if self.clipped_samples:
            return "clipped"
        return "clean" if self.signal_to_noise_db >= 20 else "noisy"

    @property
    def usable(self) -> bool:
        """Whether averages and corrections may use it: clipping 3 dB deep already costs 1 to 2 dB."""
        return self.word in ("clean", "noisy")


def clipped_samples(recording: NDArray[np.float64]) -> int:
    """Number of samples in runs of three or more at one same extreme value, or at full scale.

    A converter that runs out of range repeats its end value; music and sweeps do not stay on one value.
    """
    magnitude = np.abs(recording)
    highest = magnitude.max(initial=0.0)
    if highest < 0.05:
        return 0
    flat = (magnitude >= highest * (1 - 1e-6)) | (magnitude >= _FULL_SCALE)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flat, [False]]).astype(np.int8)))
    lengths = edges[1::2] - edges[::2]
    return int(lengths[lengths >= _RUN].sum())
