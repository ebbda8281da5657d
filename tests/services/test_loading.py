"""What goes where: differences from what the processor holds, parts of a preset, putting back, kept corrections."""

from dataclasses import replace

import pytest

from asking import client_of, post
from dolce.core.filters import BandFilter
from dolce.core.processor import AllPass, ChannelSettings, Crossover, differences
from dolce.errors import Conflict, InvalidValue, NotFound
from dolce.words.differences import difference_words
from rooms import shaped_pair

BELL = BandFilter(frequency_hz=80, gain_db=-4, q=2)


@pytest.fixture(scope="module")
def shaped(prepared):
    yield from shaped_pair(prepared)


@pytest.fixture
def job(shaped):
    """A copy of its own for each test."""
    services, job_id = shaped
    return services, services.jobs.copy(job_id).id


def presets(services, job_id):
    return services.jobs.get(job_id).processor.presets


@pytest.mark.parametrize(
    ("held", "wanted", "message"),
    [
        ({}, {}, "the same"),
        ({"trim_db": -2.0}, {"trim_db": 0.5}, "trim −2.0 to +0.5 dB"),
        ({"trim_db": -2.0}, {"trim_db": -2.0009}, "the same"),
        ({"delay_s": 0.001}, {"delay_s": 0.0012}, "delay 1.000 to 1.200 ms"),
        ({}, {"polarity": "inverted"}, "polarity normal to inverted"),
        ({}, {"high_pass": Crossover(frequency_hz=80)}, "crossover none to 80 Hz Linkwitz-Riley 24 dB"),
        ({"filters": (BELL,)}, {}, "1 to 0 bands"),
        ({"filters": (BELL, BELL)}, {"filters": (BELL, BandFilter(frequency_hz=90, gain_db=1, q=1))}, "1 of 2 bands"),
        ({"all_pass": (AllPass(frequency_hz=60, q=1),)}, {}, "1 to 0 all-passes"),
    ],
)
def test_differences_are_told_part_by_part(held, wanted, message):
    assert difference_words(differences(ChannelSettings(**held), ChannelSettings(**wanted))) == message


def test_some_outputs_are_loaded_and_the_others_stay_as_they_are(job):
    services, job_id = job
    assert services.loading.view(job_id).differs("L") == "empty"
    services.loading.load(job_id, "A", "aligned")
    held = presets(services, job_id)["A"]
    view = services.loading.view(job_id, slot="A", content="corrected")
    wanted = view.settings["L"]
    assert f"0 to {len(wanted.filters)} bands" in view.differs("L")
    services.loading.load(job_id, "A", "corrected", outputs=["L"])
    now = presets(services, job_id)["A"]
    assert (now.channels["L"], now.channels["R"]) == (wanted, held.channels["R"])
    assert now.name == "Aligned and corrected: L"
    assert now.cut_db >= held.cut_db
    view = services.loading.view(job_id, slot="A", content="corrected")
    assert view.differs("L") == "the same"
    assert view.differs("R") != "the same"
    assert view.loaded_is_current == {"A": False}
    with pytest.raises(InvalidValue, match="no output is chosen"):
        services.loading.load(job_id, "A", "corrected", outputs=[])
    services.loading.load(job_id, "A", "corrected", outputs=["L", "R"])
    assert services.loading.view(job_id).loaded_is_current == {"A": True}


def test_an_output_that_stays_keeps_the_room_that_its_boost_needs(job):
    services, job_id = job
    band = services.shaping.correction(job_id).bands["R"][0]
    boost = BandFilter(frequency_hz=5000, gain_db=9.0, q=1.0)
    services.bands.edit(job_id, "R", band.id, boost)
    services.loading.load(job_id, "A", "corrected")
    held = presets(services, job_id)["A"]
    assert held.cut_db > 6
    services.bands.edit(job_id, "R", band.id, replace(boost, gain_db=0.0))
    assert services.loading.view(job_id, content="corrected").cut_db < 6
    services.loading.load(job_id, "A", "corrected", outputs=["L"])
    now = presets(services, job_id)["A"]
    assert boost in now.channels["R"].filters
    assert now.cut_db == held.cut_db


def test_what_was_there_is_put_back_also_nothing(job):
    services, job_id = job
    with pytest.raises(NotFound, match="nothing else is known"):
        services.loading.put_back(job_id, "A")
    services.loading.load(job_id, "A", "aligned")
    first = presets(services, job_id)["A"]
    services.loading.load(job_id, "A", "corrected")
    services.loading.switch(job_id, "A")
    assert services.loading.view(job_id).before["A"] == first
    services.loading.put_back(job_id, "A")
    assert presets(services, job_id)["A"] == first
    assert services.jobs.get(job_id).processor.active == "A"
    services.loading.load(job_id, "B", "corrected")
    services.loading.switch(job_id, "B")
    services.loading.put_back(job_id, "B")
    assert "B" not in presets(services, job_id)
    assert services.jobs.get(job_id).processor.bypassed
    message = [entry.text for entry in services.proving.view(job_id).logbook]
    assert any("Preset B is empty again" in text for text in message)


def test_a_kept_correction_is_loaded_beside_the_present_one(job):
    services, job_id = job
    services.versions.keep(job_id, "mine", "")
    kept = services.shaping.correction(job_id)
    services.bands.remove(job_id, "L", kept.bands["L"][0].id)
    content = next(key for key in services.loading.view(job_id).contents if key.startswith("version-"))
    services.loading.load(job_id, "A", content)
    services.loading.load(job_id, "B", "corrected")
    held = presets(services, job_id)
    assert held["A"].name == "Kept: mine"
    assert len(held["A"].channels["L"].filters) == len(held["B"].channels["L"].filters) + 1
    view = services.loading.view(job_id)
    assert view.loaded_is_current == {"A": True, "B": True}
    assert view.cuts_differ == (held["A"].cut_db != held["B"].cut_db)
    # A kept one that is gone leaves its preset as it is; nothing is known of its being current.
    services.versions.forget(job_id, int(content.removeprefix("version-")))
    assert services.loading.view(job_id).loaded_is_current["A"] is False
    with pytest.raises((InvalidValue, Conflict)):
        services.loading.load(job_id, "A", content)


def test_the_page_shows_differences_and_loads_what_is_ticked(job):
    services, job_id = job
    client, url = client_of(services), f"/jobs/{job_id}/load"
    post(client, f"{url}/presets/A", content="aligned")
    page = client.get(f"{url}?look=corrected&slot=A").text
    assert page.count("bands</td>") >= 2
    assert post(client, f"{url}/presets/A", content="corrected", some="1", output="R").status_code == 200
    assert presets(services, job_id)["A"].name == "Aligned and corrected: R"
    assert "Restore what preset A held before: Aligned only" in client.get(url).text
    post(client, f"{url}/presets/A/back")
    assert presets(services, job_id)["A"].name == "Aligned only"
