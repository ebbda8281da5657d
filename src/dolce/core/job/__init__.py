"""The words of a job: rig, rounds and takes, as values; the room is `dolce.core.room`."""

from dolce.core.job.model import (
    SAMPLE_RATES_HZ,
    DamagedJob,
    Job,
    LogEntry,
    PassRecord,
    Rig,
    Round,
    TakeRecord,
)
from dolce.core.job.rounds import latest_corrected, moved_between, proposed_base

__all__ = ["SAMPLE_RATES_HZ", "DamagedJob", "Job", "LogEntry", "PassRecord", "Rig", "Round", "TakeRecord",
           "latest_corrected", "moved_between", "proposed_base"]
