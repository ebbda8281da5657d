"""Read: curves of many takes come from one read, and are those of each take."""

import csv
import io
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from sqlalchemy import event

from asking import client_of, post
from dolce.core.reading import BASS_HZ, level_of_cycles_db
from dolce.core.response import ANALYSIS_GRID_HZ, average_over_spots, level_on_grid
from dolce.errors import InvalidValue, NotFound
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.curve_export import curves_csv
from dolce.services.read.options import Compared, Place, ReadOptions
from dolce.services.read.take_details import GroupDelays
from dolce.services.sample.demo_rooms import net_loft
from dolce.services.wiring import open_services
from dolce.web.stops.read.detail_plots import detail_plots


def statements(services, options):
    """How many statements one look at the curves sends to the database."""
    sent = []

    def note(connection, cursor, statement, *_):
        sent.append(statement)

    services.context.background.wait()  # what others asked for is not counted
    engine = services.context.database.engine
    event.listen(engine, "before_cursor_execute", note)
    try:
        services.reading.view(1, options)
    finally:
        event.remove(engine, "before_cursor_execute", note)
    return len(sent)


def test_statements_grow_neither_with_channels_nor_with_spots(demo):
    item = ReadOptions(channels=("L",), place=Place(spot=1), smoothing="none")
    for options in (ReadOptions(), item):  # what stays in the cache is read once
        statements(demo, options)
    few = statements(demo, item)
    assert statements(demo, ReadOptions(smoothing="none")) == few


def test_unsmoothed_curves_are_those_of_each_response(demo):
    curves = demo.reading.view(1, ReadOptions(smoothing="none")).curves
    assert [(c.channel, len(c.takes)) for c in curves] == [("L", 9), ("R", 9)]
    for curve in curves:
        for take, level in zip(curve.takes, curve.level_db, strict=True):
            with demo.context.look() as work:
                response = work.takes.response(take.id)
            np.testing.assert_allclose(
                level, level_on_grid(response, at_hz=ANALYSIS_GRID_HZ, per_octave=None), atol=1e-3
            )  # the response is kept as 32-bit numbers


def test_two_rounds_are_held_against_each_other_with_their_difference(demo, demo_job):
    rounds = demo.reading.view(demo_job, ReadOptions()).rounds
    view = demo.reading.view(
        demo_job, ReadOptions(channels=("L",), round_id=rounds[1].id, compared=(Compared(round_id=rounds[0].id),))
    )
    assert [chosen.round.name for _, chosen, _ in view.picture] == ["Corrected", "Untouched"]
    after, before = (chosen.curves["L"].average.level_db for _, chosen, _ in view.picture)
    assert list(view.differences_db) == [0]  # to the first beside it, unless asked otherwise
    np.testing.assert_allclose(view.differences_db[0], after - before)


def test_two_channels_meet_where_they_are_levelled(demo, demo_job):
    view = demo.reading.view(
        demo_job, ReadOptions(channels=("L",), compared=(Compared(channel="R"),), levelled="at", level_hz=300)
    )
    k = int(np.argmin(np.abs(ANALYSIS_GRID_HZ - 300)))
    assert view.differences_db[0][k] == pytest.approx(0, abs=0.1)  # between two points of the grid
    assert np.abs(view.differences_db[0]).max() > 2


def test_the_channel_in_front_comes_first_and_single_takes_are_few(demo, demo_job):
    view = demo.reading.view(demo_job, ReadOptions(front="R", view="map"))
    assert view.front == "R"
    assert [d.take.channel for d in view.details] == ["R"]
    assert view.left_out == ("L",)


def test_a_seat_and_a_spot_are_places_and_others_are_refused(demo, demo_job):
    whole = demo.reading.view(demo_job, ReadOptions(channels=("L",)))
    seat = demo.reading.view(demo_job, ReadOptions(channels=("L",), place=Place.of(f"seat-{whole.job.seat.id}")))
    assert len(seat.curves[0].takes) == len(whole.job.main_spots)
    view = demo.reading.view(demo_job, ReadOptions(channels=("L",), place=Place.of("spot-3")))
    assert [take.spot_id for take in view.curves[0].takes] == [3]
    with pytest.raises(InvalidValue, match="place"):
        Place.of("spot-3x")
    with pytest.raises(InvalidValue, match="no spots"):
        demo.reading.view(demo_job, ReadOptions(place=Place(seat=99)))
    with pytest.raises(NotFound):
        demo.reading.view(demo_job, ReadOptions(place=Place(spot=99)))


def test_a_window_of_cycles_is_taken_from_the_response_at_its_arrival(demo, demo_job):
    view = demo.reading.view(demo_job, ReadOptions(channels=("L",), window="cycles", cycles=4))
    detail = view.details[0]
    with demo.context.look() as work:
        response = work.takes.response(detail.take.id)
    at = ANALYSIS_GRID_HZ[::2]
    np.testing.assert_allclose(
        detail.found.level_db[::2], level_of_cycles_db(response, at_hz=at, arrival_s=detail.take.arrival_s, cycles=4)
    )


