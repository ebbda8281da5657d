"""Every format that is read, changed anywhere: a value or a clear error, never anything else; and what is written is
read back."""

import contextlib
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import netCDF4
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose

from dolce.core.geometry import RoomSize
from dolce.core.room import new_plan
from dolce.errors import DolceError, FormatError
from dolce.formats import sofa_file
from dolce.formats.audio_file import read_audio, read_channels, read_passage, write_flac, write_wav, write_wav_24
from dolce.formats.microphone_text import read_microphone_curve
from dolce.formats.places_csv import read_places, write_places
from dolce.formats.response_csv import read_response, write_response
from dolce.formats.room_json import read_room, write_room
from dolce.formats.sofa_file import RoomResponses, read_sofa, write_sofa
from dolce.formats.takes_csv import read_takes
from dolce.formats.target_text import read_target, write_target
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.store import read_manifest

NOISE = np.random.default_rng(2).uniform(-0.5, 0.5, 900)
PLAN = new_plan(RoomSize(length_m=5.0, width_m=4.0, height_m=2.5), layout="5.1", subs=1, spots=3)
HZ, DB = np.array([20.0, 100.0, 1000.0, 20_000.0]), np.array([0.0, 3.0, -2.5, -9.0])
RESPONSES = RoomResponses(
    samples=NOISE[:600].reshape(3, 200),
    sample_rate_hz=48_000,
    delay_samples=np.zeros(3),
    source_m=np.array([1.0, 0.5, 1.2]),
    microphones_m=np.arange(9.0).reshape(3, 3),
)
# A whole file of each kind, and what reads it.
WHOLE = {
    "WAV": (write_wav(NOISE, sample_rate_hz=48_000), lambda data: read_audio(data, name="f")),
    "WAV, 24 bit": (write_wav_24(NOISE, sample_rate_hz=44_100), lambda data: read_channels(data, name="f")),
    "FLAC": (write_flac(NOISE, sample_rate_hz=96_000), lambda data: read_audio(data, name="f")),
    "passage": (
        write_flac(NOISE, sample_rate_hz=48_000),
        lambda data: read_passage(data, name="f", start_s=0.0, duration_s=1.0),
    ),
    "microphone": (b"Sens -36.2 dB\n20 1.5\n100 0\n20000 -3\n", lambda data: read_microphone_curve(data, name="f")),
    "places": (write_places(PLAN), lambda data: read_places(data, PLAN, name="f")),
    "response": (write_response(HZ, DB, DB), lambda data: read_response(data, name="f")),
    "room": (write_room(PLAN), lambda data: read_room(data, name="f")),
    "takes": (
        b"channel,kind,spot,seat,file,start_s\nL,main,1,Mixer,l.wav,0.5\nR,main,1,Mixer,r.wav,0.5\n",
        lambda data: read_takes(data, name="f"),
    ),
    "target": (write_target(HZ, DB), lambda data: read_target(data, name="f")),
}
PIECES = st.sampled_from(
    [
        b"\x00",
        b"\xff" * 4,
        b"9" * 400,
        b"1e999",
        b"nan",
        b"-1",
        b'"',
        b"\n",
        b",",
        b"{",
        b"\r",
        b";",
        b"\x7f\xff\xff\xff",
        b"\xed\xa0\x80",
        b"\xef\xbb\xbf",
    ]
) | st.binary(max_size=8)
# Where (as a part of the whole), how many bytes go, and what comes in their place.
CHANGES = st.lists(st.tuples(st.floats(0, 1) | st.floats(0, 0.1), st.integers(0, 40), PIECES), min_size=1, max_size=6)


def changed(data: bytes, changes: list[tuple[float, int, bytes]]) -> bytes:
    for place, gone, piece in changes:
        at = round(place * len(data))
        data = data[:at] + piece + data[at + gone :]
    return data


