"""Pages of switches, clean levels, hearing and drawn points: faults stand at their fields, nothing is lost."""

from html import unescape

import pytest

from asking import client_of, post
from dolce.services.wiring import open_services
from rooms import shaped_folder, two_seats_taken


@pytest.fixture(scope="module")
def pair(prepared):
    services, job_id = open_services(shaped_folder(prepared)), 1
    yield services, client_of(services), f"/jobs/{job_id}/shape", job_id
    services.sound.stop()
    services.close()


def text_of(response):
    return " ".join(unescape(response.text).split())


def test_a_switch_is_added_by_its_data_sheet_chosen_and_told_how_to_turn(pair):
    services, client, url, job_id = pair
    sheet = {"model": "Nearfield", "switch": "Treble", "shape": "high shelf", "switch_hz": "4000", "switch_q": "0,7"}
    wrong = post(client, f"{url}/switches/L/steps", **sheet, steps="two")
    assert wrong.status_code == 422
    assert "Steps in dB are needed" in text_of(wrong)
    assert 'value="Treble"' in wrong.text
    page = post(client, f"{url}/switches/L/steps", **sheet, steps="-2 -4")
    assert page.status_code == 200
    search = services.switching.view(job_id, "L").search
    assert f"{search.before_db:.1f}" in text_of(page)
    turned = post(client, f"{url}/switches/L", **{"measured:Treble": "0 dB", "chosen:Treble": "−4 dB"})
    assert "Turn Treble from 0 dB to −4 dB at the back of L" in text_of(turned)
    assert "no longer kept" not in turned.text
    gap = post(
        client,
        f"{url}/switches/L/points",
        model="Nearfield",
        switch="Bass",
        position="low",
        switch_points="20 -6\n40 -6\n900 0",
    )
    assert gap.status_code == 422
    assert "nothing is known between 40 and 900 Hz" in text_of(gap)
    assert "40 -6" in gap.text
    forgotten = post(
        client, f"{url}/switches/L/forget/{services.switching.view(job_id, 'L').at.model.id}", switch="Treble"
    )
    assert "Nearfield, no longer kept" in text_of(forgotten)
    assert services.shaping.correction(job_id).switches["L"].turned
    post(client, f"{url}/switches/L/model", model_id="")
    assert services.shaping.correction(job_id).switches == {}


def test_a_range_is_proposed_in_its_fields_and_not_set(pair):
    services, client, url, job_id = pair
    before = services.shaping.correction(job_id)
    low, high = services.ranges.proposed_hz(job_id, "L")
    page = post(client, f"{url}/aim", channel="L", propose="1", from_hz="20", to_hz="500", bands="7")
    assert f'name="from_hz" type="text" value="{low:g}"' in page.text
    assert f'name="to_hz" type="text" value="{high:g}"' in page.text
    assert 'name="bands" type="text" value="7"' in page.text
    assert "Nothing is set yet" in page.text
    assert services.shaping.correction(job_id) == before


def test_clean_levels_are_typed_told_and_refused_at_their_field(pair):
    services, client, url, job_id = pair
    wrong = post(client, f"{url}/clean/L", clean="100 96\n40 90\n900 100")
    assert wrong.status_code == 422
    assert "40 Hz follows 100 Hz" in text_of(wrong)
    assert "100 96" in wrong.text
    assert post(client, f"{url}/clean/L", clean="40 80\n100 84\n8000 85").status_code == 200
    view = services.maximum_levels.view(job_id, "L")
    text = text_of(client.get(f"{url}/clean/L"))
    assert f"L lacks {-view.least.margin_db:.0f} dB in the octave of" in text
    assert "too little" in text
    assert f"125 {view.typed[125.0]:g} " in client.get(f"{url}?sheet=headroom").text
    assert "Nothing is known yet" in text_of(client.get(f"{url}/clean/R"))


def test_a_band_is_heard_turned_and_silenced(pair):
    services, client, url, job_id = pair
    band = services.shaping.correction(job_id).bands["L"][0]
    assert "plays noise" not in client.get(f"{url}/hear").text
    page = post(client, f"{url}/hear/L/{band.id}")
    assert "plays noise" in text_of(page)
    assert "without the band" in text_of(post(client, f"{url}/hear/turn/out"))
    assert "with the band" in text_of(post(client, f"{url}/hear/turn/in"))
    assert services.band_hearing.look(job_id).band_in
    assert "plays noise" not in post(client, f"{url}/hear/stop").text
    assert services.sound.wait(5)
    assert services.sound.running() is None
    assert post(client, f"{url}/hear/L/99999").status_code == 409


def test_points_of_a_target_are_set_moved_and_refused_in_words(pair):
    services, client, url, job_id = pair
    curve = services.targets.curve(job_id, "points", channel="L")
    services.shaping.change(job_id, "points", lambda c: c.with_curve("L", curve))
    drawn = services.shaping.correction(job_id).target.curve
    assert len(drawn.frequency_hz) == 6
    assert '"points": [{' in client.get(url).text
    post(client, f"{url}/target/L/point", frequency_hz="120", level_db="3.04")
    assert 3.0 in services.shaping.correction(job_id).target.curve.level_db
    for wrong in ({"frequency_hz": "1", "level_db": "0"}, {"frequency_hz": "x", "level_db": "0"}):
        assert "A point needs" in text_of(post(client, f"{url}/target/L/point", **wrong))
    for _ in range(4):
        post(client, f"{url}/target/L/point/0/remove")
    last = post(client, f"{url}/target/L/point/0/remove")
    assert last.status_code == 422
    assert "Give 3 to" in text_of(last)
    assert len(services.shaping.correction(job_id).target.curve.frequency_hz) == 3


def test_a_band_edited_where_another_tab_has_deleted_the_takes_shows_the_stop_in_its_place(services):
    job_id = two_seats_taken(services, layout="2.0", subs=0)
    services.finding.find(job_id)
    band = services.shaping.correction(job_id).bands["L"][0]
    client, url = client_of(services), f"/jobs/{job_id}/shape"
    card = post(client, f"{url}/bands/L/{band.id}", gain_db="-1")
    assert 'id="shape-card"' in card.text
    assert "HX-Retarget" not in card.headers
    for channel in ("L", "R"):
        for spot in services.jobs.get(job_id).spots:
            services.cells.remove(job_id, services.cells.view(job_id, channel, spot.id).counts.id)
    stop = post(client, f"{url}/bands/L/{band.id}", gain_db="-2")
    assert stop.status_code == 200
    assert 'id="stop"' in stop.text
    assert stop.headers["HX-Retarget"] == "#stop"
    assert services.shaping.correction(job_id).bands["L"][0].filter.gain_db == -2
    gone = post(client, f"{url}/bands/L/999/switch/off")
    assert gone.status_code == 409
    assert gone.headers["HX-Retarget"] == "#stop"
