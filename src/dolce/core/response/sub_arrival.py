"""Arrival and polarity of a subwoofer, in its own band."""

import numpy as np

from dolce.core.response.arrival import Arrival
from dolce.core.response.impulse import ImpulseResponse

_ONSET = 0.25  # of the highest swing
_FIRST_SWING_S = 0.020  # how long the first swings are looked at: about one period at 50 Hz
_UNSURE_BELOW = 0.2


def sub_arrival(response: ImpulseResponse) -> Arrival:
    """When a band-limited response begins, and the sign of its first swing.

    The response is smoothed to below 250 Hz without moving it. It begins where the first swing that reaches a quarter
    of the highest one crosses the eighth part of its own height, interpolated between samples: a rise that does not
    depend on the room behind it. Polarity is the sign of that swing; it is "unsure" where the swing after it, of the
    other sign, comes within 20 ms and is more than four times as high.

    References
    ----------
    Leading edge by a threshold: ISO 3382-1:2009, A.3.4, there 20 dB below the highest level.
    """
    rate = response.sample_rate_hz
    slow = response.below(250.0).sample
    highest = np.abs(slow).max()
    if highest <= 0:
        return Arrival(time_s=0.0, polarity="unsure", confidence=0.0)
    reached = int(np.argmax(np.abs(slow) >= _ONSET * highest))
    sign = np.sign(slow[reached])
    # The whole first swing: from its zero crossing to the next.
    before = np.flatnonzero(sign * slow[:reached] <= 0)
    start = int(before[-1]) if before.size else 0
    after = np.flatnonzero(sign * slow[reached:] <= 0)
    end = reached + (int(after[0]) if after.size else slow.size - reached)
    swing = sign * slow[start:end]
    height = swing.max()
    k = int(np.argmax(swing >= height / 8))
    a, b = swing[max(k - 1, 0)], swing[k]
    part = (height / 8 - a) / (b - a) if k and b > a else 0.0
    time_s = response.start_s + (start + max(k - 1, 0) + part) / rate
    later = slow[end : end + round(_FIRST_SWING_S * rate)]
    opposite = float(np.max(-sign * later, initial=0.0))
    confidence = float(height / (height + opposite))
    if confidence < _UNSURE_BELOW:
        return Arrival(time_s=float(time_s), polarity="unsure", confidence=confidence)
    return Arrival(time_s=float(time_s), polarity="normal" if sign > 0 else "inverted", confidence=confidence)
