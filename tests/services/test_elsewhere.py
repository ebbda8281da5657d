"""Impulse responses and curves of text as takes, found by what is in the file."""

import io

import numpy as np
import pytest
import soundfile

from asking import client_of
from dolce.core.response import ANALYSIS_GRID_HZ, is_impulse_response
from dolce.core.signals import Sweep
from dolce.errors import FormatError, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import ReadOptions


@pytest.fixture
def job(services):
    return services.jobs.create(JobDetails(name="Guest"))


def wav(samples, rate=48_000):
    out = io.BytesIO()
    soundfile.write(out, samples, rate, format="WAV", subtype="FLOAT")
    return out.getvalue()


def decaying(*, silence_s=0.2, seconds=0.8):
    """A click of 0 dB with a tail that has 25 dB less energy, after some silence."""
    rng = np.random.default_rng(2)
    time = np.arange(round(seconds * 48_000)) / 48_000
    tail = 0.002 * rng.standard_normal(time.size) * 10 ** (-3 * time / 0.2)
    sample = np.concatenate([np.zeros(round(silence_s * 48_000)), tail])
    sample[round(silence_s * 48_000)] = 1.0
    return sample


def curve_text(level_db, *, comma=False):
    rows = [f"{f:.2f}\t{level:.2f}" for f, level in zip(ANALYSIS_GRID_HZ, level_db, strict=True)]
    return "\n".join(["frequency level", *rows]).replace(".", "," if comma else ".").encode()


def test_a_sweep_is_no_impulse_response_and_a_response_is():
    assert not is_impulse_response(Sweep(duration_s=1).samples(), sample_rate_hz=48_000)
    assert is_impulse_response(decaying(), sample_rate_hz=48_000)


def test_an_impulse_response_becomes_a_take_without_arrival(services, job):
    take = services.elsewhere.add(job.id, "L", 1, wav(decaying()), file_name="room.wav")
    assert (take.source, take.arrival_known, take.word) == ("impulse", False, "clean")
    # A click of 1 is 0 dB at all frequencies; the tail moves that by half a dB.
    inside = (ANALYSIS_GRID_HZ > 300) & (ANALYSIS_GRID_HZ < 15_000)
    assert np.abs(take.level_db[inside]).mean() < 0.6
    view = services.reading.view(job.id, ReadOptions(channels=("L",), view="impulse"))
    assert abs(view.details[0].found.time_s[np.argmax(np.abs(view.details[0].found.value))]) < 1e-4
    assert (
        "only recordings of the rig"
        in services.reading.view(job.id, ReadOptions(channels=("L",), view="noise")).details[0].fault
    )


@pytest.mark.parametrize("ahead_ms", [0.0, 0.5, 3.0, 10.0, 30.0, 80.0, 300.0])
def test_an_impulse_response_is_whole_wherever_its_file_begins(services, job, ahead_ms):
    # The same response with another silence ahead of it has the same level: it is zeros alone that differ.
    sound = decaying(silence_s=ahead_ms / 1000)
    take = services.elsewhere.add(job.id, "L", 1, wav(sound), file_name="room.wav")
    spectrum = np.fft.rfft(sound, 1 << 18)
    bins = np.fft.rfftfreq(1 << 18, 1 / 48_000)
    for octave in (125.0, 1000.0, 8000.0):
        inside = (bins > octave / 1.4) & (bins < octave * 1.4)
        near = (octave / 1.4 < ANALYSIS_GRID_HZ) & (octave * 1.4 > ANALYSIS_GRID_HZ)
        wanted = 10 * np.log10(np.mean(np.abs(spectrum[inside]) ** 2))
        # Mean powers over an octave, evenly and by the logarithm: the same within the scatter of the tail.
        assert 10 * np.log10(np.mean(10 ** (take.level_db[near] / 10))) == pytest.approx(wanted, abs=0.3)
    assert take.polarity == "normal"
    message = [caution for caution in take.cautions if caution.kind == "begins at arrival"]
    assert bool(message) == (ahead_ms < 50)
    assert not message or message[0].value == pytest.approx(ahead_ms, abs=0.02)


@pytest.mark.parametrize("comma", [False, True])
def test_a_curve_of_text_becomes_a_take_that_tells_its_level_alone(services, job, comma):
    level = 3 * np.sin(np.log2(ANALYSIS_GRID_HZ))
    take = services.elsewhere.add(job.id, "R", 2, curve_text(level, comma=comma), file_name="r.txt")
    np.testing.assert_allclose(take.level_db, level, atol=0.02)
    assert not take.has_response
    view = services.reading.view(job.id, ReadOptions(channels=("R",), view="phase"))
    assert "a curve of text has a level" in view.details[0].fault
    # It counts in averages as any other, and the job's folder is whole.
    assert services.reading.view(job.id, ReadOptions(channels=("R",))).curves[0].takes[0].id == take.id


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"100 1\n200 2\n400 3\n", "3 points are too few"),
        (b"\n".join(b"%d 0" % f for f in [*range(20, 40), *range(400, 420)]), "nothing stands between 39 and 400 Hz"),
        (b"\n".join(b"%d 0" % f for f in range(100, 130)), "covers 100 to 129 Hz only"),
        (b"100 1\n200 b\n", "not a number"),
        (b"frequency level", "not a WAV"),
        (wav(np.zeros(48_000)), "silent|s\\."),
        (wav(decaying()[: round(0.21 * 48_000)]), "follow its direct sound|lasts"),
    ],
)
def test_what_cannot_be_a_take_says_why_and_nothing_is_kept(services, job, data, message):
    with pytest.raises((FormatError, InvalidValue), match=message):
        services.elsewhere.add(job.id, "L", 1, data, file_name="odd")
    assert services.taking.board(job.id).takes == {}


@pytest.mark.parametrize(("share", "kept"), [(0.97, False), (0.99, True)])
def test_a_recording_that_is_shorter_than_its_sweep_is_no_take(services, job, share, kept):
    sweep = Sweep(duration_s=services.jobs.get(job.id).rig.sweep_seconds)
    samples = sweep.samples()[: round(share * sweep.duration_s * sweep.sample_rate_hz)]
    if kept:
        services.recordings.add(job.id, "L", 1, wav(samples), file_name="L.wav")
    else:
        with pytest.raises(InvalidValue, match=r"the recording lasts \d+\.\d s"):
            services.recordings.add(job.id, "L", 1, wav(samples), file_name="L.wav")
    assert (("L", 1) in services.taking.board(job.id).takes) is kept


def test_what_tells_no_noise_shows_none_and_spoils_no_figure_of_the_board(services, job):
    services.elsewhere.add(job.id, "L", 1, wav(decaying()), file_name="room.wav")
    services.elsewhere.add(job.id, "R", 1, curve_text(np.zeros(ANALYSIS_GRID_HZ.size)), file_name="r.txt")
    client = client_of(services)
    for channel in ("L", "R"):
        card = client.get(f"/jobs/{job.id}/takes/{channel}/1/cell").text
        assert "above noise" not in card
        assert "dBFS" not in card
    assert "Least signal above noise" not in client.get(f"/jobs/{job.id}/takes").text
    with pytest.raises(InvalidValue, match="40"):
        services.elsewhere.add(job.id, "L", 1, wav(decaying()), file_name="room.wav", recorder="x" * 41)
