"""Which channels a change is for."""

from typing import Literal

from dolce.core.room import group_of, partner_of
from dolce.services.context import Context

Scope = Literal["all", "group", "partner", "channel"]
SCOPES: tuple[Scope, ...] = ("all", "group", "partner", "channel")


def in_scope(context: Context, job_id: int, scope: Scope, channel: str) -> tuple[str, ...]:
    """The channels that are meant; none for all."""
    with context.look() as work:
        channels = work.jobs.get(job_id).channels
    match scope:
        case "channel":
            return tuple(c for c in channels if c == channel)
        case "partner":
            return tuple(c for c in channels if c == partner_of(channel))
        case "group":
            return tuple(c for c in channels if group_of(c) == group_of(channel))
        case "all":
            return ()
