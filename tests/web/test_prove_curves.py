"""Prove and Shape: the filters' own curve, all channels as small plots, other rounds, and a channel's history."""

import json
import re
from dataclasses import replace

import numpy as np
import pytest

from asking import client_of
from dolce.core.alignment import mid_level_db
from dolce.core.correction import FilterType, Limits
from dolce.core.filters import chain_level_db
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import CorrectionSettings
from dolce.services.sample.demo import build_demo
from dolce.services.shape.present_correction import present_correction
from dolce.services.wiring import open_services
from dolce.web.stops.prove.history_plots import history_lines


def plots_of(page: str) -> dict[str, dict]:
    """The descriptions of all plots of a page, by the ids of their figures."""
    found = re.findall(
        r'<figure class="plot" id="([^"]+)".*?<script type="application/json">(.*?)</script>', page, re.S
    )
    return {name: json.loads(text) for name, text in found}


@pytest.mark.parametrize("stop", ["prove", "shape"])
def test_the_filters_stand_under_the_response_with_each_band(demo, demo_job, stop):
    client = client_of(demo)
    plots = plots_of(client.get(f"/jobs/{demo_job}/{stop}?channel=R").text)
    plot = plots["filter-plot"]
    assert plot["under"] in plots
    with demo.context.look() as work:
        job = work.jobs.get(demo_job)
        filters = present_correction(work, job).filters("R")
    together = next(curve for curve in plot["curves"] if not curve.get("single"))
    expected = chain_level_db(filters, at_hz=np.array(plot["x"]), sample_rate_hz=job.rig.sample_rate_hz)
    np.testing.assert_allclose(together["y"], expected, atol=0.02)
    assert sum(bool(curve.get("single")) for curve in plot["curves"]) == len(filters)
    for kind, unit in (("phase", "°"), ("delay", "ms")):
        part = client.get(f"/jobs/{demo_job}/{stop}/filter-curves?channel=R&kind={kind}").text
        assert plots_of(part)["filter-plot"]["unit"] == unit


def test_a_job_without_filters_has_no_plot_of_them(demo):
    client = client_of(demo)
    assert client.get("/jobs/2/prove/filter-curves?channel=L").text == ""
    assert client.get("/jobs/2/shape/filter-curves?channel=L").text == ""


@pytest.mark.parametrize(
    ("address", "states"),
    [
        ("prove", "before target predicted after filter-sum"),
        ("shape?sheet=channels", "before target predicted filter-sum"),
    ],
)
def test_every_channel_stands_as_a_small_plot(demo, demo_job, address, states):
    page = client_of(demo).get(f"/jobs/{demo_job}/{address}").text
    tiles = re.findall(r'class="small-channel"(.*?)</a>', page, re.S)
    assert len(tiles) == 2
    assert sum("aria-current" in tile for tile in tiles) == 1
    for tile in tiles:
        assert set(re.findall(r'class="trace ([a-z-]+) ch-', tile)) == set(states.split())


@pytest.fixture(scope="module")
def third_round(prepared):
    """The complete sample with a third round, of three of the nine spots."""
    services = open_services(prepared("demo", build_demo))
    services.rigging.set_rig(1, pace="fast")
    services.loading.switch(1, "bypass")
    services.rounds.new(1, name="A later day")
    for spot in services.jobs.get(1).spots[:3]:
        services.taking.run_spot(1, spot.id)
        services.sound.wait()
    yield services
    services.close()


def test_another_round_lies_in_the_plot_of_prove_at_the_level_of_its_curves(third_round):
    view = third_round.proving.view(1)
    third = view.rounds[-1]
    # Through the bypass, as the round before: at these spots the same curve, but for noise.
    (beside,) = third_round.proving.beside(view, "L", {third.id, view.before_round.id})
    assert (beside.round.name, beside.spots) == ("A later day", 3)
    shown = view.channels["L"]
    with third_round.context.look() as work:
        untouched = third_round.context.curves.of(work, view.before_round.id)["L"]
    same = shown.beside_db(untouched.at({spot.id for spot in view.job.spots[:3]}), view.before_round, view.weights)
    middle = (ANALYSIS_GRID_HZ > 100) & (ANALYSIS_GRID_HZ < 5000)
    # The rehearsal's hand puts the microphone a little elsewhere every time.
    assert np.median(np.abs(beside.level_db - same.level_db)[middle]) < 0.3
    # And the round before itself, at all spots, is the curve that is drawn as before.
    every = shown.beside_db(untouched, view.before_round, view.weights)
    np.testing.assert_allclose(every.level_db, shown.proof.before_db, atol=1e-9)
    page = client_of(third_round).get(f"/jobs/1/prove?channel=L&also={third.id}").text
    labels = [curve["label"] for curve in plots_of(page)["prove-plot"]["curves"]]
    assert labels == ["A later day", "before", "target", "predicted", "after"]
    assert "A later day: only 3 of these 9 spots." in page


