"""The rehearsal rig: a simulated room, speakers, microphone, interface and processor behind the device interface."""

import hashlib
import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Self

import numpy as np
from numpy.typing import NDArray
from scipy import fft, signal

from dolce.core.acoustics import RoomSound, room_response, speed_of_sound
from dolce.core.filters import PeakingFilter, chain_samples
from dolce.core.geometry import Point, RoomSize
from dolce.core.processor import DIM_DB, ChannelSettings, Crossover, ProcessorInUse, ProcessorState, processed
from dolce.core.response import MicrophoneCurve, stretched
from dolce.core.rig import Ceiling, CeilingWatch, Fault
from dolce.core.room import SUB_CODES, Box
from dolce.devices.interface import LIVE_BLOCK_S, Heard, NextBlock, Progress, SoundStopped, Stopped
from dolce.errors import DeviceError

FULL_SCALE_SPL_DB = 120.0         # of a full-scale sine, at 0 dB of microphone gain
LATENCY_S = 0.0062                # of interface and drivers together
ROOM_NOISE_DBFS = -74.0           # RMS at 0 dB of microphone gain
_BLOCK_S = 0.02                   # after a stop no more than one is played to its end
_STOP_WITHIN_S = 0.02             # how often live sound asks whether it shall end
_STEPS = 2**23                    # a 24-bit converter

# Side-on sound misses the pressure rise before the capsule: the curve for 90 degrees has this less from 10 kHz on.
SIDE_ON_DB = 1.8

