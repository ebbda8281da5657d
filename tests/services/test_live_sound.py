"""Live sessions on the rehearsal rig: ramp, reference level, subs, moving average, and what ends them."""

from dataclasses import replace

import numpy as np
import pytest

from dolce.core.dsp import energy_mean_db
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.rig import Fault, SubMatch
from dolce.core.signals import Source
from dolce.errors import Conflict, NotFound
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.rig import live_session
from dolce.services.sample.demo_rooms import attic, net_loft
from dolce.services.sound.sounding import Sounding

FULL_SCALE_SPL_DB = 120.0  # of the rehearsal rig


def job_of(services, plan, **rig):
    job = services.jobs.create(JobDetails(name="Loft"), plan=plan)
    services.rigging.set_rig(job.id, pace="fast", **rig)
    return job.id


def run(services, job_id, purpose, **options):
    services.live.start(job_id, purpose, automatic=True, **options)
    services.sound.wait()
    return services.live.view(job_id, purpose)


def test_level_comes_up_to_40_db_above_noise_and_becomes_that_of_the_sweeps(services):
    job_id = job_of(services, attic())
    view = run(services, job_id, "ramp")
    assert view.ramp.word == "good"
    assert view.ramp.above_noise_db == pytest.approx(40, abs=1.5)
    assert services.jobs.get(job_id).rig.levels.sweep_level_dbfs == view.ramp.level_dbfs
    assert view.ramp.level_dbfs < -20
    # The next one begins at -60 dBFS again, whatever this one ended at.
    services.rigging.set_rig(job_id, pace="real time")
    services.live.start(job_id, "ramp", automatic=False)
    assert services.live.view(job_id, "ramp").options.source.level_dbfs == -60
    services.sound.stop()
    services.sound.wait()


def test_what_was_stopped_before_it_began_does_not_count_as_running(services, monkeypatch):
    job_id = job_of(services, attic())
    monkeypatch.setattr(Sounding, "hold", lambda sounding: sounding.stop.set())  # pressed before the first step
    services.live.start(job_id, "meter")
    assert services.sound.wait(20)
    view = services.live.view(job_id, "meter")
    assert not view.running
    assert view.last_pass.state == "stopped"


def test_ramp_stops_below_a_low_ceiling(services):
    job_id = job_of(services, attic(), sweep_level_dbfs=-40.0, ceiling_dbfs=-35.0)
    view = run(services, job_id, "ramp")
    assert view.ramp.word == "ceiling"
    assert view.last_pass.state == "done"
    assert view.ramp.level_dbfs + 10.2 <= -35


def test_reference_level_is_read_of_every_channel_and_met_after_turning_as_told(services):
    plan = net_loft()
    plan = replace(plan, speakers=tuple(s for s in plan.speakers if s.channel in ("L", "Ls", "Sub1")))
    job_id = job_of(
        services, plan, full_scale_spl_db=FULL_SCALE_SPL_DB, reference_db=82.0, ceiling_spl_db=115.0
    )  # it is far too loud before it is turned
    run(services, job_id, "reference", channel="L")
    view = services.reference.view(job_id)
    assert view.suggested_db == 82  # 113 m3
    assert all(level.read_db is not None for level in view.levels)
    assert not view.agree
    for level in view.levels:
        services.rigging.turn(job_id, level.channel, level.change_db)
    run(services, job_id, "reference", channel="L")
    view = services.reference.view(job_id)
    assert view.agree
    assert max(abs(level.change_db) for level in view.levels) < 0.05
    log = [entry.text for entry in services.proving.view(job_id).logbook]
    assert any("Reference level: Sub1 reads" in text for text in log)


@pytest.mark.parametrize(
    "match",
    [SubMatch(level_dbfs=-40), SubMatch(placing="same place", sound="tone"), SubMatch(step_db=0.5, level_dbfs=-40)],
)
def test_subs_agree_within_a_step_after_turning_as_told(services, match):
    job_id = job_of(services, net_loft())
    services.rigging.set_faults(job_id, [Fault(kind="gain", channels=("Sub2",))])
    services.sub_matching.set_match(job_id, match)
    run(services, job_id, "subs")
    view = services.sub_matching.view(job_id)
    assert not view.agree
    change = {r.channel: r.change_db for r in view.readings}
    # The rig's second sub is 0.8 dB less sensitive and, with the fault, 8 dB too loud.
    # Close to the cone the room still has a share of a few tenths; on one place it has none.
    assert change["Sub2"] == pytest.approx(-7.2, abs=0.11 if match.placing == "same place" else 0.5)
    assert change["Sub1"] == 0
    services.rigging.turn(job_id, "Sub2", change["Sub2"])
    run(services, job_id, "subs")
    assert services.sub_matching.view(job_id).agree
    assert services.sub_matching.view(job_id).next_sub == ""