@pytest.mark.parametrize("kind", list(WHOLE))
@given(CHANGES)
@settings(max_examples=60)
def test_a_file_that_is_changed_anywhere_gives_a_value_or_a_clear_error(kind, changes):
    data, read = WHOLE[kind]
    with contextlib.suppress(DolceError):  # any other kind of error fails the test
        for numbers in _numbers(read(changed(data, changes))):
            assert np.isfinite(numbers).all()


def _numbers(value: object) -> list[np.ndarray]:
    """Arrays in a value, or it alone."""
    parts = (
        vars(value).values()
        if hasattr(value, "__dict__")
        else ([getattr(value, name) for name in value.__slots__] if hasattr(value, "__slots__") else [value])
    )
    return [part for part in parts if isinstance(part, np.ndarray) and part.dtype.kind == "f"]


@pytest.fixture(scope="module")
def sofa() -> bytes:
    return write_sofa(RESPONSES, date="2026-01-01 00:00:00")


def declaring(folder: Path, samples: int, *, of: object = "f8") -> bytes:
    """A file that declares one response of so many samples, none of which is written: it has some kilobytes."""
    path = folder / "declares.sofa"
    with netCDF4.Dataset(path, "w") as file:
        for name, size in (("M", 1), ("R", 1), ("N", samples)):
            file.createDimension(name, size)
        packed = {} if of is str else {"zlib": True, "chunksizes": (1, 1, min(samples, 1 << 20)), "fill_value": 0}
        file.createVariable("Data.IR", of, ("M", "R", "N"), **packed)
    return path.read_bytes()


def test_a_small_file_that_declares_much_is_refused_before_anything_is_unpacked(tmp_path, monkeypatch):
    data = declaring(tmp_path, 200_000_000)
    assert len(data) < 100_000
    # Nothing of it is read.
    monkeypatch.setattr(sofa_file, "_responses", lambda _: pytest.fail("it was read"))
    with pytest.raises(FormatError, match=r"declares 200\.0 million values; 16 million are read"):
        read_sofa(data, name="f")
    with pytest.raises(FormatError, match="no numbers"):
        read_sofa(declaring(tmp_path, 20_000, of=str), name="f")


def test_a_file_at_the_bound_is_read_and_one_value_more_is_not(sofa, tmp_path, monkeypatch):
    path = tmp_path / "whole.sofa"
    path.write_bytes(sofa)
    with netCDF4.Dataset(path) as file:
        held = sum(int(np.prod(variable.shape)) for variable in file.variables.values())
    monkeypatch.setattr(sofa_file, "_MOST_VALUES", held)
    assert_allclose(read_sofa(sofa, name="f").samples, RESPONSES.samples, atol=1e-12)
    monkeypatch.setattr(sofa_file, "_MOST_VALUES", held - 1)
    with pytest.raises(FormatError, match="declares"):
        read_sofa(sofa, name="f")


def test_ten_files_at_once_are_read_one_after_the_other(sofa, monkeypatch):
    inside, most, read = [0], [0], sofa_file._responses

    def counted(file):
        inside[0] += 1
        most[0] = max(most[0], inside[0])
        try:
            return read(file)
        finally:
            inside[0] -= 1

    monkeypatch.setattr(sofa_file, "_responses", counted)
    with ThreadPoolExecutor(10) as pool:
        found = list(pool.map(lambda _: read_sofa(sofa, name="f").samples.shape, range(10)))
    assert (found, most[0]) == ([(3, 200)] * 10, 1)