def test_a_history_holds_what_each_round_tells(third_round):
    points = third_round.histories.of(1, "L")
    assert [(point.round.name, point.spots) for point in points] == [
        ("Untouched", 9),
        ("Corrected", 9),
        ("A later day", 3),
    ]
    untouched, corrected, _ = points
    assert corrected.deviation_db < untouched.deviation_db
    with third_round.context.look() as work:
        curves = third_round.context.curves.of(work, untouched.round.id)["L"]
        at_centre = {t.channel: t for t in work.takes.latest(untouched.round.id) if t.spot_id == 1}
    assert untouched.level_db == pytest.approx(mid_level_db(ANALYSIS_GRID_HZ, curves.average.level_db))
    first = min(take.arrival_s for take in at_centre.values())
    assert untouched.later_s == pytest.approx(at_centre["L"].arrival_s - first)
    page = client_of(third_round).get("/jobs/1/prove/history/L").text
    assert "with=round-1&amp;with=round-2" in page
    assert "needs two" in client_of(third_round).get("/jobs/1/prove/history/Ls").text


def test_a_round_that_does_not_tell_a_figure_is_a_gap_in_its_line(third_round):
    points = third_round.histories.of(1, "L")
    broken = [points[0], replace(points[1], later_s=None), points[2]]
    line = next(line for line in history_lines(broken) if line.name.startswith("Later"))
    assert [mark.round for mark in line.marks] == ["Untouched", "A later day"]
    assert line.path.count("M") == 2
    assert "L" not in line.path
    none = [replace(point, later_s=None) for point in points]
    assert not any(line.name.startswith("Later") for line in history_lines(none))


def test_decays_of_modes_stand_at_every_seat_and_the_prediction_meets_the_takes(demo, demo_job):
    view, seats = demo.decays.at_seats(demo_job, "L")
    assert [at.seat.name for at in seats] == [seat.name for seat in view.job.plan.seats]
    rows = seats[0].rows
    assert len(rows) >= 3
    both = [row for row in rows if row.predicted and row.after and row.predicted.seconds and row.after.seconds]
    assert both
    for row in both:
        # A rehearsal's microphone stands a little elsewhere every time.
        assert row.predicted.seconds == pytest.approx(row.after.seconds, rel=0.25)
        assert row.predicted.level_db == pytest.approx(row.after.level_db, abs=2.0)
    page = client_of(demo).get(f"/jobs/{demo_job}/prove/decay/L").text
    assert "Noticed from" in page
    assert seats[0].spot in page
    assert client_of(demo).get("/jobs/2/prove/decay/L").text.strip() == ""  # nothing is proven there


def test_what_a_linear_phase_correction_does_over_time_is_told_before_it_is_loaded(prepared):
    services = open_services(prepared("demo", build_demo))
    try:
        bands = services.decays.forecast(1, "L")
        assert bands is not None
        assert bands.ahead == ()  # bands sound after the arrival
        services.shaping.set_correction(
            1,
            correction_settings=CorrectionSettings(
                limits=Limits(from_hz=30.0),
                filter_type=FilterType(method="convolution", phase="linear", duration_s=0.34),
            ),
            anchor="band",
            anchor_band_hz=(200.0, 2000.0),
            anchor_level_db=0.0,
            linked=True,
            preference=None,
        )
        services.finding.find(1)
        found = services.decays.forecast(1, "L")
        assert found.filter_ahead_db is not None
        (main, *_) = found.ahead
        assert main.predicted_db > main.before_db
        page = client_of(services).get("/jobs/1/shape/forecast/L").text
        assert f"at {main.seat.name}" in page
        assert "in the filter alone" in page
    finally:
        services.close()


def test_left_stands_against_right_before_and_after(demo, demo_job):
    view = demo.twins.of(demo_job, "L")
    assert (view.against, view.before_spots, view.after_spots) == ("R", 9, 9)
    other = demo.twins.of(demo_job, "R")
    np.testing.assert_allclose(view.after.level_db, -other.after.level_db, atol=1e-9)
    assert view.after.whole_later_s == pytest.approx(-other.after.whole_later_s, abs=3e-5)
    page = client_of(demo).get(f"/jobs/{demo_job}/prove/twins/L").text
    assert set(plots_of(page)) == {"twins-level", "twins-arrival"}
    assert "against R" in page
    assert client_of(demo).get("/jobs/2/prove/twins/L").text == ""
    assert demo.twins.of(demo_job, "C") is None
