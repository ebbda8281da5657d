"""This computer's audio through PortAudio: plays on outputs, records its inputs, sample-synchronously."""

import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from dolce.core.processor import ProcessorState
from dolce.core.rig import Ceiling, CeilingWatch
from dolce.devices.interface import (
    LIVE_BLOCK_S,
    Heard,
    NextBlock,
    Progress,
    SoundStopped,
    Stopped,
    nothing_sounds,
    sound_begins,
)
from dolce.errors import DeviceError

MOST_OUTPUTS = 64
_POLL_S = 0.03
_CLOSE_WITHIN_S = 5.0
_GONE_AFTER_S = 3.0  # without a block from the driver
_AHEAD_BLOCKS = 2  # of live sound that wait for the driver, besides one period of its own


@dataclass(frozen=True, slots=True, kw_only=True)
class CardInfo:
    """An audio device as PortAudio lists it; counts are of channels."""

    name: str
    host: str
    inputs: int
    outputs: int
    usual_rate_hz: int


def sound_cards(*, again: bool = False) -> list[CardInfo]:
    """Audio devices of this computer, those too that only play or only record.

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
    return [
        CardInfo(
            name=d["name"],
            host=hosts[d["hostapi"]],
            inputs=d["max_input_channels"],
            outputs=d["max_output_channels"],
            usual_rate_hz=round(d["default_samplerate"]),
        )
        for d in sd.query_devices()
    ]


def _portaudio() -> Any:
    """The sounddevice module; imported late, since it needs a library of the system."""
    try:
        import sounddevice
    except OSError:
        raise DeviceError(
            "PortAudio is not installed on this computer.",
            where="audio",
            remedy="Install the package libportaudio2, or use the rehearsal rig.",
        ) from None
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
    inputs : sequence of int
        Physical inputs to record, 1 is the first: the microphones, then perhaps the loop.
    ceiling : Ceiling
        What nothing exceeds; the first input is the one that is watched.
    recorder : (str, str), optional
        Name and host of the device that records, where it is another one. Its clock is its own: a recording begins
        some milliseconds before what is played, each time others, and runs faster or slower.

    Attributes
    ----------
    dropouts : int
        How often the driver reported lost samples during the last recording. Some drivers report without need.
    silent_after_s : float or None
        From a stop to the first silent block, the last time that one was asked for; None before.
    """

    def __init__(
        self,
        *,
        name: str,
        host: str,
        inputs: Sequence[int] = (1,),
        ceiling: Ceiling | None = None,
        recorder: tuple[str, str] | None = None,
    ) -> None:
        self._name, self._host, self._inputs = name, host, tuple(inputs)
        self._recorder = recorder
        self._ceiling = ceiling or Ceiling(peak_dbfs=0.0)
        self.dropouts = 0
        self.silent_after_s: float | None = None

    def sounding_on(self, output: int) -> str:
        """See `dolce.devices.interface.AudioDevice`: only a person in the room can say."""
        return ""

    def with_calibrator(self, level_db: float) -> Self:
        """See `dolce.devices.interface.AudioDevice`: somebody has pushed it on."""
        return self

    def becomes(self, *, knobs_db: Mapping[str, float], processor: ProcessorState) -> None:
        """See `dolce.devices.interface.AudioDevice`: real air needs no telling."""

    def play_and_record(
        self, played: Mapping[int, NDArray[np.float64]], *, sample_rate_hz: int, progress: Progress, stopped: Stopped
    ) -> NDArray[np.float64]:
        """See `dolce.devices.interface.AudioDevice`. Every other output carries digital silence meanwhile."""
        for samples in played.values():
            self._ceiling.allows(samples)
        opened = self._opened(*played)
        if stopped():
            raise SoundStopped
        run = _Run(
            {output - 1: np.asarray(samples, dtype=np.float32) for output, samples in played.items()},
            [k - 1 for k in self._inputs],
            stopped,
        )
        sounds = any(samples.any() for samples in played.values())
        watch = CeilingWatch(self._ceiling, sample_rate_hz=sample_rate_hz) if sounds else None
        looked = 0

        def look() -> bool:
            nonlocal looked
            at = run.at
            if watch is not None and at > looked:
                watch.hear(run.recording[0, looked:at].astype(np.float64))
            looked = at
            progress(min(1.0, at / run.recording.shape[1]))
            return not run.done.is_set()

        self._stream(run, opened, sample_rate_hz, look, stopped)
        self.dropouts = run.flagged
        progress(1.0)
        return run.recording.astype(np.float64)

    def run_live(self, next_block: NextBlock, on_block: Heard, *, sample_rate_hz: int, stopped: Stopped) -> None:
        """See `dolce.devices.interface.AudioDevice`."""
        opened = self._opened()
        run = _LiveRun([k - 1 for k in self._inputs], stopped)
        watch = CeilingWatch(self._ceiling, sample_rate_hz=sample_rate_hz)
        count = round(LIVE_BLOCK_S * sample_rate_hz)

        def look() -> bool:
            # Enough must wait to last until the next look, whatever size the driver's blocks have.
            while run.waiting < _AHEAD_BLOCKS * count + run.largest:
                played = next_block(count)
                for output, samples in played.items():
                    self._ceiling.allows(samples)
                    self._has_output(output, opened.plays)
                run.give({output - 1: samples for output, samples in played.items()}, count)
            for block in run.take():
                if run.sounding:
                    watch.hear(block[0], live=True)
                on_block(block)
            return True

        self._stream(run, opened, sample_rate_hz, look, stopped)

    def _opened(self, *outputs: int) -> "_Opened":
        """Index and description of what plays and what records, if they have the outputs and all inputs."""
        sd = _portaudio()
        out_index, plays = self._found(sd, self._name, self._host)
        in_index, records = (out_index, plays) if self._recorder is None else self._found(sd, *self._recorder)
        for output in outputs:
            self._has_output(output, plays)
        for number in self._inputs:
            if not 1 <= number <= records.inputs:
                raise DeviceError(
                    f"{records.name} has {records.inputs} inputs, not {number}.",
                    where="audio",
                    remedy="Choose another input.",
                )
        return _Opened(out_index=out_index, plays=plays, in_index=in_index, records=records)

    def _has_output(self, output: int, info: CardInfo) -> None:
        if not 1 <= output <= info.outputs:
            raise DeviceError(
                f"{self._name} has {info.outputs} outputs, not {output}.",
                where="audio",
                remedy="Correct the output in the Room stop, or choose another device.",
            )

    def _stream(
        self, run: "_Exchange", opened: "_Opened", sample_rate_hz: int, look: Callable[[], bool], stopped: Stopped
    ) -> None:
        """Run a stream, or one of each device, until `look` says no more; silent before they close in any case."""
        sd = _portaudio()
        streams: list[Any] = []
        how = {"samplerate": sample_rate_hz, "dtype": "float32"}
        sound_begins()
        try:
            if self._recorder is None:
                streams.append(
                    sd.Stream(
                        device=(opened.out_index, opened.out_index),
                        callback=run.exchange,
                        channels=(opened.plays.inputs, opened.plays.outputs),
                        **how,
                    )
                )
            else:
                streams.append(
                    sd.InputStream(device=opened.in_index, channels=opened.records.inputs, callback=run.hear, **how)
                )
                streams.append(
                    sd.OutputStream(device=opened.out_index, channels=opened.plays.outputs, callback=run.play, **how)
                )
            look()
            for stream in streams:  # what records begins first: nothing of the beginning is lost
                if stopped():
                    raise SoundStopped
                stream.start()
            self._watch(streams, run, look, stopped)
        except sd.PortAudioError as error:
            raise self._in_words(error, sample_rate_hz) from None
        finally:
            run.silent = True
            for stream in reversed(streams):
                _let_go(stream)
            nothing_sounds()

    def _watch(self, streams: Sequence[Any], run: "_Exchange", look: Callable[[], bool], stopped: Stopped) -> None:
        """Until everything is done; ends at once on stop, and when the driver falls silent."""
        last, since = -1, time.monotonic()
        while True:
            run.done.wait(_POLL_S)
            if stopped():
                # Silence first: closing the stream may take a driver a second.
                asked = time.monotonic()
                run.silent = True
                run.quiet.wait(_GONE_AFTER_S)
                self.silent_after_s = time.monotonic() - asked
                raise SoundStopped
            if not look():
                return
            if run.at != last:
                last, since = run.at, time.monotonic()
            elif not all(stream.active for stream in streams) or time.monotonic() - since > _GONE_AFTER_S:
                raise DeviceError(
                    f"{self._name} stopped in the middle.",
                    where="audio",
                    remedy="Check its cable and whether another program took it; then go on.",
                )

    @staticmethod
    def _found(sd: Any, name: str, host: str) -> tuple[int, CardInfo]:
        """Index and description of a device, or DeviceError naming those that are there."""
        known = sound_cards()
        names = [(d["name"], sd.query_hostapis(d["hostapi"])["name"]) for d in sd.query_devices()]
        for card in known:
            if (card.name, card.host) == (name, host):
                return names.index((card.name, card.host)), card
        there = ", ".join(card.name for card in known)
        raise DeviceError(
            f"{name} is not there.",
            where="audio",
            remedy=f"Plug it in and look again, or choose {there}."
            if there
            else "Plug it in and look again, or use the rehearsal rig.",
        )

    def _in_words(self, error: Exception, sample_rate_hz: int) -> DeviceError:
        """PortAudio's complaint as something to act on."""
        text = str(error)
        if "sample rate" in text.lower():
            return DeviceError(
                f"{self._name} does not run at {sample_rate_hz} Hz now.",
                where="audio",
                remedy="Choose the rate that it is set to.",
            )
        if "unavailable" in text.lower() or "busy" in text.lower():
            return DeviceError(
                f"{self._name} is in use by another program.", where="audio", remedy="Close that program, then go on."
            )
        return DeviceError(f"{self._name} can't be used: {text}.", where="audio", remedy="Check it and try again.")


