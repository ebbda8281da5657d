"""The common bass: mains and subs that play it together, each through a filter of its own, so that seats hear alike.

With as many loudspeakers as a room has modes below some 120 Hz, filters can make what several seats hear the same,
which no gain, delay and polarity of each sub can, and no equaliser. What counts is the sound at spots that were not
taken.

`lattice` : taps of the filters, their spectra, and filters at any rate. `filters` : how they are kept. `takes` : what
loudspeakers do at spots. `aim` : what is wanted. `cost` : what filters cost, with its slope. `search` : the cheapest
ones. `figures` : what they do. `doubts` : what may go wrong with them. `design` : all of it, with the weight of
effort chosen and figures expected by leaving spots out.
"""

from dolce.core.bass.aim import BassAim, MainChannel, output_of_subs_db
from dolce.core.bass.design import (
    EFFORTS,
    QUICK,
    SHARE,
    THOROUGH,
    ExpectedBass,
    SearchSteps,
    SharedBass,
    bass_of,
    folds_of,
    shared_bass,
)
from dolce.core.bass.doubts import ErrorBudget, PressureNode
from dolce.core.bass.figures import BassFigures, BassMeasure
from dolce.core.bass.filters import BassFilter, BassFilters
from dolce.core.bass.takes import BassTakes

__all__ = [
    "EFFORTS",
    "QUICK",
    "SHARE",
    "THOROUGH",
    "BassAim",
    "BassFigures",
    "BassFilter",
    "BassFilters",
    "BassMeasure",
    "BassTakes",
    "ErrorBudget",
    "ExpectedBass",
    "MainChannel",
    "PressureNode",
    "SearchSteps",
    "SharedBass",
    "bass_of",
    "folds_of",
    "output_of_subs_db",
    "shared_bass",
]
