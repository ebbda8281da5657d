"""The impulse response as a value."""

import math
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.dsp import fade_in, faded
from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ImpulseResponse:
    """Response to an impulse at time 0, of one channel at one spot.

    Attributes
    ----------
    sample : ndarray, shape (samples,)
        Finite; 1 is the level of the stimulus. In single precision where it was handed over so, as long ones are.
    sample_rate_hz : int
    start_s : float
        Time of the first sample after the impulse was emitted; may be negative.
    """

    sample: NDArray[np.float64]
    sample_rate_hz: int
    start_s: float

    def __post_init__(self) -> None:
        single = getattr(self.sample, "dtype", None) == np.float32
        sample = checked.finite(self.sample, where="impulse response", dtype=np.float32 if single else np.float64)
        if sample.ndim != 1 or sample.size < 2:
            raise InvalidValue(f"{sample.size} samples.", where="impulse response", remedy="At least two are needed.")
        object.__setattr__(self, "sample", sample)

    @property
    def time_s(self) -> NDArray[np.float64]:
        return self.start_s + np.arange(self.sample.size) / self.sample_rate_hz

    def between(self, from_s: float, to_s: float) -> slice:
        """The samples from one time to before another, as far as the response has them."""
        first, last = (math.ceil(round((at - self.start_s) * self.sample_rate_hz, 6)) for at in (from_s, to_s))
        return slice(min(max(first, 0), self.sample.size), min(max(last, 0), self.sample.size))

    def below(self, corner_hz: float) -> "ImpulseResponse":
        """What lies below a corner, gently parted; zero phase, so nothing moves."""
        spectrum = scipy.fft.rfft(self.sample)
        frequency = scipy.fft.rfftfreq(self.sample.size, 1 / self.sample_rate_hz)
        smooth = spectrum * np.exp(-((frequency / corner_hz) ** 4))
        return ImpulseResponse(
            sample=scipy.fft.irfft(smooth, self.sample.size), sample_rate_hz=self.sample_rate_hz, start_s=self.start_s
        )

    def around(self, centre_s: float, *, before_s: float, after_s: float) -> "ImpulseResponse":
        """The part from `before_s` ahead of `centre_s` to `after_s` behind it, faded by half cosines.

        The fade-in takes the first half of `before_s`, as far as the response reaches back; the fade-out takes the last
        fifth of `after_s`.
        """
        rate = self.sample_rate_hz
        wanted = round((centre_s - before_s - self.start_s) * rate)
        first = max(0, wanted)
        last = min(self.sample.size, round((centre_s + after_s - self.start_s) * rate))
        part = self.sample[first:last].astype(float)
        ahead = round(before_s * rate / 2)
        if ahead:
            rising = fade_in(ahead)[first - wanted :][: part.size]
            part[: rising.size] *= rising
        return ImpulseResponse(
            sample=faded(part, falling=round(after_s * rate / 5)),
            sample_rate_hz=rate,
            start_s=self.start_s + first / rate,
        )