def test_places_in_degrees_and_the_first_of_many_receivers_are_read(tmp_path):
    # AES69-2022, 4.4: azimuth counts from x to y, elevation upwards; dimensions are told by their names.
    path = tmp_path / "spherical.sofa"
    responses = np.random.default_rng(2).normal(size=(2, 3, 40, 2))
    with netCDF4.Dataset(path, "w") as file:
        for letter, size in {"I": 1, "C": 3, "M": 2, "R": 3, "N": 40, "E": 2}.items():
            file.createDimension(letter, size)
        for name, letters, value in (
            ("Data.IR", "MRNE", responses),
            ("Data.Delay", "IRE", np.full((1, 3, 2), 7.0)),
            ("Data.SamplingRate", "I", 48_000.0),
            ("SourcePosition", "IC", [[90.0, 0.0, 2.0]]),
            ("ListenerPosition", "MC", [[0.0, 90.0, 1.0], [180.0, 30.0, 4.0]]),
        ):
            file.createVariable(name, "f8", tuple(letters))[:] = value
            file[name].Type = "spherical"
    read = read_sofa(path.read_bytes(), name="f")
    assert_allclose(read.samples, responses[:, 0, :, 0])
    assert_allclose(read.delay_samples, [7.0, 7.0])
    assert_allclose(read.source_m, [0.0, 2.0, 0.0], atol=1e-12)
    assert_allclose(read.microphones_m, [[0.0, 0.0, 1.0], [-2 * np.sqrt(3), 0.0, 2.0]], atol=1e-12)


@given(CHANGES)
@settings(max_examples=25)
def test_room_responses_that_are_changed_anywhere_too(sofa, changes):
    with contextlib.suppress(DolceError):
        read_sofa(changed(sofa, changes), name="f")


@pytest.fixture(scope="module")
def backup(tmp_path_factory) -> Path:
    """A backup of a small job."""
    services = open_services(tmp_path_factory.mktemp("kept") / "data")
    services.jobs.create(JobDetails(name="Loft"))
    services.backups.begin_backup([1])
    services.folder_work.wait()
    path, _ = services.backups.open(services.backups.files()[0].name)
    services.close()
    return path


@given(CHANGES, st.sampled_from([1.0, 0.002]))
@settings(max_examples=25)
def test_a_backup_that_is_changed_anywhere_is_never_put_back_as_something_else(backup, changes, within):
    # Changes over all of it, and in its trailer alone, which says what is inside.
    data = backup.read_bytes()
    other = changed(data, [(1 - within * (1 - place), gone, piece) for place, gone, piece in changes])
    services = open_services(backup.parents[1])
    known = len(services.jobs.all())
    path = backup.with_name("other.dolce-backup")
    path.write_bytes(other)
    try:
        with contextlib.suppress(FormatError):
            read_manifest(path)
            services.backups.begin_restore(path.name)
            services.folder_work.wait()
        new = services.jobs.all()[: len(services.jobs.all()) - known]
        assert not new or (other[:-100] == data[:-100]) or services.folder_work.present.fault == ""
        for job in new:
            assert job.plan == services.jobs.get(1).plan
            with services.context.change() as work:
                work.jobs.purge(job.id)
    finally:
        services.close()


@given(
    st.lists(
        st.tuples(st.floats(1, 48_000), st.floats(-60, 60)),
        min_size=3,
        max_size=30,
        unique_by=lambda row: f"{row[0]:.2f}",
    )
)
@settings(max_examples=40)
def test_targets_are_read_back_as_written(rows):
    rows = sorted(rows)
    back = read_target(write_target(np.array([hz for hz, _ in rows]), np.array([db for _, db in rows])), name="f")
    assert_allclose(back[:, 1], [db for _, db in rows], atol=0.006)


@given(st.integers(1, 4), st.sampled_from([44_100, 48_000, 96_000]))
@settings(max_examples=8)
def test_room_responses_are_read_back_as_written(places, rate):
    samples = np.random.default_rng(places).normal(size=(places, 64))
    written = RoomResponses(
        samples=samples,
        sample_rate_hz=rate,
        source_m=np.array([0.5, 1.0, 1.5]),
        microphones_m=np.arange(3.0 * places).reshape(places, 3),
        delay_samples=np.zeros(places),
    )
    back = read_sofa(write_sofa(written, date="2026-01-01 00:00:00"), name="f")
    assert back.sample_rate_hz == rate
    assert_allclose(back.samples, samples, atol=1e-12)
    assert_allclose(back.microphones_m, written.microphones_m)
