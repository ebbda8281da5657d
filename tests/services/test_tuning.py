"""What carries a result is kept with it: the round, the spots, the seats, the alignment."""

import io
import zipfile
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from asking import client_of
from dolce.core.correction import Limits, Target
from dolce.core.geometry import Point
from dolce.core.processor import ProcessorLimits
from dolce.core.response import ANALYSIS_GRID_HZ, Caution
from dolce.core.rig import Fault
from dolce.core.tuning import CorrectionSettings
from dolce.devices.rehearsal import RehearsalRig
from dolce.errors import Conflict
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import SMOOTHINGS, ReadOptions
from dolce.services.sample.demo_rooms import net_loft


@pytest.fixture
def job_id(services):
    """A pair with two spots at the main seat and two at another one, taken while bypassed."""
    job = services.jobs.create(JobDetails(name="Loft"))
    services.room.lay_out_spots(job.id, "one", seat_id=1, count=1, spacing_m=0.2)
    services.room.add_spot(job.id, 1)
    services.room.add_seat(job.id, "Bench", Point(x_m=0.8, y_m=3.4, z_m=1.1))
    for _ in range(2):
        services.room.add_spot(job.id, 2)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.5)
    run_rest(services, job.id)
    return job.id


def run_rest(services, job_id):
    services.taking.run_rest(job_id)
    services.sound.wait()


def through_a_preset(services, job_id):
    services.aligning.use_proposal(job_id)
    services.finding.find(job_id)
    services.loading.load(job_id, "A", "corrected")
    services.loading.switch(job_id, "A")
    services.rounds.new(job_id)


def test_a_stray_take_in_a_later_bypassed_round_empties_nothing(services, job_id):
    through_a_preset(services, job_id)
    run_rest(services, job_id)
    before = services.proving.view(job_id)
    assert before.passed, before.against
    services.loading.switch(job_id, "bypass")
    services.rounds.new(job_id, name="Stray")
    services.taking.repeat(job_id, "L", services.jobs.get(job_id).spots[0].id)
    services.sound.wait()
    assert services.aligning.view(job_id).round.name == "Untouched"
    assert services.aligning.view(job_id).alignment_table is not None
    after = services.proving.view(job_id)
    assert after.before_round == before.before_round
    assert after.passed
    # Who wants to start from another round says so, and can take it back.
    stray = next(r for r in services.aligning.view(job_id).rounds if r.name == "Stray")
    services.aligning.start_from(job_id, stray.id)
    assert "Round Stray lacks R" in services.aligning.view(job_id).missing
    services.aligning.undo(job_id)
    assert services.aligning.view(job_id).round.name == "Untouched"


def shaped_on(services, job_id):
    """The curves of L that a view of Shape is made of."""
    assert "L" in services.shaping.view(job_id).names
    with services.context.look() as work:
        return services.context.curves.of(work, services.jobs.get(job_id).round_id)["L"]


def test_a_cell_taken_again_changes_what_the_filters_are_fitted_to(services, job_id):
    services.aligning.use_proposal(job_id)
    job = services.jobs.get(job_id)
    before = shaped_on(services, job_id)
    services.rigging.add_fault(job_id, Fault(kind="crossover", channels=("L",)))
    services.taking.repeat(job_id, "L", job.spots[0].id)
    services.sound.wait()
    after = shaped_on(services, job_id)
    fell = np.median((before.level_db - after.level_db)[:, ANALYSIS_GRID_HZ < 80], axis=1)
    assert [t.spot_id for t in after.takes] == [s.id for s in job.spots]
    assert fell[0] > 12.0  # no bass below 200 Hz in the cell that was taken again
    assert fell[1:] == pytest.approx([0, 0, 0], abs=1e-9)


