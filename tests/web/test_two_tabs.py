"""The same job in two tabs: what one has saved is never undone by what the other did not touch."""

import re
from concurrent.futures import ThreadPoolExecutor
from html import unescape

import pytest

from asking import client_of, client_of_app, post
from dolce.core.geometry import RoomSize
from dolce.core.rig import FAULTS
from dolce.core.room import new_plan
from dolce.services.jobs.job_keeping import JobDetails
from dolce.web.shared import pressed_once


@pytest.fixture
def client(services):
    return client_of(services)


@pytest.fixture
def job(services):
    return services.jobs.create(JobDetails(name="Loft", notes="first"))


def form_of(page: str, action: str) -> dict[str, str]:
    """Names and values of the inputs of a form, and of those that belong to it elsewhere, as a browser sends them."""
    form = re.search(rf'<form[^>]*action="{re.escape(action)}"[^>]*>(.*?)</form>', page, re.DOTALL)
    name = re.search(rf'<form id="([\w-]+)"[^>]*action="{re.escape(action)}"', page)
    inputs = re.findall(r"<input[^>]*>", form[1])
    if name:
        inputs += re.findall(rf'<input form="{name[1]}"[^>]*>', page)
    values = {}
    for text in inputs:
        found = dict(re.findall(r'([\w-]+)="([^"]*)"', text))
        if "name" in found and (found.get("type") != "checkbox" or " checked" in text):
            values[found["name"]] = unescape(found.get("value", ""))
    for area in re.finditer(r'<textarea[^>]*name="([\w-]+)"[^>]*>(.*?)</textarea>', form[1], re.DOTALL):
        values[area[1]] = unescape(area[2])
    for chosen in re.finditer(r'<select[^>]*name="([\w-]+)"[^>]*>(.*?)</select>', form[1], re.DOTALL):
        values[chosen[1]] = unescape(re.search(r'value="([^"]*)" selected', chosen[2])[1])
    values.pop("csrf_token", None)
    return values


def test_a_later_save_keeps_what_another_tab_has_written(client, services, job):
    action = f"/jobs/{job.id}/edit"
    item, two = (form_of(client.get(action).text, action) for _ in range(2))
    assert post(client, action, htmx=False, **{**item, "notes": "of the first tab"}).status_code == 303
    assert post(client, action, htmx=False, **{**two, "place": "upstairs"}).status_code == 303
    kept = services.jobs.get(job.id)
    assert (kept.notes, kept.place, kept.name) == ("of the first tab", "upstairs", "Loft")


def test_where_both_changed_the_same_the_later_tab_is_shown_it_and_may_put_its_own_there(client, services, job):
    action = f"/jobs/{job.id}/edit"
    item, two = (form_of(client.get(action).text, action) for _ in range(2))
    post(client, action, htmx=False, **{**item, "notes": "of the first tab"})
    answer = post(client, action, htmx=False, **{**two, "notes": "of the second"})
    assert answer.status_code == 422
    assert "In another tab this became “of the first tab”" in unescape(answer.text)
    assert services.jobs.get(job.id).notes == "of the first tab"
    again = form_of(answer.text, action)
    assert again["notes"] == "of the second"  # nothing that was typed is lost
    assert post(client, action, htmx=False, **again).status_code == 303
    assert services.jobs.get(job.id).notes == "of the second"


def test_levels_of_the_rig_are_merged_field_by_field(client, services, job):
    action = f"/jobs/{job.id}/rig/level"
    item, two = (form_of(client.get(f"/jobs/{job.id}/rig?sheet=level").text, action) for _ in range(2))
    assert post(client, action, **{**item, "sweep_seconds": "3"}).status_code == 200
    assert post(client, action, **{**two, "microphone_gain_db": "12"}).status_code == 200
    rig = services.jobs.get(job.id).rig
    assert (rig.sweep_seconds, rig.levels.microphone_gain_db) == (3, 12)


def test_eight_faults_switched_on_at_once_are_all_kept(services, job):
    kinds = [kind for kind, (_, channels) in FAULTS.items() if channels < 2][:8]
    assert len(kinds) == 8
    clients = [client_of(services) for _ in kinds]

    def switch_on(client, kind):
        return post(client, f"/jobs/{job.id}/rig/faults", kind=kind, channel="L").status_code

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(switch_on, clients, kinds)) == {200}
    assert {fault.kind for fault in services.jobs.get(job.id).rig.rehearsal.faults} == set(kinds)
    post(clients[0], f"/jobs/{job.id}/rig/faults/{kinds[0]}/off", **({"of": "L"} if FAULTS[kinds[0]][1] else {}))
    assert kinds[0] not in {fault.kind for fault in services.jobs.get(job.id).rig.rehearsal.faults}
    assert len(services.jobs.get(job.id).rig.rehearsal.faults) == 7


