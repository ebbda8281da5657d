"""The report of a job: what is told, left out and saved; and the logbook with takes of one round as one line."""

import re
from datetime import datetime, timedelta

import pytest

from asking import client_of, post
from dolce.core.job import PARTS, LogEntry, ReportWords, grouped
from dolce.errors import InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from rooms import taken_room

BEGUN = datetime(2026, 3, 1, 9, 0)


@pytest.fixture(scope="module")
def finished(prepared):
    """A pair that is shaped, loaded and measured again."""
    services, job_id = open_services(taken_room(prepared, layout="2.0", subs=0)), 1
    services.finding.find(job_id)
    services.loading.load(job_id, "A", "corrected")
    services.loading.switch(job_id, "A")
    services.rounds.new(job_id, name="After")
    services.taking.run_rest(job_id)
    services.sound.wait()
    yield services, client_of(services), job_id
    services.close()


def entries(*texts):
    return [LogEntry(at=BEGUN + timedelta(minutes=k), text=text, number=k) for k, text in enumerate(texts)]


def test_takes_of_one_round_in_a_row_are_one_line_and_nothing_else_is():
    log = entries(
        "Job created.",
        "Take of L at spot 1, round Untouched: clean.",
        "Take of R at spot 1, round Untouched: noisy.",
        "Take of L at spot 2, round Untouched: clean.",
        "Levels and delays chosen.",
        "Take of L at spot 1, round After: clean.",
        "Take of R at spot 1, round Later: clean.",
    )
    found = list(grouped(log))
    assert [item.text for item in found] == [
        "Job created.",
        "3 takes of L, R at 2 spots, round Untouched; 1 not clean.",
        "Levels and delays chosen.",
        "Take of L at spot 1, round After: clean.",
        "Take of R at spot 1, round Later: clean.",
    ]
    assert (found[1].begun_at, found[1].ended_at) == (BEGUN + timedelta(minutes=1), BEGUN + timedelta(minutes=3))
    assert [entry for item in found for entry in item.entries] == log
    assert [item.lasted for item in found] == [False, True, False, False, False]
    quick = [LogEntry(at=BEGUN + timedelta(seconds=k), text=log[1].text, number=k) for k in range(3)]
    assert [item.lasted for item in grouped(quick)] == [False]


def test_every_part_is_told_with_its_figures(finished):
    services, client, job_id = finished
    page = " ".join(client.get(f"/jobs/{job_id}/report").text.split())
    for text in PARTS.values():
        assert f"<h2>{text}</h2>" in page.replace("&#39;", "'")
    proof = services.proving.view(job_id)
    for name, item in proof.channels.items():
        assert f"<strong>{item.proof.outcome.after_range_db:.1f} dB</strong>" in page
        assert f"Level of {name} before and after" in page
    settings = services.loading.view(job_id).settings["L"]
    assert f"{1000 * settings.delay_s:.2f} ms" in page
    assert services.tolerating.view(job_id).verdict in page.replace("&#39;", "'")
    assert re.search(r"\d+ takes of L, R at 4 spots, round Untouched", page)


def test_every_figure_of_the_tolerances_says_whether_it_holds(finished):
    services, client, job_id = finished
    figures = services.tolerating.view(job_id).figures
    text = client.get(f"/jobs/{job_id}/report").text
    for outcome in {figure.outcome for figure in figures}:
        assert text.count(f"<td>{outcome}</td>") == sum(figure.outcome == outcome for figure in figures)


def test_decay_is_told_before_and_after_octave_by_octave(finished):
    services, client, job_id = finished
    rows = services.reporting.report(job_id).decays
    assert [hz for hz, _, _ in rows][-3:] == [1000.0, 2000.0, 4000.0]
    # The room is the same: what filters can't change stays as it was.
    for hz, before, after in rows:
        if hz >= 1000:
            assert after == pytest.approx(before, rel=0.1)
            assert f"<td>{after:.2f} s</td>" in client.get(f"/jobs/{job_id}/report").text
    assert services.reporting.report(job_id).changed is None  # two rounds in two states say nothing of each other


def test_a_second_round_through_the_same_settings_says_what_changed(finished):
    services, client, job_id = finished
    copy = services.jobs.copy(job_id)
    services.rounds.new(copy.id, name="A year later")
    services.taking.run_rest(copy.id)
    services.sound.wait()
    text = " ".join(client.get(f"/jobs/{copy.id}/report").text.split())
    assert "Round A year later against After, both through the same settings: nothing changed" in text


def test_what_is_left_out_is_not_there_and_words_stand_as_text(finished):
    services, client, job_id = finished
    form = {"by": "A. Nobody", "words": "First line.\n<b>Second</b> line.", "paper": "Letter"}
    post(client, f"/jobs/{job_id}/report", **form, part=[part for part in PARTS if part != "log"])
    page = client.get(f"/jobs/{job_id}/report").text
    assert "By A. Nobody" in page
    assert "&lt;b&gt;Second&lt;/b&gt; line." in page
    assert "<h2>Day by day</h2>" not in page
    assert "report-letter.css" in page
    wrong = post(client, f"/jobs/{job_id}/report", by="x" * 200, words="kept", paper="A4", part=list(PARTS))
    assert wrong.status_code == 422
    assert "are too many" in wrong.text
    assert ">kept</textarea>" in wrong.text
    assert services.reporting.report(job_id).words.by == "A. Nobody"
    with pytest.raises(InvalidValue, match="Choose A4 or Letter"):
        ReportWords(paper="A3")


def test_the_file_needs_nothing_else(finished):
    _, client, job_id = finished
    text = client.get(f"/jobs/{job_id}/report/report.html").text
    assert "@page { size:" in text
    for outside in ("src=", "href=", "url(", "<script", "<form", "http://", "https://"):
        assert outside not in text.replace("http://www.w3.org/2000/svg", "")
    assert text.count('class="report-plot"') == 6  # two channels before and after, and the bass at every seat
    assert "<svg" in text


def test_a_job_with_nothing_in_it_has_a_report_too(services):
    job = services.jobs.create(JobDetails(name="Empty"))
    page = client_of(services).get(f"/jobs/{job.id}/report").text
    assert "Nothing was taken yet" in page
    assert "It was not measured again yet" in page
    assert "No preset is loaded yet" in page
