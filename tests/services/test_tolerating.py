"""Tolerances of a job: judged figures of the latest round, what can't be told, and sets of one's own."""

import numpy as np
import pytest

from asking import client_of, post
from dolce.core.dsp import energy_mean_db, third_octaves_of
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.tolerance import PUBLISHED, ToleranceSet, against_bound
from dolce.errors import InvalidValue, NotFound
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from rooms import shaped_pair, taken_room

EBU = "EBU Tech 3276"


@pytest.fixture(scope="module")
def taken(prepared):
    services = open_services(taken_room(prepared, layout="3.1", subs=0))
    yield services, 1
    services.close()


@pytest.fixture(scope="module")
def shaped(prepared):
    yield from shaped_pair(prepared)


def of_line(view, line):
    return {figure.subject: figure for figure in view.figures if figure.line == line}


def test_every_line_of_a_set_is_judged_or_said_why_not(taken):
    services, job_id = taken
    view = services.tolerating.view(job_id, EBU)
    assert set(of_line(view, "response")) == {"L", "C", "R"}
    assert set(of_line(view, "angles")) == {"L", "C", "R"}
    (decay,) = of_line(view, "decay").values()
    assert decay.low == pytest.approx(0.25 * (5.4 * 4.2 * 2.6 / 100) ** (1 / 3) - 0.05)
    assert "noise" in dict(view.not_known)
    # Arrivals and levels are known as far as the spots agree on them.
    (arrival,), (level,) = (of_line(view, line).values() for line in ("arrival", "level"))
    assert 0.01 <= arrival.error < 0.5
    assert arrival.outcome == against_bound(arrival.value, arrival.error, high=0.1)
    assert 0.05 < level.error < 3
    fails = any(figure.outcome == "fails" for figure in view.figures)
    assert view.verdict.startswith(EBU if fails else "Nothing speaks against")
    assert view.round.name == "Untouched"


def test_seats_are_held_against_each_other_where_a_set_asks_for_it(taken):
    services, job_id = taken
    client = client_of(services)
    typed = {"set_name": "Two rows", "tol_seats": "0.5"}
    page = post(client, f"/jobs/{job_id}/prove/tolerances/keep", **typed).text
    try:
        assert "Seat-to-seat variation" in page
        found = of_line(services.tolerating.view(job_id, "Two rows"), "seats")
        assert set(found) == {"L", "C", "R"}
        assert all(figure.high == 0.5 for figure in found.values())
        assert any(figure.outcome != "holds" for figure in found.values())  # nothing was done about it
        assert of_line(services.tolerating.view(job_id, EBU), "seats") == {}
    finally:
        services.tolerating.forget(services.tolerating.sets()["Two rows"].id)
        services.tolerating.choose(job_id, EBU)


def test_noise_is_judged_once_it_was_heard_with_a_known_pressure(taken):
    services, job_id = taken
    services.rigging.set_rig(job_id, full_scale_spl_db=120.0)
    services.pressure.listen(job_id)
    services.sound.wait()
    view = services.tolerating.view(job_id, EBU)
    rating = services.pressure.view(job_id).noise.rating
    assert of_line(view, "noise")["room"].value == rating[0]
    assert "noise" not in dict(view.not_known)


def test_a_set_of_ones_own_is_kept_for_all_jobs_and_forgotten(taken):
    services, job_id = taken
    wide = ToleranceSet(name="Wide", response_hz=(40.0, 16_000.0), lower_db=(-30.0, -30.0), upper_db=(30.0, 30.0))
    services.tolerating.keep(wide)
    services.tolerating.keep(wide)
    view = services.tolerating.view(job_id, "Wide")
    assert view.names == (*PUBLISHED, "Wide")
    assert {figure.line for figure in view.figures} == {"response"}
    assert view.verdict == "Wide is held by all 3 figures."
    assert view.next_step == ""
    with pytest.raises(InvalidValue, match="published set has that name"):
        services.tolerating.keep(ToleranceSet(name=EBU))
    services.tolerating.forget(view.wanted.id)
    assert "Wide" not in services.tolerating.sets()


def test_a_job_without_takes_can_not_be_judged_and_its_page_opens(services):
    job = services.jobs.create(JobDetails(name="Empty"))
    view = services.tolerating.view(job.id, EBU)
    assert {figure.line for figure in view.figures} == {"angles"}
    assert client_of(services).get(f"/jobs/{job.id}/prove/tolerances").status_code == 200


