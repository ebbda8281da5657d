"""Switches of monitors, clean levels, a band heard, and where targets hang, through the services that pages use."""

from dataclasses import replace

import numpy as np
import pytest

from dolce.core.correction import FilterType, Limits
from dolce.core.filters import BandFilter
from dolce.core.processor import Crossover
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.tuning import AUDIBLE_TO_HZ, Band, CorrectionSettings
from dolce.errors import Conflict, FormatError, InvalidValue
from dolce.services.wiring import open_services
from rooms import taken_room

ABOVE = (GRID > 300) & (GRID < 15_000)


@pytest.fixture(scope="module")
def taken(prepared):
    """A 2.1 room with two seats, every channel taken at four spots, aligned with its bass on the sub."""
    services = open_services(taken_room(prepared, layout="2.0", subs=1))
    yield services, 1
    services.close()


@pytest.fixture
def job(taken):
    """A copy of its own for each test."""
    services, job_id = taken
    yield services, services.jobs.copy(job_id).id
    services.sound.stop()


def with_model(services, job_id, name="Nearfield"):
    kept = services.switching.add_steps(
        name, "Treble", shape="high shelf", frequency_hz=5000, q=0.7, steps_db=[2, -2, -4]
    )
    kept = services.switching.add_steps(name, "Bass", shape="low shelf", frequency_hz=150, q=0.7, steps_db=[-3])
    services.switching.use(job_id, "L", kept.id)
    return kept


def test_a_model_is_kept_for_all_jobs_and_the_best_positions_change_what_is_predicted(job):
    services, job_id = job
    with_model(services, job_id)
    before = services.shaping.view(job_id, "R").shape
    view = services.switching.view(job_id, "R")  # linked: the partner has them too
    assert [switch.name for switch in view.at.model.switches] == ["Treble", "Bass"]
    assert view.search.after_db <= view.search.before_db
    services.switching.set_positions(job_id, "L", measured={}, chosen={"Treble": "−4 dB"})
    after = services.shaping.view(job_id, "R").shape
    moved = after.before_db + after.level_db - before.before_db - before.level_db
    at = services.shaping.correction(job_id).switches["R"]
    assert np.abs(moved - at.change_db(GRID))[ABOVE].max() < 0.3  # what the sub adds there is next to nothing
    assert at.change_db(GRID).min() < -3.5
    services.shaping.undo(job_id)
    assert not services.shaping.correction(job_id).switches["R"].turned
    services.switching.choose_best(job_id, "L")
    chosen = services.shaping.correction(job_id).switches["L"].chosen
    assert dict(chosen) == dict(view.search.positions)
    other = services.jobs.copy(job_id).id
    assert [first.name for first in services.switching.view(other, "L").kept] == ["Nearfield"]


def test_a_round_that_is_not_as_predicted_says_so_and_one_that_is_becomes_the_start(job):
    services, job_id = job
    with_model(services, job_id)
    services.switching.set_positions(job_id, "L", measured={}, chosen={"Treble": "−4 dB"})
    services.rounds.new(job_id, name="Turned")
    services.taking.run_rest(job_id)
    services.sound.wait()
    view = services.switching.view(job_id, "L")
    assert [first.name for first in view.later] == ["Turned"]
    checked = services.switching.view(job_id, "L", check_by=view.later[0].id)
    # The rehearsed monitor has no switch: nothing was turned.
    assert not checked.check.agrees
    assert checked.check.worst_db == pytest.approx(4, abs=0.5)
    assert checked.check.worst_hz > 4000
    services.switching.set_positions(job_id, "L", measured={}, chosen={})
    assert services.switching.view(job_id, "L", check_by=view.later[0].id).check.agrees
    services.switching.set_positions(job_id, "L", measured={}, chosen={"Bass": "−3 dB"})
    services.switching.start_from_turned(job_id, view.later[0].id)
    correction = services.shaping.correction(job_id)
    assert correction.round_id == view.later[0].id
    assert correction.switches["L"].measured["Bass"] == "−3 dB"
    assert not correction.switches["L"].turned
    # By takes: both rounds sound the same, so this position does nothing.
    kept = services.switching.add_measured(
        job_id, "Nearfield", "Desk", "on", channel="L", without=view.base.id, with_it=view.later[0].id
    )
    desk = next(switch for switch in kept.switches if switch.name == "Desk")
    assert [position.name for position in desk.positions] == ["0 dB", "on"]
    # The microphone does not come back to the hair: 0.6 dB between both rounds.
    assert np.abs(desk.position("on").change_db(GRID[ABOVE])).max() < 1.0


