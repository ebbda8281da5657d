"""Test signals."""

from dolce.core.signals.marks import mark, marks_in, unmarked_s, with_marks
from dolce.core.signals.noise import pink_noise, tone
from dolce.core.signals.source import KINDS, PERIOD_S, Source, SourcePlayer, stated_levels
from dolce.core.signals.sweep import Sweep, exponential_sweep, harmonic_offset_s

__all__ = ["KINDS", "PERIOD_S", "Source", "SourcePlayer", "Sweep", "exponential_sweep", "harmonic_offset_s",
           "mark", "marks_in", "pink_noise", "stated_levels", "tone", "unmarked_s", "with_marks"]