def test_noise_and_distortion_of_a_rehearsal_are_noise(demo, demo_job):
    # The rehearsal's speakers don't distort: what reads as harmonics lies at the noise beside them.
    found = demo.reading.view(demo_job, ReadOptions(channels=("L",), view="distortion")).details[0].found
    middle = (found.frequency_hz > 200) & (found.frequency_hz < 2000)
    assert np.median((found.harmonic_db[2] - found.noise_db)[middle]) == pytest.approx(0, abs=5)
    noise = demo.reading.view(demo_job, ReadOptions(channels=("L",), view="noise")).details[0].found
    assert np.all(noise.level_db[8:] > noise.noise_db[8:] + 15)


@pytest.fixture(scope="module")
def net_loft_taken(tmp_path_factory):
    """A 5.1 with two subs and three seats of two spots each; only looked at."""
    services = open_services(tmp_path_factory.mktemp("loft"))
    job = services.jobs.create(JobDetails(name="Loft"), plan=net_loft())
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=2.0)
    for seat in job.plan.seats:
        services.room.lay_out_spots(job.id, "cluster", seat_id=seat.id, count=2, spacing_m=0.3)
    services.taking.run_rest(job.id)
    services.sound.wait()
    yield services, job.id
    services.close()


def test_the_computed_sum_of_one_sub_is_that_sub_and_seats_are_named(net_loft_taken):
    services, job_id = net_loft_taken
    table = services.reading.view(job_id, ReadOptions(view="seats")).seats[0]
    alone, both = (
        next(row for row in table.rows if row.channels == channels) for channels in (("Sub1",), ("Sub1", "Sub2"))
    )
    with services.context.look() as work:
        job = work.jobs.get(job_id)
        takes = {(t.channel, t.spot_id): t for t in work.takes.latest(job.round_id)}
    # A sub alone at a seat is the average of its takes there, over 1/12 octave; bins of 0.4 Hz: 0.3 dB.
    k = [int(np.argmin(np.abs(BASS_HZ - f))) for f in (50, 80)]
    levels = [
        level_on_grid(_response(services, takes["Sub1", spot.id].id), at_hz=BASS_HZ[k], per_octave=12)
        for spot in job.plan.spots_of(job.seat.id)
    ]
    expected = average_over_spots(levels).level_db
    row = table.seats.index(job.seat.name)
    np.testing.assert_allclose(alone.by_seat_db[row][k], expected, atol=0.3)
    assert both.computed
    assert not alone.computed
    assert both.worst_seat in table.seats
    # Welti and Devantier 2006: the standard deviation over the seats, its mean over 20-120 Hz.
    inside = (BASS_HZ >= 20) & (BASS_HZ <= 120)
    assert alone.spread_db == pytest.approx(alone.by_seat_db[:, inside].std(axis=0).mean())


def test_subs_are_summed_with_their_delays(net_loft_taken):
    services, job_id = net_loft_taken
    table = services.reading.view(job_id, ReadOptions(view="seats")).seats[0]
    both = next(row for row in table.rows if row.channels == ("Sub1", "Sub2"))
    with services.context.look() as work:
        job = work.jobs.get(job_id)
        takes = {(t.channel, t.spot_id): t.id for t in work.takes.latest(job.round_id)}
    # By definition at every frequency: sum over both of h(t) e^(-2 pi i f t), t from the moment the stimulus left.
    k = int(np.argmin(np.abs(BASS_HZ - 60)))
    near = BASS_HZ[k] * 2 ** np.linspace(-1 / 24, 1 / 24, 25)
    powers = []
    for spot in job.plan.spots_of(job.seat.id):
        parts = [_response(services, takes[sub, spot.id]) for sub in ("Sub1", "Sub2")]
        waves = sum(np.exp(-2j * np.pi * near[:, None] * r.time_s) @ r.sample for r in parts)
        powers.append(np.mean(np.abs(waves) ** 2))
    expected = 10 * np.log10(np.mean(powers))
    assert both.by_seat_db[table.seats.index(job.seat.name)][k] == pytest.approx(expected, abs=0.5)


def test_curves_go_out_as_they_are_shown(demo, demo_job):
    view = demo.reading.view(demo_job, ReadOptions(channels=("L",), smoothing="1/3"))
    rows = list(csv.reader(io.StringIO(curves_csv(view).decode())))
    assert rows[0][:3] == ["frequency_hz", "L Corrected average of 9 dB", "L Corrected spot 1 dB"]
    assert len(rows) == 1 + ANALYSIS_GRID_HZ.size
    assert float(rows[100][1]) == pytest.approx(view.curves[0].average.level_db[99], abs=1e-4)


def test_an_impulse_response_goes_out_as_it_is_kept(demo, demo_job):
    take = demo.reading.view(demo_job, ReadOptions(channels=("L",))).curves[0].takes[0]
    data, name = demo.reading.impulse(demo_job, take.id)
    samples, rate = soundfile.read(io.BytesIO(data), dtype="float32")
    assert (name, rate) == (f"impulse L spot 1 attempt {take.attempt}.wav", take.sample_rate_hz)
    np.testing.assert_array_equal(samples, _response(demo, take.id).sample.astype("float32"))
    with pytest.raises(InvalidValue):
        demo.reading.impulse(demo_job + 1, take.id)