MICROPHONE_CURVE = MicrophoneCurve(
    frequency_hz=np.array([10, 20, 40, 100, 500, 1000, 2000, 4000, 6300, 8000, 10000, 12500, 16000, 20000, 24000.0]),
    level_db=np.array([-2.4, -1.1, -0.4, -0.1, 0, 0, 0.1, 0.4, 0.9, 1.3, 2.0, 2.6, 2.1, 0.4, -1.5]),
    phase_deg=np.zeros(15),
)
SIDE_ON_CURVE = MicrophoneCurve(
    frequency_hz=MICROPHONE_CURVE.frequency_hz, phase_deg=MICROPHONE_CURVE.phase_deg,
    level_db=MICROPHONE_CURVE.level_db - SIDE_ON_DB * np.clip(np.log2(MICROPHONE_CURVE.frequency_hz / 2500) / 2, 0, 1),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeakerModel:
    """How a simulated speaker differs from a perfect one.

    Attributes
    ----------
    low_limit_hz : float
        Corner of its roll-off of 12 dB per octave, as of a closed box.
    gain_db : float
        Its sensitivity against the others.
    latency_s : float
    presence_db : float
        A gentle hill at 2.5 kHz.
    high_limit_hz : float or None
        Corner of the 24 dB per octave that end a subwoofer; None for ordinary speakers.
    """

    low_limit_hz: float = 44.0
    gain_db: float = 0.0
    latency_s: float = 0.0
    presence_db: float = 0.0
    high_limit_hz: float | None = None


MODELS: Mapping[str, SpeakerModel] = {
    "L": SpeakerModel(gain_db=0.0, presence_db=0.6),
    "R": SpeakerModel(gain_db=1.3, presence_db=0.3, latency_s=0.00008),
    **{code: SpeakerModel(low_limit_hz=24.0, high_limit_hz=120.0, gain_db=gain)
       for code, gain in zip(SUB_CODES, (2.0, 1.2, 2.6, 1.7), strict=True)},
}

# Several microphones are never alike: gain and a tilt above 2 kHz of the second, third ... against the first, dB.
OTHER_MICROPHONES_DB = ((0.0, 0.0), (0.8, 0.6), (-1.1, -0.4), (0.4, 1.0))
_DESK_STRENGTH, _DESK_TILT_HZ = 0.7, 350.0       # a board reflects what is shorter than itself
_LOW_CORNER_HZ, _TOP_LOSS_DB = 1.5, 0.3          # of the interface: coupling capacitors; at 20 kHz

# What the faults of a rehearsal do.
_FAULT_GAIN_DB, _FAULT_PREAMP_DB, _FAULT_CROSSOVER_HZ, _FAULT_DRIFT = 8.0, 40.0, 200.0, 60e-6
_FAULT_EQUALISER = PeakingFilter(frequency_hz=2000.0, gain_db=8.0, q=1.0)
# What a processor that corrects by itself thinks of this room.
_OWN_TASTE = (PeakingFilter(frequency_hz=70.0, gain_db=3.0, q=0.8),
              PeakingFilter(frequency_hz=3000.0, gain_db=-2.0, q=0.7))
_HUM_DBFS, _BURST_DBFS = -52.0, -18.0
_HOWL_HZ, _HOWL_DB_PER_S = 1240.0, 90.0
_OTHER_MICROPHONE_DB = 5.0        # a rise above 4 kHz that the curve knows nothing of


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RehearsalRig:
    """Microphones at places in one simulated room, deterministic from its attributes.

    Attributes
    ----------
    speakers : mapping of int to (str, Point)
        Channel code and place by physical output.
    microphone, more_microphones : Point, tuple of Point
        Where the first one stands, and the others.
    pointing : "speakers", "ceiling" or "floor"
        Where the microphones really point.
    loop : bool
        Whether a last input hears the output through a cable.
    knobs_db : mapping of str to float
        What the hand did to the gain at each speaker; "volume" to all of them.
    desks : tuple of Box
        Boards that reflect.
    seed : str
        Decides the noise: the same words give the same noise.
    real_time : bool
        Whether playing takes as long as it would.
    live_speed : float
        How many times faster live sound may pass where it is not in real time; infinite for as fast as it computes.
    calibrator_spl_db : float or None
        Level of an acoustic calibrator on the microphone, 1 kHz; it hears nothing else then. None for none.
    faults : tuple of Fault
        What is wrong with the rig, to practise.
    others : tuple of ProcessorInUse
        Processors behind the one that is loaded; those that are on change the sound to their own taste.
    burst : str
        The channel during whose take here a door slams, if that is among the faults; empty for none.
    path : tuple of Point
        Where the first microphone is carried during live sound, round and round; empty where it stands still.
    close_to : float or None
        Distance in m at which the microphone stands before whichever sub sounds; None for its place in the room.
    """

    room: RoomSize
    speakers: Mapping[int, tuple[str, Point]]
    microphone: Point
    microphone_gain_db: float
    processor: ProcessorState
    seed: str
    more_microphones: tuple[Point, ...] = ()
    pointing: str = "speakers"
    loop: bool = False
    knobs_db: Mapping[str, float] = field(default_factory=dict)
    desks: tuple[Box, ...] = ()
    real_time: bool = False
    live_speed: float = float("inf")
    calibrator_spl_db: float | None = None
    faults: tuple[Fault, ...] = ()
    others: tuple[ProcessorInUse, ...] = ()
    burst: str = ""
    path: tuple[Point, ...] = ()
    path_s: float = 20.0
    close_to: float | None = None
    ceiling: Ceiling = field(default_factory=lambda: Ceiling(peak_dbfs=0.0))
    sound: RoomSound = field(default_factory=lambda: RoomSound(low_reflection=0.80, high_reflection=0.72))
    _changes: dict = field(default_factory=dict, init=False, repr=False)

    def becomes(self, *, knobs_db: Mapping[str, float], processor: ProcessorState) -> None:
        """What a hand at the gains or at the processor changes while live sound runs."""
        self._changes.update(knobs_db=knobs_db, processor=processor)

    @property
    def dropouts(self) -> int:
        """A simulation loses nothing."""
        return 0

    def sounding_on(self, output: int) -> str:
        """See `dolce.devices.interface.AudioDevice`."""
        return self.sounding(output)[0]

    def with_calibrator(self, level_db: float) -> Self:
        """See `dolce.devices.interface.AudioDevice`."""
        return replace(self, calibrator_spl_db=level_db)

    @property
    def microphones(self) -> tuple[Point, ...]:
        return (self.microphone, *self.more_microphones)

    def play_and_record(self, stimulus: NDArray[np.float64], *, output: int, sample_rate_hz: int,
                        progress: Progress, stopped: Stopped) -> NDArray[np.float64]:
        """See `dolce.devices.interface.AudioDevice`."""
        self.ceiling.allows(stimulus)
        if not self.loop:                              # a cable needs no speaker
            self._connected(output)
        if stopped():
            raise SoundStopped
        channel = self.sounding(output)[0] if output in self.speakers else ""
        begun = time.monotonic()
        recording = self._recorded(stimulus, channel, sample_rate_hz)
        watch = CeilingWatch(self.ceiling, sample_rate_hz=sample_rate_hz) if stimulus.any() else None
        block = round(_BLOCK_S * sample_rate_hz)
        for start in range(0, stimulus.size, block):
            if stopped():
                raise SoundStopped
            if watch is not None and self.ceiling.watches_pressure:
                watch.hear(recording[0, start:start + block])
            if self.real_time:
                time.sleep(max(0.0, begun + (start + block) / sample_rate_hz - time.monotonic()))
                progress(min(1.0, (start + block) / stimulus.size))
        progress(1.0)
        return recording

    def run_live(self, next_block: NextBlock, heard: Heard, *, sample_rate_hz: int, stopped: Stopped) -> None:
        """See `dolce.devices.interface.AudioDevice`; as fast as it computes where it is not in real time."""
        count = round(LIVE_BLOCK_S * sample_rate_hz)
        stream = _LiveRoom(self, sample_rate_hz, count)
        watch = CeilingWatch(self.ceiling, sample_rate_hz=sample_rate_hz)
        begun, block = time.monotonic(), 0
        while not stopped():
            output, samples = next_block(count)
            if output is not None:
                self.ceiling.allows(samples)
                self._connected(output)
            if self._changes:
                stream.rig = replace(self, **self._changes)
            arrived = stream.hear(output, samples)
            if output is not None and samples.any():
                watch.hear(arrived[0], live=True)
            heard(arrived)
            block += 1
            due = begun + block * LIVE_BLOCK_S / (1.0 if self.real_time else self.live_speed)
            while (left := due - time.monotonic()) > 0 and not stopped():
                time.sleep(min(left, _STOP_WITHIN_S))
        raise SoundStopped

    def _connected(self, output: int) -> None:
        if output not in self.speakers:
            raise DeviceError(f"nothing is connected to output {output}.", where="rehearsal rig",
                              remedy="Check the outputs on the Rig page.")

    def sounding(self, output: int) -> tuple[str, Point]:
        """Channel code and place of the speaker that really sounds on an output."""
        for fault in self.faults:
            if fault.kind == "swapped" and output in fault.outputs:
                wanted = fault.channels[1 - fault.outputs.index(output)]
                return next(item for item in self.speakers.values() if item[0] == wanted)
        return self.speakers[output]

    def _of_kind(self, kind: str) -> list[tuple[str, ...]]:
        """Channels of every fault of a kind."""
        return [fault.channels for fault in self.faults if fault.kind == kind]

    def _place(self, channel: str) -> Point:
        return next(place for code, place in self.speakers.values() if code == channel)

    def _recorded(self, stimulus: NDArray, channel: str, rate: int) -> NDArray:
        """What the converter gives on every input: processor, speakers, room, microphones, noise, gain, 24 bits."""
        fed = self._fed(stimulus, channel, rate)
        rows = []
        for number, place in enumerate(self.microphones):
            arrived = np.zeros(stimulus.size)
            for code, samples in fed:
                if samples.any():
                    arrived += _convolved(samples, self._path(code, place, rate, number), stimulus.size)
            rows.append(arrived)
        at_once = self._captured(np.array(rows), channel, rate)
        if self.loop:
            cable = _convolved(stimulus, self._electronics(rate), stimulus.size)
            at_once = np.concatenate([at_once, _converted(cable[None, :])])
        return at_once

    def _captured(self, arrived: NDArray, channel: str, rate: int) -> NDArray:
        """Sound at the microphones, shape (microphones, samples), as the converter gives it."""
        samples = arrived.shape[1]
        if self.calibrator_spl_db is not None:
            arrived[0] = self._calibrator(np.arange(samples) / rate)
        for row in range(arrived.shape[0]):
            arrived[row] += self._noise(f"{channel}/{row}" if row else channel, samples, rate)
        if self._of_kind("drift"):
            arrived = np.array([stretched(row, _FAULT_DRIFT) for row in arrived])
        if self._of_kind("feedback"):
            time_s = np.arange(samples) / rate
            howl = np.minimum(10 ** (_HOWL_DB_PER_S / 20 * time_s - 4), 2.0) * np.sin(2 * np.pi * _HOWL_HZ * time_s)
            arrived = arrived + howl
        return _converted(arrived * 10 ** (self.preamplifier_db / 20))

    def _calibrator(self, time_s: NDArray) -> NDArray:
        """The calibrator's tone of 1 kHz at the microphone."""
        level_db = self.calibrator_spl_db - FULL_SCALE_SPL_DB - (20.0 if self._of_kind("calibrator") else 0.0)
        return 10 ** (level_db / 20) * np.sin(2 * np.pi * 1000 * time_s)

    @property
    def preamplifier_db(self) -> float:
        """Gain of the microphone inputs, with the fault of far too much of it."""
        return self.microphone_gain_db + (_FAULT_PREAMP_DB if self._of_kind("clipping") else 0.0)

    def _fed(self, stimulus: NDArray, channel: str, rate: int) -> list[tuple[str, NDArray]]:
        """Every speaker that sounds, and what the processor and the cables feed it."""
        fed = []
        for code, crossover, gain_db in self.processor.routes(channel) if channel else ():
            if not self.processor.is_open(code) or code not in {c for c, _ in self.speakers.values()}:
                continue
            samples = stimulus
            if crossover is not None:
                side: Crossover = crossover[0]
                samples = signal.sosfilt(side.sections(crossover[1], sample_rate_hz=rate), samples)
            samples = processed(samples, self.processor.settings_for(code), sample_rate_hz=rate)
            for other in (one for one in self.others if one.passes(code)):
                samples = self._behind(samples, other, rate)
            gain_db += self.knobs_db.get(code, 0.0) + self.knobs_db.get("volume", 0.0)
            gain_db -= DIM_DB if self.processor.dimmed else 0.0
            fed.append((code, self._with_faults_of_chain(samples * 10 ** (gain_db / 20), code, rate)))
        return fed

    def _behind(self, samples: NDArray, other: ProcessorInUse, rate: int) -> NDArray:
        """After a processor that corrects by itself: late, and where it is on, to its own taste."""
        own = _OWN_TASTE if other.name in self.processor.by_themselves else ()
        return processed(samples, ChannelSettings(delay_s=other.latency_s, filters=own), sample_rate_hz=rate)

    def _with_faults_of_chain(self, fed: NDArray, channel: str, rate: int) -> NDArray:
        """What cables, amplifiers and forgotten settings make of the sound on its way to a speaker."""
        if (channel,) in self._of_kind("dead"):
            return np.zeros_like(fed)
        if (channel,) in self._of_kind("inverted"):
            fed = -fed
        if (channel,) in self._of_kind("gain"):
            fed = fed * 10 ** (_FAULT_GAIN_DB / 20)
        if (channel,) in self._of_kind("crossover"):
            fed = signal.sosfilt(signal.butter(4, _FAULT_CROSSOVER_HZ, "high", fs=rate, output="sos"), fed)
        if (channel,) in self._of_kind("equaliser"):
            fed = chain_samples((_FAULT_EQUALISER,), fed, sample_rate_hz=rate)
        return fed

    def _path(self, channel: str, microphone: Point, rate: int, number: int = 0) -> NDArray:
        """Impulse response from the speaker's input to a microphone's output."""
        model = MODELS.get(channel, SpeakerModel())
        place, speed = self._place(channel), speed_of_sound(self.room.temperature_c)
        if self.close_to is not None:
            # A small step toward the middle of the room from the front of the cone.
            side = 1.0 if place.y_m < self.room.length_m / 2 else -1.0
            microphone = Point(x_m=place.x_m, y_m=place.y_m + side * self.close_to, z_m=place.z_m)
        response = room_response(place, microphone, room=self.room, sound=self.sound, speed_m_s=speed,
                                 sample_rate_hz=rate)
        response = signal.sosfilt(signal.butter(2, model.low_limit_hz, "high", fs=rate, output="sos"), response)
        if model.high_limit_hz is not None:
            half = signal.butter(2, model.high_limit_hz, "low", fs=rate, output="sos")     # Linkwitz-Riley: twice
            response = signal.sosfilt(half, signal.sosfilt(half, response))
        size = fft.next_fast_len(response.size + round(0.1 * rate), real=True)
        frequency = fft.rfftfreq(size, 1 / rate)
        hill = model.presence_db * np.exp(-((np.log2(np.maximum(frequency, 1) / 2500)) ** 2))
        own_db, tilt_db = OTHER_MICROPHONES_DB[number % len(OTHER_MICROPHONES_DB)]
        top = np.clip(np.log2(np.maximum(frequency, 1) / 2000) / 3, 0, 1)
        curve = MICROPHONE_CURVE if self.pointing == "speakers" else SIDE_ON_CURVE
        level = 10 ** ((model.gain_db + hill + own_db + tilt_db * top) / 20) * curve.on(frequency)
        if self._of_kind("microphone"):
            level = level * 10 ** (_OTHER_MICROPHONE_DB / 20 / (1 + (4000 / np.maximum(frequency, 1)) ** 4))
        turn = np.exp(-2j * np.pi * frequency * model.latency_s)
        spectrum = fft.rfft(response, size) * (1 + self._desk(place, microphone, frequency, speed))
        kept = response.size + round(0.05 * rate)
        return fft.irfft(spectrum * level * turn * _electronics_of(frequency), size)[:kept]

    def _desk(self, place: Point, microphone: Point, frequency: NDArray, speed_m_s: float) -> NDArray:
        """What reflections from desks add to the direct sound, against it, by frequency."""
        added = np.zeros(frequency.size, dtype=complex)
        source, ear = place.as_array(), microphone.as_array()
        direct = float(np.linalg.norm(source - ear))
        for desk in self.desks:
            top = desk.place.z_m + desk.height_m
            if min(place.z_m, microphone.z_m) <= top + 0.01:
                continue
            part = (source[2] - top) / (source[2] + ear[2] - 2 * top)
            x, y = source[:2] + part * (ear[:2] - source[:2])
            if abs(x - desk.place.x_m) > desk.width_m / 2 or abs(y - desk.place.y_m) > desk.depth_m / 2:
                continue
            mirrored = float(np.linalg.norm(source - np.array([ear[0], ear[1], 2 * top - ear[2]])))
            strength = _DESK_STRENGTH * direct / mirrored / (1 + (_DESK_TILT_HZ / np.maximum(frequency, 1)) ** 2)
            added += strength * np.exp(-2j * np.pi * frequency * (mirrored - direct) / speed_m_s)
        return added

    @staticmethod
    def _electronics(rate: int) -> NDArray:
        """Impulse response of the interface from an output to an input."""
        size = fft.next_fast_len(rate, real=True)
        return fft.irfft(_electronics_of(fft.rfftfreq(size, 1 / rate)), size)[: rate // 2]

    def _noise(self, channel: str, samples: int, rate: int) -> NDArray:
        """Room noise, falling by 6 dB per octave above 100 Hz as that of a quiet room does."""
        digest = hashlib.sha256(f"{self.seed}/{channel}".encode()).digest()
        rng = np.random.default_rng(int.from_bytes(digest[:8], "big"))
        white = rng.standard_normal(samples)
        pole = np.exp(-2 * np.pi * 100 / rate)
        noise = signal.lfilter([1 - pole], [1, -pole], white) + 0.002 * white
        noise = noise * (10 ** (ROOM_NOISE_DBFS / 20) / np.sqrt(2) / np.std(noise))
        time_s = np.arange(samples) / rate
        if self._of_kind("hum"):
            for k, part in ((1, 1.0), (2, 0.5), (3, 0.7)):
                noise += 10 ** (_HUM_DBFS / 20) * part * np.sin(2 * np.pi * 50 * k * time_s + k)
        if self.burst == channel and self._of_kind("burst"):
            at = time_s - 0.4 * samples / rate
            slam = np.where(at > 0, np.exp(-np.maximum(at, 0) / 0.15), 0) * rng.standard_normal(samples)
            noise += 10 ** (_BURST_DBFS / 20) * signal.lfilter([1 - pole], [1, -pole], slam) / np.sqrt(1 - pole)
        return noise


def _electronics_of(frequency: NDArray) -> NDArray:
    """Response of the interface: latency, a high-pass far below hearing, a little loss at the top."""
    j = 1j * np.maximum(frequency, 1e-6)
    level = j / (j + _LOW_CORNER_HZ) * 10 ** (-_TOP_LOSS_DB / 20 * (frequency / 20_000) ** 2)
    return level * np.exp(-2j * np.pi * frequency * LATENCY_S)


def _convolved(samples: NDArray, path: NDArray, count: int) -> NDArray:
    size = fft.next_fast_len(samples.size + path.size, real=True)
    return fft.irfft(fft.rfft(samples, size) * fft.rfft(path, size), size)[:count]


def _converted(samples: NDArray) -> NDArray:
    """As a 24-bit converter gives it."""
    return np.clip(np.rint(samples * _STEPS), -_STEPS, _STEPS - 1) / _STEPS


class _LiveRoom:
    """The room heard block by block: what still rings is carried over."""

    _NOISE_S = 5.0

    def __init__(self, rig: RehearsalRig, rate: int, count: int) -> None:
        self.rig, self._rate, self._count = rig, rate, count
        self._paths: dict[tuple[str, Point, int], tuple[int, int, NDArray]] = {}
        self._ringing = np.zeros((len(rig.microphones), 0))
        self._fed: dict[str, NDArray] = {}
        self._block, self._howl = 0, 1e-4
        quiet = rig._noise("live", round(self._NOISE_S * rate), rate)
        self._quiet = np.array([np.roll(quiet, k * rate) for k in range(len(rig.microphones))])

    def hear(self, output: int | None, samples: NDArray) -> NDArray:
        """The next block at all microphones."""
        rig, count = self.rig, self._count
        arrived = np.zeros((len(rig.microphones), max(count, self._ringing.shape[1])))
        arrived[:, :self._ringing.shape[1]] += self._ringing
        if output is not None and samples.any():
            channel, _ = rig.sounding(output)
            for code, fed in rig._fed(self._warmed(channel, samples), channel, self._rate):
                for number in range(len(rig.microphones)):
                    wet = self._wet(code, fed[-count:], number)
                    if wet.size > arrived.shape[1]:
                        arrived = np.pad(arrived, ((0, 0), (0, wet.size - arrived.shape[1])))
                    arrived[number, :wet.size] += wet
        else:
            self._fed.clear()
        self._ringing = arrived[:, count:]
        now = arrived[:, :count].copy()
        at = self._block * count
        now += self._quiet.take(np.arange(at, at + count), axis=1, mode="wrap")
        if rig.calibrator_spl_db is not None:
            now[0] = rig._calibrator((at + np.arange(count)) / self._rate)
        if rig._of_kind("feedback"):
            time_s = np.arange(count) / self._rate
            now += np.minimum(self._howl * 10 ** (_HOWL_DB_PER_S / 20 * time_s), 2.0) * np.sin(
                2 * np.pi * _HOWL_HZ * (time_s + at / self._rate))
            self._howl = min(2.0, self._howl * 10 ** (_HOWL_DB_PER_S / 20 * LIVE_BLOCK_S))
        self._block += 1
        return _converted(now * 10 ** (rig.preamplifier_db / 20))

    def _warmed(self, channel: str, samples: NDArray) -> NDArray:
        """The block with some of what was fed before it, so that filters of the chain are in their stride."""
        before = self._fed.get(channel, np.zeros(0))
        both = np.concatenate([before, samples])[-5 * self._count:]
        self._fed = {channel: both}
        return both

    def _wet(self, code: str, fed: NDArray, number: int) -> NDArray:
        """What a block leaves at a microphone, with its ringing."""
        rig, place = self.rig, self.rig.microphones[number]
        if number == 0 and rig.path:
            turns = self._block * LIVE_BLOCK_S / rig.path_s
            place = rig.path[int(turns * len(rig.path)) % len(rig.path)]
        key = (code, place, number)
        if key not in self._paths:
            path = rig._path(code, place, self._rate, number)
            size = fft.next_fast_len(path.size + self._count, real=True)
            self._paths[key] = (path.size + self._count - 1, size, fft.rfft(path, size))
        length, size, spectrum = self._paths[key]
        return fft.irfft(fft.rfft(fed, size) * spectrum, size)[:length]
