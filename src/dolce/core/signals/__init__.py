"""Test signals."""

from dolce.core.signals.excitation import (
    CUE_CODE,
    CUE_FLIGHT,
    SIGNAL_KINDS,
    Excitation,
    SignalKind,
    excitation,
    excitation_of,
    excitation_values,
    kind_of,
)
from dolce.core.signals.filtered import FilteredSource
from dolce.core.signals.noise import pink_noise, tone
from dolce.core.signals.periodic import PeriodicSignal
from dolce.core.signals.source import KINDS, PERIOD_S, Source, SourcePlayer, stated_levels
from dolce.core.signals.sweep import Sweep, exponential_sweep, harmonic_offset_s
from dolce.core.signals.sync_chirps import mark, marks_in, unmarked_s, with_marks
from dolce.core.signals.synced import CuedSignal

__all__ = [
    "CUE_CODE",
    "CUE_FLIGHT",
    "KINDS",
    "PERIOD_S",
    "SIGNAL_KINDS",
    "CuedSignal",
    "Excitation",
    "FilteredSource",
    "PeriodicSignal",
    "SignalKind",
    "Source",
    "SourcePlayer",
    "Sweep",
    "excitation",
    "excitation_of",
    "excitation_values",
    "exponential_sweep",
    "harmonic_offset_s",
    "kind_of",
    "mark",
    "marks_in",
    "pink_noise",
    "stated_levels",
    "tone",
    "unmarked_s",
    "with_marks",
]
