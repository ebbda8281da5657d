"""Whoever presses the next line again and again ends in the report: every layout, with and without subs, the rehearsal
or a sound card with the microphone carried by hand, a processor that is read or one that only a person can read."""

import re
import threading
from dataclasses import replace
from html import unescape

import pytest

from asking import client_of, post
from dolce.core.processor import SAID_PROCESSOR, ProcessorLimits
from dolce.core.room import LAYOUTS, SUB_CODES
from dolce.devices import opening
from dolce.devices.network.memory import Memory
from dolce.devices.network.stand_in import StandIn
from dolce.services.sample.demo import rehearsal_microphone

# Each kind of device meets each kind of processor, with subs and without; the other layouts with `-m slow`.
FIRST = ("2.0", "7.1.4", "1.0", "5.1")
CASES = [
    pytest.param(
        layout,
        ("0", "2", "")[k % 3],
        ("rehearsal", "sound card")[k % 2],
        k // 2 % 2 == 0,
        marks=() if layout in FIRST else pytest.mark.slow,
    )
    for k, layout in enumerate((*FIRST, *(layout for layout in LAYOUTS if layout not in FIRST)))
]


class Person:
    """What is done beside the pages: the microphone carried, the processor set by hand."""

    def __init__(self, services, job_id):
        self.services, self.job_id, self.at_spot = services, job_id, 1

    def card(self, **_):
        """The room as a sound card hears it, where the microphone stands now."""
        job = self.services.jobs.get(self.job_id)
        spot = next(spot.id for spot in job.spots if spot.number == self.at_spot)
        rehearsed = replace(job, simulated=job.processor, rig=job.rig.changed(hardware="rehearsal"))
        return opening.audio_of(rehearsed, spot_id=spot, round_name="by hand", attempt=1)

    def does(self, what):
        """What the line asks for without a button, or with one that leads to where a person types or chooses."""
        if moved := re.match(r"Microphone to spot (\d+)", what):
            self.at_spot = int(moved[1])
        elif what == "Say which microphone you use":
            self.services.microphones.use(self.job_id, rehearsal_microphone(self.services))
        elif what == "Say where the microphone points":
            self.services.microphones.point(self.job_id, "speakers")


def line_of(page):
    """What the line says, where its button leads or what it posts to, and its fields; None where it has none."""
    shown = re.search(r'<aside id="next".*?</aside>', page, re.DOTALL)[0]
    what = unescape(re.search(r"<strong>(.*?)</strong>", shown)[1])
    link = re.search(r'data-next [^>]*href="([^"]+)"', shown)
    form = re.search(r'(?:action|hx-post)="([^"]+)"', shown)
    fields = dict(re.findall(r'name="(\w+)" value="([^"]*)"', shown))
    fields.pop("csrf_token", None)
    return what, unescape(link[1]) if link else None, unescape(form[1]) if form else None, fields


def wait_for(services, job_id):
    """Until nothing sounds and nothing is searched for."""
    services.sound.wait(120)
    services.workbench.wait(job_id)
    services.finding.searches.wait(job_id)
    services.context.background.wait()


@pytest.fixture
def stand_in():
    limits = ProcessorLimits(name="Rack", bands=16, taps=4096, presets=3, all_passes=2)
    made = StandIn(Memory(outputs=(*LAYOUTS["9.1.6"], *SUB_CODES), limits=limits), name="Rack", port=0)
    thread = threading.Thread(target=made.run, daemon=True)
    thread.start()
    yield f"127.0.0.1:{made.port}"
    made.close()
    thread.join(5)


@pytest.mark.parametrize(("layout", "subs", "hardware", "readable"), CASES)
def test_the_line_leads_to_the_report(services, stand_in, monkeypatch, layout, subs, hardware, readable):
    client = client_of(services)
    post(client, "/jobs", name="Walk", layout=layout, subs=subs, length="6", width="5", height="2.6", units="metres")
    (job,) = services.jobs.all()
    person = Person(services, job.id)
    services.room.lay_out_spots(job.id, "cluster", seat_id=1, count=1 + (hardware == "sound card"), spacing_m=0.25)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    if hardware == "sound card":
        monkeypatch.setattr(opening, "SoundCard", person.card)
        services.rigging.set_rig(job.id, hardware=hardware, card_name="Desk interface", card_host="ALSA")
    else:
        rehearsal_microphone(services)
    if readable and hardware == "sound card":
        services.network.join(job.id, stand_in)
    elif not readable:
        services.rigging.set_rig(job.id, chain=(SAID_PROCESSOR,))

    url, seen = f"/jobs/{job.id}/room", []
    while not url.endswith("/report"):
        wait_for(services, job.id)
        answer = client.get(url)
        assert answer.status_code == 200, (url, seen)
        what, link, form, fields = line_of(answer.text)
        assert seen[-3:].count((what, url)) < 2, f"pressed again and again: {seen}"
        seen.append((what, url))
        person.does(what)
        if link:
            url = link
        elif form:
            pressed = post(client, form, htmx=False, **fields)
            assert pressed.status_code == 303, (what, pressed.status_code, seen)
            url = pressed.location
    assert client.get(url).status_code == 200
    assert services.proving.view(job.id).after_round.corrects
