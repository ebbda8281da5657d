"""What any processor can be asked to do, and the two that there are: the rehearsal's, and what the person says."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Protocol

from dolce.core.processor import BYPASS, Capabilities, Preset, ProcessorInUse, ProcessorState
from dolce.errors import Conflict, DeviceError


class Processor(Protocol):
    """A device that corrects.

    Every call may take as long as a network does, and end in a DeviceError; what it holds afterwards is what it reads.
    """

    @property
    def can(self) -> Capabilities: ...

    def read(self) -> ProcessorState:
        """All that it holds, and what plays. Of one that can't be read: what the person said last."""
        ...

    def load(self, slot: str, preset: Preset) -> None:
        """Write a preset; what plays stays as it is."""
        ...

    def play(self, slot: str) -> None:
        """Play a preset, or "bypass" for none."""
        ...

    def shut(self, *, muted: Sequence[str], solo: str, dimmed: bool) -> None:
        """Mute, solo and dim."""
        ...

    def restore(self, state: ProcessorState) -> None:
        """Put back everything that was read once."""
        ...


class RehearsalProcessor:
    """The simulated one. It keeps what it is told in a memory of its own, refuses what it has no room for, and rounds.

    Parameters
    ----------
    held : ProcessorState
        What is in its memory.
    hold : callable
        Writes its memory.
    """

    def __init__(self, use: ProcessorInUse, *, held: ProcessorState, hold: Callable[[ProcessorState], None]) -> None:
        self.can, self._use = use.can, use
        self._held, self._hold = held, hold

    def read(self) -> ProcessorState:
        return self._held

    def load(self, slot: str, preset: Preset) -> None:
        if self._use.limits is not None and self._use.limits.broken_by(preset):
            raise DeviceError(
                f"it refuses preset {slot}: it has no room for it.",
                where="rehearsal processor",
                remedy="Load something that fits.",
            )
        self._become(replace(self._held, presets={**self._held.presets, slot: preset}))

    def play(self, slot: str) -> None:
        if slot != BYPASS and slot not in self._held.presets:
            raise DeviceError(f"its preset {slot} is empty.", where="rehearsal processor", remedy="Load it first.")
        self._become(replace(self._held, active=slot))

    def shut(self, *, muted: Sequence[str], solo: str, dimmed: bool) -> None:
        self._become(replace(self._held, muted=tuple(muted), solo=solo, dimmed=dimmed))

    def restore(self, state: ProcessorState) -> None:
        self._become(state)

    def _become(self, state: ProcessorState) -> None:
        self._hold(state)
        self._held = state


class SaidByPerson:
    """Any processor that Dolce can't reach: the person sets it, and says so."""

    def __init__(self, use: ProcessorInUse, *, reported: ProcessorState) -> None:
        self.can, self._said = use.can, reported

    def read(self) -> ProcessorState:
        return self._said

    def load(self, slot: str, preset: Preset) -> None:
        self._said = replace(self._said, presets={**self._said.presets, slot: preset})

    def play(self, slot: str) -> None:
        self._said = replace(self._said, active=slot)

    def shut(self, *, muted: Sequence[str], solo: str, dimmed: bool) -> None:
        if muted or solo or dimmed:
            raise Conflict("it can't be told to mute or dim.", where="processor", remedy="Do it at the device.")
        self._said = replace(self._said, muted=(), solo="", dimmed=False)

    def restore(self, state: ProcessorState) -> None:
        self._said = state
