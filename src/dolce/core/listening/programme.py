"""What is listened to: a passage of sound, channel by channel."""

from dataclasses import dataclass, replace
from math import gcd
from typing import Self

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core import checked
from dolce.errors import InvalidValue

SHORTEST_S, LONGEST_S = 2.0, 30.0
_SEAM_S = 0.05


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Programme:
    """A passage that goes round and round.

    Attributes
    ----------
    name : str
    channels : tuple of str
        Codes of what its rows are for; the effects channel is LFE.
    sample : ndarray, shape (channels, samples)
        Full scale 1.
    sample_rate_hz : int
    """

    name: str
    channels: tuple[str, ...]
    sample: NDArray[np.float32]
    sample_rate_hz: int

    def __post_init__(self) -> None:
        sample = np.ascontiguousarray(self.sample, dtype=np.float32)
        if sample.ndim != 2 or len(sample) != len(self.channels):
            raise InvalidValue(
                f"{len(self.channels)} channels and samples of the shape {sample.shape}.",
                where="programme",
                remedy="Give one row for each channel.",
            )
        checked.within(
            sample.shape[1] / self.sample_rate_hz, low=SHORTEST_S, high=LONGEST_S + 1, where="passage", unit="s"
        )
        checked.finite(sample, where="programme")
        object.__setattr__(self, "sample", sample)

    @property
    def duration_s(self) -> float:
        return self.sample.shape[1] / self.sample_rate_hz

    def at_rate(self, sample_rate_hz: int) -> Self:
        """The same at another rate."""
        if sample_rate_hz == self.sample_rate_hz:
            return self
        common = gcd(sample_rate_hz, self.sample_rate_hz)
        return replace(
            self,
            sample_rate_hz=sample_rate_hz,
            sample=scipy.signal.resample_poly(
                self.sample, sample_rate_hz // common, self.sample_rate_hz // common, axis=1
            ),
        )

    def without_seam(self) -> Self:
        """The same with its end faded over its beginning, so that it goes round without a click."""
        fade = round(_SEAM_S * self.sample_rate_hz)
        rise = np.sin(np.linspace(0, np.pi / 2, fade, dtype=np.float32))
        body = self.sample[:, :-fade].copy()
        body[:, :fade] = body[:, :fade] * rise + self.sample[:, -fade:] * rise[::-1]
        return replace(self, sample=body)
