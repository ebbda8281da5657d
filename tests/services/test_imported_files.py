"""Files made elsewhere lie in the imported files, sorted and shown, before they become takes."""

import io

import numpy as np
import pytest
import soundfile

from dolce.devices.opening import audio_of
from dolce.errors import Conflict, FormatError, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import net_loft
from dolce.services.takes import imported_files
from dolce.services.takes.imported_files import cell_of_name
from dolce.services.takes.take_making import sweep_of, with_sync_chirps
from dolce.services.takes.whole_spot import spot_file, spot_parts
from recordings import flac, of_whole_spot

RATE = 48_000


@pytest.fixture
def job(services):
    made = services.jobs.create(JobDetails(name="Loft"), plan=net_loft())
    services.rigging.set_rig(made.id, pace="fast", sweep_seconds=1.0, placed_by_hand=False)
    return services.jobs.get(made.id)


def laid(services, job, *files):
    services.imported_files.add(job.id, [(data, name) for name, data in files])
    services.imported_files.wait()
    return services.imported_files.items(job.id)


def test_the_file_for_a_whole_spot_plays_every_row_on_its_own_outputs(job):
    file, name = spot_file(job)
    with file:
        sent, rate = soundfile.read(file)
    assert (sent.shape[1], rate) == (max(s.output for s in job.speakers), RATE)
    assert "whole-spot" in name
    subs = next(part for part in spot_parts(job) if part.feed.together)
    assert subs.outputs == tuple(s.output for s in job.speakers if s.is_sub)
    gaps = np.diff(sorted(part.synced.silent_until for part in spot_parts(job)))
    assert gaps.min() > 0.015 * RATE  # so that their sync chirps tell them apart


def test_a_whole_spot_is_cut_up_shown_and_kept_with_its_arrivals(services, job):
    recording = of_whole_spot(job, at=1)
    (item,) = laid(services, job, ("loft spot2.flac", flac(recording)))
    assert (item.what, item.spot_id, item.why) == ("whole spot", job.spots[1].id, "by its name")
    assert [part.feed.code for part in item.found.parts] == [feed.code for feed in job.feeds]
    assert item.words == ()
    assert services.taking.board(job.id).takes == {}  # nothing is kept yet
    assert services.imported_files.keep(job.id) == len(job.feeds)
    assert services.imported_files.items(job.id) == []
    from_file = services.taking.board(job.id).takes
    services.rounds.new(job.id, name="Rig")
    services.taking.run_spot(job.id, job.spots[1].id)
    services.sound.wait(60)
    by_rig = services.taking.board(job.id).takes
    for cell, take in from_file.items():
        assert take.source == "file"
        assert take.arrival_s - from_file["L", cell[1]].arrival_s == pytest.approx(
            by_rig[cell].arrival_s - by_rig["L", cell[1]].arrival_s, abs=20e-6
        )
        (drift,) = [caution for caution in take.cautions if caution.kind == "clock differs"]
        assert drift.value == pytest.approx(-45, abs=0.3)
    assert len({take.level_group for take in from_file.values()}) == 1  # one recording: levels compare
    # The raw part is kept, and read again as it was played.
    data, name = services.recordings.original(job.id, from_file["L", cell[1]].id)
    assert name.endswith(".flac")
    assert soundfile.info(io.BytesIO(data)).duration < len(recording) / RATE / 4


def test_what_lacks_in_a_recording_of_a_spot_is_told_and_the_rest_kept(services, job):
    whole = of_whole_spot(job, at=0)
    length = sum(part.synced.size + RATE for part in spot_parts(job)[:3])
    twice = np.concatenate(
        [whole[: 30_000 + length], whole[30_000 : 30_000 + length], whole[30_000 + length :][:90_000]]
    )
    (item,) = laid(services, job, ("x.flac", flac(twice)))
    message = " ".join(item.words)
    assert "More than once in it: L, R, C" in message
    assert "Not in it: Ls, Rs" in message
    assert "cut off?" in message
    assert item.why == "the next spot"
    assert services.imported_files.keep(job.id) == 3


