"""What the stops say when something is missing or has gone wrong."""

import re
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from asking import client_of
from dolce.core.correction.outcome import besides_within_db
from dolce.core.geometry import Point
from dolce.core.rig import Fault
from dolce.errors import Conflict
from dolce.services.context import Context
from dolce.services.jobs.job_keeping import JobDetails, JobKeeping
from dolce.services.wiring import open_services


def played(services):
    """A small job measured, shaped, loaded and playing, before its proving round."""
    job = services.jobs.create(JobDetails(name="Net loft"))
    services.room.lay_out_spots(job.id, "cluster", seat_id=1, count=2, spacing_m=0.2)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=2.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    services.aligning.use_proposal(job.id)
    services.finding.find(job.id)
    services.loading.load(job.id, "A", "corrected")
    services.loading.switch(job.id, "A")
    services.rounds.new(job.id)


@pytest.fixture
def services(prepared, request):
    name, build = ("played", played) if "loaded" in request.fixturenames else ("empty", lambda _: None)
    opened = open_services(prepared(name, build))
    yield opened
    opened.close()


@pytest.fixture
def loaded(services):
    """Its number."""
    return services.jobs.all()[0].id


def measured(services, job_id):
    services.taking.run_rest(job_id)
    services.sound.wait()
    return services.proving.view(job_id)


def test_an_untouched_setup_is_proven(services, loaded):
    proof = measured(services, loaded)
    assert proof.passed, proof.against


def test_a_speaker_moved_in_between_is_not_proven_and_said_so(services, loaded):
    place = services.jobs.get(loaded).speaker("L").place
    services.room.move(loaded, "L", Point(x_m=place.x_m - 0.1, y_m=place.y_m + 0.5, z_m=place.z_m))
    proof = measured(services, loaded)
    assert not proof.passed
    assert {"prediction missed", "arrivals differ"} <= {item.kind for item in proof.against}


def text_of(html):
    return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", "", re.sub(r"<span popover.*?</span>", "", html))).strip()


def verdict_line(services, job_id):
    page = client_of(services).get(f"/jobs/{job_id}/prove").text
    return text_of(re.search(r'<p class="verdict-line.*?</p>', page)[0])


def test_what_was_changed_after_the_proof_is_said_everywhere_and_gone_when_it_is_put_back(services, loaded):
    measured(services, loaded)
    verdict = services.verdicts.of(loaded)
    assert verdict.kind == "proven but"
    assert "no line check" in [limit.kind for limit in verdict.limits]
    assert verdict_line(services, loaded).startswith("Proven, with limits. The correction does what was predicted")
    assert "Hand it over" in client_of(services).get(f"/jobs/{loaded}/prove").text
    place = services.jobs.get(loaded).speaker("L").place
    for change, back, kind in (
        (
            lambda: services.room.move(loaded, "L", replace(place, x_m=place.x_m + 0.15)),
            lambda: services.room.move(loaded, "L", place),
            "moved",
        ),
        (lambda: services.loading.switch(loaded, "bypass"), lambda: services.loading.switch(loaded, "A"), "processor"),
        (
            lambda: services.bands.remove(loaded, "L", services.shaping.correction(loaded).bands["L"][0].id),
            lambda: services.shaping.undo(loaded),
            "correction",
        ),
    ):
        change()
        assert [since.kind for since in services.verdicts.of(loaded).since] == [kind]
        back()
        assert services.verdicts.of(loaded) == verdict
    services.room.move(loaded, "L", replace(place, x_m=place.x_m + 0.15))
    assert verdict_line(services, loaded).startswith(f"Was proven on {datetime.now(UTC):%d %b %Y}.")
    page = client_of(services).get(f"/jobs/{loaded}/prove").text
    assert "Hand it over" not in page
    assert "Measure again" in page
    assert f"Was proven on {datetime.now(UTC):%d %b %Y}." in client_of(services).get(f"/jobs/{loaded}/report").text
    assert services.progress.status(loaded).stops[-1].line == "changed since"


