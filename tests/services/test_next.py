"""The next step of a real job follows what is kept of it."""

from dataclasses import replace

import pytest

from asking import client_of, post
from dolce.core.geometry import RoomSize
from dolce.core.processor import SAID_PROCESSOR
from dolce.core.response.outliers import Outlier
from dolce.core.room import new_plan
from dolce.services.jobs.job_keeping import JobDetails
from rooms import loaded_pair


@pytest.fixture
def pair(prepared):
    yield from loaded_pair(prepared)


def step(services, job_id):
    return services.progress.status(job_id).next


def test_filters_that_were_changed_since_they_were_loaded_are_loaded_again(pair):
    services, job_id = pair
    assert step(services, job_id) == "play"
    services.loading.switch(job_id, "A")
    assert step(services, job_id) == "round"
    services.rounds.new(job_id)
    assert step(services, job_id) == "take"
    band = services.shaping.correction(job_id).bands["L"][0]
    services.bands.edit(job_id, "L", band.id, replace(band.filter, gain_db=band.filter.gain_db - 1.0))
    assert step(services, job_id) == "load"
    services.loading.load(job_id, "A", "corrected")
    assert step(services, job_id) == "take"
    services.shaping.undo(job_id)
    assert step(services, job_id) == "load"


def test_levels_that_were_changed_since_ask_for_filters_again(pair):
    services, job_id = pair
    services.aligning.choose(job_id, {"L": (-2.0, 0.0, "normal"), "R": (0.0, 0.0, "normal")})
    assert step(services, job_id) == "filters again"


def test_the_first_spot_that_lacks_something_is_named(pair):
    services, job_id = pair
    services.loading.switch(job_id, "A")
    services.rounds.new(job_id)
    spots = services.jobs.get(job_id).spots
    assert services.progress.status(job_id).next_spot == spots[0].id
    services.taking.run_spot(job_id, spots[0].id)
    services.sound.wait()
    status = services.progress.status(job_id)
    assert (status.next, status.next_spot, status.taken) == ("take", spots[1].id, 2)


def test_a_new_job_with_loudspeakers_and_spots_asks_for_a_microphone_first(services):
    job = services.jobs.create(
        JobDetails(name="New"), plan=new_plan(RoomSize(length_m=5.0, width_m=4.0, height_m=2.5), layout="2.0", spots=2)
    )
    status = services.progress.status(job.id)
    assert (status.next, status.microphone_fault) == ("microphone", "none")
    page = client_of(services).get(f"/jobs/{job.id}/rig").text
    assert "Say which microphone you use" in page
    assert "Choose a microphone" in page


def test_a_level_check_that_clips_does_not_lead_on_and_is_mended_by_pressing(services):
    job = services.jobs.create(JobDetails(name="Loud"))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0, sweep_level_dbfs=-6.0, microphone_gain_db=30.0)
    (microphone,) = services.microphones.shelf() or [services.microphones.add(name="Stand")]
    services.microphones.use(job.id, microphone.id)
    services.microphones.read_curve(microphone.id, 0, services.microphones.rehearsal_curve(), file_name="mic.txt")
    services.microphones.point(job.id, "speakers")
    services.rigging.check_level(job.id)
    services.sound.wait()
    status = services.progress.status(job.id)
    assert status.next == "level clips"
    assert set(status.clipped) == {"L", "R"}
    client = client_of(services)
    page = client.get(f"/jobs/{job.id}/takes").text
    assert "L and R come too near to clipping" in page
    assert "Turn the sweep down by 12 dB and check again" in page
    for _ in range(4):  # how far a clipped peak went over is not known
        before = services.jobs.get(job.id).rig.levels.sweep_level_dbfs
        down_db = max(services.progress.status(job.id).clipped.values())
        assert post(client, f"/jobs/{job.id}/rig/turn-down").status_code in (200, 303)
        services.sound.wait()
        assert services.jobs.get(job.id).rig.levels.sweep_level_dbfs == before - down_db
        if step(services, job.id) != "level clips":
            break
    assert step(services, job.id) == "lines"
    assert all(reading.to_clipping_db >= 6 for reading in services.rigging.level_readings(job.id).values())


def test_takes_that_do_not_fit_are_looked_at_before_anything_is_made_of_them(pair, monkeypatch):
    services, job_id = pair
    while services.jobs.get(job_id).processor.active != "bypass":
        services.loading.switch(job_id, "bypass")
    copy = services.jobs.copy(job_id, with_takes=False).id
    services.rigging.set_rig(copy, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(copy)
    services.sound.wait()
    monkeypatch.setattr(services.taking.outliers, "of", lambda *_: [])
    assert step(services, copy) == "align"
    board = services.taking.board(copy)
    job = services.jobs.get(copy)
    found = [Outlier(cell=("L", job.spots[1].id), kind="not moved", value=0.2, other=job.spots[0].id)]
    monkeypatch.setattr(services.taking.outliers, "of", lambda *_: found)
    assert (board.taken, step(services, copy)) == (board.wanted, "outliers")
    client = client_of(services)
    assert "Look at the take that does not fit the others" in client.get(f"/jobs/{copy}/read").text
    page = client.get(f"/jobs/{copy}/takes").text
    assert "Go on with all takes" in page
    services.aligning.use_proposal(copy)
    assert step(services, copy) == "filters"


@pytest.mark.parametrize("sheet", ["setup", "microphones", "level", "lines"])
def test_a_preset_that_somebody_left_is_known_and_made_neutral_before_anything_sounds(services, sheet):
    job = services.jobs.create(JobDetails(name="Visited"))
    services.rigging.set_rig(job.id, pace="fast")
    (microphone,) = services.microphones.shelf() or [services.microphones.add(name="Stand")]
    services.microphones.use(job.id, microphone.id)
    services.microphones.read_curve(microphone.id, 0, services.microphones.rehearsal_curve(), file_name="mic.txt")
    services.microphones.point(job.id, "speakers")
    services.processor.leave_something(job.id)
    client = client_of(services)
    page = client.get(f"/jobs/{job.id}/rig?sheet={sheet}").text
    assert "Processor: <strong>C, Film night</strong>" in page
    assert "Bypass the processor" in page
    assert step(services, job.id) == "neutral"
    assert post(client, f"/jobs/{job.id}/load/switch/bypass").status_code in (200, 303)
    assert step(services, job.id) == "level"


def test_a_chain_that_can_not_be_read_is_asked_for_before_anything_sounds(services):
    job = services.jobs.create(JobDetails(name="By hand"))
    (microphone,) = services.microphones.shelf() or [services.microphones.add(name="Stand")]
    services.microphones.use(job.id, microphone.id)
    services.microphones.read_curve(microphone.id, 0, services.microphones.rehearsal_curve(), file_name="mic.txt")
    services.microphones.point(job.id, "speakers")
    services.rigging.set_rig(job.id, chain=(SAID_PROCESSOR,))
    assert step(services, job.id) == "neutral"
    client = client_of(services)
    assert "Make the processor neutral" in client.get(f"/jobs/{job.id}/takes").text
    assert "All of it is neutral" in client.get(f"/jobs/{job.id}/rig?sheet=processor").text
    services.processor.tick(job.id, "volume", on=True)
    assert step(services, job.id) == "neutral"
    assert post(client, f"/jobs/{job.id}/rig/processor/slate").status_code in (200, 303)
    assert step(services, job.id) == "level"
