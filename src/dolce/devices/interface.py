"""What any audio hardware can be asked to do; the rest of the application knows only this."""

from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

Progress = Callable[[float], None]
Stopped = Callable[[], bool]


class SoundStopped(Exception):
    """The person pressed stop; nothing of the present take is kept."""


class AudioDevice(Protocol):
    """Plays on one output while everything else is silent, and records the microphone at the same time.

    `dropouts` counts what the driver reported as lost during the last recording.
    """

    dropouts: int

    def play_and_record(self, stimulus: NDArray[np.float64], *, output: int, sample_rate_hz: int,
                        progress: Progress, stopped: Stopped) -> NDArray[np.float64]:
        """The recording, sample-synchronous with the stimulus and as long as it, full scale 1.

        Parameters
        ----------
        stimulus : ndarray, shape (samples,)
            Full scale 1, with the silence that is to be recorded before and behind already in it.
        output : int
            Physical output, 1 is the first.
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
        """
        ...
