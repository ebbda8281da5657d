"""Polarity of a channel from all that was heard of it, alone and against channels of its kind."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import delay_response, in_band
from dolce.core.response import ImpulseResponse, Polarity

_MOST_OF_ALL = 0.34  # of the takes must tell it
_OF_THOSE = 0.8  # of these must agree
_ALIKE_HZ = (300.0, 3000.0)
_ALIKE_FROM_S, _ALIKE_TO_S = 0.001, 0.003
_LAG_S, _LAG_STEP_S = 0.15e-3, 0.01e-3  # less than half a period of what rules the band
_CLEAR = 0.6  # correlation of direct sounds from which they are held against each other


@dataclass(frozen=True, slots=True, kw_only=True)
class JudgedPolarity:
    """What is said of one channel, and what spoke for or against it beside its own takes.

    Attributes
    ----------
    mate : str
        The channel of its kind that decided; empty where it was its own takes alone.
    alike : float
        Correlation of both direct sounds, -1 to 1.
    """

    polarity: Polarity
    mate: str = ""
    alike: float = 0.0


def common_polarity(polarities: Sequence[Polarity]) -> Polarity:
    """What takes of one channel say together; "unsure" where too few tell it, or where they disagree."""
    sure = [polarity for polarity in polarities if polarity != "unsure"]
    if not sure or len(sure) < _MOST_OF_ALL * len(polarities):
        return "unsure"
    found: Polarity
    for found in ("normal", "inverted"):
        if sum(polarity == found for polarity in sure) >= _OF_THOSE * len(sure):
            return found
    return "unsure"


def direct_spectrum(response: ImpulseResponse, arrival_s: float) -> tuple[NDArray, NDArray]:
    """Frequencies and spectrum of the direct sound where two of a kind are held against each other."""
    rate = response.sample_rate_hz
    part = response.around(arrival_s, before_s=_ALIKE_FROM_S, after_s=_ALIKE_TO_S)
    frequency = np.fft.rfftfreq(rate // 20, 1 / rate)
    inside = in_band(frequency, _ALIKE_HZ)
    spectrum = np.fft.rfft(part.sample, rate // 20)[inside]
    return frequency[inside], spectrum * delay_response(frequency[inside], part.start_s - arrival_s)


def alike(this: tuple[NDArray, NDArray], other: tuple[NDArray, NDArray]) -> float:
    """Correlation of two direct sounds at the lag where it is strongest either way, -1 to 1; 0 of other rates."""
    frequency, first = this
    if first.shape != other[1].shape:
        return 0.0
    lags = np.arange(-_LAG_S, _LAG_S + _LAG_STEP_S / 2, _LAG_STEP_S)
    turned = np.real(delay_response(frequency, -lags) @ (np.conj(first) * other[1]))
    strongest = turned[int(np.argmax(np.abs(turned)))]
    return float(strongest / max(np.linalg.norm(first) * np.linalg.norm(other[1]), 1e-30))


def judged_together(
    judged: Mapping[str, Polarity], correlations: Mapping[tuple[str, str], float]
) -> dict[str, JudgedPolarity]:
    """Polarity of channels, each alone and against those of its kind.

    Parameters
    ----------
    own : what each channel's takes say
    correlations : correlation of pairs of a kind, in one order each

    Notes
    -----
    A channel that can't be told alone follows one that can, where both are clearly alike or clearly opposite. Two that
    are sure and contradict each other are both unsure: one of them is wrong, and nothing says which.
    """
    clear = {pair: value for pair, value in correlations.items() if abs(value) >= _CLEAR}
    found = {channel: JudgedPolarity(polarity=polarity) for channel, polarity in judged.items()}
    for (a, b), value in clear.items():
        if "unsure" in (judged[a], judged[b]):
            continue
        if (judged[a] == judged[b]) != (value > 0):
            found[a] = JudgedPolarity(polarity="unsure", mate=b, alike=value)
            found[b] = JudgedPolarity(polarity="unsure", mate=a, alike=value)
    for (a, b), value in clear.items():
        for unsure, sure in ((a, b), (b, a)):
            if judged[unsure] == "unsure" and not found[unsure].mate and found[sure].polarity != "unsure":
                turned: Polarity = "inverted" if found[sure].polarity == "normal" else "normal"
                found[unsure] = JudgedPolarity(
                    polarity=found[sure].polarity if value > 0 else turned, mate=sure, alike=value
                )
    return found
