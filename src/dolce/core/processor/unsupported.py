"""What of some settings a device can't hold, in numbers; the words are the page's."""

from dataclasses import dataclass
from typing import Literal

UnsupportedKind = Literal[
    "bands",
    "gain",
    "gain step",
    "q",
    "trim",
    "trim step",
    "delay",
    "delay step",
    "crossover",
    "routing",
    "all-passes",
    "taps",
    "bass taps",
    "shelf",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class UnsupportedSetting:
    """One thing that does not fit.

    Attributes
    ----------
    kind : str
        "bands", "all-passes", "taps" and "bass taps" are counts; "gain", "gain step", "trim" and "trim step" in dB;
        "delay" and "delay step" in s.
    channel : str
        Empty where it is known beside it, or concerns all.
    band : int
        Number of the band, 1 is the first; 0 for what is no band's.
    value : float
        What is asked for.
    low, high : float
        What the device allows; of steps both are the step.
    """

    kind: UnsupportedKind
    channel: str = ""
    band: int = 0
    value: float = 0.0
    low: float = 0.0
    high: float = 0.0
