"""Loudness of what is heard, and what makes several alike."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import peak_dbfs
from dolce.errors import InvalidValue

_PEAK_DBFS = -1.0  # no sample of what is handed on is higher
FAR_DB = 12.0  # by which one may be softer before it is said: our own bound


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LoudnessMatch:
    """Several sounds made equally loud.

    Attributes
    ----------
    loudness : mapping of key to LUFS, before
    gain_db : mapping of key to dB, what each was turned down by against the softest; at most 0
    sample : mapping of key to ndarray, as they were given but equally loud, with peaks below -1 dBFS
    off_db : float
        By how much the loudest and the softest still differ, measured again.
    """

    loudness: Mapping[str, float]
    gain_db: Mapping[str, float]
    sample: Mapping[str, NDArray[np.float32]]
    off_db: float

    @property
    def far(self) -> bool:
        """Whether they were so different that a fault is likelier than a preset."""
        return max(self.loudness.values()) - min(self.loudness.values()) > FAR_DB


def integrated_loudness(sample: NDArray, *, sample_rate_hz: int) -> float:
    """Gated loudness in LUFS; minus infinity for silence.

    Parameters
    ----------
    sample : ndarray, shape (samples,) or (channels, samples)
        Up to two channels count alike: one microphone, or two.

    References
    ----------
    ITU-R BS.1770-4, with the filters of its tables 1 and 2 brought to the rate (B. De Man, 2018), by a library.
    """
    import pyloudnorm  # loads scipy.signal at once, which the list of jobs must not wait for

    meter = pyloudnorm.Meter(sample_rate_hz, filter_class="DeMan")
    return float(meter.integrated_loudness(np.atleast_2d(np.asarray(sample, dtype=float)).T))


def loudness_matched(sounds: Mapping[str, NDArray], *, sample_rate_hz: int) -> LoudnessMatch:
    """Sounds that are equally loud: the louder ones are turned down, none up, so that nothing can clip by it.

    Raises
    ------
    InvalidValue
        If one of them is silent.
    """
    loudness = {key: integrated_loudness(sample, sample_rate_hz=sample_rate_hz) for key, sample in sounds.items()}
    # Below the absolute gate of -70 LUFS the standard hears nothing: what is soft is measured louder.
    lift = {key: 0.0 if np.isfinite(loudness[key]) else 50.0 for key in sounds}
    loudness = {
        key: loudness[key]
        if not lift[key]
        else integrated_loudness(sounds[key] * 10 ** (lift[key] / 20), sample_rate_hz=sample_rate_hz) - lift[key]
        for key in sounds
    }
    silent = [key for key, value in loudness.items() if not np.isfinite(value)]
    if silent:
        raise InvalidValue(
            "nothing is to be heard of it.", where=silent[0], remedy="Choose other material, or another seat."
        )
    softest = min(loudness.values())
    gains = {key: softest - value for key, value in loudness.items()}
    peak = max(peak_dbfs(sounds[key]) + gains[key] for key in sounds)
    common = _PEAK_DBFS - peak
    sample = {key: (sounds[key] * 10 ** ((gains[key] + common) / 20)).astype(np.float32) for key in sounds}
    again = [integrated_loudness(samples, sample_rate_hz=sample_rate_hz) for samples in sample.values()]
    return LoudnessMatch(loudness=loudness, gain_db=gains, sample=sample, off_db=max(again) - min(again))
