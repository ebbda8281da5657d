"""What to correct, by how much, by what, and whether it worked."""

from dolce.core.correction.convolve import convolution_curve
from dolce.core.correction.evidence import Needs, TargetLevel, agreed_to_hz, left_with_boosts_db, target_levels
from dolce.core.correction.filter_type import METHODS, PHASES, FilterType, FixedBands, FoundConvolution
from dolce.core.correction.fit import (
    QUICK,
    THOROUGH,
    Compute,
    Effort,
    Fit,
    fit_bands,
    fit_left_out,
    fit_with_fixed,
    fitted,
)
from dolce.core.correction.from_speaker import speaker_curve
from dolce.core.correction.leave_one_out import Expected, deviations_db, expected
from dolce.core.correction.limits import Limits
from dolce.core.correction.low_extension import low_frequency_extension_hz
from dolce.core.correction.mixed_phase import excess_delay_s, ringing_s, shared_excess_phase
from dolce.core.correction.outcome import Outcome, deviation_db, judge
from dolce.core.correction.plan import (
    DEEP_DB,
    NARROW_OCTAVES,
    VERDICTS,
    CorrectionPlan,
    Overruled,
    Region,
    Verdict,
    plan_correction,
)
from dolce.core.correction.regions import plan_as_corrected, verdict_of
from dolce.core.correction.switches import (
    SHAPES,
    MonitorSwitches,
    Position,
    Switch,
    SwitchCheck,
    SwitchesAt,
    SwitchSearch,
    SwitchShape,
    best_switches,
    checked_switches,
    measured_position,
)
from dolce.core.correction.target import (
    MEAN_BAND_HZ,
    SMALL_ROOM_CINEMA,
    Curve,
    CurveKind,
    KeptTarget,
    Preference,
    Target,
    anchored_level_db,
)
from dolce.core.correction.whole_chain import Headroom, headroom_of

__all__ = [
    "DEEP_DB",
    "MEAN_BAND_HZ",
    "METHODS",
    "NARROW_OCTAVES",
    "PHASES",
    "QUICK",
    "SHAPES",
    "SMALL_ROOM_CINEMA",
    "THOROUGH",
    "VERDICTS",
    "Compute",
    "CorrectionPlan",
    "Curve",
    "CurveKind",
    "Effort",
    "Expected",
    "FilterType",
    "Fit",
    "FixedBands",
    "FoundConvolution",
    "Headroom",
    "KeptTarget",
    "Limits",
    "MonitorSwitches",
    "Needs",
    "Outcome",
    "Overruled",
    "Position",
    "Preference",
    "Region",
    "Switch",
    "SwitchCheck",
    "SwitchSearch",
    "SwitchShape",
    "SwitchesAt",
    "Target",
    "TargetLevel",
    "Verdict",
    "agreed_to_hz",
    "anchored_level_db",
    "best_switches",
    "checked_switches",
    "convolution_curve",
    "deviation_db",
    "deviations_db",
    "excess_delay_s",
    "expected",
    "fit_bands",
    "fit_left_out",
    "fit_with_fixed",
    "fitted",
    "headroom_of",
    "judge",
    "left_with_boosts_db",
    "low_frequency_extension_hz",
    "measured_position",
    "plan_as_corrected",
    "plan_correction",
    "ringing_s",
    "shared_excess_phase",
    "speaker_curve",
    "target_levels",
    "verdict_of",
]
