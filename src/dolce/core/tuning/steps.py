"""In which steps trims and delays are proposed: those that the processor can be set to."""

import math

from dolce.core.alignment import TRIM_STEP_DB
from dolce.core.processor import ProcessorLimits


def trim_step_db(device: ProcessorLimits | None) -> float:
    """Steps of proposed trims in dB: 0.1 dB, or the next multiple of the device's step."""
    if device is None:
        return TRIM_STEP_DB
    return max(1, math.ceil(TRIM_STEP_DB / device.trim_step_db - 1e-9)) * device.trim_step_db


def gain_step_db(device: ProcessorLimits | None) -> float:
    """Steps of a band's gain in dB: those of the device, 0.1 dB where it is not known."""
    return TRIM_STEP_DB if device is None else device.gain_step_db


def delay_step_s(device: ProcessorLimits | None, *, sample_rate_hz: float) -> float:
    """Steps of proposed delays in s: those of the device, or samples where it takes any delay."""
    if device is None or not device.delay_step_s:
        return 1 / sample_rate_hz
    return device.delay_step_s


def on_step(value: float, step: float) -> float:
    """The nearest multiple of a step."""
    return round(round(value / step) * step, 9) + 0.0
