"""What every output of a processor gets, and which channels reach it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Self

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import SwitchesAt
from dolce.core.processor import BassManagement, ChannelSettings, ProcessorLimits, ProcessorState, Route
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.correction import Correction
from dolce.core.tuning.prediction import settings_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Outputs:
    """Settings by output, and the routes to them.

    `turned` are switches at the monitors' backs that stand otherwise than while they were measured.
    """

    settings: Mapping[str, ChannelSettings]
    bass: BassManagement | None = None
    turned: Mapping[str, SwitchesAt] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        alignment: Alignment,
        correction: Correction | None,
        channels: Sequence[str],
        *,
        sample_rate_hz: int,
        device: ProcessorLimits | None = None,
    ) -> Self:
        """As they would be loaded into a processor."""
        return cls(
            settings={
                channel: settings_of(alignment, correction, channel, sample_rate_hz=sample_rate_hz, device=device)
                for channel in channels
            },
            bass=alignment.routing_at(sample_rate_hz)
            if correction is None
            else correction.routing_at(alignment, sample_rate_hz),
            turned=correction.switches if correction is not None else {},
        )

    @classmethod
    def held(cls, state: ProcessorState, channels: Sequence[str]) -> Self:
        """As a processor plays them, its common cut included."""
        preset = None if state.bypassed else state.presets[state.active]
        return cls(
            settings={channel: state.settings_for(channel) for channel in channels},
            bass=preset.bass if preset else None,
        )

    def routes(self, channel: str) -> list[Route]:
        """Where what is fed to a channel goes."""
        return [Route(output=channel)] if self.bass is None else self.bass.routes(channel)

    def switches_db(self, output: str, at_hz: NDArray) -> NDArray[np.float64]:
        """What turning its monitor's switches changes, shape as given; by level, their phase is not known."""
        at = self.turned.get(output)
        return np.zeros(at_hz.shape) if at is None else at.change_db(at_hz)

    def of_output(self, output: str) -> ChannelSettings:
        """Neutral where nothing was chosen for it."""
        return self.settings.get(output, ChannelSettings())
