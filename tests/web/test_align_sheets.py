"""The sheets of Align: what they show, what a form changes, and what is said of wrong ones."""

import re

import pytest

from asking import client_of, post
from dolce.core.geometry import RoomSize
from dolce.core.room import new_plan
from dolce.core.subs import SearchLimits
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services

SHEETS = ("alignment_table", "subs", "crossover", "routing", "proof", "kept")
CROSSOVERS = {"way-fronts": "crossed", "crossover-fronts": "80", "slope-fronts": "4", "kind-fronts": "linkwitz-riley"}


@pytest.fixture(scope="module")
def pair(tmp_path_factory):
    """A pair with two subs, taken at two spots."""
    services = open_services(tmp_path_factory.mktemp("sheets") / "data")
    plan = new_plan(RoomSize(length_m=5.0, width_m=4.0, height_m=2.6), layout="2.0", subs=2, spots=2)
    job = services.jobs.create(JobDetails(name="Pair"), plan=plan)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=3.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    yield services, client_of(services), f"/jobs/{job.id}/align", job.id
    services.close()


def alignment_of(services, job_id):
    return services.aligning.view(job_id).alignment


def test_every_sheet_opens_empty_and_full(pair):
    services, client, url, job_id = pair
    empty = services.jobs.create(JobDetails(name="Empty"))
    for sheet in SHEETS:
        for address in (url, f"/jobs/{empty.id}/align"):
            page = client.get(f"{address}?sheet={sheet}")
            assert page.status_code == 200
            assert 'aria-current="true"' in page.text
    post(client, f"{url}/use")
    assert services.aligning.view(job_id).alignment.routing is None
    # Without a crossover every channel still has its row, on its own output alone.
    assert client.get(f"{url}?sheet=routing").text.count('<span class="route">whole</span>') == 4
    assert client.get(f"{url}?sheet=proof&channel=Sub1&seat=1&version=9").status_code == 200
    without = client.get(f"/jobs/{empty.id}/align?sheet=subs").text
    assert "There is no sub in this room" in without
    assert "Add a sub on Room" in without  # takes would not help
    assert "Go to the takes" not in without


def test_levels_are_matched_as_asked_for_and_faults_stand_beside_their_fields(pair):
    services, client, url, job_id = pair
    post(client, f"{url}/use")
    before = alignment_of(services, job_id).channels
    options = {"from_hz": "500", "to_hz": "2000", "reference": "", "offset-subs": "-2", "lip_sync_ms": "40"}
    assert post(client, f"{url}/levels", **options).status_code == 200
    after = alignment_of(services, job_id)
    assert after.levels.offsets_db == {"subs": -2.0}
    moved = {c: item.trim_db - before[c].trim_db for c, item in after.channels.items()}
    assert moved["Sub1"] - moved["L"] == pytest.approx(-2.0, abs=0.11)
    assert min(channel.delay_s for channel in after.channels.values()) == pytest.approx(0.04, abs=1e-4)
    for wrong, message in (
        ({"to_hz": "300"}, "no band to match levels in"),
        ({"lip_sync_ms": "900"}, "out of range"),
        ({"offset-subs": "x"}, "A number is needed"),
    ):
        answer = post(client, f"{url}/levels", **{**options, **wrong})
        assert answer.status_code == 422
        assert message in answer.text
    assert post(client, f"{url}/levels", **{**options, "reference": "Zz"}).status_code in (404, 422)
    post(client, f"{url}/undo", sheet="alignment_table")
    assert alignment_of(services, job_id).levels.offsets_db == {}


