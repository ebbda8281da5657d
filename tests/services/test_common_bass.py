"""The common bass from takes to the proof: searched, used, loaded, rebuilt from its files, measured."""

import io
import json
import zipfile
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from dolce.core.geometry import RoomSize
from dolce.core.processor import BASS, ProcessorLimits
from dolce.core.rig import Fault
from dolce.core.room import new_plan
from dolce.core.subs import spectrum_at
from dolce.core.tuning import SUM_HZ, BassRequest, Outputs, signal_paths_of
from dolce.errors import Conflict, NotFound
from dolce.services.align.bass_takes import bass_responses
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.load.packing import PackageOptions
from dolce.services.wiring import open_services

ASKED = BassRequest(length_s=0.3)
BY_ALL, BY_SUBS = (f"shared-{replace(ASKED, play=play).code}" for play in ("all", "subs"))


def build(services):
    """A pair and two subs at two seats of two spots, microphones exactly there."""
    plan = new_plan(RoomSize(length_m=5.4, width_m=4.2, height_m=2.6), layout="2.0", subs=2, spots=2)
    job = services.jobs.create(JobDetails(name="Loft"), plan=plan)
    services.room.add_seat(job.id, "Bench")
    for _ in range(2):
        services.room.add_spot(job.id, services.jobs.get(job.id).plan.seats[1].id)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=3.0, placed_by_hand=False, sweep_level_dbfs=-6.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    services.aligning.use_proposal(job.id)


@pytest.fixture(scope="module")
def taken(prepared):
    services = open_services(prepared("common bass", build))
    yield services, 1
    services.close()


@pytest.fixture
def found(taken):
    """Filters found; undone afterwards, processor bypassed, first round current."""
    services, job_id = taken
    if services.common_bass.search_of(job_id) is None:
        for play in ("all", "subs"):
            services.common_bass.search(job_id, replace(ASKED, play=play))
            services.common_bass.wait(job_id)
    first = services.jobs.get(job_id).round_id
    before = services.aligning.view(job_id).alignment
    yield services, job_id
    services.rigging.set_faults(job_id, ())
    services.loading.switch(job_id, "bypass")
    with services.context.change() as work:
        work.alignments.add(job_id, before, what="as before")
        work.jobs.set_round(job_id, first)


def alignment_of(services, job_id):
    return services.aligning.view(job_id).alignment


def measured_again(services, job_id):
    services.rounds.new(job_id)
    services.taking.run_rest(job_id)
    services.sound.wait()


def drifted(services, job_id, since):
    """Channels that changed since a round by more than placing the microphone explains."""
    change = services.proving.drift(job_id, then=since)
    assert change.then.id == since
    return {row.channel: row.beyond_repeats for row in change.drifted}


def test_seats_are_more_alike_with_filters_and_most_so_with_main_channels(found):
    services, job_id = found
    view = services.workbench.view(job_id)
    plain, subs, shared = (view.states[code] for code in ("as-they-are", BY_SUBS, BY_ALL))
    assert shared.spread_db < 0.3 * plain.spread_db
    assert shared.spread_db < subs.spread_db < plain.spread_db
    assert shared.output_db == pytest.approx(-4.0, abs=0.3)
    players = view.at_seats[BY_ALL].players
    assert {player.output for player in players} == {"L", "R", "Sub1", "Sub2"}
    assert sum(player.share for player in players) == pytest.approx(1.0)
    assert all(player.highest_gain_db < 0.05 for player in players)
    assert {player.output for player in view.at_seats[BY_SUBS].players} == {"Sub1", "Sub2"}


def test_used_it_is_kept_undone_and_told_from_one_that_no_longer_fits(found):
    services, job_id = found
    before = alignment_of(services, job_id)
    services.workbench.use(job_id, BY_ALL)
    used = alignment_of(services, job_id)
    assert used.common_bass.spots_at == {"Mixer": 2, "Bench": 2}
    assert used.common_bass.spots == 4
    assert used.routing.crossover.frequency_hz == 120
    assert used.common_bass_stands
    assert services.workbench.view(job_id).states["used"].spread_db < 0.5
    settings = {c: (1.0 + used.channels[c].trim_db, 1000 * used.channels[c].delay_s, "normal") for c in used.channels}
    services.aligning.choose(job_id, settings)
    assert not services.workbench.view(job_id).common_stands
    assert not services.loading.view(job_id, content="aligned").common_bass_stands
    services.aligning.undo(job_id)
    assert services.workbench.view(job_id).common_stands
    services.aligning.keep_version(job_id, name="Together", note="")
    services.common_bass.leave(job_id)
    assert alignment_of(services, job_id).common_bass is None
    # Saved, it can still be held against the others, and used from there.
    number = services.aligning.view(job_id).versions[-1].number
    assert services.workbench.view(job_id).states[f"kept-{number}"].spread_db < 0.5
    services.workbench.use(job_id, f"kept-{number}")
    assert alignment_of(services, job_id).common_bass == used.common_bass
    services.aligning.undo(job_id)
    services.aligning.forget_version(job_id, number)
    services.aligning.undo(job_id)
    services.aligning.undo(job_id)
    assert alignment_of(services, job_id) == before
    with pytest.raises(NotFound, match="no longer there"):
        services.common_bass.use(job_id, "nobody")


