import contextlib
import io
import json
import zipfile

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose

from dolce.core.filters import BandFilter
from dolce.errors import DolceError, FormatError
from dolce.formats.audio_file import read_audio, write_flac, write_wav, write_wav_24
from dolce.formats.filter_tables import filter_row, write_filters_csv, write_filters_json
from dolce.formats.microphone_text import read_microphone_curve, write_microphone_curve
from dolce.formats.response_csv import read_response, write_response
from dolce.formats.takes_csv import read_takes
from dolce.formats.target_text import read_target
from dolce.formats.zip_package import zip_parts

NOISE = np.random.default_rng(1).uniform(-0.9, 0.9, 4000)


@pytest.mark.parametrize(("write", "step"), [(write_wav, 2**-25), (write_wav_24, 2**-23), (write_flac, 2**-23)])
def test_audio_comes_back_to_the_last_bit_of_its_format(write, step):
    audio = read_audio(write(NOISE, sample_rate_hz=48_000), name="x.wav")
    assert audio.sample_rate_hz == 48_000
    assert_allclose(audio.sample, NOISE, atol=step)


def test_flac_of_24_bit_samples_is_lossless():
    exact = np.round(NOISE * 2**23) / 2**23
    assert np.array_equal(read_audio(write_flac(exact, sample_rate_hz=96_000), name="x").sample, exact)


@pytest.mark.parametrize("subtype", ["PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"])
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_common_recorder_files_are_read_and_the_loudest_channel_is_taken(subtype, rate):
    out = io.BytesIO()
    soundfile.write(out, np.stack([0.01 * NOISE, NOISE], axis=1), rate, subtype=subtype, format="WAV")
    audio = read_audio(out.getvalue(), name="x.wav")
    assert (audio.sample_rate_hz, audio.channels_in_file) == (rate, 2)
    assert_allclose(audio.sample, NOISE, atol=2**-15)


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"", "empty"),
        (b"hello", "not a WAV"),
        (write_wav(NOISE, sample_rate_hz=48_000)[:30], "not a WAV"),
        (write_wav(np.zeros(0), sample_rate_hz=48_000), "no samples"),
        (write_wav(np.array([0.0, np.nan]), sample_rate_hz=48_000), "not numbers"),
        (write_wav(NOISE[:10], sample_rate_hz=2_000), "sample rate of 2000"),
        (write_wav(np.zeros(8_000 * 181), sample_rate_hz=8_000), "lasts 181 s"),
    ],
    ids=["nothing", "text", "cut off", "no samples", "not a number", "slow", "long"],
)
def test_files_that_are_no_recordings_are_refused_with_the_reason(data, message):
    with pytest.raises(FormatError, match=message):
        read_audio(data, name="take.wav")


@given(st.binary(max_size=400))
@settings(max_examples=60)
@pytest.mark.parametrize("read", [read_audio, read_microphone_curve, read_response])
def test_any_bytes_give_a_value_or_a_clear_error(read, data):
    for start in (b"", write_wav(NOISE[:20], sample_rate_hz=48_000)[:40], b"frequency_hz,level_db\n20,0\n", b"20 0\n"):
        with contextlib.suppress(DolceError):  # any other kind of error fails the test
            read(start + data, name="file")


@pytest.mark.parametrize(
    "text",
    [
        "20 1.5\n1000 -0.25\n",
        "* made up\n20\t1.5\n1000\t-0.25\n",
        "Freq, dB\n20, 1.5\n1000, -0.25\n",
        '"Serial 1"\n20;1,5\n1000;-0,25\n',
        "20 1,5\r\n1000 -0,25\r\n",
        "# x\n2e1 1.5 0.0 end\n1000 -0.25 0.0\n",
        "Hz dB deg\n20 1.5 0\n1000 -0.25 0\n",
    ],
)
def test_calibration_texts_of_many_habits_say_the_same(text):
    curve = read_microphone_curve(text.encode(), name="cal.txt")
    assert_allclose(curve.frequency_hz, [20, 1000])
    assert_allclose(curve.level_db, [1.5, -0.25])
    assert_allclose(curve.phase_deg, 0)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "0 points"),
        ("20 1\n", "1 point found"),
        ("20 1\n50 1\n30 1\n", "line 3: 30 Hz follows 50 Hz"),
        ("20 1\n30 loud\n", "line 2: 'loud' is not a number"),
        ("20 nan\n30 1\n", "line 1: 'nan' is not a number"),
        ("20 1\nsomething else\n40 1\n", "line 2: 'something' is not a number"),
        ("20\n30\n", "only one value"),
        ("20 1\n20 1\n", "line 2: 20 Hz follows 20 Hz"),
        ("20 500\n30 1\n", "no microphone"),
        ("-5 1\n30 1\n", "frequency of -5"),
    ],
)
def test_faulty_calibration_texts_name_line_and_remedy(text, message):
    with pytest.raises(FormatError, match=message) as caught:
        read_microphone_curve(text.encode(), name="cal.txt")
    assert caught.value.remedy


