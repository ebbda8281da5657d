"""What a processor holds and plays."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from dolce.core.processor.bass_management import BassManagement, Route
from dolce.core.processor.crossover import Crossover
from dolce.core.processor.preset import Preset
from dolce.core.processor.settings import ChannelSettings
from dolce.errors import InvalidValue

BYPASS = "bypass"
DIM_DB = 20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ProcessorState:
    """What the processor holds, which preset ("A", "B") plays ("bypass" plays none), and what is shut or turned down.

    Attributes
    ----------
    muted : tuple of str
        Channels that are shut.
    solo : str
        The only channel that is open; empty for all.
    dimmed : bool
        Everything 20 dB down.
    slate : tuple of str
        What the calibrator ticked as neutral in devices that can't be read (keys of `dolce.core.rig.SLATE`).
    by_themselves : tuple of str
        Other processors of the chain that correct now, by name.
    """

    active: str = BYPASS
    presets: Mapping[str, Preset] = field(default_factory=dict)
    muted: tuple[str, ...] = ()
    solo: str = ""
    dimmed: bool = False
    slate: tuple[str, ...] = ()
    by_themselves: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if self.active != BYPASS and self.active not in self.presets:
            raise InvalidValue(f"preset {self.active} is empty.", where="processor", remedy="Load it first.")

    def settings_for(self, channel: str) -> ChannelSettings:
        """What the channel gets right now; neutral when bypassed."""
        if self.active == BYPASS:
            return ChannelSettings()
        preset = self.presets[self.active]
        settings = preset.channels.get(channel, ChannelSettings())
        return replace(settings, trim_db=max(-40.0, settings.trim_db - preset.cut_db))

    def is_open(self, channel: str) -> bool:
        """Whether the channel sounds: neither muted nor left out by a solo."""
        return channel not in self.muted and self.solo in ("", channel)

    def crossover_of(self, channel: str) -> Crossover | None:
        """Where subs take over a channel's bass now; None where it plays its whole range, or is a sub."""
        bass = None if self.active == BYPASS else self.presets[self.active].bass
        return None if bass is None or channel in bass.subs else bass.of(channel)

    def routes(self, channel: str) -> list[Route]:
        """Where sound fed to a channel goes; without bass management only to itself."""
        bass = None if self.active == BYPASS else self.presets[self.active].bass
        return [Route(output=channel)] if bass is None else bass.routes(channel)

    @property
    def bypassed(self) -> bool:
        """Whether no preset plays."""
        return self.active == BYPASS

    @property
    def cut_db(self) -> float:
        """How much everything is turned down right now."""
        return 0.0 if self.active == BYPASS else self.presets[self.active].cut_db

    @property
    def corrects(self) -> bool:
        """Whether a preset of ours with bands or convolutions plays."""
        preset = None if self.active == BYPASS else self.presets[self.active]
        return preset is not None and preset.ours and preset.corrects

    @property
    def is_neutral(self) -> bool:
        """Whether it plays everything as it comes."""
        preset = None if self.active == BYPASS else self.presets[self.active]
        silent = self.muted or self.solo or self.dimmed or self.by_themselves
        return not silent and (
            preset is None
            or (preset.bass is None and not preset.cut_db and all(s.is_neutral for s in preset.channels.values()))
        )

    def sounds_like(self, other: "ProcessorState", channels: Sequence[str]) -> bool:
        """Whether both do the same to every channel right now, as far as it can be known."""

        def bass(state: "ProcessorState") -> BassManagement | None:
            return None if state.active == BYPASS else state.presets[state.active].bass

        return (
            bass(self) == bass(other)
            and self.dimmed == other.dimmed
            and set(self.slate) == set(other.slate)
            and set(self.by_themselves) == set(other.by_themselves)
            and all(
                self.settings_for(channel) == other.settings_for(channel)
                and self.is_open(channel) == other.is_open(channel)
                for channel in channels
            )
        )

    @property
    def description(self) -> str:
        """For the header and the name of a round: "bypassed" or "A, Aligned and corrected", and what is shut."""
        words = ["bypassed" if self.active == BYPASS else f"{self.active}, {self.presets[self.active].name}"]
        if self.dimmed:
            words.append("dimmed")
        if self.solo:
            words.append(f"solo {self.solo}")
        if self.muted:
            words.append(f"muted {', '.join(self.muted)}")
        words.extend(f"{name} correcting by itself" for name in self.by_themselves)
        return ", ".join(words)

    @property
    def full_description(self) -> str:
        """The same with what is ticked, to tell two states apart."""
        ticked = f", {len(self.slate)} points of the neutral processor ticked" if self.slate else ""
        return self.description + ticked
