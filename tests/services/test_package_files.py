"""Files for another processor as they are asked for, and takes as AES69, read by other libraries."""

import io
import json
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import scipy.io.wavfile
import scipy.signal
import sofar
import soundfile
from numpy.testing import assert_allclose

from asking import client_of, post
from dolce.core.correction import FilterType, Limits
from dolce.core.filters import chain_sections
from dolce.core.processor import Crossover, Effects, ProcessorLimits
from dolce.core.response import ImpulseResponse, find_arrival
from dolce.core.subs import spectrum_at
from dolce.core.tuning import SUM_HZ, CorrectionSettings, Outputs, signal_paths_of
from dolce.errors import FormatError, InvalidValue, NotFound
from dolce.formats.channel_order import in_order
from dolce.formats.sofa_file import read_sofa, write_sofa
from dolce.services.align.bass_takes import bass_responses
from dolce.services.load.contents import preset_of
from dolce.services.load.packing import PackageOptions
from dolce.services.wiring import open_services
from rooms import BRIEF, shaped_pair, taken_room

SURROUND = ("L", "R", "C", "Ls", "Rs", "Ltf", "Rtf", "Sub1", "Mine")


@pytest.fixture(scope="module")
def shaped(prepared):
    yield from shaped_pair(prepared)


def files_of(services, job_id, **options):
    parts, _ = services.loading.package(job_id, PackageOptions(**options))
    package = zipfile.ZipFile(io.BytesIO(b"".join(parts)))
    return {name: package.read(name) for name in package.namelist()}


def test_orders_of_film_and_broadcast_differ_and_keep_every_channel():
    # ITU-R BS.2051 and WAVE_FORMAT_EXTENSIBLE: L R C LFE Ls Rs; film mixes (common practice): L C R Ls Rs LFE.
    assert in_order(SURROUND, "broadcast") == ("L", "R", "C", "Sub1", "Ls", "Rs", "Ltf", "Rtf", "Mine")
    assert in_order(SURROUND, "film") == ("L", "C", "R", "Ls", "Rs", "Sub1", "Ltf", "Rtf", "Mine")
    assert in_order(SURROUND, "outputs") == SURROUND


def test_one_file_of_24_bits_holds_all_channels_in_the_order_that_the_note_states(shaped):
    services, job_id = shaped
    files = files_of(services, job_id, rates_hz=(48_000,), samples="pcm24", layout="one", order="film")
    names = [name for name in files if name.endswith(".wav")]
    assert names == ["impulse-responses/all-48000Hz.wav"]
    info = soundfile.info(io.BytesIO(files[names[0]]))
    assert (info.subtype, info.channels, info.samplerate) == ("PCM_24", 2, 48_000)
    # Read by another library, each against the chain of its channel by scipy.signal.freqz_sos.
    rate, samples = scipy.io.wavfile.read(io.BytesIO(files[names[0]]))
    at = np.geomspace(30, 15_000, 200)
    note = files["README.txt"].decode()
    assert "Channels, film: 1 L, 2 R." in note
    softer = float(note.split("all are ")[1].split(" dB")[0]) if "softer" in note else 0.0
    for column, channel in enumerate(("L", "R")):
        found = scipy.signal.freqz(samples[:, column] / 2**31, worN=at, fs=rate)[1]
        sections = chain_sections(services.shaping.correction(job_id).filters(channel), sample_rate_hz=rate)
        known = scipy.signal.freqz_sos(sections, worN=at, fs=rate)[1]
        assert_allclose(20 * np.log10(np.abs(found)) + softer, 20 * np.log10(np.abs(known)), atol=0.05)


@pytest.mark.parametrize(("signs", "turn"), [("subtracted", 1.0), ("added", -1.0)])
def test_biquads_in_either_convention_are_a_reference_librarys_filter(shaped, signs, turn):
    services, job_id = shaped
    files = files_of(services, job_id, rates_hz=(96_000,), signs=signs)
    lines = files["filters/biquads-96000.csv"].decode().splitlines()
    assert f"{'-' if turn > 0 else '+'} a1 y[n-1]" in lines[1]
    rows = [line.split(",") for line in lines[3:] if line.startswith("L,")]
    # scipy.signal.lfilter subtracts a1 and a2.
    noise = np.random.default_rng(1).normal(size=400)
    heard = noise
    for row in rows:
        b0, b1, b2, a1, a2 = map(float, row[-5:])
        heard = scipy.signal.lfilter([b0, b1, b2], [1.0, turn * a1, turn * a2], heard)
    sections = chain_sections(services.shaping.correction(job_id).filters("L"), sample_rate_hz=96_000)
    assert_allclose(heard, scipy.signal.sosfilt(sections, noise), atol=1e-9)