def test_an_edit_of_a_band_that_another_tab_removed_hits_no_other_band(demo, demo_job):
    copy = demo.jobs.copy(demo_job)
    client = client_of(demo)
    first, second, *rest = demo.shaping.correction(copy.id).bands["L"]
    page = client.get(f"/jobs/{copy.id}/shape?channel=L").text
    action = f"/jobs/{copy.id}/shape/bands/L/{first.id}"
    form = form_of(page, action)
    demo.bands.remove(copy.id, "L", first.id)
    answer = post(client, action, **{**form, "gain_db": "-7"})
    assert answer.status_code == 409
    assert "is gone" in answer.text
    assert f'data-band="{second.id}"' in answer.text  # the page shows what is there now
    assert demo.shaping.correction(copy.id).bands["L"] == (second, *rest)
    added = demo.shaping.correction(copy.id).last_band_id
    demo.bands.add(copy.id, "L")
    assert demo.shaping.correction(copy.id).bands["L"][-1].id == added + 1  # no later band takes an earlier id
    demo.jobs.delete(copy.id)


def test_two_tabs_on_one_band_change_what_each_of_them_touched(demo, demo_job):
    copy = demo.jobs.copy(demo_job)
    client = client_of(demo)
    band = demo.shaping.correction(copy.id).bands["L"][0]
    action = f"/jobs/{copy.id}/shape/bands/L/{band.id}"
    item, two = (form_of(client.get(f"/jobs/{copy.id}/shape?channel=L").text, action) for _ in range(2))
    post(client, action, **{**item, "frequency_hz": "61"})
    post(client, action, **{**two, "gain_db": "-2.5"})
    kept = demo.bands.band(copy.id, "L", band.id).filter
    assert (kept.frequency_hz, kept.gain_db, kept.q) == (61, -2.5, band.filter.q)
    demo.jobs.delete(copy.id)


def test_undo_of_an_old_page_takes_back_nothing_that_it_did_not_show(client, services, job):
    page = client.get(f"/jobs/{job.id}/room").text
    services.room.set_mirror(job.id, False)
    page = client.get(f"/jobs/{job.id}/room").text
    form = form_of(page, f"/jobs/{job.id}/room/undo")
    services.room.add_seat(job.id, "Bench")  # in another tab
    answer = post(client, f"/jobs/{job.id}/room/undo", **form)
    assert answer.status_code == 409
    assert "changed in another tab since: seat" in answer.text
    assert [seat.name for seat in services.jobs.get(job.id).plan.seats][-1] == "Bench"
    fresh = form_of(client.get(f"/jobs/{job.id}/room").text, f"/jobs/{job.id}/room/undo")
    assert post(client, f"/jobs/{job.id}/room/undo", **fresh).status_code == 200
    assert len(services.jobs.get(job.id).plan.seats) == 1


def test_a_spot_of_an_old_page_is_the_same_spot_whatever_its_number_is_now(client, services, job):
    page = client.get(f"/jobs/{job.id}/room?sheet=spots").text
    form = form_of(page, f"/jobs/{job.id}/room/spots/4/remove")
    before = services.jobs.get(job.id).spots
    services.room.remove_spot(job.id, 2)  # in another tab: 4 is now what was 5
    assert post(client, f"/jobs/{job.id}/room/spots/4/remove", **form).status_code == 200
    assert [s.place for s in services.jobs.get(job.id).spots] == [s.place for s in before if s.number not in (2, 4)]


def test_filters_found_while_another_tab_edited_do_not_overwrite_the_edit(demo, demo_job, monkeypatch):
    from dolce.errors import Outdated
    from dolce.services.shape import finding

    copy = demo.jobs.copy(demo_job)
    whole, band = finding.found_filters, demo.shaping.correction(copy.id).bands["L"][0]

    def meanwhile(*how, **more):
        demo.bands.switch(copy.id, "L", band.id, on=False)
        return whole(*how, **more)

    monkeypatch.setattr(finding, "found_filters", meanwhile)
    with pytest.raises(Outdated, match="switch of band 1, L"):
        demo.finding.find(copy.id)
    assert not demo.bands.band(copy.id, "L", band.id).on
    demo.jobs.delete(copy.id)


