"""What to do next: from an empty job to its report."""

from dataclasses import dataclass, replace
from itertools import product

import pytest

from dolce.core.job import JobFacts, needed_sheets, next_step

EMPTY = JobFacts()
READY = JobFacts(spots=9, microphone="", level_checked=True, wanted=18)
TAKEN = replace(READY, has_base=True, base_full=True, begun=True, taken=18)
SHAPED = replace(TAKEN, aligned=True, filters=True)
LOADED = replace(SHAPED, loaded="A")
PLAYING = replace(LOADED, bypassed=False, corrects=True, fits=False)
FRESH = replace(PLAYING, begun=False, fits=True, taken=0)
DONE = replace(PLAYING, fits=True, taken=18, through=True)


@pytest.mark.parametrize(
    ("facts", "step"),
    [
        (EMPTY, "spots"),
        (replace(READY, microphone="no curve", level_checked=False), "microphone"),
        (replace(READY, level_checked=False), "level"),
        (replace(READY, clips=True), "level clips"),
        (replace(READY, bypassed=False), "neutral"),
        (replace(READY, bypassed=False, level_checked=False), "neutral"),
        (replace(READY, level_checked=False, lines="none"), "level"),
        (replace(READY, lines="none"), "lines"),
        (replace(READY, lines="heard"), "lines heard"),
        (replace(READY, lines="wrong"), "lines wrong"),
        (replace(READY, noise_known=False), "noise"),
        (READY, "take"),
        (replace(TAKEN, taken=5, base_full=False), "take"),
        (TAKEN, "align"),
        (replace(TAKEN, outliers=2), "outliers"),
        (replace(TAKEN, outliers=2, aligned=True), "filters"),
        (replace(TAKEN, aligned=True), "filters"),
        (replace(TAKEN, aligned=True, subs=2), "subs"),
        (replace(TAKEN, aligned=True, subs=2, subs_one=True), "crossovers"),
        (replace(TAKEN, aligned=True, subs=1), "crossovers"),
        (replace(TAKEN, aligned=True, subs=2, subs_one=True, crossed=True), "filters"),
        (replace(SHAPED, moved_on=True), "filters again"),
        (SHAPED, "load"),
        (LOADED, "play"),
        (PLAYING, "round"),
        (FRESH, "take"),
        (replace(FRESH, begun=True, taken=4, through=True), "take"),
        (DONE, "prove"),
        (replace(DONE, bypassed=True, corrects=False, fits=False), "prove"),
    ],
)
def test_each_state_has_its_step_in_the_order_of_the_work(facts, step):
    assert next_step(facts) == step


def test_while_sound_plays_nothing_else_is_asked_for():
    assert next_step(replace(READY, sounding=True)) == "sounding"


def test_who_has_takes_is_not_sent_back_to_the_microphone_or_the_level():
    assert next_step(replace(TAKEN, microphone="no microphone", level_checked=False)) == "align"


def test_a_round_that_was_begun_is_finished_first_also_when_the_work_is_done():
    # A re-check next year: the correction plays, a new round holds some takes.
    assert next_step(replace(DONE, taken=7)) == "take"
    # Filters that were found anew since are loaded before the next round.
    assert next_step(replace(DONE, loaded="")) == "load"


def test_takes_of_another_state_ask_for_a_round_of_their_own():
    assert next_step(replace(TAKEN, base_full=False, taken=9, fits=False, bypassed=True)) == "round"
    assert next_step(replace(TAKEN, base_full=False, taken=9, fits=False, bypassed=False)) == "neutral"


def test_every_job_needs_four_sheets_of_the_rig_and_one_that_can_not_be_read_its_processor():
    four = ("setup", "microphones", "level", "lines")
    assert needed_sheets(simulated=True, processor_readable=True) == four
    assert needed_sheets(simulated=False, processor_readable=True) == four
    assert needed_sheets(simulated=False, processor_readable=False) == (*four[:2], "processor", *four[2:])


