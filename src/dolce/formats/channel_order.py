"""In which order channels stand in one file; film and broadcast differ."""

from collections.abc import Sequence
from typing import Literal

Order = Literal["outputs", "broadcast", "film"]
ORDERS: dict[Order, str] = {"outputs": "as the outputs are numbered",
                            "broadcast": "broadcast: L R C, subs, surrounds, heights",
                            "film": "film: L C R, surrounds, subs, heights"}
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
    return (*(one for one in wanted if one in channels), *(one for one in channels if one not in wanted))
