"""Test signals."""

from dolce.core.signals.noise import pink_noise, tone
from dolce.core.signals.sweep import Sweep, exponential_sweep, harmonic_offset_s

__all__ = ["Sweep", "exponential_sweep", "harmonic_offset_s", "pink_noise", "tone"]
