"""The Room stop's tasks: every change is one step that can be undone, and nothing that has takes is lost."""

from dataclasses import replace

import pytest

from dolce.core.geometry import Point
from dolce.core.room import Box, Reverberation
from dolce.errors import Conflict, FormatError, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.room.room_studies import SubPlaceOptions
from dolce.services.sample.demo_rooms import barn
from dolce.store.repositories import steps


@pytest.fixture
def job_id(services):
    return services.jobs.create(JobDetails(name="Barn"), plan=barn()).id


def plan_of(services, job_id):
    return services.jobs.get(job_id).plan


def test_as_many_steps_as_are_kept_can_be_undone_and_what_lies_further_back_is_gone(services, job_id, monkeypatch):
    monkeypatch.setattr(steps, "MOST_STEPS", 3)
    for x in (1.0, 1.1, 1.2, 1.3, 1.4, 1.5):
        services.room.move(job_id, "L", Point(x_m=x, y_m=0.9, z_m=1.2))
    for x in (1.4, 1.3, 1.2):
        services.room.undo(job_id)
        assert plan_of(services, job_id).speaker("L").place.x_m == pytest.approx(x)
    with pytest.raises(Conflict, match="nothing to undo"):
        services.room.undo(job_id)


CHANGES = {
    "move": lambda room, job: room.move(job, "L", Point(x_m=1.3, y_m=0.9, z_m=1.2)),
    "layout": lambda room, job: room.set_layout(job, "5.1", subs=1),
    "channel": lambda room, job: room.add_channel(job, "Lw"),
    "own channel": lambda room, job: room.add_channel(job, "Vog", name="Above"),
    "removed channel": lambda room, job: room.remove_channel(job, "C"),
    "speaker": lambda room, job: room.set_speaker(job, "C", aim="straight", low_limit_hz=60.0),
    "mirror": lambda room, job: room.set_mirror(job, False),
    "seat": lambda room, job: room.add_seat(job, "Guest"),
    "main seat": lambda room, job: room.set_seat(job, 3, name="Composer", weight=2, main=True),
    "removed seat": lambda room, job: room.remove_seat(job, 6),
    "pattern": lambda room, job: room.lay_out_spots(job, "rows", seat_id=1, count=2, spacing_m=0.3),
    "spot": lambda room, job: room.add_spot(job, 2),
    "removed spot": lambda room, job: room.remove_spot(job, 3),
    "box": lambda room, job: room.add_box(
        job, Box(id=9, kind="desk", place=Point(x_m=3, y_m=3, z_m=0.7), width_m=1, depth_m=0.5, height_m=0.04)
    ),
    "box size": lambda room, job: room.set_box(job, 2, depth_m=1.1),
    "removed box": lambda room, job: room.remove_box(job, 2),
    "outline": lambda room, job: room.start_outline(job),
    "reverberation": lambda room, job: room.set_reverberation(job, Reverberation(typed_s=0.7)),
    "subs": lambda room, job: room.place_subs(job, [Point(x_m=0.5, y_m=0.5, z_m=0.3), Point(x_m=5.5, y_m=8, z_m=0.3)]),
}


@pytest.mark.parametrize("what", CHANGES)
def test_every_change_is_one_step_and_can_be_undone_and_done_again(services, job_id, what):
    before = plan_of(services, job_id)
    CHANGES[what](services.room, job_id)
    after = plan_of(services, job_id)
    assert after != before
    assert services.room.view(job_id).undo
    services.room.undo(job_id)
    assert plan_of(services, job_id) == before
    with pytest.raises(Conflict, match="nothing to undo"):
        services.room.undo(job_id)
    services.room.redo(job_id)
    assert plan_of(services, job_id) == after


def test_a_change_after_undo_drops_what_had_been_undone(services, job_id):
    services.room.remove_spot(job_id, 3)
    services.room.undo(job_id)
    services.room.remove_spot(job_id, 4)
    with pytest.raises(Conflict, match="nothing to do again"):
        services.room.redo(job_id)


def test_what_if_keeps_nothing_and_follows_pairs(services, job_id):
    before = plan_of(services, job_id)
    view = services.room.what_if(job_id, "L", Point(x_m=1.5, y_m=1.0, z_m=1.25))
    assert set(view.ghosts) == {"L", "R"}  # the barn moves pairs mirrored
    assert view.ghosts["L"] == before.speaker("L").place
    assert view.findings != services.room.view(job_id).findings
    assert plan_of(services, job_id) == before
    services.room.move(job_id, "L", Point(x_m=1.5, y_m=1.0, z_m=1.25))
    moved = services.room.view(job_id, ghosts=True)
    assert moved.ghosts == view.ghosts
    assert moved.reflections_before is not None
    assert services.room.view(job_id).ghosts == {}


