"""What the sheets of Shape do: searches, verdicts, seat weightings and versions, targets, convolutions."""

from dataclasses import replace

import numpy as np
import pytest

from asking import client_of, post
from dolce.core.correction import FilterType, FoundConvolution, Limits, Overruled, Preference, Target, deviations_db
from dolce.core.filters import BandFilter
from dolce.core.processor import Crossover
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.tuning import Correction, CorrectionSettings
from dolce.errors import Conflict, FormatError, InvalidValue, NotFound
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.shape import finding
from dolce.services.shape.filter_searches import FilterSearches
from dolce.services.shape.finding import _require_waits
from dolce.services.shape.region_evidence import region_evidence
from dolce.services.wiring import open_services
from rooms import taken_room


@pytest.fixture(scope="module")
def taken(prepared):
    """A 3.1 room with two seats, every channel taken at four spots, aligned with its bass on the sub."""
    services = open_services(taken_room(prepared, layout="3.1", subs=1))
    yield services, 1
    services.close()


@pytest.fixture
def job(taken):
    """A copy of its own for each test."""
    services, job_id = taken
    copy = services.jobs.copy(job_id)
    yield services, copy.id
    services.finding.searches.stop(copy.id)


def aim_by(services, job_id, **filter_type):
    services.shaping.set_correction(
        job_id,
        correction_settings=CorrectionSettings(
            limits=Limits(from_hz=30.0, bands=5), filter_type=FilterType(**filter_type)
        ),
        anchor="band",
        anchor_band_hz=(200.0, 2000.0),
        anchor_level_db=0.0,
        linked=True,
        preference=None,
    )


def test_a_search_behind_the_pages_ends_with_filters_and_a_stopped_one_changes_nothing(job):
    services, job_id = job
    aim_by(services, job_id)
    before = services.shaping.correction(job_id)
    services.finding.begin_find(job_id)
    services.finding.searches.stop(job_id)
    search = services.finding.searches.of(job_id)
    assert search.done
    assert search.stopped or services.shaping.correction(job_id).found  # it may just have been done
    if search.stopped:
        assert services.shaping.correction(job_id) == before
    services.finding.begin_find(job_id)
    services.finding.searches.wait(job_id)
    search = services.finding.searches.of(job_id)
    assert (search.done, search.fault, search.fraction) == (True, "", 1.0)
    correction = services.shaping.correction(job_id)
    assert set(correction.bands) == {"L", "R", "C", "Sub1"}
    counts = [count for count, _ in correction.fewer["C"]]
    assert counts == sorted(set(counts))
    assert len(correction.bands["C"]) in counts


def test_a_search_that_is_told_to_stop_ends_at_its_next_step(job):
    _, job_id = job
    searches, told_of = FilterSearches(), []

    def work(on_progress):
        on_progress(0.2)
        told_of.append("first")
        searches.of(job_id).stop.set()
        on_progress(0.4)
        told_of.append("never")
        return {}

    searches.look_for(job_id, work, asked="once")
    searches.wait(job_id)
    assert (told_of, searches.of(job_id).stopped) == (["first"], True)


def test_a_search_with_nothing_taken_says_so(services):
    job = services.jobs.create(JobDetails(name="Nothing"))
    with pytest.raises(Conflict, match="nothing to shape"):
        services.finding.begin_find(job.id)


def test_an_overruled_verdict_is_kept_shown_and_taken_back(job):
    services, job_id = job
    mine = Overruled(from_hz=60, to_hz=120, verdict="leave", reason="the desk will go")
    services.shaping.overrule(job_id, "L", mine)
    shape = services.shaping.view(job_id, "R").shape  # linked: the partner too
    region = next(s for s in shape.plan.regions if s.from_hz < 90 < s.to_hz)
    assert (region.verdict, region.reason) == ("leave", "the desk will go")
    inside = (GRID > 62) & (GRID < 118)
    assert np.abs(shape.plan.desired_db[inside]).max() == 0
    # Another for part of it takes its place.
    services.shaping.overrule(job_id, "L", replace(mine, from_hz=100, to_hz=150, verdict="only cut"))
    assert [o.from_hz for o in services.shaping.correction(job_id).overruled["L"]] == [100]
    services.shaping.follow_evidence(job_id, "L", 110)
    assert services.shaping.correction(job_id).overruled == {}