def test_tables_and_curves_say_what_the_settings_are(shaped):
    services, job_id = shaped
    files = files_of(services, job_id, rates_hz=(44_100,))
    assert not any("48000" in name for name in files)
    bands = services.shaping.correction(job_id).filters("L")
    text = [line.split() for line in files["filters/filters.txt"].decode().splitlines() if line.startswith("L ")]
    assert [(row[2], float(row[3]), float(row[4]), float(row[5])) for row in text] == [
        (b.kind.split()[0], pytest.approx(b.frequency_hz, rel=1e-4), b.gain_db, b.q)
        for b in bands
        if b.kind == "peaking"
    ]
    curves = files["curves/L.csv"].decode().splitlines()
    assert curves[0].split(",")[1:] == ["before_db", "target_db", "predicted_db"]
    assert set(json.loads(files["settings.json"])["outputs"]) == {"L", "R"}


def test_what_a_device_can_not_hold_is_shortened_and_said(shaped):
    services, job_id = shaped
    copy = services.jobs.copy(job_id).id
    services.processor.add_limits(copy, ProcessorLimits(name="Short", bands=0, taps=4096))
    services.shaping.set_correction(
        copy,
        correction_settings=CorrectionSettings(
            limits=Limits(from_hz=30.0), filter_type=FilterType(method="convolution", duration_s=0.08)
        ),
        anchor="band",
        anchor_band_hz=(200, 2000),
        anchor_level_db=0.0,
        linked=True,
        preference=None,
    )
    services.finding.find(copy)
    files = files_of(services, copy, rates_hz=(48_000, 192_000))
    assert soundfile.info(io.BytesIO(files["impulse-responses/48000/L-48000Hz.wav"])).frames == 3840
    assert soundfile.info(io.BytesIO(files["impulse-responses/192000/L-192000Hz.wav"])).frames == 4096
    assert "at 192000 Hz impulse responses are 4096 samples long instead of 15360" in files["README.txt"].decode()


def test_options_that_can_not_be_are_refused_and_the_page_offers_the_others(shaped):
    services, job_id = shaped
    for wrong in (
        {"rates_hz": ()},
        {"rates_hz": (8000,)},
        {"samples": "mp3"},
        {"layout": "two"},
        {"order": "x"},
        {"signs": "x"},
    ):
        with pytest.raises(InvalidValue):
            PackageOptions(**wrong)
    client = client_of(services)
    answer = client.get(f"/jobs/{job_id}/load/package.zip?rate=48000&layout=one&order=broadcast")
    names = zipfile.ZipFile(io.BytesIO(answer.data)).namelist()
    assert "impulse-responses/all-48000Hz.wav" in names
    assert client.get(f"/jobs/{job_id}/load/package.zip?rate=48000&samples=mp3").status_code == 422


def test_aes69_begins_at_the_emission_and_holds_what_counts_alone(shaped, tmp_path):
    services, job_id = shaped
    job = services.jobs.get(job_id)
    path = Path(tmp_path / "l.sofa")

    def written():
        path.write_bytes(services.reading.sofa(job_id, job.round_id, "L")[0])
        return sofar.read_sofa(str(path), verify=True, verbose=False)

    with services.context.look() as work:
        takes = {take.spot_id: take for take in work.takes.latest(job.round_id) if take.channel == "L"}
    read = written()
    assert np.all(read.Data_Delay == 0)
    assert len(read.Data_IR) == len(takes)
    for place, row in zip(read.ListenerPosition, read.Data_IR[:, 0], strict=True):
        take = next(t for t in takes.values() if np.allclose(t.spot_place.as_array(), place))
        # Its direct sound where the take has its arrival, for readers that know nothing of delays.
        found = find_arrival(ImpulseResponse(sample=row, sample_rate_hz=48_000, start_s=0.0)).time_s
        assert found == pytest.approx(take.arrival_s, abs=2e-6)
    gone = job.spots[2]
    services.cells.leave_out(job_id, takes[gone.id].id, "a cloth")
    read = written()
    assert len(read.Data_IR) == len(takes) - 1
    assert "left out: a cloth" in read.GLOBAL_Comment
    services.cells.take_in(job_id, takes[gone.id].id)


