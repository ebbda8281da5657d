"""What a headline figure may be off by, source by source, and which of them dominates."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.acoustics import speed_of_sound
from dolce.core.dsp import in_band
from dolce.core.uncertainty import effective_count

Source = Literal["microphone", "placement", "temperature", "rounding", "spots"]
# A microphone put back by hand stands up to 2 cm elsewhere (see `dolce.core.correction.outcome`, whose figures these
# are): RMS of an average over one spot, nine in ten, and the standard deviation of a channel's level, 500 Hz to 2 kHz.
PLACED_WITHIN_M = 0.02
_PLACED_CURVE_DB, _PLACED_LEVEL_DB = 0.73, 0.15
TEMPERATURE_WITHIN_K = 2.0  # since it was typed (our estimate)
# Of a calibrated microphone, by octave, 95 of 100 cases (our estimate; its certificate says better).
CURVE_WITHIN_DB = 1.0
_EXPANDED = 2.0  # standard uncertainties on either side for 95 of 100 cases
_OCTAVES_HZ = 16.0 * 2.0 ** np.arange(12)


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """Half of the interval that one source leaves in 95 of 100 cases, in the unit of the figure; infinite where nothing
    is known of it. `cancels` where it moves both of what is compared alike.
    """

    source: Source
    value: float
    cancels: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ErrorBudget:
    """All sources of one figure.

    Notes
    -----
    Sources are independent: their intervals add as root of the sum of squares (JCGM 100:2008, "Guide to the expression
    of uncertainty in measurement", 5.1.2, from memory).
    """

    parts: tuple[Part, ...]

    @property
    def total(self) -> float:
        """Half of the interval of the figure; infinite where a source is not known."""
        return math.sqrt(sum(part.value**2 for part in self.parts))

    @property
    def dominant(self) -> tuple[Source, ...]:
        """The largest, or all of which nothing is known; empty where nothing moves the figure."""
        most = max((part.value for part in self.parts), default=0.0)
        largest = tuple(part.source for part in self.parts if part.value == most > 0)
        return largest if math.isinf(most) else largest[:1]


def _over_spots(scatter: float, placement: float, *, spots: int) -> tuple[Part, Part]:
    """What spots and placement leave: how spots differ holds both, so that of several spots the two together are that;
    one spot tells nothing of either.
    """
    if spots > 1 and math.isfinite(scatter):
        placement = min(placement, scatter)
        scatter = math.sqrt(scatter**2 - placement**2)
    return Part(source="placement", value=placement), Part(source="spots", value=scatter)


def rms_moved_by(off_db: NDArray, errors_db: NDArray) -> float:
    """How far the RMS of a deviation is moved by independent errors, to first order; never further than their own RMS.

    Parameters
    ----------
    off_db : shape (points,)
    errors_db : shape (errors, points)
        What each does at half of its interval.

    Notes
    -----
    d RMS = mean(off x error) / RMS for each, and the root of the sum of squares over all.

    References
    ----------
    JCGM 100:2008, "Guide to the expression of uncertainty in measurement", 5.1.2 (clause from memory).
    """
    errors = np.atleast_2d(errors_db)
    most = float(np.sqrt(np.mean(np.sum(errors**2, axis=0))))
    rms = float(np.sqrt(np.mean(off_db**2)))
    if not rms:
        return most
    return min(most, float(np.sqrt(np.sum(np.mean(off_db * errors, axis=1) ** 2))) / rms)


def deviation_budget(
    frequency_hz: NDArray,
    level_db: NDArray,
    target_db: NDArray,
    *,
    band_hz: tuple[float, float],
    weights: Sequence[float],
    spots_error_db: float,
    temperature_c: float,
    calibrated: bool,
    steps_db: NDArray,
) -> ErrorBudget:
    """Of a deviation from a target (RMS over a band).

    Parameters
    ----------
    frequency_hz, level_db, target_db : shape (points,), evenly spaced over log frequency
    weights : of the spots that are averaged
    spots_error_db : half of the interval by how they differ; infinite for one
    steps_db : shape (filters, points)
        What half a step of each filter's gain does to the level.

    Raises
    ------
    InvalidValue
        If the band holds no point.
    """
    inside = in_band(frequency_hz, band_hz)
    checked.within(int(inside.sum()), low=2, high=inside.size, where="points of the deviation")
    off = (level_db - target_db)[inside]
    octaves = np.abs(np.log2(frequency_hz[inside] / _OCTAVES_HZ[:, None])) <= 0.5
    warmer = level_at(frequency_hz, level_db, temperature_c=temperature_c, by_k=TEMPERATURE_WITHIN_K)
    moved = np.sqrt(np.mean((warmer - target_db)[inside] ** 2)) - np.sqrt(np.mean(off**2))
    return ErrorBudget(
        parts=(
            Part(source="microphone", value=rms_moved_by(off, CURVE_WITHIN_DB * octaves) if calibrated else math.inf),
            Part(source="temperature", value=abs(float(moved))),
            Part(source="rounding", value=rms_moved_by(off, steps_db[:, inside]) if len(steps_db) else 0.0),
            *_over_spots(spots_error_db, _PLACED_CURVE_DB / math.sqrt(effective_count(weights)), spots=len(weights)),
        )
    )


def level_at(frequency_hz: NDArray, level_db: NDArray, *, temperature_c: float, by_k: float) -> NDArray[np.float64]:
    """A response after the air has become warmer: everything that the room does moves up with the speed of sound.

    shape (points,); held beyond its ends.
    """
    ratio = speed_of_sound(temperature_c + by_k) / speed_of_sound(temperature_c)
    return np.interp(np.log(frequency_hz / ratio), np.log(frequency_hz), level_db)


def level_budget(*, weights: Sequence[float], spots_error_db: float, trim_step_db: float) -> ErrorBudget:
    """Of the level between two channels, taken with the same microphone at the same spots.

    Notes
    -----
    Two trims, each off by half a step at most: the standard deviation of their difference is step / sqrt(6).
    """
    return ErrorBudget(
        parts=(
            Part(source="microphone", value=0.0, cancels=True),
            Part(source="temperature", value=0.0, cancels=True),
            Part(source="rounding", value=_EXPANDED * trim_step_db / math.sqrt(6)),
            *_over_spots(
                spots_error_db,
                _EXPANDED * _PLACED_LEVEL_DB * math.sqrt(2 / effective_count(weights)),
                spots=len(weights),
            ),
        )
    )


def arrival_budget(
    distances_m: Sequence[float], *, spots: int, spots_error_s: float, delay_step_s: float, temperature_c: float
) -> ErrorBudget:
    """Of the arrival between two channels, in s; `distances_m` are those of the two from the seat.

    Notes
    -----
    Channels on opposite sides move apart by twice what the microphone is off. Delays were set at one temperature: at
    another, only what their paths differ by takes another time.
    """
    first, second = distances_m
    now, then = speed_of_sound(temperature_c), speed_of_sound(temperature_c + TEMPERATURE_WITHIN_K)
    return ErrorBudget(
        parts=(
            Part(source="microphone", value=0.0, cancels=True),
            Part(source="temperature", value=abs(first - second) * (1 / now - 1 / then)),
            Part(source="rounding", value=_EXPANDED * delay_step_s / math.sqrt(6)),
            *_over_spots(spots_error_s, 2 * PLACED_WITHIN_M / now / math.sqrt(spots), spots=spots),
        )
    )
