"""The line check on the rehearsal rig: it finds every fault, and nothing where there is none."""

import numpy as np
import pytest

from asking import client_of, post
from dolce.core.rig import FAULTS, Fault
from dolce.errors import Conflict, InvalidValue, NotFound
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic, barn, net_loft


def job_of(services, plan):
    job = services.jobs.create(JobDetails(name="Loft"), plan=plan)
    services.rigging.set_rig(job.id, pace="fast")
    return job.id


def checked(services, job_id, channels=None):
    services.lines.run(job_id, channels)
    services.sound.wait()
    return {line.channel: line for line in services.lines.view(job_id).lines}


@pytest.mark.parametrize("plan", [attic(), net_loft(), barn()])
def test_a_rig_in_order_has_nothing_to_look_at(services, plan):
    lines = checked(services, job_of(services, plan))
    # A single sweep does not always tell the polarity of a three-way speaker, such as the centre; wrong it never is.
    assert {line.word for line in lines.values() if line.channel != "C"} == {"right"}
    for line in lines.values():
        assert line.reading.polarity in (("normal", "unsure") if line.channel == "C" else ("normal",))
        assert {finding.kind for finding in line.verdict.findings} <= {"unsure"}
        # Main channels to a few centimetres; a sub's filter delays it by half a metre more, that of the third longer.
        low, high = (0.2, 0.9) if line.is_sub else (-0.06, 0.06)
        assert low < line.verdict.distance_m - line.expected_m < high
        # 18 + 12 dB below full scale against the room noise of the rig.
        assert line.reading.noise_dbfs == pytest.approx(-77, abs=3)


@pytest.mark.parametrize(
    ("kind", "channels", "found", "message"),
    [
        ("inverted", ("Ls",), {"Ls"}, "inverted"),
        ("inverted", ("Sub2",), {"Sub2"}, "inverted"),
        ("swapped", ("L", "Ls"), {"L", "Ls"}, "distance"),
        ("dead", ("C",), {"C"}, "silent"),
        ("dead", ("Sub1",), {"Sub1"}, "silent"),
        ("crossover", ("L",), {"L"}, "no bass"),
        ("equaliser", ("R",), {"R"}, "hump"),
        ("covered", ("R",), {"R"}, "treble"),
        ("covered", ("Ls",), {"Ls"}, "treble"),
        ("gain", ("Sub1",), {"Sub1"}, "level"),
        ("hum", (), None, "hum"),
        ("clipping", (), None, "clips"),
        ("feedback", (), None, "howls"),
        ("microphone", (), None, "hump everywhere"),
    ],
)
def test_every_fault_that_one_line_shows_is_found_where_it_is(services, kind, channels, found, message):
    job_id = job_of(services, barn())
    services.rigging.set_faults(job_id, [Fault(kind=kind, channels=channels)])
    lines = checked(services, job_id)
    # Of a pair of subs the other one is too soft where one is too loud.
    flagged = {
        c
        for c, line in lines.items()
        if any(f.kind == message and (message != "level" or f.value > 0) for f in line.verdict.findings)
    }
    assert flagged == (found or {c for c, line in lines.items() if kind != "microphone" or not line.is_sub})
    others = {c for c, line in lines.items() if {f.kind for f in line.verdict.findings} - {"unsure"}} - flagged
    # Of three subs one that is far too loud makes the median of the others wander.
    assert not {c for c in others if not c.startswith("Sub")}


def test_swapped_outputs_of_a_mirrored_pair_are_found_by_ear_and_corrected(services):
    job_id = job_of(services, barn())
    services.rigging.set_faults(job_id, [Fault(kind="swapped", channels=("Ls", "Rs"))])
    lines = checked(services, job_id)
    assert lines["Ls"].verdict.word == "right"  # both are equally far away
    assert (lines["Ls"].really, lines["Rs"].really) == ("Rs", "Ls")
    assert services.lines.view(job_id).asked == "L"
    services.lines.answer(job_id, "Ls", speaker="Rs")
    line = next(x for x in services.lines.view(job_id).lines if x.channel == "Ls")
    assert (line.word, line.heard) == ("wrong", "Rs")
    before = services.jobs.get(job_id)
    services.lines.swap(job_id, "Ls", "Rs")
    after = services.jobs.get(job_id)
    assert (after.speaker("Ls").output, after.speaker("Rs").output) == (
        before.speaker("Rs").output,
        before.speaker("Ls").output,
    )
    view = services.lines.view(job_id)
    assert {x.channel for x in view.lines if x.reading is None} == {"Ls", "Rs"}
    again = checked(services, job_id, ["Ls", "Rs"])
    assert (again["Ls"].really, again["Rs"].really) == ("Ls", "Rs")
    assert again["L"].reading is not None  # the others' readings stay