def test_search_tells_how_far_it_is_and_nudges_show_without_being_kept(pair):
    services, client, url, job_id = pair
    post(client, f"{url}/use")
    answer = post(client, f"{url}/subs/search", max_loss_db="3", max_delay_ms="20", max_cut_db="10")
    assert answer.status_code == 200
    services.workbench.wait(job_id)
    done = client.get(f"{url}/subs/progress", headers={"HX-Request": "true"})
    assert "Optimised" in done.text
    assert "What even seats cost" in done.text
    hand = {
        "delay-Sub1": "1.5",
        "gain-Sub1": "0",
        "polarity-Sub1": "normal",
        "delay-Sub2": "0",
        "gain-Sub2": "-3",
        "polarity-Sub2": "inverted",
    }
    nudged = post(client, f"{url}/subs/hand", **hand, nudge="Sub1:delay:0.5").text
    assert 'value="2.00"' in nudged
    assert alignment_of(services, job_id).subs is None
    assert post(client, f"{url}/subs/hand", **{**hand, "delay-Sub1": "-4"}).status_code == 422
    post(client, f"{url}/subs/hand", **hand, use="1")
    group = alignment_of(services, job_id).subs
    assert (group.how, group.settings["Sub2"].polarity) == ("by hand", -1)
    for wrong in ({"max_loss_db": "99"}, {"max_delay_ms": "x"}):
        assert (
            post(
                client, f"{url}/subs/search", **{"max_loss_db": "3", "max_delay_ms": "20", "max_cut_db": "10", **wrong}
            ).status_code
            == 422
        )
    assert post(client, f"{url}/subs/use/trade-77").status_code == 404
    post(client, f"{url}/subs/apart")


def test_a_running_search_answers_with_its_bar_alone(pair, monkeypatch):
    services, client, url, job_id = pair
    monkeypatch.setattr("dolce.services.align.sub_searches.Searching.running", property(lambda self: True))
    services.workbench.search(job_id, SearchLimits())
    services.workbench.wait(job_id)
    answer = client.get(f"{url}/subs/progress", headers={"HX-Request": "true"})
    assert answer.headers["HX-Retarget"] == "#search-progress"
    assert "Searching, 100 %" in answer.text
    assert "<main" not in answer.text


def test_crossovers_are_chosen_losses_shown_and_wrong_ones_refused(pair):
    services, client, url, job_id = pair
    post(client, f"{url}/use")
    offered = client.get(f"{url}?sheet=crossover").text
    assert set(re.findall(r'value="(\d)" selected', offered)) == {"4"}  # 24 dB per octave until somebody chooses
    page = post(client, f"{url}/crossovers", **CROSSOVERS, effects="1", effects_hz="120", effects_db="10").text
    assert re.search(r"Loss, dB", page)
    assert "Found over all channels and seats" in page
    routing = alignment_of(services, job_id).routing
    assert (routing.crossover.frequency_hz, routing.effects.gain_db) == (80.0, 10.0)
    assert "LFE" in client.get(f"{url}?sheet=routing").text
    # Two main channels, the sub itself, and the effects channel 10 dB up: 20 lg (1 + 1 + 1 + 3.16).
    assert re.search(r"All alike.*\+16", client.get(f"{url}?sheet=routing").text, re.S)
    low = post(
        client,
        f"{url}/crossovers",
        **CROSSOVERS,
        **{"crossover-lowpass": "70", "slope-lowpass": "2", "kind-lowpass": "butterworth"},
    )
    assert low.status_code == 200
    assert alignment_of(services, job_id).routing.low_pass.slope_db == 12
    for wrong, message in (
        ({"crossover-fronts": "900"}, "out of range"),
        ({"slope-fronts": "3"}, "Choose"),
        ({"effects_db": "99"}, "out of range"),
    ):
        answer = post(client, f"{url}/crossovers", **{**CROSSOVERS, **wrong})
        assert answer.status_code == 422
        assert message in answer.text
    post(client, f"{url}/crossovers/group", group_ms="2.5", group_polarity="inverted")
    group = alignment_of(services, job_id).subs
    assert (group.delay_s, group.polarity, group.held) == (0.0025, -1, True)
    assert post(client, f"{url}/crossovers/group", group_ms="900", group_polarity="normal").status_code == 422
    post(client, f"{url}/crossovers/group", find="1")
    assert not alignment_of(services, job_id).subs.held
    post(client, f"{url}/routing", channel="L", output="R", gain_db="-3")
    assert alignment_of(services, job_id).routing.sends == {"L": {"R": -3.0}}
    assert post(client, f"{url}/routing", channel="L", output="L", gain_db="0").status_code == 422
    post(client, f"{url}/crossovers/none")
    assert alignment_of(services, job_id).routing is None


