"""The verdict on a job in words: what it is, what speaks for and against it, and what to do."""

from dolce.core.tuning import JobVerdict, Limit, Objection, Since
from dolce.words.numbers import hertz

_TO_THE_LINES = ("To the line check", "rig", "lines")
_NEEDS = {
    "": "",
    "takes": "Take the room as it is first, with the processor bypassed.",
    "shape": "There are no filters yet.",
    "load": "The filters are not in the processor yet.",
    "round": "Measure again through the correction: play a preset with filters, start a new round, take every channel.",
    "rest": "Takes through the correction are being made: it is judged when all are there.",
}
_HEADINGS = {
    "not known": "Not known yet.",
    "not proven": "Not proven.",
    "proven but": "Proven, with limits.",
    "proven": "Proven.",
}


def heading(verdict: JobVerdict) -> str:
    """The verdict itself, in a word or two."""
    if verdict.since and verdict.kind in ("proven", "proven but"):
        return f"Was proven on {verdict.measured_at:%d %b %Y}." if verdict.measured_at else "Was proven."
    return _HEADINGS[verdict.kind]


def sentences(verdict: JobVerdict) -> tuple[str, ...]:
    """Why, the weightiest first, each with what to do about it."""
    if verdict.kind == "not known":
        return (_NEEDS[verdict.needs],)
    found = [objection_words(objection) for objection in verdict.objections]
    if not found:
        found.append("The correction does what was predicted, and every channel is closer to the target.")
    return (*found, *map(_since_words, verdict.since), *map(_limit_words, verdict.limits))


def objection_words(objection: Objection) -> str:
    """One thing that speaks against the proof, and what to do about it."""
    first, *others = objection.channels
    match objection.kind:
        case "prediction missed":
            return (
                f"{first} measures {objection.value:.2f} dB away from its prediction, more than the "
                f"{objection.within:.2f} dB of a microphone put back by hand: was anything moved or switched? "
                "Measure it again."
            )
        case "changed besides":
            return (
                f"{first} is {abs(objection.value):.1f} dB {'louder' if objection.value > 0 else 'softer'} than "
                f"predicted at {hertz(objection.at_hz or 0)}, more than the {objection.within:.1f} dB of a microphone "
                "put back by hand: is something before it, or switched? Measure it again."
            )
        case "no closer":
            return f"{first} is no closer to the target than before: leave it without filters, or change its target."
        case "levels differ":
            return (
                f"Levels still differ by {objection.value:.1f} dB: {first} is loudest, {others[0]} softest; "
                f"{objection.within:.1f} dB is what placing the microphone explains. Match levels again on Align."
            )
        case "pair differs":
            return (
                f"{first} is {objection.value:.1f} dB louder than {others[0]} in the 1/3 octave at "
                f"{hertz(objection.at_hz or 0)}: correct it on Shape, or look at the loudspeaker."
            )
        case "arrivals differ":
            return (
                f"Arrivals still differ by {objection.value * 1000:.2f} ms: {first} is last, {others[0]} first; "
                f"{objection.within * 1000:.2f} ms is what placing the microphone explains. Set delays again on Align."
            )
        case "line wrong":
            return (
                f"The line check found {', '.join(objection.channels)} wrong: mend it, check the line again, and take "
                "what went through it anew."
            )


def remedies_of(verdict: JobVerdict) -> tuple[tuple[str, str, str], ...]:
    """Where what is said of a job can be mended: buttons, each with its stop and the sheet of that stop."""
    found = [_remedy_of(objection) for objection in verdict.objections]
    if any(limit.kind in ("no line check", "lines to look at") for limit in verdict.limits):
        found.append(_TO_THE_LINES)
    return tuple(dict.fromkeys(found))


def _remedy_of(objection: Objection) -> tuple[str, str, str]:
    match objection.kind:
        case "prediction missed" | "changed besides":
            return "To the takes", "takes", ""
        case "no closer" | "pair differs":
            return "To Shape", "shape", ""
        case "levels differ" | "arrivals differ":
            return "To Align", "align", ""
        case "line wrong":
            return _TO_THE_LINES


def _limit_words(limit: Limit) -> str:
    match limit.kind:
        case "one spot":
            return "It was taken at one spot: it holds for that place alone. Take more spots of the seats."
        case "fewer spots":
            return f"Compared at the {limit.count} of {limit.of} spots that both rounds have. Take the rest."
        case "moved meanwhile":
            return f"{', '.join(limit.names)} stood elsewhere for some of these takes: the figures mix both places."
        case "no line check":
            return "Not every line was checked: a wrong wire would not show here."
        case "lines to look at":
            return f"The line check has something to say of {', '.join(limit.names)}: look at it on Rig."
        case "tolerances":
            asked = f", {limit.asked_for} of them where the target asks for it" if limit.asked_for else ""
            return f"{limit.count} of {limit.of} figures lie outside {', '.join(limit.names)}{asked}."


def _since_words(since: Since) -> str:
    match since.kind:
        case "moved":
            return f"Since then {', '.join(since.names)} moved: measure again."
        case "correction":
            return "Since then filters or alignment were changed: load them and measure again."
        case "processor":
            return "Since then the processor was switched: play the preset that was proven."
