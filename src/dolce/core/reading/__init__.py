"""What a response or a recording says: how loud, when, how long, how clean."""

from dolce.core.reading.averages import (
    mean_curve,
    mean_decay,
    mean_distortion,
    mean_level_db,
    mean_map,
    mean_noise,
    mean_phase,
)
from dolce.core.reading.cleanness import HARMONICS, Distortion, NoiseUnder, distortion_of, noise_under
from dolce.core.reading.curve_findings import LIKELY, SURE, Cause, CurveFinding, Evidence, findings_of_curve
from dolce.core.reading.decay import DECAY_BANDS_HZ, BandDecay, DecayKind, DecayTime, decay_times, decays_at, truncation
from dolce.core.reading.decay_map import DecayMap, decay_slices, map_of_cycles, map_of_time, ringing_s
from dolce.core.reading.early import EARLY_DB, EARLY_MS, EarlySound, Reflection, early_reflections, early_sound
from dolce.core.reading.energy import TimeCurve, energy_near, impulse_near, step_near
from dolce.core.reading.modal_decay import ModeDecay, longest_decay_s, mode_decays
from dolce.core.reading.moving import TOLD_HZ, DipMoved, MovedCurve, moved_curve
from dolce.core.reading.phase import PhaseCurves, excess_group_delay_s, group_delay_s, minimum_phase, phase_curves
from dolce.core.reading.seat_to_seat import BASS_HZ, SeatRow, Spectrum, bass_spectrum, seat_row
from dolce.core.reading.surfaces import ExpectedLevels
from dolce.core.reading.windows import CYCLES, GATE_MS, direct_sound, known_from_hz, level_of_cycles_db

__all__ = [
    "BASS_HZ",
    "CYCLES",
    "DECAY_BANDS_HZ",
    "EARLY_DB",
    "EARLY_MS",
    "GATE_MS",
    "HARMONICS",
    "LIKELY",
    "SURE",
    "TOLD_HZ",
    "BandDecay",
    "Cause",
    "CurveFinding",
    "DecayKind",
    "DecayMap",
    "DecayTime",
    "DipMoved",
    "Distortion",
    "EarlySound",
    "Evidence",
    "ExpectedLevels",
    "ModeDecay",
    "MovedCurve",
    "NoiseUnder",
    "PhaseCurves",
    "Reflection",
    "SeatRow",
    "Spectrum",
    "TimeCurve",
    "bass_spectrum",
    "decay_slices",
    "decay_times",
    "decays_at",
    "direct_sound",
    "distortion_of",
    "early_reflections",
    "early_sound",
    "energy_near",
    "excess_group_delay_s",
    "findings_of_curve",
    "group_delay_s",
    "impulse_near",
    "known_from_hz",
    "level_of_cycles_db",
    "longest_decay_s",
    "map_of_cycles",
    "map_of_time",
    "mean_curve",
    "mean_decay",
    "mean_distortion",
    "mean_level_db",
    "mean_map",
    "mean_noise",
    "mean_phase",
    "minimum_phase",
    "mode_decays",
    "moved_curve",
    "noise_under",
    "phase_curves",
    "ringing_s",
    "seat_row",
    "step_near",
    "truncation",
]
