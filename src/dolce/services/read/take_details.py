"""What one take says besides its level: when, how long, how clean."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import mid_bands
from dolce.core.job import TakeRecord, label_of
from dolce.core.levels import NOMINAL_HZ
from dolce.core.reading import (
    BandDecay,
    DecayMap,
    Distortion,
    NoiseUnder,
    PhaseCurves,
    TimeCurve,
    decay_slices,
    decay_times,
    direct_sound,
    distortion_of,
    energy_near,
    excess_group_delay_s,
    group_delay_s,
    impulse_near,
    level_of_cycles_db,
    map_of_cycles,
    map_of_time,
    mean_curve,
    mean_decay,
    mean_distortion,
    mean_level_db,
    mean_map,
    mean_noise,
    mean_phase,
    noise_under,
    phase_curves,
    step_near,
)
from dolce.core.response import ANALYSIS_GRID_HZ, NOISE_MATTERS_BELOW_DB, ImpulseResponse, find_arrival, level_on_grid
from dolce.core.signals import PeriodicSignal
from dolce.errors import InvalidValue
from dolce.formats.audio_file import read_channels
from dolce.services.read.options import ReadOptions
from dolce.services.takes.found_take import heard_again
from dolce.services.takes.take_making import deconvolver_of
from dolce.store import UnitOfWork

_LONGEST_RECORDING_S = 90.0
_MAP_HZ = mid_bands(per_octave=12, from_hz=20, to_hz=20_000)
_MAP_S = np.linspace(-0.02, 0.6, 94)
_SLICE_HZ = mid_bands(per_octave=24, from_hz=20, to_hz=2_000)
SLICE_S = np.array([0.0, 0.04, 0.08, 0.12, 0.16, 0.2, 0.3, 0.4, 0.5])
_DISTORTION_HZ = mid_bands(per_octave=12, from_hz=20, to_hz=10_000)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Levels:
    """Level in dB on the analysis grid, shape (points,)."""

    level_db: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class GroupDelays:
    """Group delay after the arrival and what of it is excess, on the analysis grid, each of shape (points,)."""

    delay_s: NDArray[np.float64]
    excess_s: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class DecayTimes:
    """Decay times, band by band."""

    bands: tuple[BandDecay, ...]


Detail = PhaseCurves | TimeCurve | DecayMap | Distortion | NoiseUnder | GroupDelays | DecayTimes | Levels


Kind = TypeVar("Kind", PhaseCurves, TimeCurve, DecayMap, Distortion, NoiseUnder, GroupDelays, DecayTimes, Levels)


def detail_as(kind: type[Kind], found: Detail | None) -> Kind:
    """A detail of the one kind that its view has; TypeError for any other."""
    if not isinstance(found, kind):
        raise TypeError(f"{type(found).__name__}, not {kind.__name__}")
    return found


def distortion_in(work: UnitOfWork, take: TakeRecord) -> Distortion:
    """Distortion of one take over frequency; errors as of `detail_of`."""
    return detail_as(Distortion, detail_of(work, take, ReadOptions(view="distortion")))


def decays_of(work: UnitOfWork, take: TakeRecord) -> tuple[BandDecay, ...]:
    """Decay times of one take, band by band; errors as of `detail_of`."""
    return detail_as(DecayTimes, detail_of(work, take, ReadOptions(view="times"))).bands


def detail_of(work: UnitOfWork, take: TakeRecord, options: ReadOptions) -> Detail:
    """What the options show of one take.

    Raises
    ------
    NotFound
        If it has no response, such as a moving average.
    InvalidValue
        If the take can't tell it, with the reason.
    """
    if options.view in ("distortion", "noise"):
        return _cleanness(work, take, options)
    response = work.takes.response(take.id)
    # Seen from the direct sound, wherever the clock of a recording from elsewhere began.
    arrival = take.arrival_s if take.arrival_known else find_arrival(response).time_s
    if options.window == "direct" and options.view in ("level", "phase", "delay", "impulse", "step"):
        response = direct_sound(response, arrival_s=arrival, gate_ms=options.gate_ms)
    return _of_response(response, arrival, take, options)


def _of_response(response: ImpulseResponse, arrival: float, take: TakeRecord, options: ReadOptions) -> Detail:
    match options.view:
        case "level":
            return Levels(level_db=_level_of(response, arrival, options))
        case "phase":
            return phase_curves(response, at_hz=ANALYSIS_GRID_HZ, arrival_s=arrival)
        case "delay":
            width = options.delay_per_octave
            return GroupDelays(
                delay_s=group_delay_s(response, at_hz=ANALYSIS_GRID_HZ, arrival_s=arrival, per_octave=width),
                excess_s=excess_group_delay_s(response, at_hz=ANALYSIS_GRID_HZ, arrival_s=arrival, per_octave=width),
            )
        case "impulse":
            return impulse_near(response, arrival_s=arrival, from_s=-0.002, to_s=0.02)
        case "step":
            return step_near(response, arrival_s=arrival, from_s=-0.002, to_s=0.05)
        case "energy":
            return energy_near(response, arrival_s=arrival, from_s=-0.01, to_s=0.4)
        case "slices":
            return decay_slices(response, at_hz=_SLICE_HZ, at_s=SLICE_S, arrival_s=arrival, per_octave=24)
        case "map" if options.map_kind == "cycles":
            return map_of_cycles(response, at_hz=_MAP_HZ, at_s=_MAP_S, arrival_s=arrival, cycles=options.map_cycles)
        case "map":
            return map_of_time(response, at_hz=_MAP_HZ, at_s=_MAP_S, arrival_s=arrival, window_ms=options.map_ms)
        case "times":
            if take.quality.signal_to_noise_db < NOISE_MATTERS_BELOW_DB:
                raise InvalidValue(
                    f"it stands {take.quality.signal_to_noise_db:.0f} dB above the noise, which was cut "
                    "away from its end, so no decay can be read.",
                    where=take.channel,
                    remedy="Take it again louder, or in a quieter moment.",
                )
            return DecayTimes(bands=tuple(decay_times(response, arrival_s=arrival)))
        case "seats" | "early" | "distortion" | "noise":
            raise InvalidValue(f"view {options.view!r}.", where="view")


def average_of(found: Sequence[Detail], options: ReadOptions) -> Detail:
    """What the options show of several takes together, each seen from its own arrival."""
    match options.view:
        case "level":
            return Levels(level_db=mean_level_db([detail_as(Levels, detail).level_db for detail in found]))
        case "phase":
            return mean_phase([detail_as(PhaseCurves, detail) for detail in found])
        case "delay":
            delays = [detail_as(GroupDelays, detail) for detail in found]
            return GroupDelays(
                delay_s=np.mean([delay.delay_s for delay in delays], axis=0),
                excess_s=np.mean([delay.excess_s for delay in delays], axis=0),
            )
        case "impulse" | "step" | "energy":
            return mean_curve([detail_as(TimeCurve, detail) for detail in found], decibel=options.view == "energy")
        case "slices" | "map":
            return mean_map([detail_as(DecayMap, detail) for detail in found])
        case "times":
            return DecayTimes(bands=tuple(mean_decay([detail_as(DecayTimes, detail).bands for detail in found])))
        case "distortion":
            return mean_distortion([detail_as(Distortion, detail) for detail in found])
        case "noise":
            return mean_noise([detail_as(NoiseUnder, detail) for detail in found])
        case "seats" | "early":
            raise InvalidValue(f"view {options.view!r}.", where="view")


def _level_of(response: ImpulseResponse, arrival: float, options: ReadOptions) -> NDArray:
    if options.window == "cycles":
        coarse = ANALYSIS_GRID_HZ[::2]
        level = level_of_cycles_db(response, at_hz=coarse, arrival_s=arrival, cycles=options.cycles)
        return np.interp(np.log(ANALYSIS_GRID_HZ), np.log(coarse), level)
    width = options.per_octave
    return level_on_grid(response, at_hz=ANALYSIS_GRID_HZ, per_octave=width if width is None else float(width))


def _cleanness(work: UnitOfWork, take: TakeRecord, options: ReadOptions) -> Distortion | NoiseUnder:
    """From the raw recording, as it was played by the rig."""
    if take.source != "rig":
        raise InvalidValue(
            "only recordings of the rig hold the sweep as it was played.",
            where=take.channel,
            remedy="Choose a take of the rig.",
        )
    data, name = work.takes.recording(take.id)
    if options.view == "distortion" and take.signal != "sweep":
        raise InvalidValue(
            "only sweeps tell distortion apart from the response.",
            where=label_of(take.channel),
            remedy="Choose a take that was made with a sweep.",
        )
    recording, signal = heard_again(
        read_channels(data, name=name, longest_s=_LONGEST_RECORDING_S).T, work.takes.played(take.id)
    )
    if isinstance(signal, PeriodicSignal):
        recording = signal.folded(recording)
    deconvolver = deconvolver_of(signal, recording.size)
    arrival = find_arrival(deconvolver.impulse(deconvolver.spectrum(recording)[1])).time_s
    if options.view == "distortion":
        return distortion_of(recording, deconvolver=deconvolver, at_hz=_DISTORTION_HZ, arrival_s=arrival)
    return noise_under(
        recording,
        work.takes.response(take.id),
        deconvolver=deconvolver,
        nominal_hz=tuple(float(f) for f in NOMINAL_HZ if f <= 16_000),
        arrival_s=arrival,
    )
