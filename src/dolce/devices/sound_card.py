"""This computer's audio through PortAudio: plays on one output, records one input, sample-synchronously."""

import threading
import time
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dolce.devices.interface import Progress, SoundStopped, Stopped
from dolce.errors import DeviceError

MOST_OUTPUTS = 64
_POLL_S = 0.03
_CLOSE_WITHIN_S = 5.0
_GONE_AFTER_S = 3.0               # without a block from the driver


@dataclass(frozen=True, slots=True, kw_only=True)
class CardInfo:
    """An audio device as PortAudio lists it; counts are of channels."""

    name: str
    host: str
    inputs: int
    outputs: int
    usual_rate_hz: int


def sound_cards(*, again: bool = False) -> list[CardInfo]:
    """Devices that can play and record.

    Parameters
    ----------
    again : bool
        Look anew for devices plugged in since the start. Only while nothing plays: open streams would end.

    Raises
    ------
    DeviceError
        If PortAudio is not installed.
    """
    sd = _portaudio()
    if again:
        sd._terminate()
        sd._initialize()
    hosts = [host["name"] for host in sd.query_hostapis()]
    return [CardInfo(name=d["name"], host=hosts[d["hostapi"]], inputs=d["max_input_channels"],
                     outputs=d["max_output_channels"], usual_rate_hz=round(d["default_samplerate"]))
            for d in sd.query_devices() if d["max_input_channels"] and d["max_output_channels"]]


def _portaudio() -> Any:
    """The sounddevice module; imported late, since it needs a library of the system."""
    try:
        import sounddevice
    except OSError:
        raise DeviceError("PortAudio is not installed on this computer.", where="audio",
                          remedy="Install the package libportaudio2, or use the rehearsal rig.") from None
    return sounddevice


def _let_go(stream: Any) -> None:
    """Silence and close a stream at once. A driver that has died may never answer: it is left behind then."""
    def close() -> None:
        stream.abort(ignore_errors=True)
        stream.close(ignore_errors=True)

    closing = threading.Thread(target=close, name="closing audio", daemon=True)
    closing.start()
    closing.join(_CLOSE_WITHIN_S)


class SoundCard:
    """One audio device.

    Parameters
    ----------
    name, host : str
        As in `sound_cards`.
    microphone : int
        The input that the microphone hangs on; 1 is the first.

    Attributes
    ----------
    dropouts : int
        How often the driver reported lost samples during the last recording. Some drivers report without need.
    silent_after_s : float or None
        From a stop to the first silent block, the last time that one was asked for; None before.
    """

    def __init__(self, *, name: str, host: str, microphone: int = 1) -> None:
        self._name, self._host, self._microphone = name, host, microphone
        self.dropouts = 0
        self.silent_after_s: float | None = None

    def play_and_record(self, stimulus: NDArray[np.float64], *, output: int, sample_rate_hz: int,
                        progress: Progress, stopped: Stopped) -> NDArray[np.float64]:
        """See `dolce.devices.interface.AudioDevice`. Every other output carries digital silence meanwhile."""
        sd = _portaudio()
        index, info = self._found(sd)
        if not 1 <= output <= info.outputs:
            raise DeviceError(f"{self._name} has {info.outputs} outputs, not {output}.", where="audio",
                              remedy="Correct the output in the Room stop, or choose another device.")
        if not 1 <= self._microphone <= info.inputs:
            raise DeviceError(f"{self._name} has {info.inputs} inputs, not {self._microphone}.", where="audio",
                              remedy="Choose another input.")
        if stopped():
            raise SoundStopped
        run = _Run(np.asarray(stimulus, dtype=np.float32), output - 1, self._microphone - 1)
        try:
            stream = sd.Stream(device=(index, index), samplerate=sample_rate_hz, dtype="float32",
                               channels=(info.inputs, info.outputs), callback=run.exchange)
        except sd.PortAudioError as error:
            raise self._in_words(error, sample_rate_hz) from None
        try:
            stream.start()
            self._watch(stream, run, progress, stopped)
        except sd.PortAudioError as error:
            raise self._in_words(error, sample_rate_hz) from None
        finally:
            _let_go(stream)
        self.dropouts = run.flagged
        progress(1.0)
        return run.recording.astype(np.float64)

    def _watch(self, stream: Any, run: "_Run", progress: Progress, stopped: Stopped) -> None:
        """Until everything is recorded; ends at once on stop, and when the driver falls silent."""
        last, since = -1, time.monotonic()
        while not run.done.wait(_POLL_S):
            if stopped():
                # Silence first: closing the stream may take a driver a second.
                asked = time.monotonic()
                run.silent = True
                run.quiet.wait(_GONE_AFTER_S)
                self.silent_after_s = time.monotonic() - asked
                raise SoundStopped
            if run.at != last:
                last, since = run.at, time.monotonic()
                progress(min(1.0, run.at / run.recording.size))
            elif not stream.active or time.monotonic() - since > _GONE_AFTER_S:
                raise DeviceError(f"{self._name} stopped in the middle.", where="audio",
                                  remedy="Check its cable and whether another program took it; then go on.")

    def _found(self, sd: Any) -> tuple[int, CardInfo]:
        """Index and description of the device, or DeviceError naming those that are there."""
        known = sound_cards()
        names = [(d["name"], sd.query_hostapis(d["hostapi"])["name"]) for d in sd.query_devices()]
        for card in known:
            if (card.name, card.host) == (self._name, self._host):
                return names.index((card.name, card.host)), card
        there = ", ".join(card.name for card in known)
        raise DeviceError(f"{self._name} is not there.", where="audio",
                          remedy=f"Plug it in and look again, or choose {there}." if there
                          else "Plug it in and look again, or use the rehearsal rig.")

    def _in_words(self, error: Exception, sample_rate_hz: int) -> DeviceError:
        """PortAudio's complaint as something to act on."""
        text = str(error)
        if "sample rate" in text.lower():
            return DeviceError(f"{self._name} does not run at {sample_rate_hz} Hz now.", where="audio",
                               remedy="Choose the rate that it is set to.")
        if "unavailable" in text.lower() or "busy" in text.lower():
            return DeviceError(f"{self._name} is in use by another program.", where="audio",
                               remedy="Close that program, then go on.")
        return DeviceError(f"{self._name} can't be used: {text}.", where="audio", remedy="Check it and try again.")


class _Run:
    """One recording: what the driver's callback takes from and puts to. Only numpy slices run inside it."""

    def __init__(self, stimulus: NDArray[np.float32], output: int, microphone: int) -> None:
        self._stimulus, self._output, self._microphone = stimulus, output, microphone
        self.recording = np.zeros(stimulus.size, dtype=np.float32)
        self.at, self.flagged = 0, 0
        self.done, self.quiet = threading.Event(), threading.Event()
        self.silent = False

    def exchange(self, heard: NDArray, played: NDArray, frames: int, _time: Any, status: Any) -> None:
        """The callback: silence on all outputs, the stimulus on one, the microphone into the recording."""
        played.fill(0)
        if self.silent:
            self.quiet.set()
            return
        if status and self.at:
            self.flagged += 1
        count = min(frames, self.recording.size - self.at)
        if count > 0:
            part = slice(self.at, self.at + count)
            played[:count, self._output] = self._stimulus[part]
            self.recording[part] = heard[:count, self._microphone]
            self.at += count
        if self.at >= self.recording.size:
            self.done.set()