def test_another_way_of_comparing_subs_begins_anew(services):
    job_id = job_of(services, net_loft())
    run(services, job_id, "subs")
    services.sub_matching.set_match(job_id, SubMatch(sound="tone"))
    assert all(r.read_db is None for r in services.sub_matching.view(job_id).readings)


def test_job_without_subs_says_so(services):
    with pytest.raises(Conflict, match="no sub"):
        services.live.start(job_of(services, attic()), "subs")


def test_moving_average_is_kept_as_a_take_and_agrees_with_the_sweeps_around_the_seat(services):
    job_id = job_of(services, attic(), sweep_seconds=1.0)
    number = services.microphones.add(name="m").id
    services.microphones.read_curve(number, 0, services.microphones.rehearsal_curve(), file_name="c.txt")
    services.microphones.use(job_id, number)
    services.taking.run_rest(job_id)
    services.sound.wait()
    sweeps = [t.level_db for (c, _), t in services.taking.board(job_id).takes.items() if c == "L"]
    run(services, job_id, "moving", channel="L", spot=1, source=Source(kind="pink", level_dbfs=-30))
    take = services.taking.board(job_id).takes["L", 1]
    assert (take.source, take.arrival_known, take.quality.word) == ("moving", False, "clean")
    inside = (ANALYSIS_GRID_HZ > 60) & (ANALYSIS_GRID_HZ < 15_000)
    mean = energy_mean_db(np.array(sweeps))
    apart = (take.level_db - mean)[inside]
    # The same places, one as noise of 20 s over 1/24 octave, the other as sweeps over 1/48.
    assert abs(apart.mean()) < 0.3
    assert apart.std() < 1.5
    with pytest.raises(NotFound, match="moving average"):
        services.recordings.original(job_id, take.id)
    assert services.live.moving_takes(job_id)[0].id == take.id
    copied = services.jobs.copy(job_id, with_takes=True)
    assert services.taking.board(copied.id).takes["L", 1].source == "moving"


def test_live_sound_that_nobody_looks_at_ends_and_says_why(services, monkeypatch):
    monkeypatch.setattr(live_session, "_UNSEEN_S", 0.3)
    job_id = job_of(services, attic())
    services.live.start(job_id, "meter", source=Source(kind="pink", level_dbfs=-40), channel="L")
    services.sound.wait()
    assert "no page was looking" in services.live.view(job_id, "meter").last_pass.message


def test_two_tabs_one_wins_the_other_is_told(services):
    job_id = job_of(services, attic())
    services.live.start(job_id, "meter")
    with pytest.raises(Conflict, match="perhaps from another tab"):
        services.live.start(job_id, "spectrum")
    with pytest.raises(Conflict, match="perhaps from another tab"):
        services.taking.run_spot(job_id, 1)
    services.sound.stop()
    services.sound.wait()


def test_feedback_ends_live_sound(services):
    job_id = job_of(services, attic())
    services.rigging.set_faults(job_id, [Fault(kind="feedback")])
    services.live.start(job_id, "meter", source=Source(kind="pink", level_dbfs=-40), channel="L")
    services.sound.wait()
    assert "feedback" in services.live.view(job_id, "meter").last_pass.message


def test_source_never_gets_louder_than_the_ceiling(services):
    job_id = job_of(services, attic())
    services.live.change(job_id, "meter", source=Source(kind="pink", level_dbfs=-20), channel="L")
    for _ in range(4):
        services.live.louder(job_id, "meter", 3)
    source = services.live.options(job_id, "meter").source
    assert source.peak_dbfs(48_000) == pytest.approx(-6, abs=0.11)
    assert source.peak_dbfs(48_000) <= -6


def test_reading_that_has_not_settled_is_not_kept(services):
    job_id = job_of(services, net_loft())
    services.rigging.set_rig(job_id, pace="real time")
    services.live.start(job_id, "subs", channel="Sub1")
    with pytest.raises(Conflict, match="not settled"):
        services.live.keep_reading(job_id, "subs")
    services.sound.stop()
    services.sound.wait()