@dataclass(frozen=True, slots=True, kw_only=True)
class _Opened:
    """What plays and what records, which may be one device."""

    out_index: int
    plays: CardInfo
    in_index: int
    records: CardInfo


class _Exchange:
    """What the driver's callbacks take from and put to. Only numpy slices run inside them.

    One device calls `exchange`; two call `hear` and `play`, each in its own time.
    """

    def __init__(self, stopped: Stopped) -> None:
        self.at, self.flagged = 0, 0
        self.done, self.quiet = threading.Event(), threading.Event()
        self.silent, self._stopped = False, stopped

    def exchange(self, block: NDArray, played: NDArray, frames: int, time_info: Any, status: Any) -> None:
        """One device's callback."""
        self.play(played, frames, time_info, status)
        if not self.silent:
            self.hear(block, frames, time_info, None)

    def play(self, played: NDArray, frames: int, _time: Any, status: Any) -> None:
        """Silence on all outputs, then what is to be played on some."""
        played.fill(0)
        # Asked here too: opening a stream takes a driver long, and a stop meanwhile must not be followed by sound.
        if self.silent or self._stopped():
            self.silent = True
            self.quiet.set()
            return
        if status and self.at:
            self.flagged += 1
        self.fill(played, frames)

    def hear(self, block: NDArray, frames: int, _time: Any, status: Any) -> None:
        """Keep what the inputs heard."""
        if status and self.at:
            self.flagged += 1
        self.keep(block, frames)

    def fill(self, played: NDArray, frames: int) -> None:
        raise NotImplementedError

    def keep(self, recorded: NDArray, frames: int) -> None:
        raise NotImplementedError


