"""What a person should know of a take, in numbers; the words are the page's."""

from dataclasses import dataclass
from typing import Literal

CautionKind = Literal[
    "clipped",
    "noisy",
    "polarity unsure",
    "starts late",
    "ends early",
    "drop-outs",
    "delay unknown",
    "loudest of channels",
    "resampled",
    "clock differs",
    "moving",
    "impulse response",
    "begins at arrival",
    "arrival impossible",
    "curve of text",
    "no sync chirp",
    "repeats differ",
    "sequence",
    "pink noise",
    "said",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Caution:
    """One thing.

    Attributes
    ----------
    kind : str
    value : float
        "clipped": samples; "noisy": dB above noise; "drop-outs" and "loudest of channels": how many; "resampled": the
        rate in Hz that it was; "clock differs": ppm; "moving": seconds; "repeats differ": dB; "begins at arrival":
        milliseconds that the file has ahead of its direct sound; "arrival impossible": seconds beyond what is possible,
        negative for too early.
    text : str
        Of "said": what an older version put in words; of "curve of text": its range.
    """

    kind: CautionKind
    value: float = 0.0
    text: str = ""