def test_switches_that_can_not_be_are_refused_and_nothing_is_lost(job):
    services, job_id = job
    kept = with_model(services, job_id, "Studio")
    before = services.switching.view(job_id, "L").kept
    with pytest.raises(InvalidValue, match="nothing is known between 40 and 900"):
        services.switching.add_points("Studio", "Bass", "odd", "20 -6\n40 -6\n900 0\n2000 0")
    with pytest.raises(FormatError, match="at least three"):
        services.switching.add_points("Studio", "Bass", "odd", "20 -6\n40 -6")
    with pytest.raises(InvalidValue, match="two different rounds"):
        services.switching.add_measured(job_id, "Studio", "Bass", "odd", channel="L", without=1, with_it=1)
    with pytest.raises(Conflict, match="nothing is known of the switches of Sub1"):
        services.switching.choose_best(job_id, "Sub1")
    assert services.switching.view(job_id, "L").kept == before
    more = services.switching.add_points("Studio", "Bass", "−9 dB", "20 -9\n60 -8\n150 -4\n400 0")
    assert [position.name for position in more.switches[1].positions] == ["0 dB", "−3 dB", "−9 dB"]
    services.switching.forget_switch(kept.id, "Treble")
    services.switching.forget_switch(kept.id, "Bass")
    assert "Studio" not in [first.name for first in services.switching.view(job_id, "L").kept]


def test_takes_at_rising_level_tell_how_loud_it_plays_and_count_for_nothing_else(job):
    services, job_id = job
    services.rigging.set_rig(job_id, full_scale_spl_db=100.0)
    before = services.shaping.view(job_id, "L").shape.before_db
    spot = services.jobs.get(job_id).main_spots[0].id
    services.taking.rising(job_id, "L", spot)
    services.sound.wait()
    view = services.maximum_levels.view(job_id, "L")
    ceiling = services.jobs.get(job_id).rig.levels.ceiling_dbfs
    assert len(view.levels_dbfs) >= 5
    assert max(view.levels_dbfs) == pytest.approx(ceiling, abs=0.1)
    np.testing.assert_array_equal(services.shaping.view(job_id, "L").shape.before_db, before)
    with_level = [band for band in view.bands if band.maximum_levels_db is not None]
    assert len(with_level) >= 4
    loudest = max(view.levels_dbfs)
    assert all(band.needed_db is not None for band in with_level)
    assert max(band.maximum_levels_db for band in with_level) < 100 + loudest + 20
    services.rounds.new(job_id, name="Empty")
    with pytest.raises(Conflict, match="no take yet"):
        services.taking.rising(job_id, "L", spot)


def test_typed_clean_levels_go_before_takes_and_are_undone(job):
    services, job_id = job
    assert all(
        b.maximum_levels_db is None for b in services.maximum_levels.view(job_id, "L").bands
    )  # no pressure known
    services.maximum_levels.type_levels(job_id, "L", "40 90\n100 100\n8000 104")
    view = services.maximum_levels.view(job_id, "L")
    assert (view.typed[125.0], view.bands[2].typed) == (pytest.approx(100.2), True)
    assert view.least.margin_db == min(b.maximum_levels_db - b.needed_db for b in view.bands if b.typed)
    assert (view.assumed, view.reference_db) == (True, 82.0)  # 59 cubic metres; common practice
    with pytest.raises(InvalidValue, match="out of range"):
        services.maximum_levels.type_levels(job_id, "L", "40 90\n100 300\n8000 104")
    services.maximum_levels.type_levels(job_id, "L", "")
    assert services.shaping.correction(job_id).maximum_levels_db == {}


def with_band(services, job_id, **band):
    services.shaping.change(
        job_id,
        "band",
        lambda c: replace(
            c,
            bands={
                **c.bands,
                "L": (
                    Band(filter=BandFilter(frequency_hz=100, gain_db=-3, q=1)),
                    Band(filter=BandFilter(**{"frequency_hz": 400, "gain_db": 12, "q": 1, **band})),
                ),
            },
        ),
    )
    return services.shaping.correction(job_id).bands["L"][1].id


def test_a_band_goes_in_and_out_of_noise_under_the_ceiling(job):
    services, job_id = job
    services.rigging.set_rig(job_id, ceiling_dbfs=-24.0, sweep_level_dbfs=-30.0)
    band_id = with_band(services, job_id)
    assert services.band_hearing.look(job_id) is None
    services.band_hearing.start(job_id, "L", band_id)
    services.band_hearing.switch(job_id, band_in=True)
    heard = services.band_hearing.look(job_id)
    assert (heard.channel, heard.frequency_hz, heard.band_in, heard.by_itself) == ("L", 400, True, False)
    session = services.live._session
    assert -24.3 < session._player.playing[0].peak_dbfs(48_000) <= -24.0
    assert len(session._player.playing[0].filters) == 2
    services.band_hearing.switch(job_id, band_in=False)
    assert [f.frequency_hz for f in session._player.playing[0].filters] == [100]
    assert not services.band_hearing.look(job_id).band_in
    services.sound.stop()
    assert services.band_hearing.look(job_id) is None