class _Run(_Exchange):
    """One recording of a known length."""

    def __init__(self, sent: Mapping[int, NDArray[np.float32]], inputs: list[int], stopped: Stopped) -> None:
        super().__init__(stopped)
        self._sent, self._inputs, self._size = sent, inputs, next(iter(sent.values())).size
        self.recording = np.zeros((len(inputs), self._size), dtype=np.float32)
        self._played = 0

    def fill(self, played: NDArray, frames: int) -> None:
        count = min(frames, self._size - self._played)
        for output, samples in self._sent.items():
            played[:count, output] = samples[self._played : self._played + count]
        self._played += count

    def keep(self, recorded: NDArray, frames: int) -> None:
        # A device that records by itself has begun earlier: its first block is the one while something plays.
        count = min(frames, self._size - self.at) if self._played else 0
        if count > 0:
            for row, number in enumerate(self._inputs):
                self.recording[row, self.at : self.at + count] = recorded[:count, number]
            self.at += count
        if self.at >= self._size:
            self.done.set()


class _LiveRun(_Exchange):
    """Sound without an end: blocks wait to be played, what was heard waits to be fetched.

    A deque's append and popleft are atomic, so neither thread waits for the other.
    """

    def __init__(self, inputs: list[int], stopped: Stopped) -> None:
        super().__init__(stopped)
        self._inputs = inputs
        self._coming: deque[tuple[dict[int, NDArray], int]] = deque()
        self._came: deque[NDArray] = deque()
        self._rest: tuple[dict[int, NDArray], int] = ({}, 0)
        self._given, self._played, self.largest, self.sounding = 0, 0, 0, False

    @property
    def waiting(self) -> int:
        """Samples that wait to be played."""
        return self._given - self._played

    def give(self, played: Mapping[int, NDArray[np.float64]], count: int) -> None:
        """A block of `count` samples, by output."""
        self.sounding = any(bool(samples.any()) for samples in played.values())
        self._coming.append(({output: samples.astype(np.float32) for output, samples in played.items()}, count))
        self._given += count

    def take(self) -> list[NDArray[np.float64]]:
        """What was heard since the last time."""
        return [self._came.popleft().astype(np.float64) for _ in range(len(self._came))]

    def keep(self, recorded: NDArray, frames: int) -> None:
        self._came.append(recorded[:, self._inputs].T.copy())
        self.at += frames

    def fill(self, played: NDArray, frames: int) -> None:
        self.largest = max(self.largest, frames)
        filled = 0
        while filled < frames:
            played_by, remaining = self._rest
            if not remaining:
                if not self._coming:
                    break  # silence; the next look gives more
                self._rest = self._coming.popleft()
                continue
            count = min(frames - filled, remaining)
            for output, samples in played_by.items():
                played[filled : filled + count, output] = samples[:count]
            self._rest = ({output: samples[count:] for output, samples in played_by.items()}, remaining - count)
            filled += count
        self._played += filled
        self.flagged += filled < frames
