"""A complete set of settings under a name."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from dolce.core.processor.bass_management import BassManagement
from dolce.core.processor.settings import ChannelSettings


@dataclass(frozen=True, slots=True, kw_only=True)
class Preset:
    """A complete set of settings under a name; channels that are not listed are neutral.

    `cut_db` turns all channels down alike, so that no boost can run out of range. `ours` is false for what somebody
    else left in the processor.
    """

    name: str
    cut_db: float = 0.0
    channels: Mapping[str, ChannelSettings] = field(default_factory=dict)
    bass: BassManagement | None = None
    ours: bool = True

    @property
    def corrects(self) -> bool:
        return any(s.corrects for s in self.channels.values())
