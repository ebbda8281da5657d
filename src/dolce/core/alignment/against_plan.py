"""Arrivals held against the plan: which channel does not come from where it is drawn, and the likeliest reason."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from statistics import median
from typing import Literal

_MATTERS_S = 0.6e-3  # 0.2 m: places are typed to some cm, and a speaker's own delay differs by its kind
_DELAY_FROM_S = 2.0e-3  # 0.7 m further away than drawn: nobody mistypes by so much without seeing it
_FITS_S = 0.3e-3
_EARLY_S = 5.0e-3  # 1.7 m nearer than drawn: a plan may be as rough as that
_LATE_S = 60.0e-3  # what filters of subs and processing in speakers may add where the latency is known


Reason = Literal["wire", "delay", "delay of others", "place"]


@dataclass(frozen=True, slots=True, kw_only=True)
class OffPlan:
    """A channel that arrives elsewhere than the plan says.

    Attributes
    ----------
    off_s, off_m : float
        Later than the plan, on the latency of the others, and as a way; negative for earlier.
    reason : "wire" (it comes from where the channel `other` stands, and that one from its place), "delay" (hidden in
        its own path), "delay of others" (in all paths but its own) or "place" (typed)
    """

    channel: str
    off_s: float
    off_m: float
    reason: Reason
    other: str = ""


def off_plan(arrival_s: Mapping[str, float], distance_m: Mapping[str, float], *, speed_m_s: float) -> list[OffPlan]:
    """Channels that do not arrive as their distance says, the farthest off first.

    Parameters
    ----------
    arrival_s : measured, of main channels on one clock; the latency is what most of them have over their flight
    distance_m : by the plan, of the same channels at least

    Notes
    -----
    Our own rules. With fewer than three channels nothing says which of them is off: the list is empty.
    """
    if len(arrival_s) < 3:
        return []
    flight = {channel: distance_m[channel] / speed_m_s for channel in arrival_s}
    over = {channel: arrival_s[channel] - flight[channel] for channel in arrival_s}
    latency = median(over.values())
    off = {channel: value - latency for channel, value in over.items() if abs(value - latency) > _MATTERS_S}
    found = []
    for channel, late in sorted(off.items(), key=lambda item: -abs(item[1])):
        arrived_s = arrival_s[channel] - latency
        swapped = next(
            (
                other
                for other in off
                if other != channel
                and abs(arrived_s - flight[other]) < _FITS_S
                and abs(arrival_s[other] - latency - flight[channel]) < _FITS_S
            ),
            "",
        )
        reason: Reason = (
            "wire"
            if swapped
            else "delay"
            if late >= _DELAY_FROM_S
            else "delay of others"
            if late <= -_DELAY_FROM_S
            else "place"
        )
        found.append(OffPlan(channel=channel, off_s=late, off_m=late * speed_m_s, reason=reason, other=swapped))
    return found


def beyond_possible_s(arrival_s: float, flight_s: Sequence[float], *, latency_known: bool) -> float:
    """By how much an arrival is earlier (negative) or later than sound can come; 0 where it is possible.

    Parameters
    ----------
    flight_s : one or more
        From each speaker that sounds, by the plan, with the delay that the processor gives it.
    latency_known : bool
        Whether arrivals count from the moment of the output: without that, any latency may be in them.

    Notes
    -----
    Our own bounds: 5 ms earlier than the plan says, and 60 ms later.
    """
    early, late = arrival_s - min(flight_s) + _EARLY_S, arrival_s - max(flight_s) - _LATE_S
    return early if early < 0 else late if late > 0 and latency_known else 0.0