def test_dismissing_needs_a_reason_and_a_finding_that_stands(services, job_id):
    key = services.room.view(job_id).findings.open[0].key
    with pytest.raises(InvalidValue, match="reason"):
        services.room.dismiss(job_id, key, reason=" ")
    services.room.dismiss(job_id, key, reason="the screen needs it there")
    view = services.room.view(job_id)
    assert [f.key for f, _ in view.findings.dismissed] == [key]
    with pytest.raises(Conflict, match="gone already"):
        services.room.dismiss(job_id, key, reason="again")
    services.room.take_up(job_id, key)
    assert services.room.view(job_id).findings.open[0].key == key


def test_takes_protect_their_channels(services, job_id):
    services.rigging.set_rig(job_id, pace="fast", sweep_seconds=1.0)
    services.room.set_layout(job_id, "2.0", subs=0)
    services.room.move(job_id, "spot-2", plan_of(services, job_id).spot(2).place.along(z_m=0.02))
    services.taking.run_spot(job_id, 2)
    services.sound.wait()
    for change in (
        lambda: services.room.set_layout(job_id, "1.0", subs=0),
        lambda: services.room.remove_channel(job_id, "L"),
        lambda: services.room.use_file(job_id, b"{}", name="x.json"),
    ):
        before = plan_of(services, job_id)
        with pytest.raises((Conflict, FormatError)):
            change()
        assert plan_of(services, job_id) == before
    # Undo of the layout would leave L and R, which is fine; the takes keep where things stood.
    take = services.taking.board(job_id).takes["L", 2]
    services.room.move(job_id, "L", Point(x_m=2.0, y_m=1.5, z_m=1.2))
    assert take.speaker_place == Point(x_m=1.15, y_m=0.75, z_m=1.25)
    assert take.spot_place == plan_of(services, job_id).spot(2).place


def test_takes_stay_with_their_spots_whatever_is_laid_out_over_them(services, job_id):
    services.rigging.set_rig(job_id, pace="fast", sweep_seconds=1.0)
    services.room.set_layout(job_id, "2.0", subs=0)
    services.taking.run_spot(job_id, 2)
    services.sound.wait()
    old = {spot.id: spot for spot in plan_of(services, job_id).spots}
    services.room.lay_out_spots(job_id, "flat", seat_id=1, count=9, spacing_m=0.31)
    new = plan_of(services, job_id).spots
    # Other places are other spots: none of them has what was taken at spot 2.
    assert {s.id for s in new} & set(old) == {i for i, s in old.items() if s.seat_id != 1 or i == 1}
    board = services.taking.board(job_id)
    assert (board.taken, board.away, len(board.takes)) == (0, 2, 0)
    assert services.progress.status(job_id).stops[2].line == f"0 of {2 * len(new)} takes"
    services.room.undo(job_id)  # they are there again
    assert services.taking.board(job_id).takes.keys() == {("L", 2), ("R", 2)}
    services.room.remove_spot(job_id, 2)
    services.room.add_spot(job_id, 1)  # and a new spot never gets the id of an old one
    assert plan_of(services, job_id).spots[-1].id > max(old)
    assert services.taking.board(job_id).taken == 0


@pytest.mark.parametrize("went", ["removed", "taken back"])
def test_the_id_of_the_last_spot_is_never_given_away(services, job_id, went):
    services.rigging.set_rig(job_id, pace="fast", sweep_seconds=1.0)
    services.room.add_spot(job_id, 1)
    last = plan_of(services, job_id).last_spot_id
    services.taking.repeat(job_id, "L", last)
    services.sound.wait()
    assert services.taking.board(job_id).taken == 1
    if went == "removed":
        services.room.remove_spot(job_id, last)
    else:
        services.room.undo(job_id)
    services.room.add_spot(job_id, 2)
    assert plan_of(services, job_id).last_spot_id == last + 1
    assert services.taking.board(job_id).taken == 0


def test_a_file_of_a_room_brings_no_ids_that_takes_hang_on(services, job_id):
    data, _ = services.room.room_file(job_id)
    services.rigging.set_rig(job_id, pace="fast", sweep_seconds=1.0)
    services.room.set_layout(job_id, "2.0", subs=0)
    services.taking.repeat(job_id, "L", 2)
    services.sound.wait()
    elsewhere = (
        data.replace(b'"id": 2,', b'"id": 99,').replace(b'"id": 3,', b'"id": 2,').replace(b'"id": 99,', b'"id": 3,')
    )
    services.room.use_file(job_id, elsewhere, name="room.json")
    place = services.taking.board(job_id).takes["L", 2].spot_place
    assert plan_of(services, job_id).spot(2).place == place


