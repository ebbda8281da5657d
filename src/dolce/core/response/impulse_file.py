"""Impulse responses from files: which a file is one, and what is kept of it."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.response.arrival import find_arrival
from dolce.core.response.capture import AFTER_S
from dolce.core.response.impulse import ImpulseResponse
from dolce.errors import InvalidValue

_NEAR_S, _MOST = 0.3, 0.6  # a response has more than half its energy so near its peak; a sweep never has
_BEFORE_S = 0.1
TELLS_NOISE_FROM_S = 0.05  # so long ahead of the direct sound a file has to begin to tell of noise


def is_impulse_response(samples: NDArray[np.float64], *, sample_rate_hz: float) -> bool:
    """Whether sound is an impulse response, not a recording of a test signal: most of its energy lies near its peak."""
    power = np.square(samples)
    total = float(power.sum())
    if total <= 0:
        return False
    peak, reach = int(np.argmax(power)), round(_NEAR_S * sample_rate_hz)
    return float(power[max(0, peak - reach // 10) : peak + reach].sum()) > _MOST * total


def response_of_file(samples: NDArray[np.float64], *, sample_rate_hz: int) -> ImpulseResponse:
    """What is kept of an impulse response from a file: silence far ahead of it cut off, its end faded.

    Time 0 is the file's beginning. What follows is whole wherever the file begins, also at its direct sound.

    Raises
    ------
    InvalidValue
        If it is silent, or ends within 50 ms of its arrival.
    """
    if not np.any(samples):
        raise InvalidValue("the impulse response is silent.", where="impulse response", remedy="Export it again.")
    # A file may begin with its direct sound: silence ahead of it, so that nothing of it is faded or cut.
    ahead = round(_BEFORE_S * sample_rate_hz)
    whole = ImpulseResponse(
        sample=np.concatenate([np.zeros(ahead), samples]),
        sample_rate_hz=sample_rate_hz,
        start_s=-ahead / sample_rate_hz,
    )
    arrival = find_arrival(whole).time_s
    left_s = samples.size / sample_rate_hz - arrival
    if left_s < 0.05:
        raise InvalidValue(
            f"only {1000 * max(left_s, 0):.0f} ms follow its direct sound.",
            where="impulse response",
            remedy="Export it with at least 50 ms behind, better a second.",
        )
    return whole.around(arrival, before_s=_BEFORE_S, after_s=min(AFTER_S, left_s))