def test_evidence_of_a_region_says_where_it_stands(job):
    services, job_id = job
    shape = services.shaping.view(job_id, "L").shape
    region = max((s for s in shape.plan.regions if s.kind != "outside"), key=lambda s: abs(s.size_db))
    found = region_evidence(services.context, services.shaping, job_id, "L", region.size_hz)
    assert found.region == region
    assert 0 <= found.seats <= found.of_seats == 2
    assert found.least_above_noise_db > 20
    assert found.is_minimum_phase is not None
    assert region_evidence(services.context, services.shaping, job_id, "L", 0.1) is None


def test_seat_weightings_side_by_side_say_what_each_seat_gains(job):
    services, job_id = job
    aim_by(services, job_id)
    services.finding.find(job_id)
    services.versions.keep(job_id, "for all")
    seats = services.jobs.get(job_id).plan.seats
    services.versions.set_weights(job_id, "second only", {seats[0].id: 0.0, seats[1].id: 1.0})
    services.finding.find(job_id)
    table = services.versions.table(job_id)
    now, kept = table.rows
    assert (kept.name, now.seat_weighting.weights) == ("for all", {seats[1].id: 1.0})
    # The second seat gains more by its own correction, which is worth less at the first.
    assert now.after_db[1] < kept.after_db[1] + 0.05
    assert now.after_db[0] > kept.after_db[0] - 0.05
    # One number by hand: C at the second seat as the core has it.
    services.shaping.set_seat_weighting(
        job_id, replace(services.shaping.correction(job_id).seat_weighting, name="again")
    )
    shape = services.shaping.view(job_id, "C").shape
    limits = services.shaping.correction(job_id).limits_for("C")
    by_spot = deviations_db(
        shape.needs.error_db,
        shape.correction_db,
        at_hz=GRID,
        range_hz=(limits.from_hz, limits.to_hz),
        level_band_hz=shape.level_band_hz,
    )
    others = services.shaping.shapes(job_id)
    assert min(by_spot) - 3 < now.after_db[1] < max(by_spot) + 3
    assert len(others) == 4
    services.versions.use(job_id, kept.number)
    assert services.shaping.correction(job_id).seat_weighting == kept.seat_weighting
    services.versions.forget(job_id, kept.number)
    assert [row.number for row in services.versions.table(job_id).rows] == [None]
    with pytest.raises(NotFound, match="no longer kept"):
        services.versions.use(job_id, kept.number)


@pytest.mark.parametrize(
    ("do", "message"),
    [
        (lambda s, j: s.versions.set_weights(j, "none", {1: 0.0}), "no seat has a weight"),
        (lambda s, j: s.versions.keep(j, "early"), "no filters to keep"),
        (lambda s, j: s.versions.keep(j, " "), "needs a name"),
        (lambda s, j: s.targets.keep(" ", Target(), None), "needs a name"),
    ],
)
def test_what_can_not_be_kept_says_why(job, do, message):
    services, job_id = job
    with pytest.raises(InvalidValue, match=message):
        do(services, job_id)


def test_copies_of_jobs_take_kept_corrections_along(job):
    services, job_id = job
    aim_by(services, job_id)
    services.finding.find(job_id)
    services.versions.keep(job_id, "first")
    copy = services.jobs.copy(job_id)
    row = services.versions.table(copy.id).rows[1]
    assert row.name == "first"
    services.versions.use(copy.id, row.number)
    assert services.shaping.view(copy.id).round is not None


def test_what_to_expect_is_found_once_and_follows_edits(job):
    services, job_id = job
    assert services.shaping.expected(job_id, "L") is None
    aim_by(services, job_id)
    services.finding.find(job_id)
    first = services.shaping.expected(job_id, "C")
    assert first is services.shaping.expected(job_id, "C")
    assert first.spots == 4
    assert first.after_at_new_spots_low_db < first.after_at_new_spots_db < first.after_at_new_spots_high_db
    assert first.gains
    band = services.shaping.correction(job_id).bands["C"][0]
    services.bands.switch(job_id, "C", band.id, on=False)
    assert services.shaping.expected(job_id, "C").after_db != first.after_db


