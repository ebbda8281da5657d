"""Published tolerances for rooms to listen in, and whether a room holds them, as far as a measurement can tell."""

from dolce.core.tolerance.judging import (
    AskedFor,
    Figure,
    Outcome,
    against_bound,
    asked_for,
    judged_angles,
    judged_arrival,
    judged_level,
    judged_response,
    judged_reverberation,
    judged_seats,
)
from dolce.core.tolerance.sets import OWN, PUBLISHED, ToleranceSet, wanted_reverberation_s

__all__ = [
    "OWN",
    "PUBLISHED",
    "AskedFor",
    "Figure",
    "Outcome",
    "ToleranceSet",
    "against_bound",
    "asked_for",
    "judged_angles",
    "judged_arrival",
    "judged_level",
    "judged_response",
    "judged_reverberation",
    "judged_seats",
    "wanted_reverberation_s",
]
