"""The rig: microphones, electronics, levels, and checking that every line is right."""

from dolce.core.rig.ceiling import Ceiling, CeilingWatch, loudest_sweep_db, suggested_ceiling_db
from dolce.core.rig.faults import FAULTS, Fault, checked_faults
from dolce.core.rig.level_ramp import START_DBFS, STEP_DB, RampStep, ramp_step
from dolce.core.rig.line_check import (
    LINE_BAND_HZ,
    SUB_BAND_HZ,
    LineFinding,
    LineReading,
    LineVerdict,
    line_reading,
    line_verdicts,
)
from dolce.core.rig.microphones import (
    ANGLES,
    FULL_SCALE_DBU,
    MOST_INPUTS,
    POINTINGS,
    Microphone,
    MicrophoneFinding,
    MicrophoneInUse,
    differences,
    full_scale_by_sensitivity_db,
    microphone_findings,
)
from dolce.core.rig.reference_level import (
    CHOICES_DB,
    SECOND_BELOW_DB,
    ChannelLevel,
    band_share_db,
    goal_db,
    reference_source,
    suggested_level_db,
)
from dolce.core.rig.room_noise import (
    NOISE_THIRDS_HZ,
    RoomNoise,
    implausible_full_scale,
    noise_thirds_dbfs,
    room_noise,
)
from dolce.core.rig.slate import SLATE, slate_missing
from dolce.core.rig.sub_match import WAYS, SubMatch, SubReading, sub_changes, subs_agree

__all__ = ["ANGLES", "CHOICES_DB", "FAULTS", "FULL_SCALE_DBU", "LINE_BAND_HZ", "MOST_INPUTS", "NOISE_THIRDS_HZ",
           "POINTINGS", "SECOND_BELOW_DB", "SLATE", "START_DBFS", "STEP_DB", "SUB_BAND_HZ", "WAYS", "Ceiling",
           "CeilingWatch", "ChannelLevel", "Fault", "LineFinding", "LineReading", "LineVerdict", "Microphone",
           "MicrophoneFinding", "MicrophoneInUse", "RampStep", "RoomNoise", "SubMatch", "SubReading", "band_share_db",
           "checked_faults", "differences", "full_scale_by_sensitivity_db", "goal_db", "implausible_full_scale",
           "line_reading", "line_verdicts", "loudest_sweep_db", "microphone_findings", "noise_thirds_dbfs",
           "ramp_step", "reference_source", "room_noise", "slate_missing", "sub_changes", "subs_agree",
           "suggested_ceiling_db", "suggested_level_db"]