def test_a_third_of_an_octave_that_changed_beyond_the_range_is_no_proof(services, loaded):
    services.taking.run_rest(loaded)
    services.sound.wait()
    proof = services.proving.view(loaded)
    assert all(abs(c.proof.outcome.most_off_db) < besides_within_db(2) for c in proof.channels.values())
    # A cloth before one speaker: treble is lost where no filter works.
    job = services.jobs.get(loaded)
    services.rigging.add_fault(loaded, Fault(kind="covered", channels=("L",)))
    services.taking.repeat(loaded, "L", job.spots[0].id)
    services.sound.wait()
    services.taking.repeat(loaded, "L", job.spots[1].id)
    services.sound.wait()
    verdict = services.verdicts.of(loaded)
    assert verdict.kind == "not proven"
    (objection,) = (o for o in verdict.objections if o.kind == "changed besides")
    assert objection.channels == ("L",)
    assert objection.value < -besides_within_db(2)
    assert objection.at_hz > 2000


def test_a_line_that_is_left_to_the_processor_speaks_no_longer_against_the_proof(services, loaded):
    services.taking.run_rest(loaded)
    services.sound.wait()
    services.rigging.add_fault(loaded, Fault(kind="inverted", channels=("L",)))
    services.lines.run(loaded)
    services.sound.wait()
    assert "line wrong" in [objection.kind for objection in services.verdicts.of(loaded).objections]
    services.lines.leave_to_processor(loaded, "L")
    verdict = services.verdicts.of(loaded)
    assert verdict.objections == ()
    assert ("lines to look at", ("L",)) in [(limit.kind, limit.names) for limit in verdict.limits]


def test_the_logbook_says_the_verdict_once_and_again_when_it_is_another(services, loaded):
    def noted():
        services.context.background.wait()
        with services.context.look() as work:
            return [entry.text for entry in work.logbook.all(loaded) if entry.text.startswith("Verdict")]

    job = services.jobs.get(loaded)
    services.taking.run_spot(loaded, job.spots[0].id)  # half of the round: not known yet
    services.sound.wait()
    assert noted() == []
    services.taking.run_rest(loaded)
    services.sound.wait()
    assert noted() == ["Verdict: Proven, with limits."]
    services.taking.repeat(loaded, "L", job.spots[0].id)
    services.sound.wait()
    assert noted() == ["Verdict: Proven, with limits."]
    services.rigging.add_fault(loaded, Fault(kind="covered", channels=("L",)))
    for spot in job.spots:
        services.taking.repeat(loaded, "L", spot.id)
        services.sound.wait()
    assert noted() == ["Verdict: Proven, with limits.", "Verdict: Not proven."]


def test_a_preset_loaded_anew_is_marked_as_newer(services, loaded):
    assert services.loading.view(loaded).loaded_is_current == {"A": True}
    services.bands.remove(loaded, "L", services.shaping.correction(loaded).bands["L"][0].id)
    assert services.loading.view(loaded).loaded_is_current == {"A": False}


def test_processor_cannot_be_switched_under_a_running_pass(services, loaded):
    services.rigging.set_rig(loaded, pace="real time")
    services.taking.run_rest(loaded)
    with pytest.raises(Conflict, match="a pass is running"):
        services.loading.switch(loaded, "bypass")
    services.sound.stop()
    services.sound.wait(20)


def test_each_stop_says_what_it_has_and_lacks(services):
    job = services.jobs.create(JobDetails(name="Empty"))
    lines = {s.stop: (s.fill, s.line) for s in services.progress.status(job.id).stops}
    assert lines["takes"] == ("hollow", "0 of 18 takes")
    assert lines["rig"] == ("hollow", "no microphone")
    assert lines["align"] == ("hollow", "needs takes")
    assert lines["prove"] == ("hollow", "not yet")


