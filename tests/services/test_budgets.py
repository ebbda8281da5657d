"""Error budgets of the headlines of a proof."""

import math
import re

import numpy as np
import pytest

from asking import client_of
from dolce.core.correction.outcome import deviation_db
from dolce.core.dsp import energy_mean_db
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.services.jobs.job_keeping import JobDetails


def test_every_headline_of_the_sample_has_its_budget(demo, demo_job):
    taken_in, headlines = demo.budgets.of(demo_job)
    view = demo.proving.view(demo_job)
    assert taken_in == view.after_round
    assert [(h.kind, set(h.channels)) for h in headlines] == [
        ("deviation", {"L"}),
        ("deviation", {"R"}),
        ("level", {"L", "R"}),
        ("arrival", {"L", "R"}),
    ]
    for headline in headlines:
        assert headline.spots == 9
        assert 0 < headline.budget.total < math.inf
    # The figures are those of the page.
    assert headlines[0].value == view.channels["L"].proof.outcome.after_range_db
    assert headlines[2].value == view.after_match.level_db
    # By spots: leaving each out moves it; of equal weights that is the plain jackknife (Efron and Tibshirani, ch. 11),
    # Student's factor of eight degrees of freedom on top.
    proof = view.channels["L"]
    assert len({view.weights[spot] for spot in proof.proof.spots}) == 1
    without = [
        deviation_db(
            GRID, energy_mean_db(np.delete(proof.after_spots_db, k, axis=0)), proof.target_db, band_hz=proof.judged_hz
        )
        for k in range(9)
    ]
    whole = proof.proof.outcome.after_range_db
    error = 2.306 * np.sqrt(8 / 9 * np.sum((np.array(without) - whole) ** 2))
    by_spots = [part.value for part in headlines[0].budget.parts if part.source in ("spots", "placement")]
    assert math.hypot(*by_spots) == pytest.approx(error, rel=1e-3)


def test_the_page_says_what_dominates_and_a_job_without_a_proof_says_nothing(demo, demo_job):
    client = client_of(demo)
    page = client.get(f"/jobs/{demo_job}/prove/budgets").text
    rows = re.findall(r"<tr><th>(?:Deviation|Level|Arrival).*?</tr>", page, re.S)
    assert len(rows) == 4
    assert all(row.count('class="attention"') == 1 and "±" in row for row in rows)
    assert "cancels" in rows[2]
    assert f"/jobs/{demo_job}/prove/budgets" in client.get(f"/jobs/{demo_job}/prove").text
    empty = demo.jobs.create(JobDetails(name="No proof"))
    try:
        assert client.get(f"/jobs/{empty.id}/prove/budgets").text == ""
    finally:
        demo.jobs.delete(empty.id)