@pytest.mark.parametrize(
    "filter_type",
    [
        {"method": "convolution", "phase": "minimum"},
        {"method": "convolution", "phase": "linear"},
        {"method": "convolution", "phase": "mixed", "before_s": 0.03},
        {"method": "fixed bands"},
        {"method": "fixed and free bands"},
    ],
)
def test_every_means_comes_closer_and_can_be_loaded(job, filter_type):
    services, job_id = job
    aim_by(services, job_id, **filter_type)
    services.finding.find(job_id)
    for name, shape in services.shaping.shapes(job_id).items():
        assert shape.predicted_deviation_db < shape.before_deviation_db, name
    correction = services.shaping.correction(job_id)
    convolves = filter_type["method"] == "convolution"
    assert bool(correction.convolutions) == convolves
    settings = services.loading.view(job_id).settings["L"]
    assert (settings.convolution is not None) == convolves
    if convolves:
        # What is loaded is what was shown, at the rate of the rig.
        at = GRID[(GRID > 25) & (GRID < 15_000)]
        shown = np.interp(at, GRID, services.shaping.view(job_id, "L").shape.correction_db)
        np.testing.assert_allclose(settings.correction_level_db(at, sample_rate_hz=48_000), shown, atol=0.15)
    else:
        assert sum(band.fixed for band in correction.bands["L"]) == 31
    assert services.loading.view(job_id).broken["corrected"] == ()
    services.loading.load(job_id, "A", "corrected")
    kind = "convolution" if convolves else "bands"
    assert kind in services.progress.status(job_id).stops[5].line


def test_limits_that_forbid_everything_find_nothing_and_say_nothing_wrong(job):
    services, job_id = job
    services.shaping.set_correction(
        job_id,
        correction_settings=CorrectionSettings(limits=Limits(max_boost_db=0, max_cut_db=0)),
        anchor="band",
        anchor_band_hz=(200.0, 2000.0),
        anchor_level_db=0.0,
        linked=True,
        preference=None,
    )
    services.finding.find(job_id)
    assert set(services.shaping.correction(job_id).bands.values()) == {()}
    assert services.shaping.view(job_id, "L").found


def test_targets_from_files_and_from_what_was_measured(job):
    services, job_id = job
    curve = services.targets.from_file(b"Hz;dB\n20;6,5\n200;0\n2000;0\n16000;-3,0\n", "house.txt")
    assert curve.level_db[0] == 6.5
    assert curve.source == "house.txt"
    for data, message in (
        (b"20 6\n30 5\n", "three"),
        (b"200 0\n20 6\n10 3\n", "upside down"),
        (b"a\nb\n", "0 points"),
        (b"20 6\n200 x\n2000 0\n", "not a frequency and a level"),
    ):
        with pytest.raises(FormatError, match=message):
            services.targets.from_file(data, "bad.txt")
    with pytest.raises(InvalidValue, match="from its own middle"):
        services.targets.from_file(b"20 50\n200 0\n2000 0\n", "steep.txt")
    like = services.targets.curve(job_id, "measured", channel="L", like="R")
    assert "as R measures" in like.source
    speaker = services.targets.curve(job_id, "speaker", channel="L")
    assert "Reaches down to" in speaker.source
    assert services.targets.curve(job_id, "flat", channel="L") is None
    with pytest.raises(Conflict, match="no take that counts"):
        services.targets.curve(job_id, "measured", channel="L", like="Nobody")
    typed = services.targets.curve(job_id, "points", channel="L", points="20 4\n100 2\n1000 0")
    assert typed.level_db == (4, 2, 0)


def test_a_target_from_the_loudspeaker_follows_its_takes_and_close_takes_have_to_be_close(job):
    services, job_id = job
    curve = services.targets.curve(job_id, "speaker", channel="L")
    services.shaping.change(job_id, "target", lambda c: c.with_curve("L", curve))
    assert not services.targets.moved_on(job_id, "L")
    # Its curve as it was with other takes: told, and one press makes it that of the takes of now.
    old = replace(curve, level_db=tuple(level + 0.5 * k / 100 for k, level in enumerate(curve.level_db)))
    services.shaping.change(job_id, "target", lambda c: c.with_curve("L", old))
    assert services.targets.moved_on(job_id, "L")
    client = client_of(services)
    assert "Follow them" in client.get(f"/jobs/{job_id}/shape/target-moved/L").text
    post(client, f"/jobs/{job_id}/shape/target-follow/L")
    assert services.shaping.correction(job_id).correction_settings("L").target.curve == curve
    assert "Follow them" not in client.get(f"/jobs/{job_id}/shape/target-moved/L").text
    # A spot that is meant to stand close and stands a metre and more away is no close take.
    spot = services.jobs.get(job_id).spots[-1]
    services.room.set_spot(job_id, spot.id, seat_id=None, close_to="L")
    with pytest.raises(Conflict, match="m away, where the room is in it"):
        services.targets.curve(job_id, "speaker", channel="L")
    assert "follow its takes" in client.get(f"/jobs/{job_id}/shape/target-moved/L").text
    assert services.jobs.get(job_id).plan.close_spots("L") == ()


