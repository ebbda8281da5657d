"""The rehearsal rig: a simulated room, speakers, microphone, interface and processor behind the device interface."""

import hashlib
import time
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy import fft, signal

from dolce.core.acoustics import RoomSound, room_response, speed_of_sound
from dolce.core.filters import PeakingFilter, chain_samples
from dolce.core.geometry import Point, RoomSize
from dolce.core.processor import ProcessorState, processed
from dolce.core.response import MicrophoneCurve, stretched
from dolce.core.rig import Fault
from dolce.core.room import SUB_CODES
from dolce.devices.interface import Progress, SoundStopped, Stopped
from dolce.errors import DeviceError

FULL_SCALE_SPL_DB = 120.0         # of a full-scale sine, at 0 dB of microphone gain
LATENCY_S = 0.0062                # of interface and drivers together
ROOM_NOISE_DBFS = -74.0           # RMS at 0 dB of microphone gain
_BLOCK_S = 0.05
_STEPS = 2**23                    # a 24-bit converter

MICROPHONE_CURVE = MicrophoneCurve(
    frequency_hz=np.array([10, 20, 40, 100, 500, 1000, 2000, 4000, 6300, 8000, 10000, 12500, 16000, 20000, 24000.0]),
    level_db=np.array([-2.4, -1.1, -0.4, -0.1, 0, 0, 0.1, 0.4, 0.9, 1.3, 2.0, 2.6, 2.1, 0.4, -1.5]),
    phase_deg=np.zeros(15),
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

# What the faults of a rehearsal do.
_FAULT_GAIN_DB, _FAULT_PREAMP_DB, _FAULT_CROSSOVER_HZ, _FAULT_DRIFT = 8.0, 40.0, 200.0, 60e-6
_FAULT_EQUALISER = PeakingFilter(frequency_hz=2000.0, gain_db=8.0, q=1.0)
_HUM_DBFS, _BURST_DBFS = -52.0, -18.0
_OTHER_MICROPHONE_DB = 5.0        # a rise above 4 kHz that the curve knows nothing of


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RehearsalRig:
    """One microphone place in one simulated room, deterministic from its attributes.

    Attributes
    ----------
    speakers : mapping of int to (str, Point)
        Channel code and place by physical output.
    seed : str
        Decides the noise: the same words give the same noise.
    real_time : bool
        Whether playing takes as long as it would.
    calibrator_spl_db : float or None
        Level of an acoustic calibrator on the microphone, 1 kHz; it hears nothing else then. None for none.
    faults : tuple of Fault
        What is wrong with the rig, to practise.
    burst : str
        The channel during whose take here a door slams, if that is among the faults; empty for none.
    """

    room: RoomSize
    speakers: Mapping[int, tuple[str, Point]]
    microphone: Point
    microphone_gain_db: float
    processor: ProcessorState
    seed: str
    real_time: bool = False
    calibrator_spl_db: float | None = None
    faults: tuple[Fault, ...] = ()
    burst: str = ""
    sound: RoomSound = field(default_factory=lambda: RoomSound(low_reflection=0.80, high_reflection=0.72))

    @property
    def dropouts(self) -> int:
        """A simulation loses nothing."""
        return 0

    def play_and_record(self, stimulus: NDArray[np.float64], *, output: int, sample_rate_hz: int,
                        progress: Progress, stopped: Stopped) -> NDArray[np.float64]:
        """See `dolce.devices.interface.AudioDevice`."""
        if output not in self.speakers:
            raise DeviceError(f"nothing is connected to output {output}.", where="rehearsal rig",
                              remedy="Check the outputs on the Rig page.")
        if stopped():
            raise SoundStopped
        channel, place = self.sounding(output)
        begun = time.monotonic()
        recording = self._heard(stimulus, channel, place, sample_rate_hz)
        blocks = max(1, round(stimulus.size / sample_rate_hz / _BLOCK_S))
        for block in range(blocks):
            if stopped():
                raise SoundStopped
            if self.real_time:
                time.sleep(max(0.0, begun + (block + 1) * _BLOCK_S - time.monotonic()))
                progress((block + 1) / blocks)
        progress(1.0)
        return recording

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

    def _heard(self, stimulus: NDArray, channel: str, place: Point, rate: int) -> NDArray:
        """What the converter gives: processor, speaker, room, microphone, latency, noise, gain, clipping, 24 bits."""
        fed = processed(stimulus, self.processor.settings_for(channel), sample_rate_hz=rate)
        fed = self._with_faults_of_chain(fed, channel, rate)
        path = self._path(channel, place, rate)
        size = fft.next_fast_len(fed.size + path.size, real=True)
        arrived = fft.irfft(fft.rfft(fed, size) * fft.rfft(path, size), size)[: stimulus.size]
        if self.calibrator_spl_db is not None:
            level = 10 ** ((self.calibrator_spl_db - FULL_SCALE_SPL_DB) / 20)
            arrived = level * np.sin(2 * np.pi * 1000 * np.arange(stimulus.size) / rate)
        arrived = arrived + self._noise(channel, stimulus.size, rate)
        if self._of_kind("drift"):
            arrived = stretched(arrived, _FAULT_DRIFT)
        gain_db = self.microphone_gain_db + (_FAULT_PREAMP_DB if self._of_kind("clipping") else 0.0)
        gained = arrived * 10 ** (gain_db / 20)
        return np.clip(np.rint(gained * _STEPS), -_STEPS, _STEPS - 1) / _STEPS

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

    def _path(self, channel: str, place: Point, rate: int) -> NDArray:
        """Impulse response from the speaker's input to the microphone's output."""
        model = MODELS.get(channel, SpeakerModel())
        response = room_response(place, self.microphone, room=self.room, sound=self.sound,
                                 speed_m_s=speed_of_sound(self.room.temperature_c), sample_rate_hz=rate)
        response = signal.sosfilt(signal.butter(2, model.low_limit_hz, "high", fs=rate, output="sos"), response)
        if model.high_limit_hz is not None:
            half = signal.butter(2, model.high_limit_hz, "low", fs=rate, output="sos")     # Linkwitz-Riley: twice
            response = signal.sosfilt(half, signal.sosfilt(half, response))
        size = fft.next_fast_len(response.size + round(0.1 * rate), real=True)
        frequency = fft.rfftfreq(size, 1 / rate)
        hill = model.presence_db * np.exp(-((np.log2(np.maximum(frequency, 1) / 2500)) ** 2))
        level = 10 ** ((model.gain_db + hill) / 20) * MICROPHONE_CURVE.on(frequency)
        if self._of_kind("microphone"):
            level = level * 10 ** (_OTHER_MICROPHONE_DB / 20 / (1 + (4000 / np.maximum(frequency, 1)) ** 4))
        turn = np.exp(-2j * np.pi * frequency * (LATENCY_S + model.latency_s))
        return fft.irfft(fft.rfft(response, size) * level * turn, size)[: response.size + round(0.05 * rate)]

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
