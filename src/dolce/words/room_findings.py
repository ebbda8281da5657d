"""Findings in words: what, evidence, likely effect, and what moving would do."""

from collections.abc import Callable
from dataclasses import dataclass

from dolce.core.room import Finding, RoomPlan, label_of
from dolce.words.numbers import hertz, length, signed

_AXES = {"x": "width", "y": "length", "z": "height"}


@dataclass(frozen=True, slots=True, kw_only=True)
class FindingWords:
    """One finding as it is read."""

    key: str
    title: str
    evidence: str
    effect: str
    advice: str
    matters: bool
    subjects: tuple[str, ...]


class _Writer:
    """Writes about one finding in the units of the job."""

    def __init__(self, finding: Finding, plan: RoomPlan, units: str) -> None:
        self.finding, self.plan, self.units = finding, plan, units
        self.value = finding.values
        self.names = [label_of(plan, subject) for subject in finding.subjects]

    def m(self, name: str) -> str:
        return length(abs(self.value[name]), self.units)

    def hz(self, name: str) -> str:
        return hertz(self.value[name])

    def deg(self, name: str) -> str:
        return f"{self.value[name]:.1f}°".replace("-", "−")

    def db(self, name: str) -> str:
        return f"{signed(self.value[name])} dB"

    @property
    def who(self) -> str:
        return " and ".join(self.names)


def words_of(finding: Finding, plan: RoomPlan, units: str) -> FindingWords:
    """A finding in words, lengths in the job's units."""
    writer = _Writer(finding, plan, units)
    title, evidence, effect, advice = _WORDS[finding.kind](writer)
    return FindingWords(
        key=finding.key,
        title=title,
        evidence=evidence,
        effect=effect,
        advice=advice,
        matters=finding.matters,
        subjects=finding.subjects,
    )


def _angle(w: _Writer) -> tuple[str, str, str, str]:
    side = "right" if w.value["azimuth_deg"] > 0 else "left"
    low, high = sorted((abs(w.value["low_deg"]), abs(w.value["high_deg"])))
    low = 0 if w.value["low_deg"] < 0 < w.value["high_deg"] else low
    return (
        f"{w.who} is {w.deg('off_deg')} off its angle",
        f"{abs(w.value['azimuth_deg']):.1f}° to the {side}; {low:g} to {high:g}° by {w.finding.about}.",
        "Images shift and widen or narrow against what was mixed.",
        f"Move it {w.m('by_m')}, to x {w.m('to_x_m')}, y {w.m('to_y_m')}.",
    )


def _elevation(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.who} is {w.deg('elevation_deg')} up",
        f"{w.value['low_deg']:g} to {w.value['high_deg']:g}° by {w.finding.about}.",
        "Too low it merges with the ear-level channels, too high it loses its side.",
        f"At {w.m('across_m')} along the floor it belongs {w.m('to_z_m')} high; at its present height, "
        f"{w.m('to_across_m')} away.",
    )


def _axis_height(w: _Writer) -> tuple[str, str, str, str]:
    over = "above" if w.value["rise_m"] > 0 else "below"
    return (
        f"{w.who} stands {w.m('rise_m')} {over} the ears",
        f"{abs(w.value['angle_deg']):.0f}° off the axis in height; 10° is common practice.",
        "Dips around the crossover of its drivers; the image moves up or down.",
        f"Raise or lower it to {w.m('ear_m')}, or tilt it by {abs(w.value['angle_deg']):.0f}°.",
    )


def _correction_settings(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.who} points {w.value['past_deg']:.0f}° past the main seat",
        "Its axis against the line to the seat, in the plan.",
        "Less treble than the other channels have there.",
        "Turn it toward the seat.",
    )


def _side_walls(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.who} are not equally far from their side walls",
        f"{w.m('left_m')} and {w.m('right_m')}.",
        f"Their first side-wall cancellations differ: {w.hz('left_hz')} and {w.hz('right_hz')}.",
        f"Shift both, and the seat, by {w.m('shift_m')} toward the farther wall.",
    )


def _distances(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.who} are not equally far from the main seat",
        f"{w.m('left_m')} and {w.m('right_m')}.",
        f"{w.value['late_ms']:.2f} ms and {w.value['level_db']:.1f} dB apart.",
        "Delay and trim can mend this at one seat only; equal distances mend it everywhere.",
    )


def _distance(w: _Writer) -> tuple[str, str, str, str]:
    near = "nearer" if w.value["by_m"] > 0 else "farther"
    return (
        f"{w.who} is {w.m('by_m')} {near} than the front",
        f"{w.m('away_m')} against {w.m('usual_m')}.",
        f"{w.db('level_db')} and {abs(w.value['late_ms']):.2f} ms against them at the main seat; other seats hear "
        "other differences.",
        "Trim and delay mend it at the main seat; a like distance mends it for all.",
    )


