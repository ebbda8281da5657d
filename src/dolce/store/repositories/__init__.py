"""What the store can be asked for. Rows go no further than here."""

from dolce.store.repositories.corrections import Alignments, Corrections
from dolce.store.repositories.jobs import Jobs
from dolce.store.repositories.kept_states import KeptStates
from dolce.store.repositories.kept_versions import (
    AlignmentVersion,
    AlignmentVersions,
    CorrectionVersion,
    CorrectionVersions,
)
from dolce.store.repositories.logbook import Logbook
from dolce.store.repositories.passes import Passes
from dolce.store.repositories.plans import Plans
from dolce.store.repositories.reports import Reports
from dolce.store.repositories.selections import Selections
from dolce.store.repositories.shelf import KeptTargets, Microphones, Processors, SwitchShelf, Tolerances
from dolce.store.repositories.starts import Starts
from dolce.store.repositories.states import StateCache, States
from dolce.store.repositories.takes import Takes

__all__ = [
    "AlignmentVersion",
    "AlignmentVersions",
    "Alignments",
    "CorrectionVersion",
    "CorrectionVersions",
    "Corrections",
    "Jobs",
    "KeptStates",
    "KeptTargets",
    "Logbook",
    "Microphones",
    "Passes",
    "Plans",
    "Processors",
    "Reports",
    "Selections",
    "Starts",
    "StateCache",
    "States",
    "SwitchShelf",
    "Takes",
    "Tolerances",
]
