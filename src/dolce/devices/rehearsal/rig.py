"""The rehearsal rig: a simulated room, speakers, microphone, interface and processor behind the device interface."""

import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Self

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.acoustics import speed_of_sound
from dolce.core.geometry import Point, RoomSize, distance_m
from dolce.core.processor import ProcessorInUse, ProcessorState
from dolce.core.response import stretched
from dolce.core.rig import Ceiling, CeilingWatch, Fault
from dolce.core.simulation import DeskTop, RoomSurfaces, field_spectrum, plain_surfaces, response_samples
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
from dolce.devices.rehearsal.chain import Chain
from dolce.devices.rehearsal.electronics import converted, distorted, electronics_impulse, electronics_of
from dolce.devices.rehearsal.live import HOWL_DB_PER_S, HOWL_HZ, LiveRoom
from dolce.devices.rehearsal.microphones import as_placed, microphone_response, random_of
from dolce.devices.rehearsal.noise import hum, room_noise, slam
from dolce.devices.rehearsal.speakers import PlacedSpeaker
from dolce.errors import DeviceError, InvalidValue

FULL_SCALE_SPL_DB = 120.0  # of a full-scale sine, at 0 dB of microphone gain
_BLOCK_S = 0.02  # after a stop no more than one is played to its end
_STOP_WITHIN_S = 0.02  # how often live sound asks whether it shall end
_FAULT_PREAMP_DB, _FAULT_DRIFT, _FAULT_CALIBRATOR_DB = 50.0, 60e-6, 20.0
_LATE_S = (0.02, 0.18)  # by how much a recorder of its own begins early, as its recordings show it
_NEAR = 0.8  # of their radii: two boxes of that size would not fit nearer to each other


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RehearsalRig:
    """Microphones at places in one simulated room, deterministic from its attributes.

    Attributes
    ----------
    speakers : mapping of int to PlacedSpeaker
        By physical output.
    surfaces : RoomSurfaces or None
        What the room absorbs; None for a plain one.
    microphone, more_microphones : Point, tuple of Point
        Where the first one is to stand, and the others.
    placing : str
        Decides by how much the hand misses those places, up to 2 cm; empty where it doesn't.
    pointing : "speakers", "ceiling" or "floor"
        Where the microphones really point.
    own_clock : bool
        Whether what records has a clock of its own, 60 ppm off, and begins at a moment of its own.
    loop : bool
        Whether a last input hears the output through a cable.
    knobs_db : mapping of str to float
        What the hand did to the gain at each speaker; "volume" to all of them.
    desks : tuple of DeskTop
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
        Processors behind the one that is loaded; those that are on change the sound to their own preference.
    burst : str
        The channel during whose take here a door slams, if that is among the faults; empty for none.
    path : tuple of Point
        Where the first microphone is carried during live sound, round and round; empty where it stands still.
    close_to : float or None
        Distance in m at which the microphone stands before whichever sub sounds; None for its place in the room.

    Raises
    ------
    InvalidValue
        If two speakers stand nearer to each other than their size, or a microphone stands inside of one.
    """

    room: RoomSize
    speakers: Mapping[int, PlacedSpeaker]
    microphone: Point
    microphone_gain_db: float
    processor: ProcessorState
    seed: str
    surfaces: RoomSurfaces | None = None
    placing: str = ""
    more_microphones: tuple[Point, ...] = ()
    pointing: str = "speakers"
    loop: bool = False
    own_clock: bool = False
    knobs_db: Mapping[str, float] = field(default_factory=dict)
    desks: tuple[DeskTop, ...] = ()
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
    _changes: dict = field(default_factory=dict, init=False, repr=False)

    def __post_init__(self) -> None:
        if self.surfaces is None:
            object.__setattr__(self, "surfaces", plain_surfaces(self.room, reverberation_s=0.4))
        placed = sorted(self.speakers.values(), key=lambda placed_speaker: placed_speaker.channel)
        for k, speaker in enumerate(placed):
            for other in placed[:k]:
                least = _NEAR * (speaker.model.box_radius_m + other.model.box_radius_m)
                apart_m = distance_m(speaker.place, other.place)
                if 0 < apart_m < least:
                    raise InvalidValue(
                        f"{other.channel} and {speaker.channel} stand {100 * apart_m:.0f} cm "
                        "from each other, less than their size.",
                        where="simulated speakers",
                        remedy=f"Move one on the Room page: the rehearsal needs {100 * least:.0f} cm between them.",
                    )
            for spot in () if self.close_to is not None else (self.microphone, *self.more_microphones):
                if distance_m(speaker.place, spot) < _NEAR * speaker.model.box_radius_m:
                    raise InvalidValue(
                        f"the microphone stands {100 * distance_m(speaker.place, spot):.0f} cm from the middle of "
                        f"{speaker.channel}, inside its box.",
                        where="simulated microphone",
                        remedy="Move the spot or the speaker on the Room page.",
                    )

    def becomes(self, *, knobs_db: Mapping[str, float], processor: ProcessorState) -> None:
        """What a hand at the gains or at the processor changes while live sound runs."""
        self._changes.update(knobs_db=knobs_db, processor=processor)

    @property
    def dropouts(self) -> int:
        """A simulation loses nothing."""
        return 0

    def sounding_on(self, output: int) -> str:
        """See `dolce.devices.interface.AudioDevice`."""
        return self.sounding(output).channel

    def with_calibrator(self, level_db: float) -> Self:
        """See `dolce.devices.interface.AudioDevice`."""
        return replace(self, calibrator_spl_db=level_db)

    @property
    def microphones(self) -> tuple[Point, ...]:
        """Where they really stand."""
        wanted = (self.microphone, *self.more_microphones)
        if not self.placing or self.close_to is not None:
            return wanted
        return tuple(as_placed(point, seed=self.placing, room=self.room) for point in wanted)

    def play_and_record(
        self, played: Mapping[int, NDArray[np.float64]], *, sample_rate_hz: int, progress: Progress, stopped: Stopped
    ) -> NDArray[np.float64]:
        """See `dolce.devices.interface.AudioDevice`."""
        for output, samples in played.items():
            self.ceiling.allows(samples)
            if not self.loop:  # a cable needs no speaker
                self._connected(output)
        if stopped():
            raise SoundStopped
        begun = time.monotonic()
        nothing_sounds()
        recording = self._recorded(played, sample_rate_hz)
        sounds = any(samples.any() for samples in played.values())
        watch = CeilingWatch(self.ceiling, sample_rate_hz=sample_rate_hz) if sounds else None
        block, size = round(_BLOCK_S * sample_rate_hz), recording.shape[1]
        try:
            sound_begins()
            for start in range(0, size, block):
                if stopped():
                    raise SoundStopped
                if watch is not None and self.ceiling.watches_pressure:
                    watch.hear(recording[0, start : start + block])
                if self.real_time:
                    time.sleep(max(0.0, begun + (start + block) / sample_rate_hz - time.monotonic()))
                    progress(min(1.0, (start + block) / size))
        finally:
            nothing_sounds()
        progress(1.0)
        return recording

    def run_live(self, next_block: NextBlock, on_block: Heard, *, sample_rate_hz: int, stopped: Stopped) -> None:
        """See `dolce.devices.interface.AudioDevice`; as fast as it computes where it is not in real time."""
        count = round(LIVE_BLOCK_S * sample_rate_hz)
        stream = LiveRoom(self, sample_rate_hz, count)
        watch = CeilingWatch(self.ceiling, sample_rate_hz=sample_rate_hz)
        begun, block = time.monotonic(), 0
        while not stopped():
            played = next_block(count)
            for output, samples in played.items():
                self.ceiling.allows(samples)
                self._connected(output)
            if self._changes:
                stream.rig = replace(self, **self._changes)
            arrived = stream.hear(played)
            if any(samples.any() for samples in played.values()):
                watch.hear(arrived[0], live=True)
            on_block(arrived)
            block += 1
            due = begun + block * LIVE_BLOCK_S / (1.0 if self.real_time else self.live_speed)
            while (remaining_s := due - time.monotonic()) > 0 and not stopped():
                time.sleep(min(remaining_s, _STOP_WITHIN_S))
        raise SoundStopped

    def _connected(self, output: int) -> None:
        if output not in self.speakers:
            raise DeviceError(
                f"nothing is connected to output {output}.",
                where="rehearsal rig",
                remedy="Check the outputs on the Rig page.",
            )

    def sounding(self, output: int) -> PlacedSpeaker:
        """The speaker that really sounds on an output."""
        for fault in self.faults:
            if fault.kind == "swapped" and output in fault.outputs:
                return self._speaker(fault.channels[1 - fault.outputs.index(output)])
        return self.speakers[output]

    def has_fault(self, kind: str) -> bool:
        return any(fault.kind == kind for fault in self.faults)

    def _speaker(self, channel: str) -> PlacedSpeaker:
        return next(speaker for speaker in self.speakers.values() if speaker.channel == channel)

    @property
    def chain(self) -> Chain:
        """All between the outputs and the speakers."""
        return Chain(
            processor=self.processor,
            connected=tuple(speaker.channel for speaker in self.speakers.values()),
            others=self.others,
            knobs_db=self.knobs_db,
            faults=self.faults,
        )

    def _recorded(self, played: Mapping[int, NDArray], rate: int) -> NDArray:
        """What the converter gives on every input: processor, speakers, room, microphones, noise, gain, 24 bits."""
        samples = next(iter(played.values())).size
        channels = {self.sounding(output).channel: sent for output, sent in played.items() if output in self.speakers}
        fed = [
            (code, at_speaker)
            for channel, sent in channels.items()
            for code, at_speaker in self.chain.fed(sent, channel, rate)
            if at_speaker.any()
        ]
        at_once = self._captured(self._arrived(fed, samples, rate), "+".join(channels), rate)
        if self.loop:
            cable = _convolved([(sent, electronics_impulse(rate)) for sent in played.values()], samples)
            at_once = np.concatenate([at_once, converted(cable[None, :])])
        return at_once

    def _arrived(self, fed: list[tuple[str, NDArray]], samples: int, rate: int) -> NDArray:
        """What all speakers that sound make at the microphones, shape (microphones, samples)."""
        return np.array(
            [
                _convolved([(fed_to, self.response_of(code, place, rate, number)) for code, fed_to in fed], samples)
                for number, place in enumerate(self.microphones)
            ]
        )

    def _captured(self, arrived: NDArray, channel: str, rate: int) -> NDArray:
        """Sound at the microphones, shape (microphones, samples), as the converter gives it."""
        samples = arrived.shape[1]
        if self.calibrator_spl_db is not None:
            arrived[0] = self.calibrator(np.arange(samples) / rate)
        for row in range(arrived.shape[0]):
            words = f"{self.seed}/{channel}/{row}" if row else f"{self.seed}/{channel}"
            arrived[row] += self.disturbed(room_noise(words, samples, rate), rate)
            if self.burst and self.burst in channel.split("+") and self.has_fault("burst"):
                arrived[row] += slam(words, samples, rate)
        if self.has_fault("drift") or self.own_clock:
            arrived = np.array([stretched(row, _FAULT_DRIFT) for row in arrived])
        if self.own_clock:
            late = round(rate * random_of(f"{self.seed}/{channel}/start").uniform(*_LATE_S))
            arrived = np.pad(arrived, ((0, 0), (late, 0)))[:, :samples]
        if self.has_fault("feedback"):
            time_s = np.arange(samples) / rate
            howl = np.minimum(10 ** (HOWL_DB_PER_S / 20 * time_s - 4), 2.0) * np.sin(2 * np.pi * HOWL_HZ * time_s)
            arrived = arrived + howl
        amplified = arrived * 10 ** (self.preamplifier_db / 20)
        return converted(distorted(amplified) if self.has_fault("distorting") else amplified)

    def disturbed(self, noise: NDArray, rate: int) -> NDArray:
        """Noise with the hum that the rig may have."""
        return noise + hum(noise.size, rate) if self.has_fault("hum") else noise

    def calibrator(self, time_s: NDArray) -> NDArray:
        """The calibrator's tone of 1 kHz at the microphone."""
        if self.calibrator_spl_db is None:
            raise ValueError("no calibrator is on the microphone.")
        level_db = self.calibrator_spl_db - FULL_SCALE_SPL_DB
        level_db -= _FAULT_CALIBRATOR_DB if self.has_fault("calibrator") else 0.0
        return 10 ** (level_db / 20) * np.sin(2 * np.pi * 1000 * time_s)

    @property
    def preamplifier_db(self) -> float:
        """Gain of the microphone inputs, with the fault of far too much of it."""
        return self.microphone_gain_db + (_FAULT_PREAMP_DB if self.has_fault("clipping") else 0.0)

    def response_of(self, channel: str, microphone: Point, rate: int, number: int = 0) -> NDArray[np.float64]:
        """Impulse response from a speaker's input to a microphone's output, shape (samples,)."""
        speaker = self._speaker(channel)
        if self.close_to is not None:
            # A small step toward the middle of the room from the front of the cone.
            side = 1.0 if speaker.place.y_m < self.room.length_m / 2 else -1.0
            microphone = replace(speaker.place, y_m=speaker.place.y_m + side * self.close_to)
        return _response(
            speaker,
            microphone,
            self.surfaces,
            self.desks,
            self.room,
            rate,
            number,
            self.pointing,
            self.has_fault("microphone"),
        )