@given(
    st.lists(
        st.tuples(st.floats(1, 9e4), st.floats(-100, 100), st.floats(-180, 180)),
        min_size=2,
        max_size=20,
        unique_by=lambda row: f"{row[0]:.6g}",
    )
)
@settings(max_examples=40)
def test_curves_and_responses_are_read_back_as_written(rows):
    table = np.array(sorted(rows))
    from dolce.core.response import MicrophoneCurve

    curve = MicrophoneCurve(frequency_hz=table[:, 0], level_db=table[:, 1], phase_deg=table[:, 2])
    back = read_microphone_curve(write_microphone_curve(curve, title="t"), name="t")
    assert_allclose(back.level_db, curve.level_db, rtol=1e-5, atol=1e-9)
    response = read_response(write_response(table[:, 0], table[:, 1], table[:, 2]), name="r.csv")
    assert_allclose(response.level_db, table[:, 1], atol=1e-6)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "empty"),
        ("a,b\n1,2\n", "no column frequency_hz"),
        ("frequency_hz,level_db\n20,0\n30,x\n", "line 3"),
        ("frequency_hz,level_db\n20,0\n", "1 points"),
        ("frequency_hz,level_db\n20,0\n10,0\n", "follows"),
        ("frequency_hz,level_db\n20,0\n30,nan\n", "line 3: 30 Hz, nan dB"),
        ("frequency_hz,level_db\n20,0\n30,1e30\n", "line 3: 30 Hz, 1e\\+30 dB"),
    ],
)
def test_faulty_response_tables_name_the_place(text, message):
    with pytest.raises(FormatError, match=message):
        read_response(text.encode(), name="r.csv")


def test_equal_samples_give_equal_files_whenever_they_are_written(monkeypatch):
    first = [write(NOISE, sample_rate_hz=48_000) for write in (write_wav, write_wav_24, write_flac)]
    monkeypatch.setenv("TZ", "Etc/GMT+5")
    for data, write in zip(first, (write_wav, write_wav_24, write_flac), strict=True):
        assert write(NOISE, sample_rate_hz=48_000) == data
    assert b"PEAK" not in first[0]  # a chunk with the time of writing


def test_filter_tables_state_the_convention_and_the_coefficients():
    band = BandFilter(frequency_hz=63, gain_db=-4.1, q=3.1)
    document = json.loads(write_filters_json({"L": {"filters": [filter_row(band)]}}))
    assert "half the gain" in document["q_convention"]
    assert document["channels"]["L"]["filters"][0] == {"type": "peaking", "frequency_hz": 63, "gain_db": -4.1, "q": 3.1}
    table = write_filters_csv({"L": [band]}, sample_rate_hz=48_000).decode()
    row = next(line for line in table.splitlines() if line.startswith("L,")).split(",")
    b0, b1, b2, a1, a2 = map(float, row[-5:])
    # At 0 Hz a peaking filter does nothing (Audio EQ Cookbook): the sums of both sides are equal. Near z = 1 the sums
    # are 1e-5 small, so ten digits are left.
    assert (b0 + b1 + b2) / (1 + a1 + a2) == pytest.approx(1, abs=1e-9)


def test_equal_contents_give_equal_packages():
    files = [("a/b.txt", b"x" * 500), ("c.wav", b"y" * 500)]
    parts = list(zip_parts(iter(files)))
    assert parts == list(zip_parts(files))
    assert b"c.wav" not in parts[0]  # each part as soon as its file is there
    package = zipfile.ZipFile(io.BytesIO(b"".join(parts)))
    assert package.testzip() is None
    assert [(entry.filename, package.read(entry)) for entry in package.infolist()] == files
    assert [entry.compress_type for entry in package.infolist()] == [zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED]


def test_seats_may_number_their_spots_alike_in_a_list_of_takes():
    text = "channel,kind,spot,seat,file,start_s\nL,main,1,front,a.wav,0\nL,main,1,back,b.wav,0.01\n"
    takes = read_takes(text.encode(), name="takes.csv")
    assert [(take.seat, take.file, take.start_s) for take in takes] == [
        ("front", "a.wav", 0.0),
        ("back", "b.wav", 0.01),
    ]


HEAD = "channel,kind,spot,seat,file,start_s\n"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "no column"),
        (HEAD, "no takes are listed"),
        (HEAD + "L,main,1,front,a.wav,now\n", "line 2: start_s 'now' is no time"),
        (HEAD + "L,main,1,front,a.wav,3601\n", "line 2: start_s '3601' is no time"),
        (HEAD + "L,main,1,front,a.wav,nan\n", "line 2: start_s 'nan' is no time"),
        (HEAD + "L,tweeter,1,front,a.wav,0\n", "line 2: 'tweeter' is no kind"),
        (HEAD + "L,main,,front,a.wav,0\n", "line 2: spot is empty"),
        (HEAD + "L,main,1,front,a.wav,0\nL,main,1,front,b.wav,0\n", "line 3: L at 1 is listed twice"),
        (HEAD + "L,main,1,front,a.wav,0\nL,sub,2,front,b.wav,0\n", "line 3: L is a main above, and a sub here"),
    ],
)
def test_faulty_lists_of_takes_name_the_line(text, message):
    with pytest.raises(FormatError, match=message) as caught:
        read_takes(text.encode(), name="takes.csv")
    assert caught.value.remedy


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("20 0\n20 1\n", "line 2: 20 Hz follows 20 Hz"),
        ("20 0\n10 1\n", "line 2: 10 Hz follows 20 Hz"),
        ("20 0\n30 1001\n40 0\n", "line 2: 1001 dB can't be"),
    ],
)
def test_faulty_targets_name_the_line(text, message):
    with pytest.raises(FormatError, match=message) as caught:
        read_target(text.encode(), name="house.txt")
    assert caught.value.remedy
