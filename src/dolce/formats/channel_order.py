"""In which order channels stand in one file; film and broadcast differ."""

from collections.abc import Sequence
from typing import Literal

from dolce.core.processor import EFFECTS
from dolce.errors import FormatError

Order = Literal["outputs", "broadcast", "film"]
ORDERS: dict[Order, str] = {
    "outputs": "as the outputs are numbered",
    "broadcast": "broadcast: L R C, subs, surrounds, heights",
    "film": "film: L C R, surrounds, subs, heights",
}
# Broadcast and WAVE files (ITU-R BS.2051, Microsoft's WAVE_FORMAT_EXTENSIBLE): L R C LFE, then the others. Film mixes
# (common practice): L C R, surrounds, LFE.
_FRONTS = {"broadcast": ("L", "R", "C", "Lw", "Rw"), "film": ("L", "Lw", "C", "Rw", "R")}
_SUBS = ("Sub1", "Sub2", "Sub3", "Sub4")
_SURROUNDS = ("Ls", "Rs", "Lrs", "Rrs")
_HEIGHTS = ("Ltf", "Rtf", "Ltm", "Rtm", "Ltr", "Rtr")


def in_order(channels: Sequence[str], order: Order) -> tuple[str, ...]:
    """The channels as they stand in a file; codes of the calibrator's own go last, as they come."""
    if order == "outputs":
        return tuple(channels)
    middle = (*_SUBS, *_SURROUNDS) if order == "broadcast" else (*_SURROUNDS, *_SUBS)
    wanted = (*_FRONTS[order], *middle, *_HEIGHTS)
    return (*(name for name in wanted if name in channels), *(channel for channel in channels if channel not in wanted))


# How many channels a recording has, by layout; the effects channel stands where subs do.
_RECORDINGS = {
    2: ("L", "R"),
    3: ("L", "R", "C"),
    6: ("L", "R", "C", EFFECTS, "Ls", "Rs"),
    8: ("L", "R", "C", EFFECTS, "Ls", "Rs", "Lrs", "Rrs"),
    10: ("L", "R", "C", EFFECTS, "Ls", "Rs", "Ltf", "Rtf", "Ltr", "Rtr"),
    12: ("L", "R", "C", EFFECTS, "Ls", "Rs", "Lrs", "Rrs", "Ltf", "Rtf", "Ltr", "Rtr"),
}


def recording_channels(count: int, order: Order, *, name: str) -> tuple[str, ...]:
    """What the channels of a recording are for, in the order of the file; one alone is for the centre.

    Raises
    ------
    FormatError
        If no layout of that many channels is known.
    """
    if count == 1:
        return ("C",)
    if count not in _RECORDINGS:
        known = ", ".join(str(count) for count in (1, *_RECORDINGS))
        raise FormatError(
            f"the recording has {count} channels.", where=name, remedy=f"Export it with {known} channels."
        )
    codes = _RECORDINGS[count]
    if order != "film":
        return codes
    beds = [code for code in codes if code not in (EFFECTS, *_HEIGHTS)]
    return (
        *in_order(beds, "film"),
        *((EFFECTS,) if EFFECTS in codes else ()),
        *(code for code in codes if code in _HEIGHTS),
    )
