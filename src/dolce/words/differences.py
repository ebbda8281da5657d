"""What differs between what a processor holds and what it would be told, in words."""

from collections.abc import Sequence
from typing import Any

from dolce.core.processor import ChannelSettings, Crossover, Difference, Preset, differences

_SHORT = {"linkwitz-riley": "Linkwitz-Riley", "butterworth": "Butterworth"}


def difference_words(found: Sequence[Difference]) -> str:
    """One line: part, what is held, what would be there; "the same" for none."""
    return "; ".join(_words(difference) for difference in found) or "the same"


def output_words(held: Preset | None, channel: str, wanted: ChannelSettings) -> str:
    """The same of one output of a preset; of an empty one only that."""
    if held is None:
        return "empty"
    return difference_words(differences(held.channels.get(channel, ChannelSettings()), wanted))


def first_difference(sent: Preset, held: Preset | None) -> str:
    """The first output that differs, in words."""
    if held is None:
        return "the preset is empty"
    for channel, settings in sent.channels.items():
        if held.channels.get(channel) != settings:
            return f"{channel} differs ({output_words(held, channel, settings)})"
    return "its name, cut or routing differs"


def _words(difference: Difference) -> str:
    held: Any = difference.held  # of the kind that its part has
    wanted: Any = difference.wanted
    match difference.part:
        case "trim":
            return f"trim {held:+.1f} to {wanted:+.1f} dB".replace("-", "\N{MINUS SIGN}")
        case "delay":
            return f"delay {1000 * held:.3f} to {1000 * wanted:.3f} ms"
        case "polarity":
            return f"polarity {difference.held} to {difference.wanted}"
        case "crossover":
            return f"crossover {_crossover(held)} to {_crossover(wanted)}"
        case "bands" if difference.held == difference.wanted:
            return f"{difference.count} of {difference.wanted} bands"
        case "bands":
            return f"{difference.held} to {difference.wanted} bands"
        case "convolution":
            return (
                "another convolution"
                if difference.held and difference.wanted
                else ("convolution" if difference.wanted else "no convolution any more")
            )
        case "all-passes":
            return f"{difference.held} to {difference.wanted} all-passes"


def _crossover(crossover: Crossover | None) -> str:
    return (
        "none"
        if crossover is None
        else f"{crossover.frequency_hz:g} Hz {_SHORT[crossover.kind]} {crossover.slope_db} dB"
    )