def test_a_band_is_not_heard_twice_nor_where_it_can_not_be(job):
    services, job_id = job
    band_id = with_band(services, job_id, frequency_hz=24_000)
    with pytest.raises(Conflict, match="above what 48000 Hz can play"):
        services.band_hearing.start(job_id, "L", band_id)
    band_id = with_band(services, job_id)
    services.finding.find(job_id)
    services.loading.load(job_id, "A", "corrected")
    services.loading.switch(job_id, "A")
    band_id = services.shaping.correction(job_id).bands["L"][0].id
    with pytest.raises(Conflict, match="corrected twice"):
        services.band_hearing.start(job_id, "L", band_id)


def test_targets_hang_at_the_level_of_the_fronts_together_and_proof_reads_them_there(job):
    services, job_id = job

    def levels(anchor):
        services.shaping.change(job_id, "anchor", lambda c: replace(c, anchor=anchor))
        return {name: shape.level_db for name, shape in services.shaping.shapes(job_id).items()}

    alone, together = levels("band"), levels("fronts")
    assert together["L"] == together["R"] == pytest.approx((alone["L"] + alone["R"]) / 2)
    assert together["Sub1"] == alone["Sub1"]


def test_a_proposed_range_goes_from_the_reach_to_where_spots_agree(job):
    services, job_id = job
    low, high = services.ranges.proposed_hz(job_id, "L")
    assert 20 <= low < high <= AUDIBLE_TO_HZ
    assert (float(f"{low:.2g}"), float(f"{high:.2g}")) == (low, high)
    assert services.shaping.correction(job_id).limits == Limits()


def test_points_of_a_drawn_target_begin_where_the_target_lies_and_are_moved(job):
    services, job_id = job
    with pytest.raises(Conflict, match="no points"):
        services.targets.set_point(job_id, "L", 100, 3)
    curve = services.targets.curve(job_id, "points", channel="L")
    services.shaping.set_correction(
        job_id,
        correction_settings=CorrectionSettings(
            target=replace(services.shaping.correction(job_id).target, curve=curve), filter_type=FilterType()
        ),
        anchor="band",
        anchor_band_hz=(200, 2000),
        anchor_level_db=0.0,
        linked=True,
        preference=None,
    )
    assert not services.shaping.correction(job_id).target_db("L", GRID).any()
    services.targets.set_point(job_id, "L", 100, 3)
    services.targets.set_point(job_id, "L", 120, 4, instead_of=2)
    drawn = services.shaping.correction(job_id).target.curve
    assert (drawn.frequency_hz[2], drawn.level_db[2], len(drawn.frequency_hz)) == (120.0, 4.0, 7)
    with pytest.raises(InvalidValue, match="filters reach no further"):
        services.targets.set_point(job_id, "L", 20, 60)
    services.targets.remove_point(job_id, "L", 2)
    assert 120.0 not in services.shaping.correction(job_id).target.curve.frequency_hz


def test_turned_switches_count_in_sums_with_the_sub_and_in_proof(job):
    services, job_id = job
    services.crossing.set_crossovers(job_id, {"fronts": Crossover(frequency_hz=80)})
    services.shaping.stand_on_present(job_id)
    with_model(services, job_id)
    services.finding.find(job_id)
    before = services.shaping.view(job_id, "L").shape
    services.switching.set_positions(job_id, "L", measured={}, chosen={"Treble": "−4 dB"})
    turned = services.shaping.correction(job_id).switches["L"].change_db(GRID)
    after = services.shaping.view(job_id, "L").shape
    assert after.share is not None  # a sum: the sub plays its bass
    for name in ("before_db", "predicted_db"):
        moved = getattr(after, name) + after.level_db - getattr(before, name) - before.level_db
        assert np.abs(moved - turned)[GRID > 500].max() < 0.1
    services.loading.load(job_id, "A", "corrected")
    services.loading.switch(job_id, "A")
    services.rounds.new(job_id, name="After")
    services.taking.run_rest(job_id)
    services.sound.wait()
    # The rehearsed monitor was not turned: proof misses by just that, in the sum, and in a channel that plays alone.
    missed = services.proving.view(job_id).channels["L"].proof
    off = missed.after_db - missed.predicted_db
    assert np.abs(off + turned)[(GRID > 6000) & (GRID < 15_000)].mean() < 0.5
    services.crossing.set_crossovers(job_id, {"fronts": None})
    services.shaping.stand_on_present(job_id)
    services.loading.load(job_id, "A", "corrected")
    services.rounds.new(job_id, name="Alone")
    services.taking.run_rest(job_id)
    services.sound.wait()
    missed = services.proving.view(job_id).channels["L"].proof
    off = missed.after_db - missed.predicted_db
    assert np.abs(off + turned)[(GRID > 6000) & (GRID < 15_000)].mean() < 0.5