def test_one_spot_of_a_new_round_is_held_against_that_spot(services, job_id):
    through_a_preset(services, job_id)
    services.taking.run_spot(job_id, services.jobs.get(job_id).spots[3].id)
    services.sound.wait()
    proof = services.proving.view(job_id)
    assert (proof.spots, proof.spots_wanted) == (1, 4)
    inside = (ANALYSIS_GRID_HZ >= 20) & (ANALYSIS_GRID_HZ <= 500)
    for channel in proof.channels.values():
        # One spot at a seat far back, the microphone put there by hand twice: see `core.correction.outcome`.
        off = (channel.proof.after_db - channel.proof.predicted_db)[inside]
        assert np.sqrt(np.mean(off**2)) < 1.6


def test_a_seat_of_weight_0_changes_nothing_and_a_seat_weighting_is_kept_with_the_bands(services, job_id):
    def levels():
        return services.shaping.view(job_id, "L").shape.before_db

    both = levels()
    services.room.set_seat(job_id, 2, name="Bench", weight=0, main=False)
    alone = levels()
    assert abs(both - alone).max() > 0.5
    assert len(services.shaping.view(job_id, "L").spots) == 2
    seat_weightings = {b.name: b for b in services.shaping.view(job_id).seat_weightings}
    services.room.set_seat(job_id, 2, name="Bench", weight=1, main=False)
    services.shaping.set_seat_weighting(job_id, seat_weightings["Bench only"])
    services.finding.find(job_id)
    view = services.shaping.view(job_id)
    assert view.correction.seat_weighting.weights == {2: 1.0}
    assert set(view.spots) == {s.id for s in services.jobs.get(job_id).spots[2:]}
    services.room.set_seat(job_id, 2, name="Bench", weight=0.2, main=False)  # the bands were not for this
    assert services.shaping.view(job_id).correction.seat_weighting.weights == {2: 1.0}


def test_filters_say_when_the_alignment_has_moved_on(services, job_id):
    through_a_preset(services, job_id)
    assert not services.shaping.view(job_id).moved_on
    stood_on = services.loading.view(job_id).settings["L"].trim_db
    services.aligning.choose(job_id, {"L": (-3.0, 0.0, "normal"), "R": (0.0, 0.0, "normal")})
    assert services.shaping.view(job_id).moved_on
    assert services.loading.view(job_id).moved_on
    assert services.loading.view(job_id).settings["L"].trim_db == stood_on
    services.shaping.stand_on_present(job_id)
    assert not services.shaping.view(job_id).moved_on
    assert services.loading.view(job_id).settings["L"].trim_db <= -3.0
    services.shaping.undo(job_id)
    assert services.shaping.view(job_id).moved_on


def test_recordings_from_elsewhere_pull_no_trim(services, job_id):
    spots = services.jobs.get(job_id).spots
    before = {r.reading.channel: r.trim_db for r in services.aligning.view(job_id).alignment_table.channel_rows}
    for spot in spots[:2]:
        take = services.taking.board(job_id).takes["R", spot.id]
        samples, rate = soundfile.read(io.BytesIO(services.recordings.original(job_id, take.id)[0]))
        out = io.BytesIO()
        soundfile.write(out, samples * 0.1, rate, format="WAV", subtype="PCM_24")  # a recorder 20 dB softer
        services.recordings.add(job_id, "R", spot.id, out.getvalue(), file_name="r.wav")
    alignment_table = services.aligning.view(job_id).alignment_table
    found = {r.reading.channel: (r.reading.level_db, r.trim_db) for r in alignment_table.channel_rows}
    assert found["R"] == (None, 0.0)
    assert found["L"][1] == 0.0 != min(before.values())


def test_a_recording_from_elsewhere_waits_for_a_round_of_the_processors_state(services, job_id):
    spot = services.jobs.get(job_id).spots[0].id
    data = services.recordings.original(job_id, services.taking.board(job_id).takes["L", spot].id)[0]
    services.aligning.use_proposal(job_id)
    services.loading.load(job_id, "A", "aligned")
    services.loading.switch(job_id, "A")
    with pytest.raises(Conflict, match="Start a new round") as refused:
        services.recordings.add(job_id, "L", spot, data, file_name="l.flac")
    assert refused.value.where == "round"
    services.loading.switch(job_id, "bypass")
    assert services.recordings.add(job_id, "L", spot, data, file_name="l.flac").attempt == 2