def test_what_is_needed_is_named_one_by_one(services):
    job = services.jobs.create(JobDetails(name="Steps"))
    services.room.lay_out_spots(job.id, "cluster", seat_id=1, count=1, spacing_m=0.2)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    seen = [services.proving.view(job.id).needs]
    services.taking.run_rest(job.id)
    services.sound.wait()
    seen.append(services.proving.view(job.id).needs)
    services.finding.find(job.id)
    seen.append(services.proving.view(job.id).needs)
    services.loading.load(job.id, "A", "corrected")
    seen.append(services.proving.view(job.id).needs)
    assert seen == ["takes", "shape", "load", "round"]


def test_logbook_tells_the_job_in_order(services, loaded):
    texts = [entry.text for entry in services.jobs.logbook(loaded)]
    places = [
        next(k for k, text in enumerate(texts) if start in text)
        for start in (
            "Job created",
            "Take of L at spot 1, round Untouched",
            "Alignment chosen as proposed",
            "Filters found",
            "loaded into preset A",
            "Round Corrected begun",
        )
    ]
    assert places == sorted(places)


def test_deleted_jobs_go_for_good_after_their_week(services):
    clock = [datetime(2026, 3, 1, 12)]
    jobs = JobKeeping(Context(services.context.database, now=lambda: clock[0]))
    job = jobs.create(JobDetails(name="Old"))
    jobs.delete(job.id)

    def started(after: timedelta) -> list[str]:
        clock[0] = datetime(2026, 3, 1, 12) + after
        jobs.started()
        return [name for _, name in jobs.deleted()]

    # A clock 400 days ahead, again and again on one day, and back: nothing is lost.
    assert [started(timedelta(days=400, hours=k)) for k in range(5)] == [["Old"]] * 5
    assert started(timedelta(days=3)) == ["Old"]
    # Three different days after the week are needed, and a clock that is not behind another start.
    assert started(timedelta(days=401)) == ["Old"]
    assert started(timedelta(days=8)) == ["Old"]
    assert started(timedelta(days=402)) == []


@pytest.mark.parametrize(
    ("change", "name"), [({"sweep_level_dbfs": -12.0}, "sweep level"), ({"microphone_gain_db": 6.0}, "microphone gain")]
)
def test_a_checked_level_falls_when_what_it_rests_on_changes(services, change, name):
    job = services.jobs.create(JobDetails(name="Net loft"))
    services.rigging.set_rig(job.id, pace="fast")
    made = services.microphones.add(name="Stand")
    for angle in (0, 90):
        services.microphones.read_curve(made.id, angle, services.microphones.rehearsal_curve(angle), file_name="c.txt")
    services.microphones.use(job.id, made.id)
    services.microphones.point(job.id, "speakers")
    before = services.jobs.get(job.id).rig
    services.rigging.check_level(job.id)
    services.sound.wait()

    def line():
        return services.progress.status(job.id).stops[1].line

    assert line() == "level checked"
    assert services.rigging.level_moved_on(job.id) == ()
    services.rigging.set_rig(job.id, **change)
    assert services.rigging.level_moved_on(job.id) == (name,)
    assert line() == "check level again"
    page = client_of(services).get(f"/jobs/{job.id}/rig?sheet=level").text
    assert f"These no longer hold: the {name} changed since" in page
    assert "was good" in page
    assert "Leave it as it is" not in page
    assert set(services.rigging.level_readings(job.id)) == set(job.channels)
    services.rigging.set_rig(job.id, **{key: getattr(before.levels, key) for key in change})
    assert services.rigging.level_moved_on(job.id) == ()  # set back, it holds again
    assert line() == "level checked"


def chosen_in(page):
    """What is offered for each preset, in their order."""
    return re.findall(
        r'<option value="(\w+)" selected',
        page[page.index("Presets in the processor") : page.index("Files for another processor")],
    )


def test_load_offers_what_a_preset_holds_and_never_convolution_unasked(services, loaded):
    page = client_of(services).get(f"/jobs/{loaded}/load").text
    assert chosen_in(page) == ["corrected", "aligned", "corrected"]  # A holds it; B is for comparing; C is empty
    services.loading.load(loaded, "B", "convolved")
    page = client_of(services).get(f"/jobs/{loaded}/load").text
    assert chosen_in(page) == ["corrected", "convolved", "corrected"]
