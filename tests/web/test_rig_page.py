"""The Rig stop without a browser: what its sheets refuse, and how the parts that move answer."""

import csv
import io
from dataclasses import replace

import pytest
import soundfile

from asking import client_of, post, token
from dolce.core.processor import SAID_PROCESSOR
from dolce.core.signals import Source
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.rig.reference_levels import ReferenceView
from dolce.services.sample.demo_rooms import net_loft
from dolce.store.encoding import values_of

LIMITS = {
    "name": "Box",
    "bands": "8",
    "lowest_gain_db": "-12",
    "highest_gain_db": "6",
    "gain_step_db": "0.5",
    "lowest_q": "0.5",
    "highest_q": "8",
    "lowest_trim_db": "-20",
    "highest_trim_db": "0",
    "trim_step_db": "0.5",
    "most_delay_ms": "40",
    "delay_step_ms": "0.5",
    "fixed_bands": "0",
    "all_passes": "0",
    "taps": "0",
    "bass_taps": "0",
    "presets": "4",
}
SUBS = {
    "placing": "close",
    "sound": "tone",
    "tone_hz": "50",
    "tuning_hz": "",
    "step_db": "0.1",
    "level_dbfs": "-40",
    "distance": "0.15",
}
SOURCE = {
    "kind": "tone",
    "channel": "L",
    "level_dbfs": "-30",
    "frequency_hz": "1000",
    "band_from_hz": "500",
    "band_to_hz": "2000",
}


@pytest.fixture
def rig(services):
    """A job with subs, its client and the address of its Rig stop."""
    job = services.jobs.create(JobDetails(name="Loft"), plan=net_loft())
    services.rigging.set_rig(job.id, pace="fast")
    yield client_of(services), f"/jobs/{job.id}/rig", job.id
    services.sound.stop()
    services.sound.wait()


@pytest.mark.parametrize(
    ("path", "data", "message"),
    [
        ("loop", {"loop_output": "3", "loop_input": ""}, "needs an output and an input"),
        ("loop", {"loop_output": "3", "loop_input": "1"}, "input 1 has a microphone"),
        ("loop", {"loop_output": "0", "loop_input": "2"}, "out of range"),
        ("hardware", {"hardware": "sound card", "card": ""}, "no audio device is chosen"),
        (
            "level",
            {
                "sweep_level_dbfs": "-18",
                "sweep_seconds": "5",
                "microphone_gain_db": "0",
                "ceiling_dbfs": "-6",
                "ceiling_spl_db": "300",
            },
            "out of range",
        ),
        ("microphones", {"name": " ", "sensitivity_mv_pa": "12"}, "Give it a name"),
        ("microphones", {"name": "m", "sensitivity_mv_pa": "0"}, "out of range"),
        ("processors", {**LIMITS, "highest_q": "0.4"}, "upside down"),
        ("processors", {**LIMITS, "bands": "x"}, "A number is needed"),
        ("live/meter/source", {**SOURCE, "level_dbfs": "-4"}, "above the ceiling of -6 dBFS"),
        ("live/meter/source", {**SOURCE, "kind": "band", "band_to_hz": "300"}, "upside down"),
        ("live/spectrum/source", {**SOURCE, "frequency_hz": "5"}, "out of range"),
        ("working-levels", {"reference_db": "120", "second_db": ""}, "out of range"),
        ("sub-match", {**SUBS, "distance": "5"}, "out of range"),
        ("sub-match", {**SUBS, "step_db": "0"}, "out of range"),
    ],
)
def test_what_cannot_be_is_said_beside_its_field_and_changes_nothing(rig, services, path, data, message):
    client, url, job_id = rig
    before = services.jobs.get(job_id).rig
    answer = post(client, f"{url}/{path}", **data)
    assert answer.status_code == 422
    assert message in answer.text
    after = services.jobs.get(job_id).rig
    assert values_of(after) == values_of(before)
    assert services.microphones.view(job_id).shelf == ()


def test_limits_are_typed_once_and_chosen_in_another_job(rig, services):
    client, url, job_id = rig
    assert post(client, f"{url}/processors", **LIMITS).status_code == 200
    limits = services.jobs.get(job_id).limits
    assert (limits.name, limits.bands, limits.most_delay_s) == ("Box", 8, 0.04)
    other = services.jobs.create(JobDetails(name="Other"))
    post(client, f"/jobs/{other.id}/rig/processors/use", processor=str(limits.id))
    assert services.jobs.get(other.id).limits == limits
    post(client, f"{url}/processors/{limits.id}", **{**LIMITS, "bands": "4"})
    assert services.jobs.get(other.id).limits.bands == 4
    assert "already" in post(client, f"{url}/processors", **LIMITS).text