def test_measured_through_it_every_spot_has_what_was_predicted(found):
    services, job_id = found
    services.workbench.use(job_id, BY_ALL)
    services.loading.load(job_id, "B", "aligned")
    services.loading.switch(job_id, "B")
    measured_again(services, job_id)
    proof = services.aligned.view(job_id)
    assert {channel.channel for channel in proof.channels} == {"L", "R", "Sub1", "Sub2"}
    assert {c.channel: (c.most_db, c.most_hz) for c in proof.channels if c.most_db > 0.7} == {}
    assert proof.match.level_db < 0.2


def test_corrected_it_is_proven_and_a_silent_sub_is_not(found):
    services, job_id = found
    services.workbench.use(job_id, BY_ALL)
    services.finding.find(job_id)
    services.loading.load(job_id, "A", "corrected")
    services.loading.switch(job_id, "A")
    measured_again(services, job_id)
    view = services.proving.view(job_id)
    assert set(view.channels) == {"L", "R"}  # every one has all of the bass in it
    assert view.absent == ()
    assert view.passed, view.against
    for channel in view.channels.values():
        assert channel.proof.outcome.predicted_against_measured_db < 0.3
        assert channel.seats.spread_after_db < 0.5 * channel.seats.spread_before_db
        assert channel.seats.spread_after_db == pytest.approx(channel.seats.spread_predicted_db, abs=0.15)
    # The correction of the subs is that of the bass, whoever plays it.
    shapes = services.shaping.shapes(job_id)
    np.testing.assert_allclose(shapes["Sub1"].before_db, shapes["Sub2"].before_db, atol=1e-9)
    proven = services.jobs.get(job_id).round_id
    services.rigging.add_fault(job_id, Fault(kind="dead", channels=("Sub1",)))
    measured_again(services, job_id)
    assert not services.proving.view(job_id).passed
    # A sub that is 3 dB too soft, or stands elsewhere, is found where a later round is held against the proven one.
    assert drifted(services, job_id, proven)
    services.rigging.set_faults(job_id, [])
    measured_again(services, job_id)
    assert not drifted(services, job_id, proven)
    services.rigging.add_fault(job_id, Fault(kind="soft", channels=("Sub2",)))
    measured_again(services, job_id)
    assert drifted(services, job_id, proven)
    services.rigging.set_faults(job_id, [])
    place = services.jobs.get(job_id).speaker("Sub2").place
    services.room.move(job_id, "Sub2", replace(place, y_m=place.y_m - 0.8))
    measured_again(services, job_id)
    assert drifted(services, job_id, proven)
    services.room.move(job_id, "Sub2", place)


def test_the_bass_follows_from_the_package_alone(found):
    services, job_id = found
    services.workbench.use(job_id, BY_ALL)
    services.finding.find(job_id)
    parts, _ = services.loading.package(job_id, PackageOptions(rates_hz=(48_000, 96_000)))
    package = zipfile.ZipFile(io.BytesIO(b"".join(parts)))
    document = json.loads(package.read("settings.json"))
    job = services.jobs.get(job_id)
    at_hz, spots = SUM_HZ[(SUM_HZ > 25) & (SUM_HZ < 110)], [spot.id for spot in job.spots]
    ways = [way for way in document["inputs"]["L"] if way["convolution"]]
    assert [way["output"] for way in ways] == ["L", "R", "Sub1", "Sub2"]
    assert next(way["delay_s"] for way in document["inputs"]["L"]) == 0.012
    outputs = Outputs.of(
        alignment_of(services, job_id), services.shaping.view(job_id).correction, job.channels, sample_rate_hz=48_000
    )
    with services.context.look() as work:
        takes = {(take.channel, take.spot_id): take.id for take in work.takes.latest(job.round_id)}
        heard = {key: spectrum_at(work.takes.response(number), at_hz) for key, number in takes.items()}
        responses = bass_responses(services.context.bass, work, job, job.round_id, job.channels, spots=spots)
    predicted = sum(part for _, part in signal_paths_of(outputs, responses, BASS))[:, np.isin(SUM_HZ, at_hz)]
    for rate in ("48000", "96000"):
        rebuilt = np.zeros(predicted.shape, dtype=complex)
        for way in ways:
            sample, file_rate = soundfile.read(io.BytesIO(package.read(way["convolution"][rate])))
            assert str(file_rate) == rate
            own = document["outputs"][way["output"]]
            turn = np.exp(-2j * np.pi * np.outer(at_hz, np.arange(sample.size)) / file_rate) @ sample
            turn = turn * 10 ** (own["trim_db"] / 20) * np.exp(-2j * np.pi * at_hz * own["delay_s"])
            turn = turn * (-1 if own["polarity"] == "inverted" else 1)
            turn = turn * np.prod([cookbook(row, at_hz) for row in own["filters"]], axis=0)
            rebuilt += np.array([heard[way["output"], spot] for spot in spots]) * turn
        assert np.abs(20 * np.log10(np.abs(rebuilt) / np.abs(predicted))).max() < 0.1, rate
    note = package.read("README.txt").decode()
    assert "common-bass/" in note
    assert "waits 12 ms" in note


