"""Checking the rig: every line sounds where it should, the right way round, at a sensible level."""

from dolce.core.rig.faults import FAULTS, Fault, checked_faults
from dolce.core.rig.line_check import (
    LINE_BAND_HZ,
    SUB_BAND_HZ,
    LineReading,
    LineVerdict,
    line_reading,
    line_verdicts,
)
from dolce.core.rig.room_noise import NOISE_THIRDS_HZ, RoomNoise, noise_thirds_dbfs, room_noise
from dolce.core.rig.sub_arrival import sub_arrival

__all__ = ["FAULTS", "LINE_BAND_HZ", "NOISE_THIRDS_HZ", "SUB_BAND_HZ", "Fault", "LineReading", "LineVerdict",
           "RoomNoise", "checked_faults", "line_reading", "line_verdicts", "noise_thirds_dbfs", "room_noise",
           "sub_arrival"]
