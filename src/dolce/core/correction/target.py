"""Target curves and the level at which they are hung."""

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.checked import limited, ranges
from dolce.core.dsp import in_band
from dolce.errors import InvalidValue

MOST_POINTS = 4096
MEAN_BAND_HZ = (200.0, 2000.0)  # what the level of a channel is told by
_FURTHEST_DB = 40.0
_SAME_POINT = 0.005  # of its frequency


CurveKind = Literal["points", "file", "measured", "speaker", "cinema"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Curve:
    """A target as a row of points, dB relative to its own level, straight over log frequency, held beyond its ends.

    Attributes
    ----------
    frequency_hz, level_db : tuples of 3 to 4096 numbers
        Rising; -60 to 40 dB.
    kind : where it comes from
    source : str
        The same in words: a file's name, a channel and a round, the sentence that explains it.
    of : str
        The channel that it was measured of; empty for others.
    """

    frequency_hz: tuple[float, ...]
    level_db: tuple[float, ...]
    kind: CurveKind = "points"
    source: str = ""
    of: str = ""

    def __post_init__(self) -> None:
        checked.text(self.source, longest=400, where="target")
        if len(self.frequency_hz) != len(self.level_db) or not 3 <= len(self.frequency_hz) <= MOST_POINTS:
            raise InvalidValue(
                f"{len(self.frequency_hz)} frequencies and {len(self.level_db)} levels.",
                where="points of the target",
                remedy=f"Give 3 to {MOST_POINTS} points.",
            )
        frequency = checked.rising(self.frequency_hz, where="points of the target")
        level = checked.finite(self.level_db, where="points of the target")
        for value in (frequency[0], frequency[-1]):
            checked.within(float(value), low=1, high=48_000, where="points of the target", unit="Hz")
        for value in (level.min(), level.max()):
            checked.within(float(value), low=-80, high=60, where="points of the target", unit="dB")

    def at(self, frequency_hz: NDArray) -> NDArray[np.float64]:
        """Level in dB, shape as given."""
        return np.interp(np.log(frequency_hz), np.log(self.frequency_hz), self.level_db)

    def with_point(self, frequency_hz: float, level_db: float, *, instead_of: int | None = None) -> "Curve":
        """The same with one point more, or one in place of another by number; what stands at its frequency goes."""
        rows = [
            row
            for k, row in enumerate(zip(self.frequency_hz, self.level_db, strict=True))
            if k != instead_of and abs(row[0] / frequency_hz - 1) > _SAME_POINT
        ]
        rows = sorted([*rows, (round(frequency_hz, 1), round(level_db, 1))])
        return replace(self, frequency_hz=tuple(f for f, _ in rows), level_db=tuple(db for _, db in rows))

    def without_point(self, number: int) -> "Curve":
        """The same without a point, or InvalidValue where too few would be left."""
        rows = [row for k, row in enumerate(zip(self.frequency_hz, self.level_db, strict=True)) if k != number]
        return replace(self, frequency_hz=tuple(f for f, _ in rows), level_db=tuple(db for _, db in rows))

    def hung(self) -> "Curve":
        """The same with 0 dB as its mean over 200 to 2000 Hz: a target has no level of its own.

        Raises
        ------
        InvalidValue
            Where it then reaches further than filters ever could.
        """
        low, high = MEAN_BAND_HZ
        middle = float(np.mean(self.at(np.geomspace(low, high, 60))))
        level = tuple(round(value - middle, 3) for value in self.level_db)
        furthest = max(level, key=abs)
        if abs(furthest) > _FURTHEST_DB:
            raise InvalidValue(
                f"the curve reaches {furthest:+.0f} dB from its own middle.",
                where="points of the target",
                remedy=f"Keep within {_FURTHEST_DB:.0f} dB: filters reach no further.",
            )
        return replace(self, level_db=level)


# ISO 2969 and SMPTE ST 202 for small rooms, as remembered: flat from 63 Hz to 2 kHz, then 1.5 dB per octave down, and
# less below 50 Hz. No copy of the standards was there.
SMALL_ROOM_CINEMA = Curve(
    frequency_hz=(40.0, 50.0, 63.0, 2000.0, 4000.0, 8000.0, 16_000.0),
    level_db=(-2.0, -1.0, 0.0, 0.0, -1.5, -3.0, -4.5),
    kind="cinema",
    source="small-room cinema curve",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Preference:
    """What a calibrator likes on top of a target, under a name of their own; it can be taken off.

    Attributes
    ----------
    tilt_db_per_octave : about 1 kHz, over the whole range
    bass_db : below about 100 Hz
    presence_db : an octave and a half around 3 kHz
    treble_db : above about 6 kHz
    """

    name: str = ""
    tilt_db_per_octave: float = limited(-2, 2, where="tilt of the preference", unit="dB per octave", default=0.0)
    bass_db: float = limited(-9, 9, where="bass of the preference", unit="dB", default=0.0)
    presence_db: float = limited(-6, 6, where="presence of the preference", unit="dB", default=0.0)
    treble_db: float = limited(-9, 9, where="treble of the preference", unit="dB", default=0.0)
    on: bool = True

    def __post_init__(self) -> None:
        checked.text(self.name, longest=60, where="name of the preference")
        ranges(self)

    def level_db(self, frequency_hz: NDArray) -> NDArray[np.float64]:
        """In dB, shape as given; nothing while it is off."""
        if not self.on:
            return np.zeros(frequency_hz.shape)
        octaves = np.log2(frequency_hz / 1000.0)
        return (
            self.tilt_db_per_octave * octaves
            + self.bass_db / (1 + (frequency_hz / 100.0) ** 3)
            + self.presence_db * np.exp(-((np.log2(frequency_hz / 3000.0) / 0.75) ** 2))
            + self.treble_db / (1 + (6000.0 / frequency_hz) ** 3)
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """Flat, or a curve; with a bass lift, a treble shelf and a tilt.

    Attributes
    ----------
    bass_lift_db : float
        -6 to 15, reached well below `bass_cutoff_hz`; half of it at that frequency.
    bass_cutoff_hz : float
        30 to 300.
    treble_db : float
        -12 to 6, reached well above `treble_cutoff_hz`; half of it at that frequency.
    treble_cutoff_hz : float
        1000 to 16000.
    tilt_db_per_octave : float
        -3 to 3, above `tilt_from_hz`.
    tilt_from_hz : float
        20 to 10000.
    curve : Curve or None
        None for flat.
    """

    bass_lift_db: float = limited(-6, 15, where="bass lift", unit="dB", default=0.0)
    bass_cutoff_hz: float = limited(30, 300, where="bass lift below", unit="Hz", default=80.0)
    treble_db: float = limited(-12, 6, where="treble", unit="dB", default=0.0)
    treble_cutoff_hz: float = limited(1000, 16_000, where="treble above", unit="Hz", default=6000.0)
    tilt_db_per_octave: float = limited(-3, 3, where="tilt", unit="dB per octave", default=0.0)
    tilt_from_hz: float = limited(20, 10_000, where="tilt from", unit="Hz", default=1000.0)
    curve: Curve | None = None

    def __post_init__(self) -> None:
        ranges(self)

    def level_db(self, frequency_hz: NDArray) -> NDArray[np.float64]:
        """Target in dB relative to its own middle, shape as given."""
        lift = self.bass_lift_db / (1 + (frequency_hz / self.bass_cutoff_hz) ** 3)
        treble = self.treble_db / (1 + (self.treble_cutoff_hz / frequency_hz) ** 3)
        octaves = np.maximum(np.log2(frequency_hz / self.tilt_from_hz), 0)
        base = 0.0 if self.curve is None else self.curve.at(frequency_hz)
        return base + lift + treble + self.tilt_db_per_octave * octaves


@dataclass(frozen=True, slots=True, kw_only=True)
class KeptTarget:
    """A target without its level, kept by name for other jobs, with the preference that goes with it."""

    id: int | None = None
    name: str
    target: Target
    preference: Preference | None = None

    def __post_init__(self) -> None:
        checked.text(self.name, longest=60, where="name of the target")
        if not self.name.strip():
            raise InvalidValue("a kept target needs a name.", where="name of the target", remedy="Type one.")


def anchored_level_db(
    frequency_hz: NDArray, level_db: NDArray, target_db: NDArray, *, band_hz: tuple[float, float]
) -> float:
    """Level at which the target meets the response on average over a band (dB mean over log frequency).

    Raises
    ------
    InvalidValue
        If the band holds no point.
    """
    inside = in_band(frequency_hz, band_hz)
    checked.within(int(inside.sum()), low=1, high=inside.size, where="level from: points in the band")
    return float(np.mean(level_db[inside] - target_db[inside]))