def test_one_take_has_a_door_slam_and_its_repetition_has_not(services):
    job_id = job_of(services, attic())
    services.rigging.set_rig(job_id, sweep_seconds=1.0)
    services.rigging.set_faults(job_id, [Fault(kind="burst")])
    services.taking.run_spot(job_id, 2)
    services.sound.wait()
    spoiled = services.taking.board(job_id).takes
    assert spoiled["L", 2].quality.signal_to_noise_db < spoiled["R", 2].quality.signal_to_noise_db - 10
    services.taking.repeat(job_id, "L", 2)
    services.sound.wait()
    again = services.taking.board(job_id).takes["L", 2]
    assert again.quality.signal_to_noise_db == pytest.approx(spoiled["R", 2].quality.signal_to_noise_db, abs=3)


def test_another_microphone_shows_as_treble_that_is_not_there(services):
    job_id = job_of(services, attic())
    services.rigging.set_rig(job_id, sweep_seconds=1.0)
    levels = []
    for faults in ([], [Fault(kind="microphone")]):
        services.rigging.set_faults(job_id, faults)
        services.taking.repeat(job_id, "L", 1)
        services.sound.wait()
        levels.append(services.taking.board(job_id).takes["L", 1].level_db)
    assert (levels[1] - levels[0])[-60:-20].mean() == pytest.approx(4.5, abs=0.6)
    # Below, the same; in deep dips the noise of a sweep of one second has its say.
    assert np.percentile(abs((levels[1] - levels[0])[100:250]), 95) < 0.3


def test_what_cannot_be_is_refused(services):
    job_id = job_of(services, attic())
    for fault, message in (
        (Fault(kind="moon"), "not a fault"),
        (Fault(kind="dead"), "1 of the job's channels"),
        (Fault(kind="swapped", channels=("L", "L")), "2 of the job's channels"),
        (Fault(kind="dead", channels=("C",)), "1 of the job's channels"),
    ):
        with pytest.raises(InvalidValue, match=message):
            services.rigging.set_faults(job_id, [fault])
    with pytest.raises(Conflict, match="not checked yet"):
        services.lines.answer(job_id, "L", speaker="R")
    with pytest.raises(NotFound):
        services.lines.run(job_id, ["C"])
    assert set(FAULTS) >= {"inverted", "swapped", "dead", "hum", "burst", "clipping", "drift", "microphone"}


def test_one_press_confirms_all_lines_of_which_nothing_is_odd_and_leaves_the_others_to_be_asked(services):
    job_id = job_of(services, net_loft())
    with pytest.raises(Conflict, match="no line waits"):
        services.lines.confirm(job_id)
    services.rigging.add_fault(job_id, Fault(kind="gain", channels=("Sub1",)))
    lines = checked(services, job_id)
    odd = {channel for channel, line in lines.items() if line.word != "right"}
    assert "Sub1" in odd
    services.lines.confirm(job_id)
    view = services.lines.view(job_id)
    assert {line.channel for line in view.lines if line.heard == line.channel} == set(lines) - odd
    assert (view.unanswered, view.asked in odd) == ((), True)
    entry = services.jobs.logbook(job_id)[-1].text
    assert entry.startswith("Lines of ")
    assert "Sub1" not in entry


def test_an_inverted_line_can_be_left_to_the_processor_and_align_inverts_it(services):
    job_id = job_of(services, attic())
    services.rigging.set_faults(job_id, [Fault(kind="inverted", channels=("R",))])
    checked(services, job_id)
    client = client_of(services)
    assert services.lines.view(job_id).wrong == ("R",)
    assert "Leave R to the processor" in client.get(f"/jobs/{job_id}/rig?sheet=lines").text
    with pytest.raises(Conflict, match="the polarity of L is not what is wrong"):
        services.lines.leave_to_processor(job_id, "L")
    assert post(client, f"/jobs/{job_id}/rig/lines/R/leave").status_code in (200, 303)
    view = services.lines.view(job_id)
    assert (view.wrong, view.state) == ((), "heard")
    services.lines.confirm(job_id)
    assert services.lines.view(job_id).state == "done"
    assert "Align will invert R" in client.get(f"/jobs/{job_id}/rig?sheet=lines").text
    services.taking.run_rest(job_id)
    services.sound.wait()
    services.aligning.use_proposal(job_id)
    chosen = services.aligning.view(job_id).chosen
    assert {channel: setting.polarity for channel, setting in chosen.items()} == {"L": "normal", "R": "inverted"}
    # Checked again it is asked for again: what was said was said of the line as it was.
    services.lines.run(job_id, ["R"])
    services.sound.wait()
    assert services.lines.view(job_id).wrong == ("R",)
