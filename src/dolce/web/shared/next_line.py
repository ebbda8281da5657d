"""The one quiet line: what to do next and why, with one button that does it or goes there."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from flask import url_for

from dolce.core.rig import MicrophoneFault
from dolce.services.jobs.progress import JobStatus
from dolce.web.shared.page import services
from dolce.words.numbers import length


@dataclass(frozen=True, slots=True, kw_only=True)
class NextLine:
    """The line.

    Attributes
    ----------
    what, why : a sentence without its end each
    button : empty where there is nothing to press
    url : where the button leads, or what it posts to
    fields : what it posts; None where it only leads somewhere
    stop : where that is
    """

    what: str
    why: str
    button: str = ""
    url: str = ""
    fields: dict[str, str] | None = field(default=None)
    stop: str = ""


def next_line(status: JobStatus, stop: str, sheet: str = "") -> NextLine:
    """What stands on a page of a stop; no button where what is asked for is done on that very page."""
    job, missing = status.job, status.wanted - status.taken

    def go(what: str, why: str, button: str, to: str, **query: Any) -> NextLine:
        return NextLine(what=what, why=why, button=button, stop=to, url=url_for(f"{to}.page", job_id=job.id, **query))

    def do(
        what: str, why: str, button: str, endpoint: str, fields: dict[str, str] | None = None, **values: Any
    ) -> NextLine:
        return NextLine(
            what=what,
            why=why,
            button=button,
            fields=fields or {},
            stop=endpoint.partition(".")[0],
            url=url_for(endpoint, job_id=job.id, **values),
        )

    match status.next:
        case "sounding":
            return NextLine(what="Sound is playing", why="Escape ends it at once; finished takes stay")
        case "spots":
            return go(
                "Lay out microphone spots at the seats",
                "one point alone is true for that point alone",
                "Lay out spots",
                "room",
                sheet="spots",
            )
        case "microphone":
            return _microphone(status, (stop, sheet) == ("rig", "microphones"), do, go)
        case "level":
            return do(
                "Check the level",
                "loud enough above the noise, far enough from clipping; every channel sounds",
                "Check the level",
                "rig.check",
            )
        case "level clips":
            channels, down_db = list(status.clipped), max(status.clipped.values())
            return do(
                f"Turn the sweep down by {down_db:.0f} dB and check again",
                f"{' and '.join([', '.join(channels[:-1]), channels[-1]] if channels[1:] else channels)} "
                f"{'come' if channels[1:] else 'comes'} too near to clipping; less gain at the microphone does it, too",
                "Turn down and check",
                "rig.turn_down",
            )
        case "neutral":
            why = "the room has to be heard as it is first"
            if job.rig.processor.can.loads:
                return do("Bypass the processor", why, "Bypass", "load.switch", to="bypass")
            if (stop, sheet) == ("rig", "processor") and job.processor.is_neutral:
                return do(
                    "Go through the chain and tick what is neutral",
                    f"it can't be read, and {why}",
                    "All of it is neutral",
                    "rig.tick_all",
                )
            return go("Make the processor neutral", why, "Look at it", "rig", sheet="processor")
        case "lines":
            return do(
                "Check the lines",
                "one soft sweep for each output: a wrong wire, polarity or filter would be in every take",
                "Check all lines",
                "rig.run_lines",
            )
        case "lines heard" if stop == "rig":
            return do(
                "Did each line sound from its own loudspeaker?",
                "Their readings are as they should be. If one did not, press it on the plan",
                "Yes, all of them",
                "rig.confirm_lines",
            )
        case "lines heard":
            return go(
                "Say where the lines sounded", "a swapped pair measures alike", "To the lines", "rig", sheet="lines"
            )
        case "lines wrong":
            return go(
                "Mend the lines that are wrong",
                "what is measured through them would be wrong, too",
                "To the lines",
                "rig",
                sheet="lines",
            )
        case "noise":
            return do(
                "Listen to the quiet room",
                "what sounds there by itself limits every take; be quiet for five seconds",
                "Listen",
                "rig.listen",
            )
        case "take":
            return _take(status, missing, do, go)
        case "outliers" if stop != "takes":
            which = "the take that does" if status.outliers == 1 else f"the {status.outliers} takes that do"
            return go(
                f"Look at {which} not fit the others",
                "the microphone was not moved, something stood in the way, or rows were exchanged",
                "To the takes",
                "takes",
            )
        case "outliers":
            return do(
                "Repeat what is marked as an outlier or leave it out, or go on with it",
                "press a cell to see why it is marked",
                "Go on with all takes",
                "align.use",
            )
        case "align":
            return do(
                "Use the proposed levels and delays",
                "all channels equally loud and at the same moment",
                "Use the proposal",
                "align.use",
            )
        case "subs":
            match services().workbench.search_state(job.id):
                case "running":
                    return NextLine(
                        what="Settings of the subs are being searched", why="Align shows them as soon as they are there"
                    )
                case "found":
                    return do(
                        "Use the settings of the subs that were found",
                        "what they do at every seat stands on Align, and others can be chosen there",
                        "Use them",
                        "align.use_subs",
                        code="search",
                    )
                case "none":
                    return do(
                        "Set the subs so that all seats hear the same bass",
                        "gain, delay and polarity of each, searched for all seats at once",
                        "Search for all seats",
                        "align.search_subs",
                    )
        case "crossovers":
            return do(
                "Use the proposed crossovers",
                "each group hands its bass to the subs above where it falls off; others can be chosen on Align",
                "Use them",
                "align.use_proposed_crossovers",
            )
        case "filters" | "filters again" if _searching(job.id):
            return NextLine(what="Filters are being found", why="they stand on Shape as soon as they are there")
        case "filters":
            return do(
                "Find the filters",
                "toward the target, judged at spots that were left out",
                "Find filters",
                "shape.find",
            )
        case "filters again":
            return do("Find the filters again", "levels or delays were changed since", "Find filters", "shape.find")
        case "load":
            slot = next(iter(job.slots))
            return do(
                f"Load the correction into preset {slot}",
                "it is read back and compared",
                f"Load {slot}",
                "load.load",
                {"content": "corrected"},
                slot=slot,
            )
        case "play":
            return do(
                f"Play preset {status.loaded}",
                "the next takes go through it",
                f"Play {status.loaded}",
                "load.switch",
                to=status.loaded,
            )
        case "round":
            return do(
                "Start a new round",
                "takes in another state stay apart from those before",
                "Start it",
                "takes.new_round",
            )
        case "prove" if stop == "prove" and status.verdict is not None and status.verdict.since:
            if [since.kind for since in status.verdict.since] == ["processor"]:
                return go("Play the preset that was proven", "the processor was switched since", "To Load", "load")
            return do(
                "Measure again", "something was changed since it was proven", "Start a new round", "takes.new_round"
            )
        case "prove" if stop == "prove":
            holds = status.verdict is None or status.verdict.holds
            return NextLine(
                what="Hand it over" if holds else "Mend what speaks against it, or hand it over as it is",
                why="the job from the first curve to the last, for whoever listens here"
                if holds
                else "the report says the same as this page",
                button="To the report",
                stop="report",
                url=url_for("report.page", job_id=job.id),
            )
        case "prove":
            return go("See whether it holds", "before, predicted and measured over each other", "To the proof", "prove")


def _microphone(status: JobStatus, here: bool, do: Callable[..., NextLine], go: Callable[..., NextLine]) -> NextLine:
    what, why, button = _of_microphone(status.microphone_fault)
    if status.microphone_fault in ("none", None) and status.job.rig.interface.simulated:
        shelf = services().microphones.shelf()
        if len(shelf) == 1:
            return do(f"Use the {shelf[0].name.lower()}", why, "Use it", "rig.use_microphone", number=shelf[0].id)
    if here:
        return NextLine(what=what, why=f"{why}; it is done on this page")
    return go(what, why, button, "rig", sheet="microphones")


def _of_microphone(fault: MicrophoneFault | None) -> tuple[str, str, str]:
    """What is to be done about the microphones, why, and the button."""
    match fault:
        case "none" | None:
            return "Say which microphone you use", "its errors would stand in every curve", "Choose a microphone"
        case "no curve":
            return "Read the microphone's curve", "its errors would stand in every curve", "Read the curve"
        case "wrong angle":
            return "Use the curve for how the microphone points", "the treble would be wrong", "Look at the curves"
        case "not asked":
            return "Say where the microphone points", "its curve depends on it", "Say where it points"
        case "one input twice":
            return "Give each microphone an input of its own", "two of them are on the same one", "Look at the inputs"
        case "not compared":
            return "Compare the microphones", "their levels would differ from spot to spot", "Compare them"


def _searching(job_id: int) -> bool:
    search = services().finding.searches.of(job_id)
    return search is not None and search.running


def _take(status: JobStatus, missing: int, do: Callable[..., NextLine], go: Callable[..., NextLine]) -> NextLine:
    job = status.job
    if status.next_spot is None:
        return go("Fill the board", f"{missing} takes are missing", "To the takes", "takes")
    spot = job.spot(status.next_spot)
    if job.rig.interface.simulated:
        return do(
            f"Run the {missing} takes that are missing",
            "the rehearsal's microphone moves by itself",
            "Run them",
            "takes.run",
        )
    return do(
        f"Microphone to spot {spot.number}, {length(spot.place.z_m, job.units)} high, then run",
        f"{missing} of {status.wanted} takes are missing",
        f"Run spot {spot.number}",
        "takes.run_spot",
        spot=spot.id,
        seen=status.last_take,
    )