@dataclass(frozen=True)
class Walked:
    """A job as the next step sees it, and what pressing its button makes of it."""

    before: tuple[
        str, str, str
    ]  # what is wrong with the microphone; level "none", "clips" or "checked"; lines and noise
    processor: str  # "neutral", "ours" or "other"
    state: str | None  # in which the present round is taken; None where it was not begun
    taken: int  # of two cells
    earlier: int  # cells of an earlier untouched round
    aligned: bool
    filters: str  # "none", "found" or "old"
    subs: tuple[int, bool, bool]  # how many, one, crossed
    loaded: bool
    outliers: int = 0
    unread: int = 0  # points of a chain that can't be read

    @property
    def facts(self) -> JobFacts:
        microphone, level, lines = self.before
        base = max(self.earlier, self.taken if self.state == "neutral" else 0)
        return JobFacts(
            spots=1,
            microphone=microphone,
            level_checked=level != "none",
            clips=level == "clips",
            lines="done" if base or lines == "quiet" else lines,
            noise_known=bool(base) or lines == "quiet",
            outliers=self.outliers,
            bypassed=self.processor == "neutral",
            corrects=self.processor == "ours",
            unread=self.unread,
            begun=self.state is not None,
            fits=self.state in (None, self.processor),
            taken=self.taken,
            wanted=2,
            through=self.state == "ours",
            base_full=base == 2,
            has_base=base > 0,
            aligned=self.aligned,
            filters=self.filters != "none",
            moved_on=self.filters == "old",
            subs=self.subs[0],
            subs_one=self.subs[1],
            crossed=self.subs[2],
            loaded="A" if self.loaded and self.filters == "found" else "",
        )

    def pressed(self, step):
        microphone, level, lines = self.before
        filters = "old" if self.filters != "none" else "none"  # where levels, delays or subs are changed
        match step:
            case "microphone":
                return replace(self, before=("", level, lines))
            case "level":
                return replace(self, before=(microphone, "clips", lines))
            case "level clips":
                return replace(self, before=(microphone, "checked", lines))
            case "lines":
                return replace(self, before=(microphone, level, "heard"))
            case "lines heard" | "lines wrong":
                return replace(self, before=(microphone, level, "done"))
            case "noise":
                return replace(self, before=(microphone, level, "quiet"))
            case "outliers":
                return replace(self, aligned=True, filters=filters)
            case "neutral":
                return replace(self, processor="neutral", unread=0)
            case "round":
                base = max(self.earlier, self.taken if self.state == "neutral" else 0)
                return replace(self, state=None, taken=0, earlier=base)
            case "take":
                assert self.state in (None, self.processor), "takes of two states would be mixed"
                return replace(self, state=self.processor, taken=2)
            case "align":
                return replace(self, aligned=True, filters=filters)
            case "subs":
                return replace(self, subs=(self.subs[0], True, self.subs[2]), filters=filters)
            case "crossovers":
                return replace(self, subs=(self.subs[0], self.subs[1], True), filters=filters)
            case "filters" | "filters again":
                return replace(self, filters="found", loaded=False)
            case "load":
                return replace(self, loaded=True)
            case "play":
                return replace(self, processor="ours")
        raise AssertionError(step)


EVERY_STATE = [
    Walked(*parts)
    for parts in product(
        [
            ("no microphone", "none", "none"),
            ("", "none", "none"),
            ("", "clips", "none"),
            ("", "checked", "wrong"),
            ("", "checked", "done"),
            ("", "checked", "quiet"),
        ],
        ["neutral", "ours", "other"],
        [None, "neutral", "ours", "other"],
        [0, 1, 2],
        [0, 1, 2],
        [False, True],
        ["none", "found", "old"],
        [(0, False, False), (1, False, False), (1, False, True), (2, False, False), (2, True, False), (2, True, True)],
        [False, True],
        [0, 3],
        [0, 10],
    )
    if (parts[2] is None) == (parts[3] == 0)
]


def test_pressing_again_and_again_ends_in_the_report_from_every_state():
    longest, after = 0, {}
    for start in EVERY_STATE:
        walked, path = start, []
        while walked not in after:
            step = next_step(walked.facts)
            if step == "prove":
                after[walked] = 0
                break
            path.append(walked)
            following = walked.pressed(step)
            assert following != walked, (start, step, "changes nothing")
            assert following not in path, (start, step, "goes round in circles")
            walked = following
        for steps, passed in enumerate(reversed(path), 1):
            after[passed] = after[walked] + steps
            longest = max(longest, after[passed])
    assert len(EVERY_STATE) > 20_000
    assert longest <= 20
