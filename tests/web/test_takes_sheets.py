"""The sheets of Takes: rows, and files made elsewhere."""

import io
import re

import numpy as np
import pytest
import soundfile

from asking import client_of, post, token
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import net_loft
from recordings import flac


@pytest.fixture
def client(services):
    return client_of(services)


@pytest.fixture
def url(services):
    job = services.jobs.create(JobDetails(name="Loft"), plan=net_loft())
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    return f"/jobs/{job.id}/takes"


def shown(client, url):
    """What the fields of a sheet hold; no box is ticked."""
    found = re.findall(r'name="([^"]+)" value="([^"]*)"', client.get(url).text)
    return {name: value for name, value in found if not name.endswith("one_spot") and name != "channel"}


def test_groups_and_rows_of_their_own_are_kept_as_typed(client, url, services):
    form = shown(client, f"{url}/rows")
    assert (form["subs-high_hz"], form["fronts-high_hz"]) == ("250", "22000")
    answer = post(client, f"{url}/rows", **{**form, "subs-repeats": "4"})
    assert answer.status_code == 200
    rows = services.jobs.get(1).rows
    assert rows.groups["subs"].repeats == 4
    assert set(rows.groups) == {"subs"}  # what was not touched stays as usual
    post(client, f"{url}/rows/own", row="C")
    assert "C-repeats" in shown(client, f"{url}/rows")
    post(client, f"{url}/rows/own", row="C")
    assert services.jobs.get(1).rows.rows == {}
    assert "4 averaged" in client.get(url).text


@pytest.mark.parametrize(
    ("field", "typed", "message"),
    [
        ("subs-repeats", "9", "out of range"),
        ("subs-high_hz", "abc", "A number is needed"),
        ("fronts-offset_db", "99", "out of range"),
        ("subs-high_hz", "15", "out of range"),
    ],
)
def test_a_row_that_cannot_be_played_so_is_told_beside_its_field(client, url, services, field, typed, message):
    form = shown(client, f"{url}/rows")
    answer = post(client, f"{url}/rows", **{**form, field: typed})
    assert answer.status_code == 422
    assert message in answer.text
    assert f'value="{typed}"' in answer.text  # nothing typed is lost
    assert services.jobs.get(1).rows.groups == {}


def test_two_tabs_on_one_group_are_told(client, url):
    form = shown(client, f"{url}/rows")
    post(client, f"{url}/rows", **{**form, "subs-repeats": "2"})
    later = post(client, f"{url}/rows", **{**form, "subs-repeats": "3"})
    assert later.status_code == 422
    assert "In another tab" in later.text


def test_combinations_become_rows_of_the_board_and_go_again(client, url, services):
    answer = client.post(
        f"{url}/rows/combinations",
        data={"csrf_token": token(client), "channel": ["L", "Sub1"]},
        headers={"HX-Request": "true"},
    )
    assert "L + Sub1" in answer.text
    assert 'id="cell-L_Sub1-1"' in client.get(url).text
    assert "two channels or more" in post(client, f"{url}/rows/combinations", channel="L").text
    post(client, f"{url}/rows/combinations/L_Sub1/remove")
    assert "L_Sub1" not in client.get(url).text
    assert post(client, f"{url}/rows/combinations/L_R/remove").status_code == 404


def test_a_pass_is_asked_for_with_its_signal(client, url, services):
    post(client, f"{url}/run", signal="pink", channel="L", spot="1")
    services.sound.wait(30)
    assert services.taking.board(1).takes["L", 1].signal == "pink"
    assert post(client, f"{url}/run", signal="hum", channel="L", spot="1").status_code == 422


def test_files_lie_in_the_imported_files_until_they_are_kept(client, url, services):
    impulse = np.zeros(20_000)
    impulse[300] = 0.5
    assert "Nothing lies here" in client.get(f"{url}/imported").text
    assert "no file was chosen" in post(client, f"{url}/imported").text
    answer = client.post(
        f"{url}/imported",
        headers={"HX-Request": "true"},
        content_type="multipart/form-data",
        data={
            "csrf_token": token(client),
            "recordings": [(io.BytesIO(flac(impulse)), "Ls <b>spot 2.flac"), (io.BytesIO(b"nothing"), "x.wav")],
        },
    )
    assert answer.status_code == 200
    services.imported_files.wait()
    page = client.get(f"{url}/imported").text
    assert "Ls &lt;b&gt;spot 2.flac" in page
    assert "impulse response" in page
    assert "not a WAV or FLAC file" in page
    first, second = (item.number for item in services.imported_files.items(1))
    kept = post(client, f"{url}/imported/keep", **{f"row-{first}": "R", f"spot-{first}": "3"})
    assert "One take kept" in kept.text
    assert list(services.taking.board(1).takes) == [("R", 3)]
    post(client, f"{url}/imported/drop", file=str(second))
    assert services.imported_files.items(1) == []


def test_the_file_for_a_whole_spot_is_saved(client, url, services):
    answer = client.get(f"{url}/imported/whole-spot.wav")
    assert answer.status_code == 200
    info = soundfile.info(io.BytesIO(answer.data))
    answer.close()
    assert (info.channels, info.samplerate) == (max(s.output for s in services.jobs.get(1).speakers), 48_000)


def test_cells_that_are_not_asked_for_are_seen_as_such(client, url, services):
    post(client, f"{url}/rows", **{**shown(client, f"{url}/rows"), "surrounds-one_spot": "1"})
    centre = services.jobs.get(1).plan.centre_spot.id
    page = client.get(url).text
    kinds = {int(spot): kind for kind, spot in re.findall(r'class="cell (\S+) [^"]*" id="cell-Ls-(\d+)"', page)}
    assert kinds[centre] == "empty"
    assert {kind for spot, kind in kinds.items() if spot != centre} == {"not-asked"}