def test_takes_are_written_as_aes69_and_read_back(shaped, tmp_path):
    services, job_id = shaped
    job = services.jobs.get(job_id)
    data, name = services.reading.sofa(job_id, job.round_id, "L")
    assert name == "responses L Untouched.sofa"
    path = Path(tmp_path / "l.sofa")
    path.write_bytes(data)
    read = sofar.read_sofa(str(path), verify=True, verbose=False)  # the reference library finds nothing amiss
    assert (read.GLOBAL_SOFAConventions, read.Data_SamplingRate) == ("SingleRoomSRIR", 48_000)
    assert_allclose(read.SourcePosition, np.tile(job.speaker("L").place.as_array(), (4, 1)))
    assert_allclose(sorted(map(tuple, read.ListenerPosition)), sorted(tuple(s.place.as_array()) for s in job.spots))
    copy = services.jobs.copy(job_id).id
    services.rounds.new(copy, name="Read back")
    spot = job.spots[1]
    take = services.elsewhere.add(copy, "L", spot.id, data, file_name="l.sofa")
    with services.context.look() as work:
        first = next(t for t in work.takes.latest(job.round_id) if t.channel == "L" and t.spot_id == spot.id)
    inside = slice(100, 480)
    assert np.abs(take.level_db - first.level_db)[inside].max() < 0.5
    with pytest.raises(NotFound, match="no impulse response"):
        services.reading.sofa(job_id, job.round_id, "Sub9")
    with pytest.raises(FormatError, match="can't be read"):
        services.elsewhere.add(copy, "L", spot.id, data[:2000], file_name="half.sofa")
    elsewhere = read_sofa(data, name="l.sofa")
    far = replace(elsewhere, microphones_m=elsewhere.microphones_m + 1.0)
    with pytest.raises(FormatError, match=r"none of its 4 microphones stood here: the nearest is"):
        services.elsewhere.add(copy, "L", spot.id, write_sofa(far, date="2026-01-31 12:00:00"), file_name="far.sofa")


def test_files_for_a_device_hold_only_what_it_takes_and_the_note_says_what_was_rounded(shaped):
    services, job_id = shaped
    small = ProcessorLimits(
        name="Old rack", bands=3, gain_step_db=0.5, trim_step_db=0.5, delay_step_s=0.0005, highest_gain_db=3.0, taps=0
    )
    with services.context.change() as work:
        small = work.processors.add(small)
    plain = json.loads(files_of(services, job_id, rates_hz=(48_000,))["filters/filters.json"])
    files = files_of(services, job_id, rates_hz=(48_000,), device=small.id)
    note = files["README.txt"].decode()
    found = json.loads(files["filters/filters.json"])
    assert "Old rack does not convolve: use the bands" in note
    assert "Rounded to what Old rack can be set to:" in note
    for channel, item in found["channels"].items():
        before = plain["channels"][channel]
        assert len(item["filters"]) == 3
        assert len(before["filters"]) > 3
        assert note.count(f"  {channel} ") >= 1
        for band in item["filters"]:
            assert band["gain_db"] * 2 == pytest.approx(round(band["gain_db"] * 2))
            assert band["gain_db"] <= 3.0
        # None that was left out does more than one that stayed: gain over width.
        kept = {(band["frequency_hz"], band["q"]) for band in item["filters"]}
        does = {(band["frequency_hz"], band["q"]): abs(band["gain_db"]) / band["q"] for band in before["filters"]}
        assert min(does[at] for at in kept) >= max(value for at, value in does.items() if at not in kept)
        assert item["trim_db"] == pytest.approx(round(before["trim_db"] * 2) / 2)
        assert item["delay_s"] == pytest.approx(round(before["delay_s"] / 0.0005) * 0.0005)
        left_out, _ = next(at for at in does if at not in kept)
        assert f"the band at {left_out:.0f} Hz" in note
    wide = ProcessorLimits(
        name="New rack", bands=31, gain_step_db=0.01, trim_step_db=0.01, taps=65_536, lowest_q=0.1, highest_q=50
    )
    with services.context.change() as work:
        wide = work.processors.add(wide)
    note = files_of(services, job_id, rates_hz=(48_000,), device=wide.id)["README.txt"].decode()
    assert "Everything fits New rack as it is: nothing was rounded." in note


# The whole hand-over, rebuilt from the package alone


