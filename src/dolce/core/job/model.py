"""Value objects of one calibration of one room."""

from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.geometry import Point, RoomSize
from dolce.core.processor import ProcessorState
from dolce.core.response import MicrophoneCurve, Quality
from dolce.core.rig import Fault
from dolce.core.room import RoomPlan, Seat, Speaker, Spot
from dolce.errors import InvalidValue

SAMPLE_RATES_HZ = (44_100, 48_000, 88_200, 96_000, 192_000)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Rig:
    """Microphone, interface and levels of a job.

    Attributes
    ----------
    pace : "real time" or "fast"
        Whether the rehearsal rig takes as long as a real one.
    hardware : "rehearsal" or "sound card"
        What plays and records: the simulated rig, or this computer's audio.
    card_name, card_host, card_input : str, str, int
        The audio device, and the input that the microphone hangs on (1 is the first).
    faults : tuple of Fault
        What is wrong with the rehearsal rig, to practise.
    full_scale_spl_db : float or None
        Sound pressure level of a full-scale sine at the present gain; None before it is known.
    """

    sample_rate_hz: int = 48_000
    sweep_level_dbfs: float = -18.0
    sweep_seconds: float = 5.0
    microphone_gain_db: float = 0.0
    pace: Literal["real time", "fast"] = "real time"
    microphone_name: str = ""
    microphone_serial: str = ""
    curve_file_name: str = ""
    curve: MicrophoneCurve | None = None
    hardware: Literal["rehearsal", "sound card"] = "rehearsal"
    card_name: str = ""
    card_host: str = ""
    card_input: int = 1
    faults: tuple[Fault, ...] = ()
    full_scale_spl_db: float | None = None

    def __post_init__(self) -> None:
        if self.sample_rate_hz not in SAMPLE_RATES_HZ:
            raise InvalidValue(f"{self.sample_rate_hz} Hz is not offered.", where="sample rate",
                               remedy="Choose 44.1, 48, 88.2, 96 or 192 kHz.")
        checked.within(self.sweep_level_dbfs, low=-60, high=-3, where="sweep level", unit="dBFS")
        checked.within(self.sweep_seconds, low=1, high=20, where="sweep length", unit="s")
        checked.within(self.microphone_gain_db, low=-20, high=60, where="microphone gain", unit="dB")
        if self.hardware not in ("rehearsal", "sound card"):
            raise InvalidValue(f"{self.hardware!r} is not offered.", where="hardware",
                               remedy="Choose rehearsal or sound card.")
        if self.hardware == "sound card" and not self.card_name:
            raise InvalidValue("no audio device is chosen.", where="device", remedy="Choose one.")
        checked.within(self.card_input, low=1, high=64, where="microphone input")
        if self.full_scale_spl_db is not None:
            checked.within(self.full_scale_spl_db, low=60, high=180, where="level of full scale", unit="dB SPL")


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
    def main_spots(self) -> tuple[Spot, ...]:
        """The spots of the main seat."""
        return self.plan.spots_of(self.plan.main_seat.id)

    def speaker(self, channel: str) -> Speaker:
        """The speaker of a channel code, or NotFound."""
        return self.plan.speaker(channel)

    def spot(self, number: int) -> Spot:
        """The spot of a number, or NotFound."""
        return self.plan.spot(number)


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
    arrival_known : bool
        False for recordings made elsewhere, whose delay counts from an unknown moment.
    speaker_place, spot_place : Point or None
        Where speaker and microphone were by the plan of that moment; None for takes of old versions.
    """

    id: int
    round_id: int
    channel: str
    spot_number: int
    attempt: int
    taken_at: datetime
    source: Literal["rig", "file"]
    sample_rate_hz: int
    arrival_s: float
    arrival_known: bool
    polarity: str
    quality: Quality
    warnings: tuple[str, ...]
    level_db: NDArray[np.float64]
    speaker_place: Point | None = None
    spot_place: Point | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class PassRecord:
    """A piece of work with sound: its steps and where it stands."""

    id: int
    job_id: int
    kind: Literal["takes", "level", "lines", "noise"]
    state: Literal["running", "done", "stopped", "failed", "interrupted"]
    steps: tuple[tuple[str, int], ...]
    done_steps: int
    fraction: float
    seconds_per_step: float
    message: str
    started_at: datetime
    result: dict = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class LogEntry:
    """One line of the logbook."""

    at: datetime
    text: str
