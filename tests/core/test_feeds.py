"""Rows of the board: what they are, how they are played, and which cells they ask for."""

from dataclasses import replace

import pytest

from dolce.core.geometry import RoomSize
from dolce.core.job import HowTaken, PassOptions, Rows, label_of, name_of, steps_of
from dolce.core.processor import BassManagement, Crossover, Preset, ProcessorState
from dolce.core.room import new_plan
from dolce.errors import InvalidValue, NotFound

SIZE = RoomSize(length_m=6.0, width_m=4.6, height_m=2.7)
PLAN = new_plan(SIZE, layout="5.1", subs=2)


@pytest.fixture
def job(demo, demo_job):
    """A job of that plan."""
    return replace(demo.jobs.get(demo_job), plan=PLAN, rows=Rows())


def test_rows_are_channels_subs_together_and_combinations_of_what_is_there():
    rows = Rows(combinations=(("L", "Sub1"), ("L", "Lw")))
    assert [feed.code for feed in rows.feeds(PLAN)] == [*PLAN.channels, "Sub1_Sub2", "L_Sub1"]
    assert [feed.label for feed in rows.feeds(PLAN)][-2:] == ["Subs", "L + Sub1"]
    assert "Sub1_Sub2" not in [feed.code for feed in Rows(subs_together=False).feeds(PLAN)]
    one_sub = new_plan(SIZE, layout="5.1", subs=1)
    assert [feed.code for feed in Rows().feeds(one_sub)] == list(one_sub.channels)


def test_subs_alone_are_played_over_the_bass_and_a_rows_own_way_counts_before_its_groups():
    feeds = {feed.code: feed for feed in Rows().feeds(PLAN)}
    assert (Rows().how(feeds["L"]).high_hz, Rows().how(feeds["Sub1"]).high_hz) == (22_000, 250)
    assert Rows().how(feeds["Sub1_Sub2"]).high_hz == 250
    rows = Rows().with_how("fronts", HowTaken(repeats=2)).with_how("C", HowTaken(repeats=4))
    assert [rows.how(feeds[c]).repeats for c in ("L", "C", "Ls")] == [2, 4, 1]
    assert rows.with_how("C", None).how(feeds["C"]).repeats == 2


def test_a_combination_is_added_once_and_taken_off():
    rows = Rows(subs_together=False).with_combination(PLAN, ("Sub1", "L"))
    assert rows.combinations == (("L", "Sub1"),)  # in the order of the plan
    with pytest.raises(InvalidValue, match="already"):
        rows.with_combination(PLAN, ("L", "Sub1"))
    with pytest.raises(InvalidValue, match="two channels"):
        rows.with_combination(PLAN, ("L",))
    assert rows.with_combination(PLAN, ("Sub1", "Sub2")).subs_together
    assert rows.without_combination(PLAN, "L_Sub1").combinations == ()
    assert not Rows().without_combination(PLAN, "Sub1_Sub2").subs_together
    with pytest.raises(NotFound):
        rows.without_combination(PLAN, "L_R")


def test_a_range_of_less_than_an_octave_or_too_many_repeats_are_refused():
    with pytest.raises(InvalidValue, match="less than an octave"):
        HowTaken(low_hz=100, high_hz=150)
    with pytest.raises(InvalidValue, match="averaged"):
        HowTaken(repeats=9)


def test_names_of_rows_for_people():
    assert (label_of("Sub1_Sub2"), name_of("L"), name_of("L_Sub1")) == ("Sub1 + Sub2", "Left", "L + Sub1")


def test_a_spot_close_to_a_speaker_is_for_it_alone_and_one_spot_is_the_main_seats_centre(job):
    spots = job.spots
    near = replace(spots[-1], seat_id=None, close_to="R")
    job = replace(
        job, plan=replace(job.plan, spots=(*spots[:-1], near)), rows=Rows().with_how("C", HowTaken(one_spot=True))
    )
    assert [code for code, spot in job.asked if spot == near.id] == ["R"]
    assert [spot for code, spot in job.asked if code == "C"] == [job.plan.centre_spot.id]
    assert len([1 for code, _ in job.asked if code == "L"]) == len(spots) - 1
    # A pass takes no more than what is asked for, whichever rows and columns were chosen.
    steps = steps_of(job, PassOptions(channels=("C", "R"), taken_too=True), lambda code, spot: False)
    assert set(steps) == {cell for cell in job.asked if cell[0] in ("C", "R")}


def test_where_the_processor_manages_the_bass_subs_are_not_fed_besides_a_main(job):
    assert job.routed(("L", "Sub1", "Sub2")) == (("L", "Sub1", "Sub2"), ("L", "Sub1", "Sub2"))
    bass = BassManagement(crossover=Crossover(frequency_hz=80), subs=("Sub1", "Sub2"))
    managed = replace(job, processor=ProcessorState(active="A", presets={"A": Preset(name="Bass", bass=bass)}))
    assert managed.routed(("L", "Sub1", "Sub2")) == (("L",), ("L", "Sub1", "Sub2"))
    assert managed.routed(("L", "R")) == (("L", "R"), ("L", "R", "Sub1", "Sub2"))