@pytest.fixture(scope="module")
def managed(prepared):
    """A 3.1 room with two subs, bass management and the effects channel, corrected."""
    services = open_services(taken_room(prepared, layout="3.1", subs=2))
    services.finding.effort = BRIEF
    job_id = 1
    services.crossing.set_crossovers(job_id, {"fronts": Crossover(frequency_hz=80.0)}, effects=Effects())
    services.aligning.use_proposal(job_id)
    services.finding.find(job_id)
    yield services, job_id
    services.close()


def section(row, rate):
    """A filter of the Audio EQ Cookbook (R. Bristow-Johnson, W3C Note, 2021), written down anew."""
    w, a = 2 * np.pi * row["frequency_hz"] / rate, 10 ** (row.get("gain_db", 0.0) / 40)
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
    return np.array([*b, *d]) / d[0]


def through_crossover(row, at, rate):
    if row is None:
        return np.ones(at.size, dtype=complex)
    order = row["order"] if row["kind"] == "butterworth" else row["order"] // 2
    sos = scipy.signal.butter(order, row["frequency_hz"], row["side"], fs=rate, output="sos")
    once = scipy.signal.freqz_sos(sos, worN=at, fs=rate)[1]
    if row["kind"] == "butterworth":
        return once
    return once**2 * (-1 if row["order"] == 2 and row["side"] == "high" else 1)


def through_output(own, at, rate):
    response = 10 ** ((own["trim_db"] - own["headroom_cut_db"]) / 20) * np.exp(-2j * np.pi * at * own["delay_s"])
    response = response * (-1 if own["polarity"] == "inverted" else 1)
    for side in ("high_pass", "low_pass"):
        response = response * through_crossover(own[side], at, rate)
    for item in own["all_pass"]:
        s = 1j * np.tan(np.pi * at / rate) / np.tan(np.pi * item["frequency_hz"] / rate)
        response = response * (s * s - s / item["q"] + 1) / (s * s + s / item["q"] + 1)
    for row in own["filters"]:
        response = response * scipy.signal.freqz_sos(section(row, rate)[None], worN=at, fs=rate)[1]
    return response


def test_the_predicted_response_follows_from_the_package_alone(managed):
    services, job_id = managed
    job = services.jobs.get(job_id)
    package = files_of(services, job_id, rates_hz=(48_000,))
    document = json.loads(package["settings.json"])
    assert (document["version"], document["made_for"]["round"]) == (3, "Untouched")
    assert set(document["inputs"]) == {*job.channels, "LFE"}
    rate, spots = document["sample_rate_hz"], [spot.id for spot in job.spots]
    preset = services.loading.view(job_id, content="corrected")
    state = replace(job.processor, presets={"A": preset_of("corrected", preset.tuned)}, active="A")
    outputs = Outputs.held(state, job.channels)
    at = SUM_HZ[(SUM_HZ > 25) & (SUM_HZ < 290)]
    with services.context.look() as work:
        takes = {(t.channel, t.spot_id): t.id for t in work.takes.latest(job.round_id)}
        for channel in document["inputs"]:
            parts = []
            for route in document["inputs"][channel]:
                turn = 10 ** (route["gain_db"] / 20) * through_crossover(route["crossover"], at, rate)
                turn = turn * through_output(document["outputs"][route["output"]], at, rate)
                heard = [spectrum_at(work.takes.response(takes[route["output"], spot]), at) for spot in spots]
                parts.append(np.array(heard) * turn)
            rebuilt = sum(parts)
            responses = bass_responses(services.context.bass, work, job, job.round_id, job.channels, spots=spots)
            ours = sum(part for _, part in signal_paths_of(outputs, responses, channel))
            inside = np.isin(SUM_HZ, at)
            strong = np.abs(rebuilt) > 1e-4 * np.abs(rebuilt).max()  # nulls between are numbers near nothing
            apart = 20 * np.log10(np.abs(rebuilt[strong]) / np.abs(ours[:, inside][strong]))
            assert np.abs(apart).max() < 0.1, channel
    # And as pages predict it: levels over 1/12 octave from the same sums.
    assert "LFE" in package["routes-and-outputs.txt"].decode()
    assert "low-pass 120 Hz Linkwitz-Riley 24 dB/oct" in package["routes-and-outputs.txt"].decode()


def test_every_field_of_the_settings_is_described(managed):
    services, job_id = managed
    document = json.loads(files_of(services, job_id, rates_hz=(48_000,))["settings.json"])
    described = (Path(__file__).parents[2] / "docs" / "package-files.md").read_text()
    output, route = next(iter(document["outputs"].values())), document["inputs"]["LFE"][0]
    for field in (*document, *document["made_for"], *output, *route, *route["crossover"]):
        assert f"`{field}`" in described or f".{field}`" in described, field


