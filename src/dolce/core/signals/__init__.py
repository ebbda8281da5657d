"""Test signals."""

from dolce.core.signals.excitation import (
    SIGNAL_KINDS,
    SYNC_CODE,
    SYNC_FLIGHT,
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
from dolce.core.signals.sync_chirps import chirps_in, sweep_part_s, sync_chirp, with_chirps
from dolce.core.signals.synced import SyncedSignal

__all__ = [
    "KINDS",
    "PERIOD_S",
    "SIGNAL_KINDS",
    "SYNC_CODE",
    "SYNC_FLIGHT",
    "Excitation",
    "FilteredSource",
    "PeriodicSignal",
    "SignalKind",
    "Source",
    "SourcePlayer",
    "Sweep",
    "SyncedSignal",
    "chirps_in",
    "excitation",
    "excitation_of",
    "excitation_values",
    "exponential_sweep",
    "harmonic_offset_s",
    "kind_of",
    "pink_noise",
    "stated_levels",
    "sweep_part_s",
    "sync_chirp",
    "tone",
    "with_chirps",
]