def test_targets_kept_are_there_for_other_jobs(job):
    services, job_id = job
    target = Target(tilt_db_per_octave=-0.7)
    services.targets.keep("warm", target, Preference(name="mine", bass_db=2))
    services.targets.keep("warm", replace(target, tilt_db_per_octave=-0.8), None)  # takes its place
    kept = services.targets.kept()
    assert [(item.name, item.target.tilt_db_per_octave) for item in kept] == [("warm", -0.8)]
    services.targets.use(job_id, kept[0].id)
    assert services.shaping.correction(job_id).target.tilt_db_per_octave == -0.8
    data, name = services.targets.file(job_id, "L")
    assert name == "dolce-target-L.csv"
    again = services.targets.from_file(data, name)
    at = np.array([100.0, 1000.0, 8000.0])
    np.testing.assert_allclose(
        np.diff(again.at(at)), np.diff(services.shaping.correction(job_id).target_db("L", at)), atol=0.05
    )
    services.targets.forget(kept[0].id)
    assert services.targets.kept() == []


def test_locked_bands_count_among_those_that_a_channel_may_have(job):
    services, job_id = job
    services.bands.add(job_id, "C")
    (band,) = services.shaping.correction(job_id).bands["C"]
    services.bands.lock(job_id, "C", band.id, locked=True)
    services.shaping.set_count(job_id, "C", 3)
    services.finding.find(job_id)
    found = services.shaping.correction(job_id).bands["C"]
    assert band.filter in [item.filter for item in found]
    assert 2 <= len(found) <= 3


def test_bands_are_snapped_locked_and_copied(job):
    services, job_id = job
    aim_by(services, job_id)
    services.finding.find(job_id)
    snapped = services.bands.snapped(job_id, BandFilter(frequency_hz=123.456, gain_db=-3.123, q=2.3456))
    assert (snapped.frequency_hz, snapped.gain_db, snapped.q) == (123, -3.1, 2.35)
    band = services.shaping.correction(job_id).bands["C"][0]
    before = services.shaping.view(job_id, "C").shape.predicted_db
    seen = services.bands.preview(job_id, "C", band.id, replace(band.filter, gain_db=band.filter.gain_db - 3))
    assert np.abs(seen.shape.predicted_db - before).max() > 2
    assert services.shaping.correction(job_id).bands["C"][0] == band  # nothing is kept
    services.bands.lock(job_id, "C", band.id, locked=True)
    services.finding.find(job_id)
    assert band.filter in services.shaping.correction(job_id).filters("C")
    services.bands.copy(job_id, "C", to="group")
    correction = services.shaping.correction(job_id)
    assert correction.filters("L") == correction.filters("C")
    with pytest.raises(Conflict, match="no such others"):
        services.bands.copy(job_id, "Sub1", to="partner")


def test_all_channels_wait_for_one_that_is_late(job):
    services, job_id = job
    services.shaping.set_correction(
        job_id,
        correction_settings=CorrectionSettings(
            filter_type=FilterType(method="convolution", phase="linear", duration_s=0.34)
        ),
        scope="channel",
        channel="C",
        anchor="band",
        anchor_band_hz=(200.0, 2000.0),
        anchor_level_db=0.0,
        linked=True,
        preference=None,
    )
    services.finding.find(job_id)  # 170 ms fit into the 200 that an output has
    waits = {c: s.delay_s for c, s in services.loading.view(job_id).settings.items()}
    assert min(waits["L"], waits["Sub1"]) >= 0.17 > waits["C"]
    assert services.shaping.correction(job_id).by_channel.keys() == {"C"}


def test_a_convolved_channel_takes_no_band_beside_it(job):
    services, job_id = job
    aim_by(services, job_id, method="convolution")
    services.finding.find(job_id)
    with pytest.raises(Conflict, match="corrected by a convolution"):
        services.bands.add(job_id, "C")
    with pytest.raises(InvalidValue, match="16384 taps"):
        aim_by(services, job_id, method="convolution", duration_s=1.0)


def test_who_would_have_to_wait_longer_than_an_output_can_is_named(job):
    services, job_id = job
    late = FoundConvolution(at_hz=(20.0, 200.0, 2000.0), level_db=(0.0, 0.0, 0.0), phase="linear", duration_s=0.6)
    job = services.jobs.get(job_id)
    # Cut to the taps that the device holds it is late by less, and nobody waits too long.
    _require_waits(job, Correction(convolutions={"C": late}))
    whole = replace(job, rig=job.rig.with_limits(replace(job.limits, taps=0)))
    with pytest.raises(Conflict, match="L would have to wait 300 ms"):
        _require_waits(whole, Correction(convolutions={"C": late}))
    _require_waits(whole, Correction(convolutions=dict.fromkeys(("L", "R", "C", "Sub1"), late)))