def cookbook(row, at_hz, rate=48_000):
    """A peaking band or shelf of the Audio EQ Cookbook (R. Bristow-Johnson, W3C Note, 2021)."""
    w, a = 2 * np.pi * row["frequency_hz"] / rate, 10 ** (row["gain_db"] / 40)
    alpha, c, r = np.sin(w) / (2 * row["q"]), np.cos(w), np.sqrt(a)
    if row["type"] == "peaking":
        b, d = (1 + alpha * a, -2 * c, 1 - alpha * a), (1 + alpha / a, -2 * c, 1 - alpha / a)
    else:
        s = 1 if row["type"] == "low_shelf" else -1
        b = (
            a * (a + 1 - s * (a - 1) * c + 2 * r * alpha),
            s * 2 * a * (a - 1 - s * (a + 1) * c),
            a * (a + 1 - s * (a - 1) * c - 2 * r * alpha),
        )
        d = (
            a + 1 + s * (a - 1) * c + 2 * r * alpha,
            -s * 2 * (a - 1 + s * (a + 1) * c),
            a + 1 + s * (a - 1) * c - 2 * r * alpha,
        )
    z = np.exp(-2j * np.pi * at_hz / rate)
    return (b[0] + b[1] * z + b[2] * z**2) / (d[0] + d[1] * z + d[2] * z**2)


def test_what_is_missing_is_said_before_anything_begins(found, services):
    taken, job_id = found
    without_subs = services.jobs.create(JobDetails(name="Pair"))
    with pytest.raises(Conflict, match="no sub in this room"):
        services.common_bass.search(without_subs.id, ASKED)
    plan = new_plan(RoomSize(length_m=5.0, width_m=4.0, height_m=2.6), layout="2.0", subs=1, spots=1)
    with pytest.raises(Conflict, match="nothing is taken"):
        services.common_bass.search(services.jobs.create(JobDetails(name="New"), plan=plan).id, ASKED)
    with taken.context.change() as work:
        job = work.jobs.get(job_id)
        kept = job.rig
        work.jobs.set_rig(job_id, kept.with_limits(ProcessorLimits(name="Small one", taps=1000)))
    try:
        with pytest.raises(Conflict, match="Small one has no convolution between inputs and outputs"):
            taken.common_bass.search(job_id, ASKED)
        with taken.context.change() as work:
            work.jobs.set_rig(job_id, kept.with_limits(ProcessorLimits(name="Small one", bass_taps=2400)))
        with pytest.raises(Conflict, match="holds 2400 taps between inputs and outputs, 50 ms"):
            taken.common_bass.search(job_id, ASKED)
    finally:
        with taken.context.change() as work:
            work.jobs.set_rig(job_id, kept)


def test_a_search_that_was_stopped_keeps_nothing_and_says_so(found):
    services, job_id = found
    kept = dict(services.common_bass.search_of(job_id).results)
    services.common_bass.search(job_id, replace(ASKED, max_loss_db=2.0))
    services.common_bass.stop(job_id)
    search = services.common_bass.search_of(job_id)
    assert search.stopped
    assert search.results == kept  # what was found before stays


def test_where_a_main_ends_is_what_a_person_typed_and_said_to_be_so(found):
    services, job_id = found
    asked = replace(ASKED, max_loss_db=3.0)
    services.room.set_speaker(job_id, "L", low_limit_hz=62.0)
    services.common_bass.search(job_id, asked)
    services.common_bass.wait(job_id)
    bass = services.common_bass.search_of(job_id).results[asked.code].alignment.common_bass
    services.room.set_speaker(job_id, "L", low_limit_hz=50.0)  # as a layout begins: that is nothing anyone knows
    ends_hz = {row.output: row.end_hz for row in bass.filters.filters}
    assert ends_hz["L"] == 62.0
    assert ends_hz["R"] != 50.0
    assert bass.ends_typed == ("L",)