def test_takes_from_before_and_after_a_move_are_told_apart(services, job_id):
    services.room.move(job_id, "L", Point(x_m=1.0, y_m=0.8, z_m=1.2))
    assert services.taking.board(job_id).moved == ("L",)
    services.taking.repeat(job_id, "L", services.jobs.get(job_id).spots[0].id)
    services.sound.wait()
    assert services.aligning.view(job_id).moved == ("L",)  # the round holds takes of both places
    assert services.shaping.view(job_id).moved == ("L",)
    services.rounds.new(job_id, name="L moved")
    run_rest(services, job_id)
    assert services.taking.board(job_id).moved == ()
    assert services.taking.board(job_id).round.name == "L moved"  # a given name stays
    assert services.aligning.view(job_id).round.name == "L moved"  # as full, and later
    assert services.aligning.view(job_id).moved == ()
    with pytest.raises(Conflict, match="there is a round L moved already"):
        services.rounds.new(job_id, name="L moved")


def test_the_centre_of_the_main_seat_is_asked_of_the_plan(services, job_id):
    services.room.set_seat(job_id, 2, name="Bench", weight=1, main=True)
    centre = services.jobs.get(job_id).plan.centre_spot
    assert centre.seat_id == 2
    assert services.aligning.view(job_id).alignment_table is not None  # although spot 1 belongs to another seat
    services.lines.run(job_id, ["L"])
    services.sound.wait()
    assert services.lines.view(job_id).last_pass.steps == (("L", centre.id),)


def test_a_copy_keeps_what_its_correction_starts_from_and_stands_on(services, job_id):
    through_a_preset(services, job_id)
    copy = services.jobs.copy(job_id)
    view = services.shaping.view(copy.id)
    assert view.round.id != services.shaping.view(job_id).round.id
    assert view.round.name == "Untouched"
    assert not view.moved_on
    assert services.loading.view(copy.id).settings == services.loading.view(job_id).settings


def test_a_door_slam_is_played_again_and_the_pass_goes_on(services, job_id, monkeypatch):
    from dolce.services.takes import found_take

    services.rounds.new(job_id, name="Slam")
    whole, heard = found_take.captured, []

    def slammed(recording, **how):
        heard.append(1)
        # A slam over all of the second sweep: nothing of it is found.
        slam = np.random.default_rng(3).uniform(-0.5, 0.5, recording.size)
        return whole(slam if len(heard) == 2 else recording, **how)

    monkeypatch.setattr(found_take, "captured", slammed)
    run_rest(services, job_id)
    board = services.taking.board(job_id)
    assert (board.last_pass.state, board.taken, board.wanted) == ("done", 8, 8)
    assert len(heard) == 9


def test_drop_outs_that_the_driver_reports_are_kept_with_the_take(services, job_id, monkeypatch):
    spot = services.jobs.get(job_id).spots[0].id
    monkeypatch.setattr(RehearsalRig, "dropouts", property(lambda rig: 3))
    services.taking.repeat(job_id, "L", spot)
    services.sound.wait()
    takes = services.taking.board(job_id).takes
    assert Caution(kind="drop-outs", value=3) in takes["L", spot].cautions
    assert "drop-outs" not in {caution.kind for caution in takes["R", spot].cautions}


def test_a_speaker_that_is_not_heard_ends_the_pass_with_what_to_do(services, job_id):
    services.rigging.set_faults(job_id, [Fault(kind="dead", channels=("R",))])
    services.rounds.new(job_id, name="Dead")
    run_rest(services, job_id)
    last = services.taking.board(job_id).last_pass
    assert last.state == "failed"
    assert "R at spot 1: its sweep was not heard in 3 attempts. Check that it plays (Line check)" in last.message
    assert services.taking.board(job_id).taken == 1  # L at spot 1 is kept


