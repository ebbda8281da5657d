"""What to do next: from an empty job to its report."""

from dataclasses import replace

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
        (replace(READY, bypassed=False), "neutral"),
        (replace(READY, bypassed=False, level_checked=False), "neutral"),
        (replace(READY, level_checked=False, lines="none"), "level"),
        (replace(READY, lines="none"), "lines"),
        (replace(READY, lines="heard"), "lines heard"),
        (replace(READY, lines="wrong"), "lines wrong"),
        (READY, "take"),
        (replace(TAKEN, taken=5, base_full=False), "take"),
        (TAKEN, "align"),
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
