"""The words of a job: rig, rounds and takes, as values; the room is `dolce.core.room`."""

from dolce.core.job.feeds import GROUPS, JOINED, Feed, HowTaken, Rows, bass_alone, channels_of, label_of, name_of
from dolce.core.job.job import UNITS, DamagedJob, Job, Units
from dolce.core.job.logbook import LogEntry, LogGroup, grouped
from dolce.core.job.next_step import JobFacts, StepKey, needed_sheets, next_step
from dolce.core.job.pass_record import PassKind, PassRecord, PassState, result_of
from dolce.core.job.passes import PassOptions, steps_of, waits_of
from dolce.core.job.placements import placement_of
from dolce.core.job.report import PARTS, ReportWords
from dolce.core.job.results import (
    RESULT_OF,
    CheckedLine,
    LevelResult,
    LinesResult,
    NoiseResult,
    PassResult,
    ReadingsResult,
    result_as,
)
from dolce.core.job.rig import SAMPLE_RATES_HZ, Interface, Levels, Rehearsal, Rig
from dolce.core.job.rounds import Moved, latest_corrected, moved_between, proposed_base
from dolce.core.job.takes import Round, TakeRecord, TakeSource

__all__ = [
    "GROUPS",
    "JOINED",
    "PARTS",
    "RESULT_OF",
    "SAMPLE_RATES_HZ",
    "UNITS",
    "CheckedLine",
    "DamagedJob",
    "Feed",
    "HowTaken",
    "Interface",
    "Job",
    "JobFacts",
    "LevelResult",
    "Levels",
    "LinesResult",
    "LogEntry",
    "LogGroup",
    "Moved",
    "NoiseResult",
    "PassKind",
    "PassOptions",
    "PassRecord",
    "PassResult",
    "PassState",
    "ReadingsResult",
    "Rehearsal",
    "ReportWords",
    "Rig",
    "Round",
    "Rows",
    "StepKey",
    "TakeRecord",
    "TakeSource",
    "Units",
    "bass_alone",
    "channels_of",
    "grouped",
    "label_of",
    "latest_corrected",
    "moved_between",
    "name_of",
    "needed_sheets",
    "next_step",
    "placement_of",
    "proposed_base",
    "result_as",
    "result_of",
    "steps_of",
    "waits_of",
]