def test_mains_are_corrected_on_the_sum_that_has_the_corrected_sub_in_it(job, monkeypatch):
    services, job_id = job
    services.crossing.set_crossovers(job_id, {"fronts": Crossover(frequency_hz=90)})
    services.shaping.stand_on_present(job_id)
    aim_by(services, job_id)
    asked = []
    whole = finding.found_filters

    def noted(channels, correction, **more):
        asked.append((set(channels), "Sub1" in correction.bands and correction.filters("Sub1") != (), channels))
        return whole(channels, correction, **more)

    monkeypatch.setattr(finding, "found_filters", noted)
    services.finding.find(job_id)
    assert [(channels, sub_has) for channels, sub_has, _ in asked] == [({"Sub1"}, False), ({"L", "R", "C"}, True)]
    # How much is the main's own: nearly nothing an octave and more under the corner, nearly all above it.
    share = asked[1][2]["C"].share
    assert share[(GRID > 25) & (GRID < 40)].max() < 0.2
    assert share[(GRID > 250) & (GRID < 2000)].min() > 0.9
    # What it starts from has the sub's filters in it: without them it is another curve.
    before = services.shaping.view(job_id, "C").shape.before_db
    for band in services.shaping.correction(job_id).bands["Sub1"]:
        services.bands.switch(job_id, "Sub1", band.id, on=False)
    without = services.shaping.view(job_id, "C").shape.before_db
    low, high = (
        np.abs(before - without)[band].max() for band in ((GRID > 35) & (GRID < 70), (GRID > 700) & (GRID < 2000))
    )
    assert low > 0.5
    assert high < 0.1 * low


def test_what_ends_no_closer_is_foreseen_on_shape_and_align(job):
    services, job_id = job
    client = client_of(services)
    url = f"/jobs/{job_id}/shape/no-closer"
    assert client.get(url).text.strip() == ""  # no filters, nothing to foresee
    services.finding.find(job_id)
    assert services.shaping.no_closer(job_id) == ()
    # A boost where the loudspeaker is loud already.
    band = services.shaping.correction(job_id).bands["C"][0]
    services.bands.edit(job_id, "C", band.id, replace(band.filter, frequency_hz=200.0, gain_db=6.0, q=0.5))
    assert services.shaping.no_closer(job_id) == ("C",)
    assert "C would end no closer to the target" in " ".join(client.get(url).text.split())
    for page in ("shape", "align"):
        assert url in client.get(f"/jobs/{job_id}/{page}").text


def test_a_graphic_equaliser_is_set_by_hand_and_the_others_are_solved_around_it(job):
    services, job_id = job
    aim_by(services, job_id, method="fixed bands")
    services.finding.find(job_id)
    before = services.shaping.correction(job_id)
    fixed = before.correction_settings("L").filter_type.fixed
    band = next(band for band in before.bands["L"] if band.filter.frequency_hz == 100)
    client = client_of(services)
    page = client.get(f"/jobs/{job_id}/shape?channel=L").text
    assert 'aria-label="Gain at 100 Hz in dB"' in page
    wanted = band.filter.gain_db - 4.2
    # Frequency and Q are the equaliser's own, whatever is sent.
    post(
        client, f"/jobs/{job_id}/shape/bands/L/{band.id}", gain_db=f"{wanted:.2f}", frequency_hz="130", q="9", moved="1"
    )
    held = services.shaping.correction(job_id).band("L", band.id)
    assert held.locked
    assert held.filter == replace(band.filter, gain_db=fixed.on_step(wanted))
    assert round(held.filter.gain_db / fixed.step_db, 6) == round(held.filter.gain_db / fixed.step_db)
    services.finding.find(job_id)
    after = services.shaping.correction(job_id)
    gains = [{b.filter.frequency_hz: b.filter.gain_db for b in c.bands["L"]} for c in (before, after)]
    assert set(gains[1]) == set(gains[0])  # every centre once
    assert gains[1][100] == held.filter.gain_db
    assert gains[1][125] > gains[0][125] or gains[1][80] > gains[0][80]  # the neighbours make up for it
    answer = post(client, f"/jobs/{job_id}/shape/bands/L/{band.id}", gain_db="14")
    assert answer.status_code == 422
    assert (
        services.shaping.correction(job_id).band("L", held.id if held.id else band.id).filter.gain_db == gains[1][100]
    )
    post(client, f"/jobs/{job_id}/shape/bands/L/{band.id}/lock/free")
    services.finding.find(job_id)
    again = {b.filter.frequency_hz: b.filter.gain_db for b in services.shaping.correction(job_id).bands["L"]}
    assert again == gains[0]
