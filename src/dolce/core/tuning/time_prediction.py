"""What outputs make of measured responses over time: the sum of all that plays a channel, with every delay."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from dolce.core.dsp import power_db
from dolce.core.processor import Convolution, processed
from dolce.core.response import ImpulseResponse, from_emission
from dolce.core.tuning.outputs import Outputs
from dolce.errors import InvalidValue

_TAIL_S = 0.3  # what filters may still ring after the end of a take
PRE_S, FAR_PRE_S = 0.001, 0.02


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PredictedResponse:
    """A channel as it will sound at a spot, and when its own main arrival comes."""

    response: ImpulseResponse
    arrival_s: float

    def ahead_db(self, ahead_s: float = PRE_S) -> float:
        """Energy that comes so much before the main arrival and earlier, against all of it."""
        early = self.response.sample[self.response.time_s < self.arrival_s - ahead_s]
        whole = float(np.sum(self.response.sample**2))
        return float(power_db(np.sum(early**2) / whole)) if whole else float("-inf")


def predicted_response(
    outputs: Outputs, channel: str, taken: Mapping[str, ImpulseResponse], *, arrival_s: float
) -> PredictedResponse:
    """A channel through all its outputs, from takes of these at one spot in one round.

    Parameters
    ----------
    taken : of each output that plays it
    arrival_s : float
        Of the channel's own take.

    Raises
    ------
    InvalidValue
        If an output was not taken, or takes have different rates.
    """
    routes = outputs.routes(channel)
    missing = [route.output for route in routes if route.output not in taken]
    rates = {taken[route.output].sample_rate_hz for route in routes if route.output in taken}
    if missing or len(rates) != 1:
        raise InvalidValue(
            f"no take with a response of {', '.join(dict.fromkeys(missing))}."
            if missing
            else "takes have other rates.",
            where=channel,
            remedy="Take all that plays it at this spot through the rig.",
        )
    rate = rates.pop()
    names = list(dict.fromkeys(route.output for route in routes))
    samples = dict(zip(names, from_emission([taken[name] for name in names]), strict=True))
    tail = np.zeros(round(_TAIL_S * rate) + max(_later(outputs, channel, rate)))
    total = np.zeros(next(iter(samples.values())).size + tail.size)
    for route in routes:
        played = route.played(np.concatenate([samples[route.output], tail]), sample_rate_hz=rate)
        total += 10 ** (route.gain_db / 20) * processed(played, outputs.of_output(route.output), sample_rate_hz=rate)
    own = outputs.of_output(channel)
    return PredictedResponse(
        response=ImpulseResponse(sample=total, sample_rate_hz=rate, start_s=0.0),
        arrival_s=arrival_s + own.delay_s + _main_s(own.convolution) + _route_s(outputs, channel),
    )


def _main_s(taps: Convolution | None) -> float:
    """The time until a convolution's main arrival; 0 without."""
    return 0.0 if taps is None else int(np.argmax(np.abs(taps.impulse))) / taps.sample_rate_hz


def _route_s(outputs: Outputs, channel: str) -> float:
    """How much later a channel's own route to its own output is."""
    own = next((r for r in outputs.routes(channel) if r.output == channel and not r.plays_bass), None)
    return 0.0 if own is None else own.delay_s + _main_s(own.convolution)


def _later(outputs: Outputs, channel: str, rate: int) -> list[int]:
    """Samples by which outputs and routes may lengthen a response."""
    found = [0]
    for route in outputs.routes(channel):
        own = outputs.of_output(route.output)
        taps = sum(one.taps for one in (route.convolution, own.convolution) if one is not None)
        found.append(taps + round((route.delay_s + own.delay_s) * rate))
    return found