def test_an_alignment_is_kept_by_name_and_a_script_in_it_is_text(pair):
    services, client, url, job_id = pair
    post(client, f"{url}/use")
    assert post(client, f"{url}/kept", name="", note="").status_code == 422
    page = post(client, f"{url}/kept", name="<script>x</script>", note="a note").text
    assert "&lt;script&gt;x" in page
    assert "<script>x" not in page
    (kept,) = services.aligning.view(job_id).versions
    assert post(client, f"{url}/kept/{kept.number}/use").status_code == 200
    post(client, f"{url}/kept/{kept.number}/forget")
    assert post(client, f"{url}/kept/{kept.number}/use").status_code == 404


def test_one_press_loads_it_and_begins_a_round(pair):
    services, client, url, job_id = pair
    post(client, f"{url}/use")
    before = services.jobs.get(job_id).round_id
    answer = post(client, f"{url}/try", htmx=False)
    assert answer.status_code == 303
    job = services.jobs.get(job_id)
    assert job.processor.active != "bypass"
    assert job.round_id != before
    services.loading.switch(job_id, "bypass")


def test_filters_of_the_common_bass_are_searched_looked_at_used_and_left(pair):
    services, client, url, job_id = pair
    post(client, f"{url}/use")
    page = client.get(f"{url}?sheet=subs").text
    assert "Search for filters" in page
    asked = {"play": "all", "hand_over_hz": "100", "bass_loss_db": "3", "latency_ms": "15", "length_ms": "300"}
    for wrong, message in (
        ({"hand_over_hz": "500"}, "500 Hz is out of range. Choose 60 to 120 Hz."),
        ({"latency_ms": "x"}, "A number is needed."),
        ({"play": "nobody"}, "Choose all, subs."),
    ):
        answer = post(client, f"{url}/subs/bass", **{**asked, **wrong})
        assert answer.status_code == 422
        assert message in answer.text
    assert "Searching" in post(client, f"{url}/subs/bass", **asked).text
    services.common_bass.wait(job_id)
    found = client.get(f"{url}/subs/bass/progress").text
    assert "Shared by all, 3 dB, 15 ms, 100 Hz" in found
    assert "Main channels will play bass." in found
    assert "channels wait 15 ms; hand-over at 100 Hz" in re.sub(r"\s+", " ", found)
    assert "they no longer fit" not in found
    used = post(client, f"{url}/subs/use/shared-all-100-3-15-300").text
    assert "Without filters again" in client.get(f"{url}?sheet=subs&shown=used").text, used[:200]
    assert "everything sounds 15 ms later still" in client.get(url).text
    routing = client.get(f"{url}?sheet=routing").text
    assert "each through a filter of its own" in routing
    assert "&lt; 100 Hz, filter" in routing
    assert "is played together, each through a filter of its own, by" in client.get(f"/jobs/{job_id}/load").text
    choice = {
        f"{field}-{channel}": value
        for channel in ("L", "R", "Sub1", "Sub2")
        for field, value in (("trim", "-1"), ("delay", "0"), ("polarity", "normal"))
    }
    post(client, f"{url}/choose", **choice)
    assert "these filters no longer fit" in re.sub(r"\s+", " ", client.get(f"{url}?sheet=subs&shown=used").text)
    assert "they no longer fit" in client.get(f"/jobs/{job_id}/load").text
    post(client, f"{url}/undo", sheet="subs")
    post(client, f"{url}/subs/bass/leave")
    assert alignment_of(services, job_id).common_bass is None
    assert "Without filters again" not in client.get(f"{url}?sheet=subs").text


def test_a_stopped_search_for_filters_says_that_nothing_is_kept(pair):
    services, client, url, job_id = pair
    asked = {"play": "subs", "hand_over_hz": "80", "bass_loss_db": "3", "latency_ms": "15", "length_ms": "300"}
    post(client, f"{url}/subs/bass", **asked)
    stopped = post(client, f"{url}/subs/bass/stop").text
    search = services.common_bass.search_of(job_id)
    assert ("The search was stopped: nothing of it is kept." in stopped) == search.stopped
    assert search.stopped != ("subs-80-3-15-300" in search.results)
