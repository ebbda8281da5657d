"""Value objects of one calibration of one room."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.geometry import Point, RoomSize
from dolce.core.processor import REHEARSAL_LIMITS, ProcessorLimits, ProcessorState
from dolce.core.response import MicrophoneCurve, Quality
from dolce.core.rig import POINTINGS, Ceiling, Fault, InterfaceLoop, MicrophoneInUse, SubMatch
from dolce.core.room import RoomPlan, Seat, Speaker, Spot
from dolce.errors import Conflict, InvalidValue

SAMPLE_RATES_HZ = (44_100, 48_000, 88_200, 96_000, 192_000)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Rig:
    """Microphones, interface, processor's limits and levels of a job.

    Attributes
    ----------
    pace : "real time" or "fast"
        Whether the rehearsal rig takes as long as a real one.
    hardware : "rehearsal" or "sound card"
        What plays and records: the simulated rig, or this computer's audio.
    card_name, card_host : str
        The audio device.
    microphones : tuple of MicrophoneInUse
        On their inputs; the first one leads. Without any, input 1 is recorded and nothing taken out.
    pointing : "", "speakers", "ceiling" or "floor"
        Asked once per job; empty until answered.
    loop_output, loop_input : int or None
        Where a cable joins an output to an input.
    loop : InterfaceLoop or None
        What was measured through it.
    faults : tuple of Fault
        What is wrong with the rehearsal rig, to practise.
    knobs_db : mapping of str to float
        Of the rehearsal: what the hand did to each speaker's gain, and to "volume".
    full_scale_spl_db : float or None
        Sound pressure level of a full-scale sine at the present gain; None before it is known.
    ceiling_dbfs, ceiling_spl_db : float, float or None
        What no test sound exceeds: its highest sample, and its level at the microphone.
    limits : ProcessorLimits or None
        Of the processor in use, as they were known when it was chosen.
    reference_db, second_db : float or None
        Working levels at the main seat, dB SPL with C and slow.
    plays_effects : bool
        Whether the subs get the effects channel without its 10 dB.
    sub_match : SubMatch
        How subs are compared with each other.
    """

    sample_rate_hz: int = 48_000
    sweep_level_dbfs: float = -18.0
    sweep_seconds: float = 5.0
    microphone_gain_db: float = 0.0
    pace: Literal["real time", "fast"] = "real time"
    hardware: Literal["rehearsal", "sound card"] = "rehearsal"
    card_name: str = ""
    card_host: str = ""
    microphones: tuple[MicrophoneInUse, ...] = ()
    pointing: str = ""
    loop_output: int | None = None
    loop_input: int | None = None
    loop: InterfaceLoop | None = None
    faults: tuple[Fault, ...] = ()
    knobs_db: Mapping[str, float] = field(default_factory=dict)
    full_scale_spl_db: float | None = None
    ceiling_dbfs: float = -6.0
    ceiling_spl_db: float | None = None
    limits: ProcessorLimits | None = None
    reference_db: float | None = None
    second_db: float | None = None
    plays_effects: bool = False
    sub_match: SubMatch = field(default_factory=SubMatch)

    def __post_init__(self) -> None:
        if self.sample_rate_hz not in SAMPLE_RATES_HZ:
            raise InvalidValue(f"{self.sample_rate_hz} Hz is not offered.", where="sample rate",
                               remedy="Choose 44.1, 48, 88.2, 96 or 192 kHz.")
        checked.within(self.sweep_level_dbfs, low=-60, high=-3, where="sweep level", unit="dBFS")
        checked.within(self.sweep_seconds, low=1, high=20, where="sweep length", unit="s")
        checked.within(self.microphone_gain_db, low=-20, high=60, where="microphone gain", unit="dB")
        for value, choices, where in ((self.hardware, ("rehearsal", "sound card"), "hardware"),
                                      (self.pace, ("real time", "fast"), "pace")):
            if value not in choices:
                raise InvalidValue(f"{value!r} is not offered.", where=where, remedy=f"Choose {' or '.join(choices)}.")
        if self.hardware == "sound card" and not self.card_name:
            raise InvalidValue("no audio device is chosen.", where="device", remedy="Choose one.")
        if self.pointing and self.pointing not in POINTINGS:
            raise InvalidValue(f"{self.pointing!r} is not offered.", where="pointing",
                               remedy=f"Choose {', '.join(POINTINGS)}.")
        for number, where in ((self.loop_output, "loop output"), (self.loop_input, "loop input")):
            if number is not None:
                checked.within(number, low=1, high=64, where=where)
        if (self.loop_output is None) != (self.loop_input is None):
            raise InvalidValue("a loop needs an output and an input.", where="loop input",
                               remedy="Fill in both, or neither.")
        if self.loop_input is not None and self.loop_input in self.inputs:
            raise InvalidValue(f"input {self.loop_input} has a microphone.", where="loop input",
                               remedy="Choose another input for the cable.")
        if self.full_scale_spl_db is not None:
            checked.within(self.full_scale_spl_db, low=60, high=180, where="level of full scale", unit="dB SPL")
        for level, where in ((self.reference_db, "reference level"), (self.second_db, "second level")):
            if level is not None:
                checked.within(level, low=50, high=95, where=where, unit="dB SPL")
        self.ceiling                                            # noqa: B018 - a ceiling that can't be is refused here

    @property
    def ceiling(self) -> Ceiling:
        return Ceiling(peak_dbfs=self.ceiling_dbfs, spl_db=self.ceiling_spl_db,
                       full_scale_spl_db=self.full_scale_spl_db)

    @property
    def inputs(self) -> tuple[int, ...]:
        """Inputs with microphones, the leading one first."""
        return tuple(one.input for one in self.microphones) or (1,)

    @property
    def device_name(self) -> str:
        """What plays and records, for what holds for one device only."""
        return f"{self.card_host}|{self.card_name}" if self.hardware == "sound card" else "rehearsal"

    @property
    def level_rests_on(self) -> dict[str, str | float]:
        """What a level check holds for, by its name; another value of any of them and it must be made again."""
        return {"device": self.device_name, "inputs": " ".join(str(one) for one in self.inputs),
                "sweep level": self.sweep_level_dbfs, "microphone gain": self.microphone_gain_db}

    @property
    def loop_in_use(self) -> InterfaceLoop | None:
        """The loop's result, if it was measured with this device at this rate."""
        loop = self.loop
        fits = loop is not None and (loop.device, loop.sample_rate_hz) == (self.device_name, self.sample_rate_hz)
        return loop if fits else None

    @property
    def curve(self) -> MicrophoneCurve | None:
        """What is taken out of the leading microphone's recordings."""
        return self.taken_out(0)

    def taken_out(self, number: int) -> MicrophoneCurve | None:
        """What is taken out of the recordings of microphone `number`, the leading one being 0."""
        return self.microphones[number].taken_out(self.pointing) if number < len(self.microphones) else None

    @property
    def sweep_spl_db(self) -> float | None:
        """Sound pressure level of the sweep where a recording is as loud as it, its gain not taken out; or None."""
        return None if self.full_scale_spl_db is None else self.full_scale_spl_db + self.sweep_level_dbfs

    @property
    def response_spl_db(self) -> float | None:
        """Sound pressure level of the sweep where a response is at 0 dB; None where pressure is not known."""
        return None if self.sweep_spl_db is None else self.sweep_spl_db + self.microphone_gain_db


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Job:
    """One calibration of one room, without its takes."""

    id: int
    name: str
    place: str
    notes: str
    units: Literal["metres", "feet"]
    created_at: datetime
    changed_at: datetime
    seed: int
    plan: RoomPlan
    rig: Rig
    processor: ProcessorState
    round_id: int

    @property
    def room(self) -> RoomSize:
        return self.plan.size

    @property
    def speakers(self) -> tuple[Speaker, ...]:
        return self.plan.speakers

    @property
    def channels(self) -> tuple[str, ...]:
        return self.plan.channels

    @property
    def seat(self) -> Seat:
        """The main seat."""
        return self.plan.main_seat

    @property
    def spots(self) -> tuple[Spot, ...]:
        return self.plan.spots

    @property
    def limits(self) -> ProcessorLimits | None:
        """What the processor in use can do: the rehearsal's own where none was chosen; None where it isn't known."""
        return self.rig.limits or (REHEARSAL_LIMITS if self.rig.hardware == "rehearsal" else None)

    @property
    def main_spots(self) -> tuple[Spot, ...]:
        """The spots of the main seat."""
        return self.plan.spots_of(self.plan.main_seat.id)

    def speaker(self, channel: str) -> Speaker:
        """The speaker of a channel code, or NotFound."""
        return self.plan.speaker(channel)

    def spot(self, spot_id: int) -> Spot:
        """The spot of an id, or NotFound."""
        return self.plan.spot(spot_id)

    @property
    def first_spot(self) -> Spot:
        """Where checks with one microphone are made: the main seat's centre, or the first spot of the walk.

        Raises
        ------
        Conflict
            If there is no spot.
        """
        spot = self.plan.centre_spot or next(iter(self.spots), None)
        if spot is None:
            raise Conflict("there is no spot for the microphone.", where="spots",
                           remedy="Lay out spots in the Room stop first.")
        return spot

    def at_spot(self, spot_id: int) -> str:
        """A spot in words, by its number; also one that is no longer on the plan."""
        spot = next((s for s in self.spots if s.id == spot_id), None)
        return "a spot that is gone" if spot is None else f"spot {spot.number}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Round:
    """Takes made while the system was in one known state; `state` is None until the first take."""

    id: int
    name: str
    state: ProcessorState | None
    created_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TakeRecord:
    """One kept take without its samples.

    Attributes
    ----------
    level_db : ndarray, shape (points,)
        On the analysis grid, smoothed over 1/48 octave; 0 dB is the level of the stimulus.
    source : "rig", "file" (recorded elsewhere) or "moving"
        A moving-microphone average has a level over frequency, but no impulse response.
    arrival_known : bool
        False for recordings made elsewhere, whose delay counts from an unknown moment, and for moving averages.
    speaker_place, spot_place : Point or None
        Where speaker and microphone were by the plan of that moment; None for takes of old versions.
    damaged : bool
        Whether the level is no longer what was kept: the disk has changed it.
    """

    id: int
    round_id: int
    channel: str
    spot_id: int
    attempt: int
    taken_at: datetime
    source: Literal["rig", "file", "moving"]
    sample_rate_hz: int
    arrival_s: float
    arrival_known: bool
    polarity: str
    quality: Quality
    warnings: tuple[str, ...]
    level_db: NDArray[np.float64]
    speaker_place: Point | None = None
    spot_place: Point | None = None
    damaged: bool = False

    @property
    def level_known(self) -> bool:
        """Whether its level can be held against those of others: not that of a recording with a gain of its own."""
        return self.source != "file"

    @property
    def word(self) -> Literal["clean", "noisy", "clipped", "damaged"]:
        """One word for the board."""
        return "damaged" if self.damaged else self.quality.word

    @property
    def usable(self) -> bool:
        """Whether averages and corrections may use it."""
        return self.quality.usable and not self.damaged


@dataclass(frozen=True, slots=True, kw_only=True)
class DamagedJob:
    """What can still be said of a job that can't be read."""

    id: int
    name: str
    place: str
    changed_at: datetime
    fault: str
    takes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PassRecord:
    """A piece of work with sound: its steps and where it stands."""

    id: int
    job_id: int
    kind: Literal["takes", "level", "lines", "noise", "loop", "compare", "live", "reference", "subs"]
    state: Literal["running", "done", "stopped", "failed", "interrupted"]
    steps: tuple[tuple[str, int], ...]
    done_steps: int
    fraction: float
    seconds_per_step: float
    message: str
    started_at: datetime
    result: dict = field(default_factory=dict)

    def channels_around(self, step: int) -> set[str]:
        """Channels from step `step` (1 is the first) to the present one."""
        return {channel for channel, _ in self.steps[max(0, step - 1):self.done_steps + 1]}


@dataclass(frozen=True, slots=True, kw_only=True)
class LogEntry:
    """One line of the logbook; `number` orders them."""

    at: datetime
    text: str
    number: int = 0