def test_a_job_takes_the_room_of_another_and_a_tab_that_shows_none_leaves_it(client, services, job):
    action = f"/jobs/{job.id}/edit"
    assert 'name="follows"' not in client.get(action).text  # alone there is nothing to choose
    first = services.jobs.create(JobDetails(name="First"))
    item, two = (form_of(client.get(action).text, action) for _ in range(2))
    assert item["follows"] == ""
    assert post(client, action, htmx=False, **{**item, "follows": str(first.id)}).status_code == 303
    assert services.jobs.get(job.id).follows == first.id
    assert "Room, seats and spots follow First." in client.get("/").text
    assert post(client, action, htmx=False, **{**two, "place": "upstairs"}).status_code == 303
    assert services.jobs.get(job.id).follows == first.id
    assert post(client, action, htmx=False, name="Loft", place="attic").status_code == 303  # an older page
    assert services.jobs.get(job.id).follows == first.id
    assert post(client, action, htmx=False, **{**two, "follows": "77"}).status_code == 422
    services.jobs.delete(first.id)  # for a week at least
    gone = form_of(client.get(action).text, action)
    assert post(client, action, htmx=False, **{**gone, "notes": "n"}).status_code == 303
    services.jobs.restore(first.id)
    assert services.jobs.get(job.id).follows == first.id
    again = form_of(client.get(action).text, action)
    assert post(client, action, htmx=False, **{**again, "follows": ""}).status_code == 303
    assert services.jobs.get(job.id).follows is None


def test_a_room_that_a_speaker_would_stand_outside_of_is_refused_at_the_field(client, services, job):
    small = services.jobs.create(
        JobDetails(name="Box"), plan=new_plan(RoomSize(length_m=2.6, width_m=2.0, height_m=2.2))
    )
    action = f"/jobs/{job.id}/edit"
    answer = post(client, action, htmx=False, **{**form_of(client.get(action).text, action), "follows": str(small.id)})
    assert answer.status_code == 422
    assert "Speaker R: x =" in unescape(re.search(r'class="fault-text">([^<]+)<', answer.text)[1])
    assert services.jobs.get(job.id).follows is None


PRESSED = {
    "copy": ("/jobs/1/copy", {}, lambda services: len(services.jobs.all()) - 1),
    "re-check": ("/jobs/1/copy", {"kind": "recheck"}, lambda services: len(services.jobs.all()) - 1),
    "new job": ("/jobs", {"name": "Attic", "units": "metres"}, lambda services: len(services.jobs.all()) - 1),
    "round": ("/jobs/1/takes/rounds", {}, lambda services: len(services.taking.board(1).rounds) - 1),
    "restore": ("/backups/{backup}/restore", {}, lambda services: len(services.jobs.all()) - 1),
}


@pytest.mark.parametrize("what", PRESSED)
def test_twenty_presses_at_once_count_once_and_the_others_are_told(services, client, job, what, monkeypatch):
    path, form, made = PRESSED[what]
    services.backups.begin_backup([job.id])
    services.folder_work.wait()
    path = path.format(backup=services.backups.files()[0].name)

    def press(_):
        item = client_of_app(services_client)
        return post(item, path, **form)

    services_client = client.application
    with ThreadPoolExecutor(max_workers=20) as hands:
        answers = list(hands.map(press, range(20)))
    services.folder_work.wait()
    assert made(services) == 1
    refused = [answer for answer in answers if answer.status_code == 409]
    assert len(refused) == 19
    assert all("being done already" in answer.text or "done just now" in answer.text for answer in refused)
    monkeypatch.setattr(pressed_once, "AGAIN_S", 0.0)  # a moment later it is meant
    assert post(client, path, **form).status_code < 400
    services.folder_work.wait()
    assert made(services) == 2


def test_a_press_that_failed_may_be_made_again_at_once(services, client, job):
    wrong = {"name": "", "units": "metres"}
    assert [post(client, "/jobs", **wrong).status_code for _ in range(2)] == [422, 422]
    assert [post(client, "/jobs/99/copy").status_code for _ in range(2)] == [404, 404]
