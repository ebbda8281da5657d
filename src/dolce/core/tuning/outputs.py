"""What every output of a processor gets, and which channels reach it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Self

from dolce.core.processor import BassManagement, ChannelSettings, ProcessorState, Route
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.correction import Correction
from dolce.core.tuning.prediction import settings_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Outputs:
    """Settings by output, and the routes to them."""

    settings: Mapping[str, ChannelSettings]
    bass: BassManagement | None = None

    @classmethod
    def of(cls, alignment: Alignment, correction: Correction | None, channels: Sequence[str], *,
           sample_rate_hz: int) -> Self:
        """As they would be loaded."""
        return cls(settings={channel: settings_of(alignment, correction, channel, sample_rate_hz=sample_rate_hz)
                             for channel in channels},
                   bass=alignment.routing)

    @classmethod
    def held(cls, state: ProcessorState, channels: Sequence[str]) -> Self:
        """As a processor plays them, its common cut included."""
        preset = None if state.bypassed else state.presets[state.active]
        return cls(settings={channel: state.settings_for(channel) for channel in channels},
                   bass=preset.bass if preset else None)

    def routes(self, channel: str) -> list[Route]:
        """Where what is fed to a channel goes."""
        return [Route(output=channel)] if self.bass is None else self.bass.routes(channel)

    def of_output(self, output: str) -> ChannelSettings:
        """Neutral where nothing was chosen for it."""
        return self.settings.get(output, ChannelSettings())