@lru_cache(maxsize=64)
def _response(
    speaker: PlacedSpeaker,
    microphone: Point,
    surfaces: RoomSurfaces,
    desks: tuple[DeskTop, ...],
    room: RoomSize,
    rate: int,
    number: int,
    pointing: str,
    another: bool,
) -> NDArray[np.float64]:
    """Kept for the takes and blocks to come: a speaker is heard at one place many times."""
    # The late sound of places a few centimetres apart is the same: its noise goes by the decimetre.
    nearby = "/".join(f"{value:.1f}" for value in microphone.as_array())
    spectrum = field_spectrum(
        speaker.model,
        speaker.place.as_array(),
        np.array(speaker.axis),
        microphone.as_array(),
        surfaces=surfaces,
        speed_m_s=speed_of_sound(room.temperature_c),
        sample_rate_hz=rate,
        rng=random_of(f"{room}/{speaker.channel}/{speaker.place}/{nearby}"),
        desks=desks,
    )
    samples = response_samples(surfaces, rate)
    response = scipy.fft.irfft(spectrum * _equipment(samples, rate, number, pointing, another), samples)
    response.flags.writeable = False
    return response


@lru_cache(maxsize=16)
def _equipment(samples: int, rate: int, number: int, pointing: str, another: bool) -> NDArray[np.complex128]:
    """Microphone and interface together, at the lines of a transform."""
    frequency = scipy.fft.rfftfreq(samples, 1 / rate)
    return electronics_of(frequency) * microphone_response(frequency, number=number, pointing=pointing, another=another)


def _convolved(parts: list[tuple[NDArray, NDArray]], count: int) -> NDArray:
    """The sum of signals through their responses, as long as the signals."""
    if not parts:
        return np.zeros(count)
    size = scipy.fft.next_fast_len(count + max(response.size for _, response in parts), real=True)
    spectra = (scipy.fft.rfft(samples, size) * scipy.fft.rfft(response, size) for samples, response in parts)
    return scipy.fft.irfft(sum(spectra), size)[:count]