# A sum that can't be formed everywhere


def test_a_spot_without_a_known_arrival_is_named_and_the_others_are_summed(managed):
    services, _ = managed
    job_id = services.jobs.copy(1).id
    job = services.jobs.get(job_id)
    whole = services.shaping.view(job_id, "C")
    assert whole.not_summed == ()
    spot = job.spots[1]
    impulse = np.zeros(24_000)
    impulse[4800] = 0.1
    out = io.BytesIO()
    soundfile.write(out, impulse, 48_000, format="WAV", subtype="FLOAT")
    services.elsewhere.add(job_id, "Sub1", spot.id, out.getvalue(), file_name="sub.wav")
    view = services.shaping.view(job_id, "C")
    assert view.not_summed == (f"Sub1 at {job.at_spot(spot.id)}",)
    # Still the sum of C with the subs, at the spots that have them all: not C alone.
    assert view.shape.share is not None
    assert set(view.spots) == set(whole.spots) - {spot.id}
    page = client_of(services).get(f"/jobs/{job_id}/shape?channel=C").text
    assert "Sum with the subs not known" in page
    assert f"Sub1 at {job.at_spot(spot.id)}" in page


def test_filters_that_were_found_for_other_seats_say_so(managed):
    services, _ = managed
    job_id = services.jobs.copy(1).id
    seat_weightings = services.shaping.view(job_id).seat_weightings
    services.shaping.set_seat_weighting(job_id, seat_weightings[1])
    assert services.shaping.correction(job_id).found_for_others == seat_weightings[0]
    services.versions.keep(job_id, "Couch only")
    page = client_of(services).get(f"/jobs/{job_id}/shape?sheet=seat_weighting").text
    assert f"found for {seat_weightings[0].name}" in page
    assert f"filters for {seat_weightings[0].name}" in page
    table = services.versions.table(job_id)
    assert table.range_hz == (20, 500)  # one range for all rows, and named
    assert "20 Hz to 500 Hz for every correction" in page
    assert [row.found_for for row in table.rows] == [seat_weightings[0], seat_weightings[0]]


def test_ranges_and_levels_are_offered_before_the_first_search(managed):
    services, _ = managed
    job_id = services.jobs.copy(1).id
    client = client_of(services)
    page = client.get(f"/jobs/{job_id}/shape/before-find/L").text
    rows = {item.channel: item for item in services.ranges.proposed(job_id)}
    assert set(rows) == set(services.jobs.get(job_id).channels)
    assert rows["L"].range_hz == rows["R"].range_hz  # a pair gets one range
    assert rows["Sub1"].range_hz[1] <= 120
    assert "Cuts first: level of the target" in page
    services.ranges.use_proposed(job_id)
    limits = services.shaping.correction(job_id).limits_for("L")
    assert (limits.from_hz, limits.to_hz) == rows["L"].range_hz


def test_subs_are_protected_below_their_end_and_the_package_holds_it(managed):
    services, _ = managed
    job_id = services.jobs.copy(1).id
    view = services.crossing.view(job_id)
    rows = {protection.channel: protection for protection in view.protections}
    # Main channels that the crossover relieves need none.
    assert set(rows) == {"Sub1", "Sub2"}
    assert rows["Sub1"].proposed_hz == max(20, round(rows["Sub1"].extension_hz / 2 ** (1 / 3)))
    client = client_of(services)
    assert post(client, f"/jobs/{job_id}/align/protect/Sub1", protect_hz="25").status_code == 200
    alignment = services.aligning.view(job_id).alignment
    assert {alignment.channels[sub].high_pass.frequency_hz for sub in ("Sub1", "Sub2")} == {25.0}
    assert post(client, f"/jobs/{job_id}/align/protect/Sub1", protect_hz="5").status_code == 422
    services.shaping.stand_on_present(job_id)
    on_progress = json.loads(files_of(services, job_id, rates_hz=(48_000,))["settings.json"])
    assert on_progress["outputs"]["Sub2"]["high_pass"] == {
        "side": "high",
        "kind": "butterworth",
        "order": 4,
        "slope_db_per_octave": 24,
        "frequency_hz": 25.0,
    }
    post(client, f"/jobs/{job_id}/align/protect/Sub1", off="1")
    assert services.aligning.view(job_id).alignment.channels["Sub1"].high_pass is None
