"""What a curve says, in words: what it is, why, how sure, and what can be done."""

from dataclasses import dataclass

import numpy as np

from dolce.core.correction import DEEP_DB, NARROW_OCTAVES
from dolce.core.reading import SURE, Cause, CurveFinding
from dolce.core.room import TYPICAL_LOW_LIMIT_HZ
from dolce.words.numbers import hertz, signed

UNEXPLAINED = "unexplained"
_MOST_SPOTS = 0.7  # of all
_HEARD_OCTAVES = 1 / 6  # a dip that is narrower is hardly heard (common practice)
_AXES = ("side to side", "front to back", "floor to ceiling")


@dataclass(frozen=True, slots=True, kw_only=True)
class FindingRow:
    """One line of the list; its number stands at the curve."""

    number: int
    at_hz: float
    where: str
    cause: str
    evidence: str
    remedy: str


def finding_rows(findings: tuple[CurveFinding, ...]) -> list[FindingRow]:
    """Findings in the order of their frequency, as they stand along the curve."""
    return [_row(number, finding) for number, finding in enumerate(sorted(findings, key=lambda f: f.frequency_hz), 1)]


def _row(number: int, finding: CurveFinding) -> FindingRow:
    where = (
        f"{hertz(finding.frequency_hz)}, {signed(finding.size_db)} dB, {finding.width_octaves:.2f} octaves wide, at "
        f"{finding.spots} of {finding.of_spots} {'spot' if finding.of_spots == 1 else 'spots'}"
    )
    cause = finding.cause
    if cause is None:
        return FindingRow(
            number=number,
            at_hz=finding.frequency_hz,
            where=where,
            cause=UNEXPLAINED,
            evidence=_sentence(_nearest(finding)),
            remedy=_usual(finding),
        )
    return FindingRow(
        number=number,
        at_hz=finding.frequency_hz,
        where=where,
        evidence=_sentence(_evidence(cause)),
        cause=f"{_name(cause)}{'' if cause.sure >= SURE else ', likely'}",
        remedy=_remedy(cause),
    )


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}."


def _name(cause: Cause) -> str:
    match cause.kind:
        case "mode":
            modes = cause.what.split(", ")
            if len(modes) > 1:
                return f"room modes {' and '.join(modes)} together"
            orders = [int(part) for part in cause.what.split("-")]
            moving = [axis for axis, order in zip(_AXES, orders, strict=True) if order]
            return f"room mode {cause.what} ({' and '.join(moving)})"
        case "boundary" if not cause.what:
            return "reflections from several surfaces together"
        case "boundary":
            surfaces = cause.what.lower().split(", ")
            return f"reflection{'s' if len(surfaces) > 1 else ''} from the {' and the '.join(surfaces)}"
        case "end":
            return "below where the loudspeaker ends"
        case "speaker":
            return "the speaker's own"
        case "screen":
            return "the screen or cloth before it"
        case "crossover":
            return "the crossover between main and subs"
        case "microphone":
            return "the microphone"


def _evidence(cause: Cause) -> str:
    parts = []
    match cause.kind:
        case "mode":
            parts.append(f"the box has it at {hertz(cause.at_hz)}")
            if cause.rings:
                parts.append(f"rings {cause.rings:.1f} times as long as around it")
            if not np.isnan(cause.pattern):
                parts.append(
                    f"levels over the spots {'follow' if cause.pattern > 0.5 else 'hardly follow'} its shape "
                    f"(r = {signed(cause.pattern, 2)})"
                )
        case "boundary" if cause.fill_db:
            parts = [
                f"the room as a box has a dip at {hertz(cause.at_hz)}",
                f"around it the takes follow it from spot to spot (r = {signed(cause.pattern, 2)})",
            ]
            if cause.what:
                parts.append(
                    f"without the {cause.what.lower().split(', ')[0]} it would lie {cause.fill_db:.0f} dB higher"
                )
            if cause.seen is not None:
                later_s, level_db = cause.seen
                parts.append(f"that reflection is seen {1000 * later_s:.1f} ms late, {signed(level_db)} dB")
        case "boundary":
            parts = [
                f"the plan has its cancellation at {hertz(cause.at_hz)}",
                f"the dip lies where it should at {100 * cause.pattern:.0f} % of the spots",
            ]
        case "end":
            parts = [f"its level falls away below {hertz(cause.at_hz)}"]
        case "speaker":
            parts = ["it stands in the direct sound, at all places alike"]
        case "screen":
            parts = ["its direct sound lacks treble, and the plan has something before it"]
        case "crossover":
            parts = (
                [f"together they are {cause.pattern:.1f} dB softer than the louder of them alone"]
                if cause.pattern > 1
                else [
                    f"the crossover is at {hertz(cause.at_hz)}",
                    f"before it was in use {100 * (1 - cause.pattern):.0f} % of the dip was there",
                ]
            )
        case "microphone":
            parts = ["it stands in the direct sound of the other channels as well"]
    return ", ".join(parts)


def _remedy(cause: Cause) -> str:
    match cause.kind:
        case "mode":
            return "Cut it; where it rings long, treat the room."
        case "boundary":
            return "Leave it; move the speaker or the seat, or treat the surface."
        case "end":
            return "Leave it: no filter makes it play lower; a sub does."
        case "speaker":
            return "Correct it."
        case "screen":
            return "Lift it gently, or choose a more open cloth."
        case "crossover":
            return "Change the subs' delay or polarity on Align, or the crossover; no filter fills it."
        case "microphone":
            return "Read in the microphone's curve, or use another microphone."


def _usual(finding: CurveFinding) -> str:
    """What Shape would say of it too."""
    if finding.spots < _MOST_SPOTS * finding.of_spots:
        return "Leave it: not enough spots have it."
    if finding.size_db > 0:
        return "Cut it."
    if finding.size_db <= -DEEP_DB and finding.width_octaves < NARROW_OCTAVES:
        return "A cancellation: filling it costs headroom; move speaker or seat."
    if finding.width_octaves < _HEARD_OCTAVES:
        return "Leave it: it is narrow."
    if finding.frequency_hz < TYPICAL_LOW_LIMIT_HZ:
        return "Fill it within the limits, unless it lies below what the speaker can play."
    return "Fill it within the limits."


def _nearest(finding: CurveFinding) -> str:
    """What came closest, where there is one."""
    if not finding.causes or finding.causes[0].sure < 0.2:
        return "nothing in the plan or in the direct sound fits"
    return f"closest: {_name(finding.causes[0])}, too little evidence"