def test_spots_belong_to_a_seat_or_stand_close_to_a_speaker_or_are_free(services, job_id):
    plan = plan_of(services, job_id)
    services.room.set_spot(job_id, 3, seat_id=None, close_to="C")
    services.room.set_spot(job_id, 4, seat_id=None)
    services.room.set_spot(job_id, 5, seat_id=2)
    after = plan_of(services, job_id)
    assert [after.belongs_to(after.spot(k)) for k in (3, 4, 5)] == ["close to C", "free", plan.seat(2).name]
    assert {3, 4, 5} & {s.id for s in after.spots_of(1)} == set()
    far = services.room.view(job_id).warnings
    assert ("not close", "C") in {(w.kind, w.about) for w in far}
    close = after.speaker("C").place.along(y_m=0.5)
    services.room.move(job_id, "spot-3", close)
    assert 3 not in {w.spot for w in services.room.view(job_id).warnings if w.kind in ("not close", "speaker")}
    services.room.remove_channel(job_id, "C")
    assert plan_of(services, job_id).belongs_to(plan_of(services, job_id).spot(3)) == "free"
    with pytest.raises(InvalidValue, match="can't belong to a seat and stand close"):
        services.room.set_spot(job_id, 3, seat_id=1, close_to="L")


def test_partners_are_told(services, job_id):
    services.room.set_speaker(job_id, "L", partner="C")
    plan = plan_of(services, job_id)
    assert plan.speaker("C").partner == "L"
    assert plan.speaker("R").partner is None
    with pytest.raises(InvalidValue, match="its own partner"):
        services.room.set_speaker(job_id, "L", partner="L")


def test_the_main_seat_stays(services, job_id):
    with pytest.raises(Conflict, match="main seat"):
        services.room.remove_seat(job_id, 1)
    with pytest.raises(InvalidValue, match="Director is the main seat"):
        services.room.set_seat(job_id, 1, name="Director", weight=1, main=False)
    services.room.set_seat(job_id, 2, name="Puppeteer", weight=1, main=True)
    assert [s.id for s in plan_of(services, job_id).seats if s.is_main] == [2]


def test_files_go_both_ways(services, job_id):
    data, name = services.room.room_file(job_id)
    assert name.endswith(".json")
    other = services.jobs.create(JobDetails(name="Other")).id
    services.room.use_file(other, data, name=name)
    there, here = plan_of(services, other), plan_of(services, job_id)
    # The same room; its spots are new to the other job.
    assert [replace(s, id=1) for s in there.spots] == [replace(s, id=1) for s in here.spots]
    assert replace(there, spots=(), last_spot_id=0) == replace(here, spots=(), last_spot_id=0)
    services.room.undo(other)
    assert plan_of(services, other).layout == "2.0"
    table, name = services.room.places_file(job_id)
    services.room.use_file(job_id, table.replace(b"L,Left,1.1500", b"L,Left,1.4000"), name=name)
    assert plan_of(services, job_id).speaker("L").place.x_m == 1.4


def test_rankings_are_kept_until_the_plan_changes(services, job_id):
    plan = plan_of(services, job_id)
    options = SubPlaceOptions(subs=2)
    first = services.room_studies.sub_places(plan, options)
    assert services.room_studies.sub_places(plan, options).ranking is first.ranking
    other = replace(plan, seats=(replace(plan.seats[0], weight=3.0), *plan.seats[1:]))
    assert services.room_studies.sub_places(other, options).ranking is not first.ranking
    refused = services.room_studies.sub_places(plan, SubPlaceOptions(subs=4, kinds=("grid",), grid_m=0.5))
    assert refused.ranking is None
    assert "choices" in refused.refusal
    services.room.place_subs(job_id, first.ranking.best[0].places)
    assert [s.place for s in plan_of(services, job_id).subs] == list(first.ranking.best[0].places)
    stood = services.room_studies.sub_places(plan_of(services, job_id), options).ranking.present
    assert stood.spread_db == pytest.approx(first.ranking.best[0].spread_db)


def test_without_spots_the_rig_and_the_board_say_so(services, job_id):
    for number in range(24, 1, -1):
        services.room.remove_spot(job_id, number)
    with pytest.raises(Conflict, match="last spot"):
        services.room.remove_spot(job_id, 1)
    services.room.set_seat(job_id, 2, name="Puppeteer", weight=1, main=True)
    services.room.remove_seat(job_id, 1)  # its spot goes with it
    with pytest.raises(Conflict, match="no spot for the microphone"):
        services.rigging.check_level(job_id)
    assert services.taking.board(job_id).next_spot is None
