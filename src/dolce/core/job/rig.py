"""The rig of a job: what everything that sounds and hears is set to."""

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal, Self

from dolce.core.checked import limited, ranges
from dolce.core.processor import (
    REHEARSAL_PROCESSOR,
    SAID_PROCESSOR,
    ProcessorInUse,
    ProcessorLimits,
    checked_chain,
    with_loaded,
)
from dolce.core.response import InterfaceLoop, MicrophoneCurve
from dolce.core.rig import MOST_INPUTS, POINTINGS, Ceiling, Fault, MicrophoneInUse, SubMatch, suggested_ceiling_db
from dolce.errors import InvalidValue

SAMPLE_RATES_HZ = (44_100, 48_000, 88_200, 96_000, 192_000)


def _chosen(value: str, choices: tuple[str, ...], where: str) -> None:
    if value not in choices:
        raise InvalidValue(f"{value!r} is not offered.", where=where, remedy=f"Choose {' or '.join(choices)}.")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Interface:
    """What plays and records: the simulated rig, or this computer's audio.

    Attributes
    ----------
    card_name, card_host : str
        The audio device of this computer that plays, and records unless another one does.
    recorder_name, recorder_host : str
        The one that records, where it is another one.
    own_clock : bool
        Whether what records has a clock of its own; always so where it is another device.
    sync_channel : str
        The speaker that plays the sync chirp that arrivals count from then; empty for the first one that is no sub.
    loop_output, loop_input : int or None
        Where a cable joins an output to an input.
    loop : InterfaceLoop or None
        What was measured through it.
    """

    hardware: Literal["rehearsal", "sound card"] = "rehearsal"
    card_name: str = ""
    card_host: str = ""
    recorder_name: str = ""
    recorder_host: str = ""
    own_clock: bool = False
    sync_channel: str = ""
    loop_output: int | None = limited(1, MOST_INPUTS, where="loop output", whole=True, default=None)
    loop_input: int | None = limited(1, MOST_INPUTS, where="loop input", whole=True, default=None)
    loop: InterfaceLoop | None = None

    def __post_init__(self) -> None:
        _chosen(self.hardware, ("rehearsal", "sound card"), "hardware")
        if self.hardware == "sound card" and not self.card_name:
            raise InvalidValue("no audio device is chosen.", where="device", remedy="Choose one.")
        ranges(self)
        if self.recorder_name and not self.own_clock:
            object.__setattr__(self, "own_clock", True)
        if (self.loop_output is None) != (self.loop_input is None):
            raise InvalidValue(
                "a loop needs an output and an input.", where="loop input", remedy="Fill in both, or neither."
            )

    @property
    def simulated(self) -> bool:
        return self.hardware == "rehearsal"

    @property
    def device_name(self) -> str:
        """What plays and records, for what holds for one device only."""
        if self.simulated:
            return self.hardware
        return f"{self.card_host}|{self.card_name}" + (
            f"|{self.recorder_host}|{self.recorder_name}" if self.recorder_name else ""
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Levels:
    """How loud things are.

    Attributes
    ----------
    full_scale_spl_db : float or None
        Sound pressure level of a full-scale sine at the present gain; None before it is known.
    ceiling_dbfs, ceiling_spl_db : float, float or None
        What no test sound exceeds: its highest sample, and its level at the microphone; None for what suits the room.
    reference_db, second_db : float or None
        Working levels at the main seat, dB SPL with C and slow.
    plays_effects : bool
        Whether the subs get the effects channel without its 10 dB.
    """

    sweep_level_dbfs: float = limited(-60, -3, where="sweep level", unit="dBFS", default=-18.0)
    microphone_gain_db: float = limited(-20, 60, where="microphone gain", unit="dB", default=0.0)
    full_scale_spl_db: float | None = limited(60, 180, where="level of full scale", unit="dB SPL", default=None)
    ceiling_dbfs: float = -6.0
    ceiling_spl_db: float | None = None
    reference_db: float | None = limited(50, 95, where="reference level", unit="dB SPL", default=None)
    second_db: float | None = limited(50, 95, where="second level", unit="dB SPL", default=None)
    plays_effects: bool = False

    def __post_init__(self) -> None:
        ranges(self)
        self.ceiling_in(100.0)  # a ceiling that can't be is refused here

    def ceiling_in(self, volume_m3: float, *, distance_m: float | None = None) -> Ceiling:
        """What nothing exceeds in a room of this volume; `distance_m` for a microphone close to a speaker."""
        ceiling = self.ceiling_spl_db
        return Ceiling(
            peak_dbfs=self.ceiling_dbfs,
            full_scale_spl_db=self.full_scale_spl_db,
            spl_db=suggested_ceiling_db(volume_m3, distance_m=distance_m) if ceiling is None else ceiling,
        )

    @property
    def sweep_spl_db(self) -> float | None:
        """Sound pressure level of the sweep where a recording is as loud as it, its gain not taken out; or None."""
        return None if self.full_scale_spl_db is None else self.full_scale_spl_db + self.sweep_level_dbfs

    @property
    def response_spl_db(self) -> float | None:
        """Sound pressure level of the sweep where a response is at 0 dB; None where pressure is not known."""
        return None if self.sweep_spl_db is None else self.sweep_spl_db + self.microphone_gain_db


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Rehearsal:
    """What concerns the simulated rig alone.

    Attributes
    ----------
    pace : "real time" or "fast"
        Whether it takes as long as a real one.
    faults : tuple of Fault
        What is wrong with it, to practise.
    knobs_db : mapping of str to float
        What the hand did to each speaker's gain, and to "volume".
    placed_by_hand : bool
        Whether microphones end up to 2 cm off their spots, as a hand puts them; else exactly there.
    """

    pace: Literal["real time", "fast"] = "real time"
    faults: tuple[Fault, ...] = ()
    placed_by_hand: bool = True
    knobs_db: Mapping[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        _chosen(self.pace, ("real time", "fast"), "pace")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Rig:
    """Interface, microphones, levels and processors of a job.

    Attributes
    ----------
    microphones : tuple of MicrophoneInUse
        On their inputs; the first one leads. Without any, input 1 is recorded and nothing taken out.
    pointing : "", "speakers", "ceiling" or "floor"
        Asked once per job; empty until answered.
    chain : tuple of ProcessorInUse
        The processors that sound passes on its way; Dolce loads one of them.
    sub_match : SubMatch
        How subs are compared with each other.
    """

    sample_rate_hz: int = 48_000
    sweep_seconds: float = limited(1, 20, where="sweep length", unit="s", default=5.0)
    interface: Interface = field(default_factory=Interface)
    levels: Levels = field(default_factory=Levels)
    microphones: tuple[MicrophoneInUse, ...] = ()
    pointing: str = ""
    chain: tuple[ProcessorInUse, ...] = (REHEARSAL_PROCESSOR,)
    sub_match: SubMatch = field(default_factory=SubMatch)
    rehearsal: Rehearsal = field(default_factory=Rehearsal)

    def __post_init__(self) -> None:
        if self.sample_rate_hz not in SAMPLE_RATES_HZ:
            raise InvalidValue(
                f"{self.sample_rate_hz} Hz is not offered.",
                where="sample rate",
                remedy="Choose 44.1, 48, 88.2, 96 or 192 kHz.",
            )
        ranges(self)
        if self.pointing and self.pointing not in POINTINGS:
            raise InvalidValue(
                f"{self.pointing!r} is not offered.", where="pointing", remedy=f"Choose {', '.join(POINTINGS)}."
            )
        if self.interface.loop_input is not None and self.interface.loop_input in self.inputs:
            raise InvalidValue(
                f"input {self.interface.loop_input} has a microphone.",
                where="loop input",
                remedy="Choose another input for the cable.",
            )
        checked_chain(self.chain)

    def changed(self, **changes: Any) -> Self:
        """The same with other values, each named as in the part of the rig that it belongs to.

        Another kind of interface comes with another processor: that of the rehearsal exists nowhere else.
        """
        given: dict[str, Any] = {}
        parts: dict[str, dict[str, Any]] = {}
        for name, value in changes.items():
            part = _PART_OF.get(name)
            if part is None:
                given[name] = value
            else:
                parts.setdefault(part, {})[name] = value
        made = replace(
            self, **{part: replace(getattr(self, part), **values) for part, values in parts.items()}, **given
        )
        if made.interface.simulated == self.interface.simulated or "chain" in given:
            return made
        return replace(
            made, chain=tuple(processor if processor.by_itself else made.usual_processor for processor in made.chain)
        )

    @property
    def usual_processor(self) -> ProcessorInUse:
        """What Dolce loads unless something else is said."""
        return REHEARSAL_PROCESSOR if self.interface.simulated else SAID_PROCESSOR

    @property
    def processor(self) -> ProcessorInUse:
        """The one of the chain that Dolce loads."""
        return next(processor for processor in self.chain if not processor.by_itself)

    @property
    def others(self) -> tuple[ProcessorInUse, ...]:
        """Those of the chain that correct by themselves."""
        return tuple(processor for processor in self.chain if processor.by_itself)

    @property
    def limits(self) -> ProcessorLimits | None:
        """Of the processor that Dolce loads; None where they aren't known."""
        return self.processor.limits

    def with_limits(self, limits: ProcessorLimits | None) -> Self:
        """The same with other limits of the processor that Dolce loads; None for what is usual."""
        return replace(self, chain=with_loaded(self.chain, limits=limits or self.usual_processor.limits))

    @property
    def inputs(self) -> tuple[int, ...]:
        """Inputs with microphones, the leading one first."""
        return tuple(microphone.input for microphone in self.microphones) or (1,)

    @property
    def level_rests_on(self) -> dict[str, str | float]:
        """What a level check holds for, by its name; another value of any of them and it must be made again."""
        return {
            "device": self.interface.device_name,
            "inputs": " ".join(str(inputs) for inputs in self.inputs),
            "sweep level": self.levels.sweep_level_dbfs,
            "microphone gain": self.levels.microphone_gain_db,
            **({"volume": self.rehearsal.knobs_db.get("volume", 0.0)} if self.interface.simulated else {}),
        }

    @property
    def loop_in_use(self) -> InterfaceLoop | None:
        """The loop's result, if it was measured with this device at this rate, and on one clock."""
        loop = self.interface.loop
        fits = (
            loop is not None
            and not self.interface.own_clock
            and ((loop.device, loop.sample_rate_hz) == (self.interface.device_name, self.sample_rate_hz))
        )
        return loop if fits else None

    @property
    def curve(self) -> MicrophoneCurve | None:
        """What is taken out of the leading microphone's recordings."""
        return self.taken_out(0)

    def taken_out(self, number: int) -> MicrophoneCurve | None:
        """What is taken out of the recordings of microphone `number`, the leading one being 0."""
        return self.microphones[number].taken_out(self.pointing) if number < len(self.microphones) else None


# In which part of a rig a value stands, by its name.
_PART_OF = {
    f.name: part
    for part, kind in (("interface", Interface), ("levels", Levels), ("rehearsal", Rehearsal))
    for f in dataclasses.fields(kind)
}
