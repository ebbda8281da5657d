"""The processors that sound passes on its way, in that order."""

import re
from dataclasses import dataclass, replace
from typing import Any

from dolce.core import checked
from dolce.core.checked import limited, ranges
from dolce.core.processor.limits import REHEARSAL, REHEARSAL_LIMITS, SAID, Capabilities, ProcessorLimits
from dolce.errors import InvalidValue

MOST_IN_A_ROW = 6
# Only this machine's own network: what leads elsewhere would have to be trusted first.
_ADDRESS = re.compile(r"(127\.0\.0\.1|localhost):[1-9]\d{0,4}", re.ASCII)


@dataclass(frozen=True, slots=True, kw_only=True)
class ProcessorInUse:
    """One processor of a job.

    Attributes
    ----------
    name : str
        Empty for one that is called by its limits.
    can : Capabilities
        What it can be asked to do, as it said when it was joined.
    limits : ProcessorLimits or None
        As they were known when they were chosen; None where they aren't.
    channels : tuple of str
        Those that pass it; empty for all.
    latency_s : float
        What it delays all of them by, whatever it is set to.
    address : str
        Where it is spoken to over the network, host and port; empty for one that is not.
    settings : str
        What it is set to and what it can do, as the person read it there; of one whose settings are its own.
    by_itself : bool
        It measures and corrects by itself: its settings are its own, and a round says whether it was on.
    """

    name: str = ""
    can: Capabilities = SAID
    limits: ProcessorLimits | None = None
    channels: tuple[str, ...] = ()
    latency_s: float = limited(0, 0.2, where="latency", unit="s", default=0.0)
    by_itself: bool = False
    address: str = ""
    settings: str = ""

    def __post_init__(self) -> None:
        checked.text(self.name, longest=40, where="name of a processor")
        checked.text(self.settings, longest=400, where="settings of a processor")
        if self.address and not _ADDRESS.fullmatch(self.address):
            raise InvalidValue(
                f"{self.address[:40]!r} is no address on this machine.",
                where="address",
                remedy="Type 127.0.0.1 and the port, such as 127.0.0.1:5080.",
            )
        ranges(self)
        if self.by_itself and not self.name.strip():
            raise InvalidValue("a processor needs a name.", where="name of a processor", remedy="Type one.")

    def passes(self, channel: str) -> bool:
        return not self.channels or channel in self.channels


# The simulated one, with its own limits; and any other, of which only what the person says is known.
REHEARSAL_PROCESSOR = ProcessorInUse(can=REHEARSAL, limits=REHEARSAL_LIMITS)
SAID_PROCESSOR = ProcessorInUse()


def checked_chain(chain: tuple[ProcessorInUse, ...]) -> tuple[ProcessorInUse, ...]:
    """The chain, if exactly one of it is loaded by Dolce and the others have names that differ; or InvalidValue."""
    if sum(not processor.by_itself for processor in chain) != 1:
        raise InvalidValue(
            "one processor of the chain is loaded, the others correct by themselves.",
            where="chain",
            remedy="Remove one.",
        )
    names = [processor.name for processor in chain if processor.by_itself]
    if len(set(names)) < len(names):
        raise InvalidValue(
            "two processors of the chain have one name.", where="name of a processor", remedy="Choose another name."
        )
    if len(chain) > MOST_IN_A_ROW:
        raise InvalidValue(f"more than {MOST_IN_A_ROW} processors in a row.", where="chain", remedy="Remove one.")
    return chain


def with_other(chain: tuple[ProcessorInUse, ...], name: str, **changes: Any) -> tuple[ProcessorInUse, ...]:
    """The chain with another value of one that corrects by itself."""
    return tuple(
        replace(processor, **changes) if processor.by_itself and processor.name == name else processor
        for processor in chain
    )


def without_other(chain: tuple[ProcessorInUse, ...], name: str) -> tuple[ProcessorInUse, ...]:
    """The chain without one that corrects by itself."""
    return tuple(processor for processor in chain if not (processor.by_itself and processor.name == name))


def with_loaded(chain: tuple[ProcessorInUse, ...], **changes: Any) -> tuple[ProcessorInUse, ...]:
    """The chain with another value of what Dolce loads."""
    return tuple(processor if processor.by_itself else replace(processor, **changes) for processor in chain)
