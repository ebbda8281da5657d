"""Work with sound, and how far it is."""

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from dolce.core.job.results import PassResult, Result, result_as

PassKind = Literal["takes", "level", "lines", "noise", "loop", "compare", "live", "reference", "subs", "listen"]
PassState = Literal["running", "done", "stopped", "failed", "interrupted"]


@dataclass(frozen=True, slots=True, kw_only=True)
class PassRecord:
    """A piece of work with sound: its steps and where it stands.

    Attributes
    ----------
    paused : bool
        Whether it holds before its next step until somebody says go on.
    waiting_s : float
        How long it still waits before the present step, so that a person can walk away; 0 while it sounds.
    waits_left_s : float
        All that is still waited for, the present wait included.
    """

    id: int
    job_id: int
    kind: PassKind
    state: PassState
    steps: tuple[tuple[str, int], ...]
    done_steps: int
    fraction: float
    seconds_per_step: float
    message: str
    started_at: datetime
    result: PassResult = None
    paused: bool = False
    waiting_s: float = 0.0
    waits_left_s: float = 0.0

    def channels_around(self, step: int) -> set[str]:
        """Channels from step `step` (1 is the first) to the present one."""
        return {channel for channel, _ in self.steps[max(0, step - 1) : self.done_steps + 1]}


def result_of(kind: type[Result], record: PassRecord | None) -> Result:
    """What a pass of one kind found; empty where there was none, or before it found anything."""
    return result_as(kind, None if record is None else record.result)