def test_a_tone_below_the_ports_tuning_is_warned_about(rig):
    client, url, _ = rig
    answer = post(client, f"{url}/sub-match", **{**SUBS, "tone_hz": "35", "tuning_hz": "32"})
    assert "Choose 42 Hz or more" in answer.text


def test_the_moving_part_alone_is_sent_while_it_runs_and_the_whole_sheet_when_it_has_ended(rig, services):
    client, url, job_id = rig
    services.live.start(job_id, "meter", source=Source(kind="pink", level_dbfs=-40), channel="L")
    part = client.get(f"{url}/live/meter", headers={"HX-Request": "true"})
    assert part.text.lstrip().startswith('<div id="live"')
    assert "every 250ms" in part.text
    post(client, f"{url}/live/meter/stop")
    ended = client.get(f"{url}/live/meter", headers={"HX-Request": "true"})
    assert ended.headers["HX-Retarget"] == "#stop"
    assert "every 250ms" not in ended.text
    assert client.get(f"{url}/live/noise").status_code == 422


def test_sources_and_spectra_are_saved_as_files(rig, services):
    client, url, job_id = rig
    assert client.get(f"{url}/live/meter/source.wav").status_code == 409
    assert client.get(f"{url}/live/spectrum/bands.csv").status_code == 409
    post(client, f"{url}/live/meter/source", **{**SOURCE, "kind": "pink", "level_dbfs": "-20"})
    sound, rate = soundfile.read(io.BytesIO(client.get(f"{url}/live/meter/source.wav").data))
    assert (rate, sound.size) == (48_000, 33 * 48_000)
    assert (sound**2).mean() ** 0.5 == pytest.approx(0.0707, abs=2e-4)  # AES17: -20 dBFS RMS
    services.live.start(job_id, "moving", channel="L")
    services.sound.wait()
    services.live.start(job_id, "spectrum", per_octave=3)
    while services.live.view(job_id, "spectrum").bands is None:
        services.sound.running()
    rows = list(csv.DictReader(client.get(f"{url}/live/spectrum/bands.csv").text.splitlines()))
    assert float(rows[0]["frequency_hz"]) == pytest.approx(19.953, abs=0.01)  # IEC 61260-1: 1000 G^(-17/3)
    assert set(rows[0]) == {"frequency_hz", "now_dbfs"}


def test_forms_without_their_token_are_refused(rig):
    client, url, _ = rig
    assert token(client)
    assert client.post(f"{url}/processor/dim").status_code == 400


def test_bass_management_that_cannot_be_read_is_typed_and_told_again(rig, services):
    client, url, job_id = rig
    assert post(client, f"{url}/processor/bass", bass_hz="80", bass_slope="4").status_code == 409  # it says so itself
    with services.context.change() as work:
        work.jobs.set_rig(job_id, replace(work.jobs.get(job_id).rig, chain=(SAID_PROCESSOR,)))
    assert post(client, f"{url}/processor/bass", bass_hz="900", bass_slope="4").status_code == 422
    page = post(client, f"{url}/processor/bass", bass_hz="100", bass_slope="8").text
    assert "Bass of L, R, C, Ls, Rs below 100 Hz goes to Sub1, Sub2." in page
    state = services.jobs.get(job_id).processor
    assert [route.output for route in state.routes("L")] == ["L", "Sub1", "Sub2"]
    assert not state.is_neutral
    post(client, f"{url}/processor/bass", bass_hz="", bass_slope="4")
    assert services.jobs.get(job_id).processor.bypassed


@pytest.mark.parametrize(
    ("second", "message"),
    [("85", "turn it up by 6.0 dB and mark 85 dB"), ("73", "turn it down by 6.0 dB and mark 73 dB"), ("79", "")],
)
def test_a_second_working_level_may_be_the_louder_one(rig, monkeypatch, second, message):
    client, url, _ = rig
    assert post(client, f"{url}/working-levels", reference_db="79", second_db=second).status_code < 400
    monkeypatch.setattr(ReferenceView, "agree", True)
    page = " ".join(client.get(f"{url}?sheet=reference").text.split())
    assert "Mark the volume control: 79 dB here." in page
    assert message in page if message else "second working level." not in page
