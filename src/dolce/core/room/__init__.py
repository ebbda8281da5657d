"""The room before any sound: layouts, places, seats and spots, and what geometry tells."""

from dolce.core.room.box_field import BoxField, box_field
from dolce.core.room.box_model import BoxModel, Decay, box_model, decay_of
from dolce.core.room.channels import CHANNEL_NAMES, SUB_CODES, channel_name, group_of, partner_of
from dolce.core.room.document import plan_of, plan_values
from dolce.core.room.findings import Finding, Findings, findings_of
from dolce.core.room.following import followed, same_room
from dolce.core.room.laying_out import (
    TYPICAL_LOW_LIMIT_HZ,
    USUAL_SIZE,
    new_plan,
    with_channel,
    with_layout,
    without_channel,
)
from dolce.core.room.layouts import LAYOUT_NAMES, LAYOUTS, Reference, reference_of, usual_subs
from dolce.core.room.moving import label_of, moved, place_of
from dolce.core.room.plan import BOX_KINDS, CLOSE_M, Box, Dismissal, RoomPlan, Seat, Speaker, Spot
from dolce.core.room.reflections import Reflections, reflections_of
from dolce.core.room.sights import Sights, axis_of, sights_of
from dolce.core.room.spot_patterns import (
    COUNT,
    LAYER_M,
    LAYERS,
    PATTERNS,
    SPACING_M,
    numbered,
    rows_of,
    spots_by_pattern,
)
from dolce.core.room.spot_warnings import SpotWarning, spot_warnings
from dolce.core.room.sub_places import AIMS, KINDS, Arrangement, Candidate, Ranking, candidates_of, rank_sub_places
from dolce.core.room.surfaces import MATERIALS, OCTAVES_HZ, SURFACES, DecaySource, Reverberation
from dolce.core.room.tape import Move, Tape, move_of, tape_of

__all__ = [
    "AIMS",
    "BOX_KINDS",
    "CHANNEL_NAMES",
    "CLOSE_M",
    "COUNT",
    "KINDS",
    "LAYERS",
    "LAYER_M",
    "LAYOUTS",
    "LAYOUT_NAMES",
    "MATERIALS",
    "OCTAVES_HZ",
    "PATTERNS",
    "SPACING_M",
    "SUB_CODES",
    "SURFACES",
    "TYPICAL_LOW_LIMIT_HZ",
    "USUAL_SIZE",
    "Arrangement",
    "Box",
    "BoxField",
    "BoxModel",
    "Candidate",
    "Decay",
    "DecaySource",
    "Dismissal",
    "Finding",
    "Findings",
    "Move",
    "Ranking",
    "Reference",
    "Reflections",
    "Reverberation",
    "RoomPlan",
    "Seat",
    "Sights",
    "Speaker",
    "Spot",
    "SpotWarning",
    "Tape",
    "axis_of",
    "box_field",
    "box_model",
    "candidates_of",
    "channel_name",
    "decay_of",
    "findings_of",
    "followed",
    "group_of",
    "label_of",
    "move_of",
    "moved",
    "new_plan",
    "numbered",
    "partner_of",
    "place_of",
    "plan_of",
    "plan_values",
    "rank_sub_places",
    "reference_of",
    "reflections_of",
    "rows_of",
    "same_room",
    "sights_of",
    "spot_warnings",
    "spots_by_pattern",
    "tape_of",
    "usual_subs",
    "with_channel",
    "with_layout",
    "without_channel",
]
