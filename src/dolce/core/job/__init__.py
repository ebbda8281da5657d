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

__all__ = ["SAMPLE_RATES_HZ", "DamagedJob", "Job", "LogEntry", "PassRecord", "Rig", "Round", "TakeRecord"]