def test_load_opens_although_a_preset_fits_no_more(services, job_id):
    through_a_preset(services, job_id)
    services.loading.load(job_id, "B", "convolved")
    services.processor.add_limits(job_id, ProcessorLimits(name="No taps", taps=0))
    view = services.loading.view(job_id)
    assert view.loaded_is_current["B"] is False


def test_what_would_spoil_a_pass_is_said_before_it(services, job_id):
    services.rounds.new(job_id, name="Spoiled")
    client = client_of(services)
    assert "all the same" not in client.get(f"/jobs/{job_id}/takes").text
    services.rigging.set_faults(job_id, [Fault(kind="inverted", channels=("R",))])
    services.lines.run(job_id)
    services.sound.wait()
    assert services.lines.view(job_id).wrong == ("R",)
    assert "The line check found R wrong" in client.get(f"/jobs/{job_id}/takes").text
    services.processor.leave_something(job_id)
    page = client.get(f"/jobs/{job_id}/takes").text
    assert "The processor plays Film night, which was in it before" in page
    assert "Run spot 1 all the same" in page


def test_levels_are_matched_at_the_main_seat_until_a_seat_weighting_is_chosen(services, job_id):
    def levels():
        return {
            r.reading.channel: r.reading.level_db for r in services.aligning.view(job_id).alignment_table.channel_rows
        }

    seat = levels()
    view = services.aligning.view(job_id)
    assert view.levels_over == view.job.seat.name
    everyone = view.seat_weightings[0]
    services.aligning.set_seat_weighting(job_id, everyone)
    assert levels() != pytest.approx(seat, abs=0.05)
    # By hand: energy over all spots, each seat by its weight, in the band where levels are matched.
    weights = everyone.spot_weights({spot.id: spot.seat_id for spot in view.job.spots})
    band = (ANALYSIS_GRID_HZ >= 500) & (ANALYSIS_GRID_HZ <= 2000)
    takes = [t for t in services.taking.board(job_id).takes.values() if t.channel == "L"]
    power = sum(weights[t.spot_id] * 10 ** (t.level_db[band] / 10) for t in takes) / sum(weights.values())
    assert levels()["L"] == pytest.approx(10 * np.log10(power.mean()), abs=1e-6)
    through_a_preset(services, job_id)
    run_rest(services, job_id)
    proof = services.proving.view(job_id)
    assert proof.correction.alignment.seat_weighting == everyone  # proven over the same seats
    assert proof.passed, proof.against
    services.aligning.set_seat_weighting(job_id, None)
    assert levels() == pytest.approx(seat)
    page = client_of(services).get(f"/jobs/{job_id}/align").text
    assert "energy average over the spots of" in page
    assert "30 to 80 Hz" not in page  # there is no sub


def recorded(services, job_id, channel, *, gain_db, recorder, spot=None):
    """A recording from elsewhere of what the rig heard, with a gain of its own."""
    spot = spot or services.jobs.get(job_id).spots[0].id
    take = services.taking.board(job_id).takes[(channel, spot)]
    data, name = services.recordings.original(job_id, take.id)
    samples, rate = soundfile.read(io.BytesIO(data))
    out = io.BytesIO()
    soundfile.write(out, samples * 10 ** (gain_db / 20), rate, format="WAV", subtype="FLOAT")
    return out.getvalue(), name


