"""What the filters of one output do by themselves: level, phase and group delay, together and one by one."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import delay_response, power_db
from dolce.core.filters import BandFilter, playable
from dolce.core.processor import ChannelSettings
from dolce.core.tuning.prediction import response_of

_STEP = 1e-4  # of a frequency, over which phase is told by its slope: too short for any turn


# Group delay from which on listeners notice it: J. Blauert and P. Laws, "Group delay distortions in electroacoustical
# systems", J. Acoust. Soc. Am. 63, 1478-1483 (1978); none is published there below 500 Hz.
NOTICED_DELAY_HZ = (500.0, 1000.0, 2000.0, 4000.0, 8000.0)
NOTICED_DELAY_S = (0.0032, 0.002, 0.001, 0.0015, 0.002)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FilterCurve:
    """Level in dB, phase in degrees within ±180 and group delay in seconds, each of shape (points,)."""

    level_db: NDArray[np.float64]
    phase_deg: NDArray[np.float64]
    delay_s: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FilterCurves:
    """All filters together, then each band that plays.

    Attributes
    ----------
    later_s : float
        The time until a convolution's main arrival, which is taken out of phase and group delay; 0 without.
    """

    together: FilterCurve
    each: tuple[tuple[BandFilter, FilterCurve], ...]
    later_s: float

    def noticed_hz(self, at_hz: NDArray) -> tuple[float, ...]:
        """Frequencies of those that are published at which the group delay of all filters is noticed.

        `at_hz` is that of the curves, shape (points,).
        """
        found = np.interp(np.log(NOTICED_DELAY_HZ), np.log(at_hz), self.together.delay_s)
        return tuple(hz for hz, s, most in zip(NOTICED_DELAY_HZ, found, NOTICED_DELAY_S, strict=True) if abs(s) > most)


def filter_curves(settings: ChannelSettings, *, at_hz: NDArray, sample_rate_hz: int) -> FilterCurves:
    """What bands and convolution of an output do at some frequencies, without its trim, delay, polarity and crossovers.

    Group delay is the slope of the phase, -dphi/domega, read between two frequencies so close that it can't turn.

    References
    ----------
    A. V. Oppenheim and R. W. Schafer, Discrete-Time Signal Processing, 3rd ed. (2010), section 5.1, for group delay.
    """
    plain = ChannelSettings(filters=settings.filters, convolution=settings.convolution)
    taps = plain.convolution
    plays = taps is not None and taps.sample_rate_hz == sample_rate_hz
    later_s = int(np.argmax(np.abs(taps.impulse))) / sample_rate_hz if taps is not None and plays else 0.0
    alone = ChannelSettings()
    return FilterCurves(
        together=_curve(plain, at_hz, sample_rate_hz, later_s),
        each=tuple(
            (band, _curve(replace(alone, filters=(band,)), at_hz, sample_rate_hz, 0.0))
            for band in playable(settings.filters, sample_rate_hz=sample_rate_hz)
        ),
        later_s=later_s,
    )


def _curve(settings: ChannelSettings, at_hz: NDArray, sample_rate_hz: int, later_s: float) -> FilterCurve:
    pairs = np.concatenate([at_hz * (1 - _STEP), at_hz, at_hz * (1 + _STEP)])
    response = response_of(settings, at_hz=pairs, sample_rate_hz=sample_rate_hz) * delay_response(pairs, -later_s)
    below, here, above = response.reshape(3, -1)
    turned = np.angle(above * np.conj(below))
    return FilterCurve(
        level_db=power_db(np.abs(here) ** 2),
        phase_deg=np.degrees(np.angle(here)),
        delay_s=-turned / (2 * np.pi * 2 * _STEP * at_hz),
    )