def _response(services, take_id):
    with services.context.look() as work:
        return work.takes.response(take_id)


def test_a_selection_is_kept_by_name_and_opens_as_it_was(demo, demo_job):
    client = client_of(demo)
    address = "channel=R&view=phase&phase=unwrapped&place=spot-3"
    answer = post(client, f"/jobs/{demo_job}/read/selections", htmx=False, name="Right, turned", address=address)
    assert answer.status_code == 303
    assert answer.headers["Location"].endswith("?channel=R&view=phase&phase=unwrapped&place=spot-3")
    page = client.get(f"/jobs/{demo_job}/read").text
    assert "Right, turned" in page
    assert "channel=R&amp;view=phase" in page
    # One of the same name gives way; an address that shows nothing, and no name, are refused.
    post(client, f"/jobs/{demo_job}/read/selections", htmx=False, name="Right, turned", address="view=level")
    assert [(name, kept) for _, name, kept in demo.reading.selections(demo_job)] == [("Right, turned", "view=level")]
    for name, address in (("X", "view=loud"), (" ", "")):
        answer = post(client, f"/jobs/{demo_job}/read/selections", htmx=False, name=name, address=address)
        assert answer.status_code == 422
    number = demo.reading.selections(demo_job)[0][0]
    post(client, f"/jobs/{demo_job}/read/selections/{number}/forget", htmx=False)
    assert demo.reading.selections(demo_job) == []


def test_what_a_curve_says_is_read_in_one_statement_however_many_channels_stand_beside(net_loft_taken):
    services, job_id = net_loft_taken
    engine, sent = services.context.database.engine, []

    def note(connection, cursor, statement, *_):
        if "JOIN samples" in statement:
            sent.append(statement)

    event.listen(engine, "before_cursor_execute", note)
    try:
        view = services.reading.view(job_id, ReadOptions(front="C"))
    finally:
        event.remove(engine, "before_cursor_execute", note)
    assert view.front == "C"
    assert view.findings
    assert len(sent) == 1


@pytest.mark.parametrize(
    "view", ["phase", "delay", "impulse", "step", "energy", "slices", "map", "times", "distortion", "noise"]
)
def test_every_view_shows_the_mean_over_the_spots_too(demo, demo_job, view):
    shown = demo.reading.view(demo_job, ReadOptions(channels=("L",), view=view, over="average"))
    (detail,) = shown.details
    assert detail.count == 9
    item = demo.reading.view(demo_job, ReadOptions(channels=("L",), view=view)).details[0]
    assert item.count == 1
    assert type(detail.found) is type(item.found)
    assert detail_plots(shown)


def test_a_spike_of_delay_does_not_push_the_other_curves_out_of_the_plot(demo, demo_job):
    view = demo.reading.view(demo_job, ReadOptions(channels=("L",), view="delay"))
    (detail,) = view.details
    spiked = GroupDelays(delay_s=detail.found.delay_s.copy(), excess_s=np.zeros_like(detail.found.excess_s))
    spiked.excess_s[40] = 0.3
    low, high = detail_plots(replace(view, details=(replace(detail, found=spiked),)))[0][1]["yRange"]
    assert low <= 0 < high < 300


def test_unwrapped_phase_is_shown_whole(demo, demo_job):
    plot = detail_plots(demo.reading.view(demo_job, ReadOptions(channels=("L",), view="phase", phase="unwrapped")))[0][
        1
    ]
    lowest = min(v for curve in plot["curves"] for v in curve["y"] if v is not None)
    assert lowest < -400  # more than one turn, so that a scale for levels would cut it
    assert plot["yRange"][0] <= lowest


def test_averages_of_slow_views_are_found_while_a_single_take_is_looked_at(demo, monkeypatch):
    demo.reading.view(1, ReadOptions(view="phase"))
    demo.context.background.wait()
    monkeypatch.setattr("dolce.services.read.reading.detail_of", None)  # whoever computes anything now fails
    for view in ("times", "distortion", "noise"):
        shown = demo.reading.view(1, ReadOptions(view=view, over="average", smoothing="1/3"))
        assert [(detail.count, detail.fault) for detail in shown.details] == [(9, ""), (9, "")]


def test_reflections_are_told_for_every_seat_with_their_surfaces(net_loft_taken):
    services, job_id = net_loft_taken
    view = services.reading.view(job_id, ReadOptions(view="early", front="C"))
    assert [at.seat.name for at in view.early] == [seat.name for seat in view.job.plan.seats]
    surfaces = {bounce.reflection.surface for bounce in view.early[0].bounces}
    assert {"floor", "ceiling", "left wall"} <= surfaces
    page = client_of(services).get(f"/jobs/{job_id}/read?view=early&front=C&early_db=-26&early_ms=30").text
    assert "too loud" in page
    assert page.count('class="data words reflections"') == len(view.early)
    assert "Criterion: −26 dB within 30 ms" in page
    assert "EBU Tech 3276)" not in page  # of one's own
