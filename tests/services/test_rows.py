"""Rows of several channels, averaged takes, other signals, and recorders with a clock of their own."""

import numpy as np
import pytest

from dolce.core.job import HowTaken, PassOptions
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.rig import Fault
from dolce.errors import Conflict, InvalidValue
from dolce.services.align.readings import readings_of
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import ReadOptions
from dolce.services.sample.demo_rooms import net_loft
from dolce.web.stops.takes.views import CellView

_BASS = (ANALYSIS_GRID_HZ > 25) & (ANALYSIS_GRID_HZ < 150)


@pytest.fixture
def job_id(services):
    job = services.jobs.create(JobDetails(name="Loft"), plan=net_loft())
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0, placed_by_hand=False)
    return job.id


def taken(services, job_id, *rows, signal="sweep", spots=1):
    """Takes of some rows at the first spots, by row; at one spot each."""
    ids = tuple(spot.id for spot in services.jobs.get(job_id).spots[:spots])
    services.taking.run(job_id, PassOptions(channels=rows, spots=ids, signal=signal))
    assert services.sound.wait(60)
    board = services.taking.board(job_id)
    assert board.last_pass.state == "done", board.last_pass.message
    return {code: board.takes[code, ids[0]] for code in rows}


def response_of(services, take):
    with services.context.look() as work:
        response = work.takes.response(take.id)
    at = ANALYSIS_GRID_HZ[_BASS]
    time = response.start_s + np.arange(response.sample.size) / response.sample_rate_hz
    return np.exp(-2j * np.pi * np.outer(at, time)) @ response.sample


def test_all_subs_together_sound_as_their_own_takes_add_up_to_and_what_sounded_is_kept(services, job_id):
    takes = taken(services, job_id, "Sub1", "Sub2", "Sub1_Sub2")
    assert takes["Sub1_Sub2"].sounded == ("Sub1", "Sub2")
    assert takes["Sub1"].sounded == ()
    total = sum(response_of(services, takes[first]) for first in ("Sub1", "Sub2"))
    apart = np.abs(response_of(services, takes["Sub1_Sub2"]) - total) / np.abs(total).max()
    assert apart.max() < 0.01
    # Played softer by what they add up to, which the level of the take does not know.
    with services.context.look() as work:
        played = work.takes.played(takes["Sub1_Sub2"].id)
        alone = work.takes.played(takes["Sub1"].id)
    assert played["level_dbfs"] == pytest.approx(alone["level_dbfs"] - 20 * np.log10(2))
    assert (played["stop_hz"], alone["stop_hz"]) == (250, 250)


def test_a_row_that_is_taken_off_keeps_its_takes_and_comes_back_with_them(services, job_id):
    services.rows.add_combination(job_id, ("L", "Sub1"))
    taken(services, job_id, "L_Sub1")
    wanted = services.taking.board(job_id).wanted
    services.rows.remove_combination(job_id, "L_Sub1")
    board = services.taking.board(job_id)
    assert ("L_Sub1" in {code for code, _ in board.takes}, board.away) == (False, 1)
    assert board.wanted == wanted - len(board.job.spots)
    services.rows.add_combination(job_id, ("L", "Sub1"))
    assert any(code == "L_Sub1" for code, _ in services.taking.board(job_id).takes)
    message = [line.text for line in services.proving.view(job_id).logbook]
    assert any("L + Sub1 together are a row" in line for line in message)


def test_rows_of_several_channels_are_read_and_stay_out_of_what_is_aligned(services, job_id):
    taken(services, job_id, "L", "R", "Sub1", "Sub2", "Sub1_Sub2", spots=2)
    view = services.reading.view(job_id, ReadOptions(channels=("Sub1_Sub2",)))
    assert view.chosen.curves["Sub1_Sub2"].takes[0].sounded == ("Sub1", "Sub2")
    assert "Sub1_Sub2" not in services.reading.view(job_id, ReadOptions()).channels
    with services.context.look() as work:
        job = work.jobs.get(job_id)
        readings = readings_of(work, job, job.round_id)
    assert [reading.channel for reading in readings] == ["L", "R", "Sub1", "Sub2"]


def test_averaged_takes_tell_how_much_they_differ_and_stand_further_above_noise(services, job_id):
    services.rigging.set_rig(job_id, sweep_level_dbfs=-50.0)
    once = taken(services, job_id, "Ls")["Ls"]
    services.rounds.new(job_id, name="Averaged")
    services.rows.set_how(job_id, {"surrounds": HowTaken(repeats=4)})
    averaged = taken(services, job_id, "Ls")["Ls"]
    assert (averaged.repeats, once.repeats, once.repeats_db) == (4, 1, None)
    assert averaged.quality.signal_to_noise_db == pytest.approx(once.quality.signal_to_noise_db + 6, abs=1.5)
    assert 0.01 < averaged.repeats_db < 3
    # Distortion and noise are read from what was averaged.
    noise = services.reading.of_take(job_id, averaged.id, ReadOptions(view="noise"))
    assert np.all(np.isfinite(noise.found.noise_db))


