"""The Listen sheet: empty states, faults at their fields, what is refused with what to do."""

from html import unescape
from io import BytesIO

import numpy as np
import pytest
import soundfile

from asking import client_of, post
from dolce.services.load.audition import ListenOptions
from rooms import shaped_pair


@pytest.fixture(scope="module")
def pair(prepared):
    for services, job_id in shaped_pair(prepared):
        yield services, client_of(services), f"/jobs/{job_id}/load", job_id


def text_of(response):
    return " ".join(unescape(response.text).split())


@pytest.fixture
def rendered(pair):
    services, client, url, job_id = pair
    services.listening.begin(job_id, ListenOptions(compared=("corrected", "bypass")))
    services.listening.wait(job_id)
    return services, client, url, job_id


def test_before_any_take_the_page_says_what_is_missing(pair):
    services, client, _, _ = pair
    empty = services.jobs.copy(services.jobs.all()[0].id, with_takes=False)
    assert "made while the processor was bypassed; there are none yet" in text_of(
        client.get(f"/jobs/{empty.id}/load?sheet=listen")
    )


def test_what_is_not_loaded_can_be_compared_too_and_says_so(pair):
    _, client, url, _ = pair
    assert "Aligned and corrected, not loaded" in text_of(client.get(f"{url}?sheet=listen"))


def test_one_alone_is_no_comparison(pair):
    _, client, url, _ = pair
    answer = post(client, f"{url}/listen/render", compare="bypass", material="trio")
    assert answer.status_code == 422
    assert "1 are chosen" in text_of(answer)


def test_sounds_are_flac_that_nobody_keeps_and_an_older_one_is_gone(rendered):
    services, client, url, job_id = rendered
    number = services.listening.view(job_id).audition.number
    sound = client.get(f"{url}/listen/{number}/1.flac")
    assert (sound.mimetype, sound.headers["Cache-Control"]) == ("audio/flac", "no-store")
    assert soundfile.info(BytesIO(sound.data)).duration == pytest.approx(16, abs=0.1)
    assert client.get(f"{url}/listen/{number}/2.flac").status_code == 404
    assert client.get(f"{url}/listen/{number - 1}/0.flac").status_code == 404
    assert client.get(f"{url}/listen/{number}/unnamed/1.flac").status_code == 404


def test_a_preference_out_of_range_is_told_at_its_slide(rendered):
    _, client, url, _ = rendered
    answer = post(
        client, f"{url}/listen/preference", of="corrected", tilt_db_per_octave="5", bass_db="0", treble_db="x"
    )
    assert answer.status_code == 422
    assert "5 dB per octave is out of range. Choose -2 to 2 dB per octave." in text_of(answer)
    assert "A number is needed." in text_of(answer)


def test_a_trial_that_is_over_is_not_answered_twice(rendered):
    services, client, url, job_id = rendered
    post(client, f"{url}/listen/blind", first="corrected", second="bypass")
    assert post(client, f"{url}/listen/blind/1", said="bypass").status_code == 200
    again = post(client, f"{url}/listen/blind/1", said="corrected")
    assert again.status_code == 409
    assert services.listening.view(job_id).blind.answers == ("bypass",)
    assert post(client, f"{url}/listen/blind/2", said="something").status_code == 422
    assert "Which of both" not in text_of(post(client, f"{url}/listen/blind/end"))


def test_a_recording_is_handed_in_with_its_order_and_a_wrong_one_refused(pair):
    _, client, url, _ = pair
    out = BytesIO()
    soundfile.write(out, np.zeros((100_000, 2)), 48_000, format="WAV")
    page = post(client, f"{url}/listen/recording", order="film", recording=(BytesIO(out.getvalue()), "mine.wav"))
    assert page.status_code == 200
    assert "mine.wav" in page.text
    assert "s of 2" in text_of(page)
    none = post(client, f"{url}/listen/recording", order="film", recording=(BytesIO(b"x"), "x.wav"))
    assert none.status_code == 422
    assert "not a WAV or FLAC" in text_of(none)
    assert post(client, f"{url}/listen/render", compare=["corrected", "bypass"], material="own").status_code == 200


def test_a_silent_recording_is_told_instead_of_played(pair):
    services, client, url, job_id = pair
    out = BytesIO()
    soundfile.write(out, np.zeros((100_000, 2)), 48_000, format="WAV")
    post(client, f"{url}/listen/recording", order="film", recording=(BytesIO(out.getvalue()), "silent.wav"))
    post(client, f"{url}/listen/render", compare=["corrected", "bypass"], material="own")
    services.listening.wait(job_id)
    assert "nothing is to be heard of it" in text_of(client.get(f"{url}?sheet=listen"))