def test_recordings_of_one_recorder_are_level_with_each_other_and_pull_nobody_else(services, job_id):
    job = services.jobs.get(job_id)
    spots = [s.id for s in job.main_spots]
    files = {
        (c, s): recorded(services, job_id, c, gain_db=-7.0, recorder="", spot=s)[0] for c in job.channels for s in spots
    }
    proposed = {r.reading.channel: r.trim_db for r in services.aligning.view(job_id).alignment_table.channel_rows}

    def trims(recorders):
        services.rounds.new(job_id)
        for (channel, spot), data in files.items():
            services.recordings.add(job_id, channel, spot, data, file_name="x.wav", recorder=recorders[channel])
        services.aligning.start_from(job_id, services.jobs.get(job_id).round_id)
        channel_rows = services.aligning.view(job_id).alignment_table.channel_rows
        assert all(r.reading.arrival_s is None for r in channel_rows)  # each file has a clock of its own
        return {r.reading.channel: r.trim_db for r in channel_rows}, {
            r.reading.channel: r.reading.level_db for r in channel_rows
        }

    alone, levels = trims({"L": "", "R": ""})
    assert (alone, levels) == ({"L": 0, "R": 0}, {"L": None, "R": None})
    together, _ = trims({"L": "Handheld, gain 30", "R": "Handheld, gain 30"})
    assert together == pytest.approx(proposed, abs=0.11)  # steps of 0.1 dB
    assert any(together.values())
    apart, levels = trims({"L": "Handheld, gain 30", "R": "Handheld, gain 40"})
    assert apart == {"L": 0, "R": 0}
    assert sum(level is None for level in levels.values()) == 1


def test_the_package_is_sent_while_it_is_made(services, job_id):
    services.aligning.use_proposal(job_id)
    services.finding.find(job_id)
    answer = client_of(services).get(f"/jobs/{job_id}/load/package.zip")
    assert answer.is_streamed
    assert answer.headers["Content-Disposition"] == "attachment; filename=dolce-loft.zip"
    assert "Content-Length" not in answer.headers
    names = zipfile.ZipFile(io.BytesIO(answer.data)).namelist()
    assert names[0] == "README.txt"
    assert {f"impulse-responses/{rate}/{c}-{rate}Hz.wav" for rate in (44_100, 192_000) for c in "LR"} <= set(names)


def test_the_first_find_can_be_undone(services, job_id):
    services.aligning.use_proposal(job_id)
    services.finding.find(job_id)
    view = services.shaping.view(job_id)
    assert view.undo == "finding filters"
    services.shaping.undo(job_id)
    assert not services.shaping.view(job_id).found
    services.shaping.redo(job_id)
    assert services.shaping.view(job_id).correction == view.correction


def test_the_spread_is_the_same_however_curves_are_shown(services, job_id):
    views = [services.reading.view(job_id, ReadOptions(channels=("L",), smoothing=s)) for s in SMOOTHINGS]
    spreads = {view.bass_spread_db(view.curves[0]) for view in views}
    assert len(spreads) == 1
    assert spreads.pop() > 0.5


def test_a_bass_lift_reaches_the_sub_and_the_proof_knows_that_it_is_wanted(services):
    plan = net_loft()
    fronts = tuple(s for s in plan.speakers if s.channel in ("L", "R", "C", "Sub1"))
    job = services.jobs.create(
        JobDetails(name="Radio"), plan=replace(plan, speakers=fronts, spots=plan.spots_of(1)[:2])
    )
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=2.0)
    run_rest(services, job.id)
    services.aligning.use_proposal(job.id)
    band = (ANALYSIS_GRID_HZ >= 30) & (ANALYSIS_GRID_HZ <= 80)
    mean = {}
    for lift in (0.0, 3.0):
        services.shaping.set_correction(
            job.id,
            correction_settings=CorrectionSettings(
                target=Target(bass_lift_db=lift, bass_cutoff_hz=120.0), limits=Limits(max_boost_db=6.0)
            ),
            preference=None,
            anchor="band",
            anchor_band_hz=(200.0, 2000.0),
            anchor_level_db=0.0,
            linked=False,
        )
        services.finding.find(job.id)
        shape = services.shaping.view(job.id, "Sub1").shape
        settings = services.loading.view(job.id).settings
        changed = shape.correction_db[band] + settings["Sub1"].trim_db
        front = np.mean([settings[c].trim_db for c in ("L", "R", "C")])
        mean[lift] = float(np.mean(changed)) - front
    assert mean[3.0] - mean[0.0] > 1.5  # it was cancelled altogether before
    services.loading.load(job.id, "A", "corrected")
    services.loading.switch(job.id, "A")
    services.rounds.new(job.id)
    run_rest(services, job.id)
    assert "levels differ" not in {item.kind for item in services.proving.view(job.id).against}
