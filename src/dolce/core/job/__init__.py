"""The words of a job: speakers, seats, spots, rig, rounds and takes, as values."""

from dolce.core.job.model import (
    CHANNEL_NAMES,
    SAMPLE_RATES_HZ,
    Job,
    LogEntry,
    PassRecord,
    Rig,
    Round,
    Seat,
    Speaker,
    Spot,
    TakeRecord,
)

__all__ = ["CHANNEL_NAMES", "SAMPLE_RATES_HZ", "Job", "LogEntry", "PassRecord", "Rig", "Round", "Seat", "Speaker",
           "Spot", "TakeRecord"]
