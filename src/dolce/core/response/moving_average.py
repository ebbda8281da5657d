"""A response without a sweep: the spectrum that noise leaves at a moving microphone, over the noise itself."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import power_db, smoothed_power
from dolce.core.response.microphone import MicrophoneCurve
from dolce.core.response.spectrum import ANALYSIS_GRID_HZ

_PER_OCTAVE = 24.0  # what frames of a second can resolve down to 40 Hz
_FROM_HZ, _TO_HZ = 22.0, 19_000.0  # of the noise; beyond, the ends are held


def moving_average_level_db(
    heard_power: NDArray[np.float64],
    played_power: NDArray[np.float64],
    *,
    sample_rate_hz: int,
    microphone: MicrophoneCurve | None = None,
    gain_db: float = 0.0,
) -> NDArray[np.float64]:
    """Level over frequency relative to what is played, on the analysis grid, smoothed over 1/24 octave.

    Parameters
    ----------
    heard_power, played_power : ndarray, shape (lines,)
        Power per line from 0 Hz to half the sample rate, of the same kind of spectrum.
    microphone : MicrophoneCurve, optional
        Taken out, level only.
    gain_db : float
        Gain of the microphone input, taken out.
    """
    frequency = np.linspace(0, sample_rate_hz / 2, heard_power.size)
    inside = frequency > 0
    at = np.clip(ANALYSIS_GRID_HZ, _FROM_HZ, min(_TO_HZ, 0.45 * sample_rate_hz))
    recorded, played = (
        smoothed_power(frequency[inside], power[inside], at_hz=at, per_octave=_PER_OCTAVE)
        for power in (heard_power, played_power)
    )
    level = power_db(np.maximum(recorded, 0)) - power_db(np.maximum(played, 0)) - gain_db
    if microphone is not None:
        level -= power_db(np.abs(microphone.on(at)) ** 2)
    return level