def test_the_page_shows_the_worst_first_and_faults_at_their_fields(taken):
    services, job_id = taken
    client, url = client_of(services), f"/jobs/{job_id}/prove/tolerances"
    page = client.get(url, query_string={"set": EBU}).text
    view = services.tolerating.view(job_id, EBU)
    assert view.verdict in page
    words = [item for item in ("fails", "can&#39;t be told", "holds") if f">{item}</span>" in page]
    assert [page.index(f">{word}</span>") for word in words] == sorted(page.index(f">{word}</span>") for word in words)
    wrong = post(client, f"{url}/keep", set_name="Mine", lines="50 -3\n100 -3 3")
    assert wrong.status_code == 422
    assert "a line each, such as 50 -3 3" in wrong.text
    assert "100 -3 3" in wrong.text
    upside = post(client, f"{url}/keep", set_name="Mine", lines="50 3 -3\n100 3 -3")
    assert "upside down" in upside.text
    kept = post(client, f"{url}/keep", set_name="Mine", lines="50 -9 9\n10000 -9 9", tol_level="1,5", tol_arrival="0.5")
    assert kept.status_code == 200
    mine = services.tolerating.sets()["Mine"]
    assert (mine.level_db, mine.arrival_s, mine.upper_db) == (1.5, pytest.approx(0.0005), (9.0, 9.0))
    services.tolerating.forget(mine.id)


def test_rounds_stand_beside_each_other_seat_by_seat(taken):
    # Against the definition, written out: each spot at its own level, RMS over the range, mean over channels and spots.
    services, job_id = taken
    (row,) = services.proving.rounds(job_id).rows
    correction, job = services.shaping.correction(job_id), services.jobs.get(job_id)
    with services.context.look() as work:
        curves = services.context.curves.of(work, job.round_id)
    target = correction.target_db("L", GRID)
    inside, middle = (GRID >= 20) & (GRID <= 500), (GRID >= 200) & (GRID <= 2000)
    for place, seat in enumerate(job.plan.seats):
        found = []
        for channel in ("L", "C", "R"):
            for take, level in zip(curves[channel].takes, curves[channel].level_db, strict=True):
                if job.spot(take.spot_id).seat_id == seat.id:
                    off = level - target
                    off = off - off[middle].mean()
                    found.append(np.sqrt((off[inside] ** 2).mean()))
        assert row.by_seat[place] == pytest.approx(np.mean(found))
    assert (row.channels, row.spots, row.inverted) == (3, 4, ())
    assert row.worst_db >= max(row.by_seat)
    page = client_of(services).get(f"/jobs/{job_id}/prove/rounds").text
    assert f"{row.by_seat[1]:.1f} dB" in page
    assert row.worst in page


def test_levels_and_arrivals_are_told_of_the_round_that_they_were_read_from(taken):
    services, job_id = taken
    before = services.tolerating.view(job_id, EBU)
    services.rounds.new(job_id, name="Nothing in it yet")
    after = services.tolerating.view(job_id, EBU)
    for line in ("level", "arrival"):
        assert of_line(after, line) == of_line(before, line)


def test_the_verdict_stands_on_the_set_that_a_job_has_chosen(taken):
    services, job_id = taken
    assert services.tolerating.view(job_id).chosen == EBU
    wide = ToleranceSet(
        name="My wide window", response_hz=(40.0, 16_000.0), lower_db=(-30.0, -30.0), upper_db=(30.0, 30.0)
    )
    services.tolerating.keep(wide)
    client = client_of(services)
    url = f"/jobs/{job_id}/prove/tolerances"
    assert "Use it for the verdict" in client.get(f"{url}?set=My+wide+window").text
    assert post(client, f"{url}/choose?set=My+wide+window").status_code in (200, 303)
    view = services.tolerating.view(job_id)
    assert (view.wanted.name, view.chosen) == ("My wide window", "My wide window")
    assert "the verdict stands on it" in client.get(url).text
    assert "My wide window" in client.get(f"/jobs/{job_id}/report").text
    # A look at another set changes nothing, and words for the report leave it.
    assert services.tolerating.view(job_id, EBU).chosen == "My wide window"
    assert post(client, f"/jobs/{job_id}/report", by="Me", words="", paper="A4", part="result").status_code == 303
    assert services.tolerating.chosen(job_id).name == "My wide window"
    with pytest.raises(NotFound, match="there is no set"):
        services.tolerating.choose(job_id, "None such")
    # A set that is deleted leaves the first one.
    services.tolerating.forget(services.tolerating.sets()["My wide window"].id)
    assert services.tolerating.chosen(job_id).name == EBU


def test_a_set_about_the_target_judges_each_channel_against_its_own(shaped):
    services, job_id = shaped
    client = client_of(services)
    typed = {"set_name": "To target", "lines": "40 -40 40\n16000 -40 40", "about": "target"}
    page = post(client, f"/jobs/{job_id}/prove/tolerances/keep", **typed).text
    assert "Response about its target" in page
    view = services.tolerating.view(job_id, "To target")
    assert (view.wanted.about, view.asked_for, view.not_known) == ("target", (), ())
    # Against the set about the mean: the same curves less the target, about the same mean.
    correction = services.proving.view(job_id).correction
    target = correction.target_db("L", GRID)
    with services.context.look() as work:
        curves = services.context.curves.of(work, view.round.id)["L"]
    mids, thirds = third_octaves_of(GRID, np.array([energy_mean_db(curves.level_db), target]))
    off = thirds[0] - thirds[1]
    off -= off[(mids >= 200) & (mids <= 4000)].mean()
    figure = of_line(view, "response")["L"]
    assert np.interp(figure.at_hz, mids, off) == pytest.approx(figure.value, abs=1.0)