def test_an_impossible_arrival_is_said_and_counts_nowhere(services, job):
    # One feed's sound 140 ms ahead of where its sync chirp says it is: another take of it was cut in.
    whole = of_whole_spot(job, at=0)
    part = spot_parts(job)[0].synced
    begin, gap = 30_000 + round(0.5 * RATE), round(0.14 * RATE)
    end = begin + part.signal_at + part.signal.size - round(0.2 * RATE)
    whole[begin : end - gap] = whole[begin + gap : end].copy()
    laid(services, job, ("loft spot1.flac", flac(whole)))
    services.imported_files.keep(job.id)
    takes = services.taking.board(job.id).takes
    spoiled = takes["L", job.spots[0].id]
    assert not spoiled.arrival_known
    (message,) = [caution for caution in spoiled.cautions if caution.kind == "arrival impossible"]
    assert message.value == pytest.approx(-0.14, abs=0.01)
    assert all(take.arrival_known for (code, _), take in takes.items() if code != "L")


def test_a_recording_whose_sync_chirps_are_not_heard_is_refused_and_stays_where_it_is(services, job):
    noise = np.random.default_rng(1).uniform(-0.1, 0.1, 70 * RATE)
    (item,) = laid(services, job, ("long.flac", flac(noise)))
    assert item.what == "unusable"
    assert "no sync chirp" in item.fault
    assert services.imported_files.keep(job.id) == 0
    assert len(services.imported_files.items(job.id)) == 1


def test_several_files_are_sorted_by_name_by_sound_and_by_what_is_empty(services, job):
    impulse = np.zeros(20_000)
    impulse[300] = 0.5
    text = "\n".join(f"{f:.1f};{-3.0:.1f}".replace(".", ",") for f in np.geomspace(20, 20_000, 100)).encode()
    device = audio_of(job, spot_id=job.spots[0].id, round_name="x", attempt=1)
    signal = np.pad(with_sync_chirps(sweep_of(job.rig)), (0, RATE))
    sub = device.play_and_record(
        {job.speaker("Sub2").output: signal}, sample_rate_hz=RATE, progress=lambda _: None, stopped=lambda: False
    )[0]
    items = laid(
        services,
        job,
        ("Rs spot 3.wav", flac(impulse)),
        ("curve.txt", text),
        ("rec.flac", flac(sub)),
        ("bad.wav", b"nothing"),
    )
    found = [(item.what, item.code, item.spot_id and job.spot(item.spot_id).number) for item in items]
    assert found[0] == ("impulse response", "Rs", 3)
    assert found[1] == ("curve", "L", 1)  # the next empty cell
    assert found[2] == ("recording", "Sub1", 1)
    assert "by its sound" in items[2].why
    assert (items[3].what, bool(items[3].fault)) == ("unusable", True)
    services.imported_files.sort(job.id, items[2].number, code="Sub2", spot_id=job.spots[0].id)
    assert services.imported_files.keep(job.id) == 3
    kept = {(take.channel, take.spot_id, take.source) for take in services.taking.board(job.id).takes.values()}
    first = job.spots[0].id
    assert kept == {("Rs", job.spots[2].id, "impulse"), ("L", first, "curve"), ("Sub2", first, "file")}
    assert [item.file_name for item in services.imported_files.items(job.id)] == ["bad.wav"]
    services.imported_files.drop(job.id)
    assert services.imported_files.items(job.id) == []


def test_what_cannot_be_kept_stays_and_says_why(services, job):
    (item,) = laid(services, job, ("L spot 1.wav", flac(np.zeros(RATE * 3))))
    assert services.imported_files.keep(job.id) == 0
    (item,) = services.imported_files.items(job.id)
    assert item.fault
    with pytest.raises(InvalidValue, match="no longer lies there"):
        services.imported_files.sort(job.id, 999, code="L", spot_id=None)


def test_the_imported_files_is_limited(services, job, monkeypatch):
    with pytest.raises(FormatError, match="no file"):
        services.imported_files.add(job.id, [])
    monkeypatch.setattr(imported_files, "MOST_BYTES", 10)
    with pytest.raises(Conflict, match="too many files"):
        services.imported_files.add(job.id, [(b"12345678901", "a.wav")])


@pytest.mark.parametrize(
    ("name", "cell"),
    [
        ("L spot 3.wav", ("L", 3)),
        ("Sub1_Sub2-spot04.flac", ("Sub1_Sub2", 4)),
        ("Subs s1.wav", ("Sub1_Sub2", 1)),
        ("loft-Untouched-Rs-spot2-take1.flac", ("Rs", 2)),
        ("R03.wav", ("R", 3)),
        ("measured_C_pos5.wav", ("C", 5)),
        ("recording 0007.wav", ("", None)),
        ("LR.wav", ("", None)),
        ("C spot 99.wav", ("C", None)),
    ],
)
def test_names_tell_cells(job, name, cell):
    code, spot = cell_of_name(name, job)
    assert (code, spot and job.spot(spot).number) == cell
