"""What any audio hardware can be asked to do; the rest of the application knows only this."""

import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Protocol, Self

import numpy as np
from numpy.typing import NDArray

from dolce.core.processor import ProcessorState

Progress = Callable[[float], None]
Stopped = Callable[[], bool]
# Given a count of samples: what each output plays next, by its number; outputs that are not there are silent.
NextBlock = Callable[[int], Mapping[int, NDArray[np.float64]]]
# Is given what all inputs heard, shape (inputs, samples).
Heard = Callable[[NDArray[np.float64]], None]

LIVE_BLOCK_S = 0.1

_quiet: ContextVar[threading.Event | None] = ContextVar("quiet", default=None)


@contextmanager
def telling_of_silence(quiet: threading.Event) -> Iterator[None]:
    """What devices do in this context is told: `quiet` is set while nothing sounds.

    A device that says nothing of it counts as sounding from the beginning to the end.
    """
    token = _quiet.set(quiet)
    try:
        yield
    finally:
        _quiet.reset(token)


def sound_begins() -> None:
    """Told by a device before it looks for a stop and lets the first sound out."""
    if (quiet := _quiet.get()) is not None:
        quiet.clear()


def nothing_sounds() -> None:
    """Told by a device when it is silent: while it computes, and when it has ended."""
    if (quiet := _quiet.get()) is not None:
        quiet.set()


class SoundStopped(Exception):
    """The person pressed stop; nothing of the present take is kept."""


class AudioDevice(Protocol):
    """Plays on one output or several while everything else is silent, and records its inputs at the same time.

    The inputs are those that the device was opened with, in their order: microphones first, then a loop if there is
    one. `dropouts` counts what the driver reported as lost during the last recording. Whatever plays is held against
    the ceiling that the device was opened with: Conflict, with all sound ended.
    """

    @property
    def dropouts(self) -> int: ...

    def sounding_on(self, output: int) -> str:
        """Channel whose speaker sounds on an output, as a person in the room hears it; empty where only one can say."""
        ...

    def with_calibrator(self, level_db: float) -> Self:
        """The device with an acoustic calibrator on its first microphone, where somebody must not push it on."""
        ...

    def becomes(self, *, knobs_db: Mapping[str, float], processor: ProcessorState) -> None:
        """What a hand changes at the gains or at the processor while live sound runs, where it must be computed."""
        ...

    def play_and_record(
        self, played: Mapping[int, NDArray[np.float64]], *, sample_rate_hz: int, progress: Progress, stopped: Stopped
    ) -> NDArray[np.float64]:
        """The recording, sample-synchronous with what is played, shape (inputs, samples), full scale 1.

        Parameters
        ----------
        played : mapping of int to ndarray, shape (samples,)
            By physical output, 1 is the first; all of one length. Full scale 1, with the silence that is to be
            recorded before and behind already in it.
        progress : callable
            Is told the part done, 0 to 1, several times a second.
        stopped : callable
            Is asked several times a second; on True sound ends at once.

        Raises
        ------
        SoundStopped
            If `stopped` said so.
        DeviceError
            If the device fails.
        Conflict
            If the ceiling is passed.
        """
        ...

    def run_live(self, next_block: NextBlock, on_block: Heard, *, sample_rate_hz: int, stopped: Stopped) -> None:
        """Play what `next_block` gives and hand over what is heard, in real time and without gaps, until stopped.

        Both are called from one thread, about ten times a second. Errors as above; ends by SoundStopped.
        """
        ...