def _base(w: _Writer) -> tuple[str, str, str, str]:
    direction = "back" if w.value["by_m"] > 0 else "forward"
    return (
        f"L and R are {w.value['angle_deg']:.0f}° apart",
        "60° by ITU-R BS.775.",
        "Narrower weakens the sides, wider opens a hole in the middle.",
        f"The seat {w.m('by_m')} {direction}, at y {w.m('seat_y_m')}, makes it 60°.",
    )


def _back_wall(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.names[0]} is {w.m('behind_m')} from the back wall",
        f"Every mode of the length is loud there; the wall cancels around {w.hz('notch_hz')}.",
        "Too much low bass, a hole above it, no depth.",
        f"Move it {w.m('by_m')} forward or more.",
    )


def _half_length(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.names[0]} is at half the length",
        f"{w.value['part']:.0f} % of the length from the front.",
        f"The first mode of the length, {w.hz('mode_hz')}, and every odd one is silent there.",
        f"Move it {w.m('by_m')} forward, to y {w.m('to_y_m')}.",
    )


def _front_part(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.names[0]} is behind the front part",
        f"{w.value['part']:.0f} % of the length from the front; up to 40 is common practice.",
        "The back wall comes in earlier and louder.",
        f"{w.m('by_m')} forward would be y {w.m('to_y_m')}.",
    )


def _cancellation(w: _Writer) -> tuple[str, str, str, str]:
    channels, seat = w.names[:-1], w.names[-1]
    span = ""
    if w.value["highest_hz"] > w.value["lowest_hz"] * 1.03:
        span = f" Over the seats {w.hz('lowest_hz')} to {w.hz('highest_hz')}."
    about = w.finding.about[:1].lower() + w.finding.about[1:]
    boundary = about if about.startswith("wall ") else f"the {about}"
    return (
        f"{' and '.join(channels)}: cancelled at {w.hz('frequency_hz')} by {boundary}",
        f"{w.m('distance_m')} to {boundary}; at {seat}.{span}",
        f"Up to {signed(w.value['depth_db'], 0)} dB there; gain can't fill it.",
        f"20 cm nearer: {w.hz('nearer_hz')}; 20 cm farther: {w.hz('farther_hz')}."
        if w.units == "metres"
        else f'8" nearer: {w.hz("nearer_hz")}; 8" farther: {w.hz("farther_hz")}.',
    )


def _loading(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.who} is loaded by {w.value['walls']:g} boundaries",
        f"The nearest at {w.m('nearest_m')}.",
        f"Up to +{w.value['up_to_db']:.0f} dB at the bottom, {w.db('gain_db')} at 63 Hz, against the open.",
        "A corner gives most output; use a bass cut, or move it out, if it booms.",
    )


def _unequal_loading(w: _Writer) -> tuple[str, str, str, str]:
    return (
        f"{w.who} are loaded differently",
        f"{w.db('first_db')} and {w.db('second_db')} at 63 Hz from near walls.",
        f"Their bass differs by {abs(w.value['first_db'] - w.value['second_db']):.1f} dB before any mode.",
        "Give both the same distances to wall, floor and corner.",
    )


def _mode_null(w: _Writer) -> tuple[str, str, str, str]:
    axis = _AXES[w.finding.about[0]]
    return (
        f"{w.names[0]} sits in a null at {w.hz('frequency_hz')}",
        f"Mode {w.finding.about[1:]} of the {axis}, {signed(w.value['level_db'], 0)} dB against its loudest place.",
        "That note is thin there, whatever plays.",
        _move_advice(w, axis),
    )


def _mode_peak(w: _Writer) -> tuple[str, str, str, str]:
    axis = _AXES[w.finding.about[0]]
    return (
        f"{w.names[0]} sits at the peak of {w.hz('frequency_hz')}",
        f"Mode {w.finding.about[1:]} of the {axis}, as loud as anywhere.",
        "That note booms there.",
        _move_advice(w, axis),
    )


def _move_advice(w: _Writer, axis: str) -> str:
    by = w.value["by_m"]
    if not by:
        return "No step of up to 1.5 m along this axis helps."
    directions = {"width": ("left", "right"), "length": ("forward", "back"), "height": ("down", "up")}[axis][by > 0]
    middle = (
        " The middle of the width is this mode's null for everybody; L and R alike hardly drive it."
        if axis == "width" and w.finding.kind == "mode null"
        else ""
    )
    return f"{w.m('by_m')} {directions} leaves it.{middle}"


_WORDS: dict[str, Callable[[_Writer], tuple[str, str, str, str]]] = {
    "angle": _angle,
    "elevation": _elevation,
    "axis height": _axis_height,
    "aim": _correction_settings,
    "side walls": _side_walls,
    "distances": _distances,
    "distance": _distance,
    "stereo base": _base,
    "back wall": _back_wall,
    "half length": _half_length,
    "front part": _front_part,
    "cancellation": _cancellation,
    "loading": _loading,
    "unequal loading": _unequal_loading,
    "mode null": _mode_null,
    "mode peak": _mode_peak,
}
