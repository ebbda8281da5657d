"""Routes of the line check."""

from werkzeug.wrappers import Response

from dolce.web.shared.page import services
from dolce.web.stops.rig.sheets import after, blueprint


@blueprint.post("/lines")
def run_lines(job_id: int) -> Response:
    """Check every line."""
    services().lines.run(job_id)
    return after(job_id, "lines")


@blueprint.post("/lines/<channel>")
def run_line(job_id: int, channel: str) -> Response:
    """Check one line."""
    services().lines.run(job_id, [channel])
    return after(job_id, "lines")


@blueprint.post("/lines/confirm")
def confirm_lines(job_id: int) -> Response:
    """All that are right sounded from their own loudspeaker."""
    services().lines.confirm(job_id)
    return after(job_id, "lines")


@blueprint.post("/lines/<channel>/heard/<speaker>")
def answer_line(job_id: int, channel: str, speaker: str) -> Response:
    """Which speaker sounded."""
    services().lines.answer(job_id, channel, speaker=speaker)
    return after(job_id, "lines")


@blueprint.post("/lines/<channel>/exchange/<other>")
def swap_lines(job_id: int, channel: str, other: str) -> Response:
    """Correct the wiring in the plan."""
    services().lines.swap(job_id, channel, other)
    return after(job_id, "lines")


@blueprint.post("/lines/<channel>/leave")
def leave_line(job_id: int, channel: str) -> Response:
    """Leave the polarity of a line to the processor."""
    services().lines.leave_to_processor(job_id, channel)
    return after(job_id, "lines")
