"""What passes find besides takes, each kind a value of its own."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Self, TypeVar

from dolce.core.levels import LevelReading
from dolce.core.rig import LineReading


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelResult:
    """A level check: readings by channel, and what they rest on (see `Rig.level_rests_on`)."""

    readings: Mapping[str, LevelReading] = field(default_factory=dict)
    rests_on: Mapping[str, str | float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckedLine:
    """One line.

    Attributes
    ----------
    really : str
        In the rehearsal: the speaker that sounded, as a person in the room would hear it; else empty.
    heard : str
        The speaker that the person said sounded; empty where not answered yet.
    for_processor : bool
        Whether the person leaves it to the processor to turn its polarity.
    """

    reading: LineReading
    really: str = ""
    heard: str = ""
    for_processor: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class LinesResult:
    """A line check, by channel."""

    lines: Mapping[str, CheckedLine] = field(default_factory=dict)

    def with_line(self, channel: str, line: CheckedLine) -> Self:
        return replace(self, lines={**self.lines, channel: line})

    def without(self, *channels: str) -> Self:
        return replace(self, lines={c: line for c, line in self.lines.items() if c not in channels})


@dataclass(frozen=True, slots=True, kw_only=True)
class NoiseResult:
    """The quiet room, and what a meter is held against.

    Attributes
    ----------
    third_octave_dbfs : tuple of float
        Of the quiet room, in 1/3-octave bands; empty before the first listening.
    signal_dbfs : float or None
        Level of a burst of noise at the level of the sweeps.
    reference_dbfs : float or None
        C-weighted level of the last noise played for a meter, slow.
    before_spl_db : float or None
        Level of full scale before it was last found.
    """

    third_octave_dbfs: tuple[float, ...] = ()
    signal_dbfs: float | None = None
    reference_dbfs: float | None = None
    before_spl_db: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadingsResult:
    """Readings of the meter that were kept, dBFS with C and slow, by channel."""

    kept: Mapping[str, float] = field(default_factory=dict)


PassResult = LevelResult | LinesResult | NoiseResult | ReadingsResult | None
Result = TypeVar("Result", LevelResult, LinesResult, NoiseResult, ReadingsResult)


def result_as(kind: type[Result], found: PassResult) -> Result:
    """What a pass found, where only one kind can stand; empty before anything was found.

    Raises
    ------
    TypeError
        Where it is of another kind.
    """
    if found is None:
        return kind()
    if not isinstance(found, kind):
        raise TypeError(f"{type(found).__name__}, not {kind.__name__}")
    return found


# What a pass of each kind finds; the others find nothing besides takes, or what goes into the rig.
RESULT_OF: Mapping[str, type] = {
    "level": LevelResult,
    "lines": LinesResult,
    "noise": NoiseResult,
    "live": ReadingsResult,
    "reference": ReadingsResult,
    "subs": ReadingsResult,
}
