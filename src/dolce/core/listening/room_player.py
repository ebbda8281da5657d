"""A passage that goes round through several outputs at once, its level changed without a click."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

_FADE_S = 0.02


class RoomPlayer:
    """Gives block after block; what is asked for is reached by a short ramp, and the place is kept in silence too."""

    def __init__(self, samples: Mapping[int, NDArray[np.float32]], *, sample_rate_hz: int, gain_db: float) -> None:
        self._samples, self._fade = samples, round(_FADE_S * sample_rate_hz)
        self._size = next(iter(samples.values())).size
        self._at, self._gain, self._wanted = 0, 0.0, 10 ** (gain_db / 20)
        self.silent_blocks = 0

    @property
    def peak(self) -> float:
        """Highest sum over all outputs at a gain of 0 dB, as if all added up in one."""
        return float(np.sum([np.abs(sample).max() for sample in self._samples.values()]))

    def sound(self, gain_db: float | None) -> None:
        """From the next block on, at a gain; None for silence."""
        self._wanted = 0.0 if gain_db is None else 10 ** (gain_db / 20)
        self.silent_blocks = 0

    def next_block(self, count: int) -> dict[int, NDArray[np.float64]]:
        """What each output plays."""
        ramp = np.full(count, self._wanted)
        fade = min(count, self._fade)
        ramp[:fade] = np.linspace(self._gain, self._wanted, fade)
        place = np.arange(self._at, self._at + count) % self._size
        self._gain, self._at = self._wanted, (self._at + count) % self._size
        self.silent_blocks = 0 if ramp.any() else self.silent_blocks + 1
        return {output: ramp * samples[place] for output, samples in self._samples.items()}