def test_a_row_of_one_spot_is_asked_for_at_the_centre_alone(services, job_id):
    job = services.jobs.get(job_id)
    services.rows.set_how(job_id, {"C": HowTaken(one_spot=True)})
    board = services.taking.board(job_id)
    assert board.wanted == len(job.feeds) * len(job.spots) - (len(job.spots) - 1)
    other = next(s.id for s in job.spots if s.id != job.plan.centre_spot.id)
    with pytest.raises(Conflict, match="every take that was chosen"):
        services.taking.run(job_id, PassOptions(channels=("C",), spots=(other,)))
    with pytest.raises(InvalidValue, match="no row"):
        services.rows.set_how(job_id, {"Q": HowTaken()})


def test_a_spot_that_no_row_is_taken_at_is_said_and_nothing_plays(services, job_id):
    job = services.jobs.get(job_id)
    services.rows.set_how(job_id, {feed.code: HowTaken(one_spot=True) for feed in job.feeds})
    asked = {spot for _, spot in services.jobs.get(job_id).asked}
    empty = next(spot for spot in job.spots if spot.id not in asked)
    with pytest.raises(Conflict, match="no row is taken at this spot"):
        services.taking.run_spot(job_id, empty.id)
    assert services.sound.running() is None


@pytest.mark.parametrize("signal", ["sequence", "pink"])
def test_other_signals_end_in_takes_that_say_what_they_cannot_tell(services, job_id, signal):
    swept = taken(services, job_id, "L")["L"]
    services.rounds.new(job_id, name="Other")
    other = taken(services, job_id, "L", signal=signal)["L"]
    assert (swept.signal, other.signal) == ("sweep", signal)
    assert {caution.kind for caution in other.cautions} == {{"sequence": "sequence", "pink": "pink noise"}[signal]}
    assert other.arrival_s == pytest.approx(swept.arrival_s, abs=3e-6)
    inside = (ANALYSIS_GRID_HZ > 300) & (ANALYSIS_GRID_HZ < 10_000)
    assert np.median(np.abs(other.level_db - swept.level_db)[inside]) < 0.15
    untold = services.reading.of_take(job_id, other.id, ReadOptions(view="distortion"))
    assert untold.found is None
    assert "only sweeps tell distortion" in untold.fault
    assert services.reading.of_take(job_id, other.id, ReadOptions(view="noise")).found.noise_db.size


def test_a_recorder_with_a_clock_of_its_own_agrees_with_one_clock(services, job_id):
    rows = ("L", "Rs", "Sub1")
    first = taken(services, job_id, *rows)
    services.rounds.new(job_id, name="Own clock")
    services.rigging.set_rig(job_id, own_clock=True)
    own = taken(services, job_id, *rows)
    for code in rows:
        (drift,) = [caution for caution in own[code].cautions if caution.kind == "clock differs"]
        assert drift.value == pytest.approx(-60, abs=0.2)  # the rehearsal's recorder is 60 ppm slow
        assert own[code].arrival_known
        late = (own[code].arrival_s - own["L"].arrival_s) - (first[code].arrival_s - first["L"].arrival_s)
        assert abs(late) < 20e-6
    inside = (ANALYSIS_GRID_HZ > 200) & (ANALYSIS_GRID_HZ < 10_000)
    assert np.median(np.abs(own["L"].level_db - first["L"].level_db)[inside]) < 0.05
    # Read hears the raw recording again as it was played, sync chirps and all.
    found = services.reading.of_take(job_id, own["L"].id, ReadOptions(view="distortion")).found
    before = services.reading.of_take(job_id, first["L"].id, ReadOptions(view="distortion")).found
    middle = (found.frequency_hz > 300) & (found.frequency_hz < 3000)
    assert np.median(np.abs(found.harmonic_db[2] - before.harmonic_db[2])[middle]) < 3


def test_a_muted_sync_chirp_is_told_and_the_take_is_kept_without_its_arrival(services, job_id):
    services.rigging.set_rig(job_id, own_clock=True, sync_channel="C")
    services.rigging.set_faults(job_id, [Fault(kind="dead", channels=("C",))])
    take = taken(services, job_id, "L")["L"]
    assert "no sync chirp" in [caution.kind for caution in take.cautions]
    assert not take.arrival_known


def test_a_loop_tells_nothing_where_the_recorder_has_a_clock_of_its_own(services, job_id):
    services.rigging.set_rig(job_id, own_clock=True, loop_output=12, loop_input=8)
    with pytest.raises(Conflict, match="clock of its own"):
        services.loop.measure(job_id)


@pytest.mark.parametrize("distorts", [False, True])
def test_a_take_6_db_softer_tells_whether_something_distorts_and_does_not_count(services, job_id, distorts):
    if distorts:
        services.rigging.set_faults(job_id, [Fault(kind="distorting")])
    spot = services.jobs.get(job_id).spots[0].id
    with pytest.raises(Conflict, match="no take yet"):
        services.taking.softer(job_id, "L", spot)
    loud = taken(services, job_id, "L")["L"]
    services.taking.softer(job_id, "L", spot)
    services.sound.wait(60)
    cell = services.cells.view(job_id, "L", spot)
    assert cell.counts.id == loud.id
    assert [attempt.level_dbfs for attempt in cell.attempts] == [loud.level_dbfs - 6, loud.level_dbfs]
    view = CellView.of(cell, services.taking.board(job_id), None, [])
    assert view.distorts == distorts
    assert view.repeats_db is None  # of another level, it is no repeat
    # Taken again at its level, the new one counts.
    services.taking.repeat(job_id, "L", spot)
    services.sound.wait(60)
    assert services.cells.view(job_id, "L", spot).counts.attempt == 3
