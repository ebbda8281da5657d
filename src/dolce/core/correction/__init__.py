"""What to correct, by how much, and whether it worked."""

from dolce.core.correction.fit import fit_bands
from dolce.core.correction.outcome import Outcome, deviation_db, judge
from dolce.core.correction.plan import CorrectionPlan, Limits, Stretch, plan_correction
from dolce.core.correction.target import Target, anchored_level_db
from dolce.core.correction.whole_chain import Headroom, headroom_of

__all__ = ["CorrectionPlan", "Headroom", "Limits", "Outcome", "Stretch", "Target", "anchored_level_db",
           "deviation_db", "fit_bands", "headroom_of", "judge", "plan_correction"]
