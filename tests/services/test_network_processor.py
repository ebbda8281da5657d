"""A processor on the network: spoken to over HTTP and Open Sound Control, in good order and otherwise."""

import json
import socket
import threading
import urllib.error
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from types import SimpleNamespace

import pytest
from pythonosc.osc_message import OscMessage
from pythonosc.osc_message_builder import OscMessageBuilder

from asking import client_of, post
from dolce.core.filters import BandFilter
from dolce.core.processor import (
    BassManagement,
    ChannelSettings,
    CommonBass,
    Convolution,
    Crossover,
    Preset,
    ProcessorInUse,
    ProcessorLimits,
    ProcessorState,
)
from dolce.devices.network import client as client_module
from dolce.devices.network.client import NETWORK, NetworkProcessor, found_at
from dolce.devices.network.memory import Memory
from dolce.devices.network.stand_in import StandIn, osc_dispatcher
from dolce.devices.network.wire import digest, plain, value_of
from dolce.errors import Conflict, DeviceError, FormatError, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.rig import conversations, network_processors

LIMITS = ProcessorLimits(name="Rack", bands=16, taps=4096, presets=3, all_passes=2)
BELL = BandFilter(frequency_hz=80, gain_db=-4, q=2)
PRESET = Preset(
    name="Mine",
    cut_db=2.5,
    bass=BassManagement(crossover=Crossover(frequency_hz=80), subs=("Sub1",)),
    channels={
        "L": ChannelSettings(trim_db=-1.5, delay_s=0.00125, polarity="inverted", filters=(BELL, replace(BELL, q=3))),
        "R": ChannelSettings(convolution=Convolution.of([1.0, 0.25, -0.125], sample_rate_hz=48_000)),
        "Sub1": ChannelSettings(low_pass=Crossover(frequency_hz=100, order=8)),
    },
)


@pytest.fixture
def rack(tmp_path):
    """A stand-in with its memory on disk: the memory, and what speaks to it."""
    memory = Memory(outputs=("L", "R", "C", "Sub1"), limits=LIMITS, file=tmp_path / "rack.json")
    stand_in = StandIn(memory, name="Rack", port=0)
    thread = threading.Thread(target=stand_in.run, daemon=True)
    thread.start()
    yield memory, NetworkProcessor(ProcessorInUse(name="Rack", can=NETWORK, address=f"127.0.0.1:{stand_in.port}"))
    stand_in.close()
    thread.join(5)


def misbehaves(device, **how):
    return device._ask("POST", "/v1/misbehave", how)


def test_every_value_of_a_preset_goes_over_the_wire_and_back():
    sent = json.loads(json.dumps(plain(PRESET)))
    assert value_of(Preset, sent, where="x") == PRESET
    assert digest(value_of(Preset, sent, where="x")) == digest(PRESET)
    for wrong in ({"name": 3, "channels": []}, [], {**sent, "more": 1}, {**sent, "cut_db": "much"}):
        with pytest.raises(FormatError, match="no values of a Preset"):
            value_of(Preset, wrong, where="x")


def test_a_stand_in_that_has_ended_writes_into_no_file(tmp_path):
    stand_in = StandIn(Memory(outputs=("L",), limits=LIMITS, file=tmp_path / "rack.json"), name="Rack", port=0)
    thread = threading.Thread(target=stand_in.run, daemon=True)
    thread.start()
    stand_in.close()
    thread.join(20)
    assert not thread.is_alive()
    files = [(tmp_path / f"{number}").open("wb") for number in range(8)]  # numbers that were given back are theirs
    stand_in._http.pull_trigger()  # as by an answer that came too late
    for file in files:
        file.close()
        assert (tmp_path / file.name).read_bytes() == b""


def test_it_is_loaded_played_shut_and_read_back_and_remembers(rack, tmp_path):
    memory, device = rack
    found = found_at(device._use.address)
    assert (found.name, found.outputs, found.limits) == ("Rack", ("L", "R", "C", "Sub1"), LIMITS)
    device.load("A", PRESET)
    device.play("A")
    device.shut(muted=("C",), solo="", dimmed=True)
    assert device.read() == ProcessorState(active="A", presets={"A": PRESET}, muted=("C",), dimmed=True)
    again = Memory(outputs=memory.outputs, limits=LIMITS, file=tmp_path / "rack.json")
    assert again.state == device.read()
    device.restore(ProcessorState())
    assert device.read() == ProcessorState()


def test_filters_of_a_common_bass_are_held_by_a_processor_with_taps_for_them(rack):
    memory, device = rack
    taps = Convolution.of([0.5] * 4800, sample_rate_hz=48_000)
    common = CommonBass(convolutions={"L": taps, "Sub1": taps}, latency_s=0.012)
    shared = replace(PRESET, bass=replace(PRESET.bass, common=common))
    with pytest.raises(DeviceError, match="bass taps does not fit"):
        device.load("A", shared)
    assert memory.state.presets == {}
    memory.limits = replace(LIMITS, bass_taps=4800)
    device.load("A", shared)
    assert device.read().presets["A"] == shared


def test_a_load_that_breaks_off_plays_nowhere_and_is_gone_on_with(rack):
    memory, device = rack
    old = Preset(name="Old", channels={c: ChannelSettings(trim_db=-9) for c in PRESET.channels})
    device.load("A", old)
    device.play("A")
    misbehaves(device, drop_after=1)
    with pytest.raises(DeviceError, match=r"1 of 3 outputs were written; what plays is as it was"):
        device.load("A", PRESET)
    assert memory.state.presets == {"A": old}
    misbehaves(device)
    asked = []
    ask = device._ask
    device._ask = lambda method, path, values=None: asked.append(path) or ask(method, path, values)
    device.load("A", PRESET)
    assert memory.state.presets["A"] == PRESET
    assert sum("/outputs/" in path for path in asked) == 2  # the first was there already


def test_two_who_load_at_once_are_kept_apart_and_a_mixed_preset_never_comes_of_it(rack):
    memory, device = rack
    mine, other = PRESET, replace(PRESET, name="Other", cut_db=1.0)
    frame = plain(replace(other, channels={}))
    key = digest(other)
    device._ask("POST", "/v1/writes", {"slot": "A", "key": key, "outputs": ["L", "R", "Sub1"], "preset": frame})
    device._ask("PUT", f"/v1/writes/{key}/outputs/L", plain(other.channels["L"]))
    with pytest.raises(Conflict, match="somebody else is writing preset A"):
        device.load("A", mine)
    with pytest.raises(Conflict, match="R, Sub1 was not written"):
        device._ask("POST", f"/v1/writes/{key}/commit", {})
    device._ask("PUT", f"/v1/writes/{key}/outputs/R", plain(ChannelSettings(trim_db=-3)))
    device._ask("PUT", f"/v1/writes/{key}/outputs/Sub1", plain(other.channels["Sub1"]))
    with pytest.raises(Conflict, match="not what was announced"):
        device._ask("POST", f"/v1/writes/{key}/commit", {})
    assert memory.state.presets == {}
    device._ask("DELETE", f"/v1/writes/{key}", {})
    device.load("A", mine)
    assert memory.state.presets["A"] == mine


@pytest.mark.parametrize(
    ("preset", "slot", "words"),
    [
        (replace(PRESET, channels={"Ls": ChannelSettings()}), "A", "no output Ls"),
        (PRESET, "D", "no preset 'D'"),
        (replace(PRESET, channels={"L": ChannelSettings(filters=(BELL,) * 60)}), "A", "does not fit"),
    ],
)
def test_what_it_has_no_room_for_is_refused_in_words(rack, preset, slot, words):
    memory, device = rack
    with pytest.raises(DeviceError, match=words):
        device.load(slot, preset)
    assert memory.state.presets == {}


def test_strangers_are_refused(rack):
    _, device = rack
    address = f"http://{device._use.address}"

    def status(path, data=None, **headers):
        try:
            return urllib.request.urlopen(urllib.request.Request(address + path, data, headers)).status
        except urllib.error.HTTPError as error:
            return error.code

    assert status("/v1") == 200
    assert status("/v1", Host="elsewhere.example") == 400
    assert status("/v1/play", b"preset=A") == 415
    assert status("/v1/play", b"[1]", **{"Content-Type": "application/json"}) == 422
    assert status("/v1/level", b'{"level_db": "loud"}', **{"Content-Type": "application/json"}) == 422
    for wrong in ("10.0.0.1:80", "127.0.0.1", "example.org:5080", "127.0.0.1:0"):
        with pytest.raises(InvalidValue, match="no address on this machine"):
            ProcessorInUse(address=wrong)


def test_nobody_somebody_else_and_a_slow_one_are_told(rack, monkeypatch):
    _, device = rack
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        nobody = f"127.0.0.1:{free.getsockname()[1]}"
    with pytest.raises(DeviceError, match="connection was lost"):
        found_at(nobody)
    misbehaves(device, slow_s=1.0)
    with monkeypatch.context() as hurried:
        hurried.setattr("dolce.devices.network.client._WAIT_S", 0.2)
        with pytest.raises(DeviceError, match="does not answer in time"):
            device.read()
    misbehaves(device)


def test_mutes_that_come_at_once_all_hold():
    class Slow:
        """Takes its time between what it says and what it is told."""

        def __init__(self):
            self.now = ProcessorState()

        @property
        def state(self):
            read = self.now
            threading.Event().wait(0.002)
            return read

        def shut(self, *, muted, solo, dimmed):
            self.now = replace(self.now, muted=muted, solo=solo, dimmed=dimmed)

    memory = Slow()
    made = osc_dispatcher(memory)
    channels = [f"C{k}" for k in range(12)]
    with ThreadPoolExecutor(12) as pool:
        list(pool.map(lambda item: next(iter(made.handlers_for_address("/mute"))).callback("/mute", item, 1), channels))
    assert sorted(memory.now.muted) == sorted(channels)


def test_open_sound_control_switches_mutes_dims_and_sets_the_level(rack):
    # Open Sound Control 1.0: the specification's own example of a message, and our addresses by a reference library.
    example = bytes.fromhex("2f6f7363696c6c61746f722f342f6672657175656e637900 2c660000 43dc0000".replace(" ", ""))
    assert OscMessage(example).address == "/oscillator/4/frequency"
    assert OscMessage(example).params == [440.0]
    built = OscMessageBuilder(address="/oscillator/4/frequency")
    built.add_arg(440.0)
    assert built.build().dgram == example
    memory, device = rack
    device.load("A", PRESET)
    host, _, port = device._use.address.partition(":")

    def sent(path, *arguments):
        message = OscMessageBuilder(address=path)
        for argument in arguments:
            message.add_arg(argument)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as link:
            link.sendto(message.build().dgram, (host, int(port)))

    done = threading.Event()
    level = memory.set_level
    memory.set_level = lambda value: (level(value), done.set())
    for address, arguments in (
        ("/preset", ["A"]),
        ("/mute", ["L", 1]),
        ("/mute", ["R", 1]),
        ("/mute", ["L", 0]),
        ("/dim", [1]),
        ("/preset", ["Z"]),
        ("/mute", []),
        ("/level", ["loud"]),
    ):
        sent(address, *arguments)
        # Each datagram is a thread of its own over there: the next is sent when a request has been answered after it.
        for _ in range(20):
            device.read()
    sent("/level", -12.5)
    assert done.wait(5)
    assert memory.level_db == -12.5
    state = device.read()
    assert (state.active, state.muted, state.dimmed) == ("A", ("R",), True)


@pytest.fixture
def job(services, rack):
    """A pair that is aligned, shaped, and joined to the rack."""
    _, device = rack
    made = services.jobs.create(JobDetails(name="Loft"))
    services.room.lay_out_spots(made.id, "one", seat_id=1, count=1, spacing_m=0.2)
    services.rigging.set_rig(made.id, pace="fast", sweep_seconds=1.0)
    services.network.join(made.id, device._use.address)
    services.taking.run_spot(made.id, services.jobs.get(made.id).spots[0].id)
    services.sound.wait()
    services.aligning.use_proposal(made.id)
    services.finding.find(made.id)
    return made.id


def test_a_job_is_loaded_over_the_network_taken_through_it_and_proven(services, rack, job):
    memory, device = rack
    services.loading.load(job, "A", "corrected")
    services.loading.switch(job, "A")
    assert memory.state.presets["A"].channels["L"].filters == services.shaping.correction(job).filters("L")
    services.rounds.new(job)
    services.taking.run_spot(job, services.jobs.get(job).spots[0].id)
    services.sound.wait()
    proof = services.proving.view(job)
    assert proof.needs == ""
    assert all(channel.proof.outcome.predicted_against_measured_db < 1.0 for channel in proof.channels.values())
    # Another preset than was sent, and one that is gone: both are told, the pages still open.
    misbehaves(device, garble=True)
    with pytest.raises(Conflict, match=r"reads back something else than was sent: L differs \(trim"):
        services.loading.load(job, "B", "aligned")
    misbehaves(device)
    client = client_of(services)
    page = post(client, f"/jobs/{job}/load/presets/B/back")
    assert page.status_code == 200
    services.network.leave(job)
    assert services.jobs.get(job).rig.processor.can.simulated


def test_pages_open_while_the_processor_is_gone_and_say_so(services, job):
    services.loading.load(job, "A", "corrected")
    gone = replace(services.jobs.get(job).rig.processor, address="127.0.0.1:1")
    with services.context.change() as work:
        work.jobs.set_rig(job, services.jobs.get(job).rig.changed(chain=(gone,)))
    client = client_of(services)
    for page in ("takes", "load", "rig?sheet=processor"):
        answer = client.get(f"/jobs/{job}/{page}")
        assert answer.status_code == 200
        assert "the connection was lost" in answer.text
    assert "Aligned and corrected" in client.get(f"/jobs/{job}/load").text
    with pytest.raises(DeviceError, match="connection was lost"):
        services.loading.load(job, "A", "corrected")


@pytest.fixture
def silent(monkeypatch):
    """Nothing comes back over the network until it is set: an answer is held up, whoever waits for it."""
    speaks, whole = threading.Event(), client_module._answer
    monkeypatch.setattr(client_module, "_answer", lambda *asked: speaks.wait(20) and whole(*asked))
    yield speaks
    speaks.set()


def test_no_page_waits_for_a_silent_processor_and_what_it_held_last_is_shown(services, job, silent, monkeypatch):
    silent.set()
    services.loading.load(job, "A", "corrected")
    silent.clear()
    monkeypatch.setattr(conversations, "_DEED_WAITS_S", 0.05)
    monkeypatch.setattr(conversations, "_PAGE_WAITS_S", 0.05)
    client = client_of(services)
    for _ in range(2):
        for page in ("takes", "load", "rig?sheet=processor"):
            answer = client.get(f"/jobs/{job}/{page}")
            assert answer.status_code == 200
            assert "has not answered yet. What is shown of it is what it held when it was read last" in answer.text
    assert "Aligned and corrected" in client.get(f"/jobs/{job}/load").text
    # It is spoken to already: more presses than there are threads are told so, and none of them is kept waiting.
    for _ in range(20):
        answer = post(client, f"/jobs/{job}/load/presets/A", content="aligned")
        assert answer.status_code == 409
        assert "being spoken to, and has not answered yet" in answer.text
    with pytest.raises(Conflict, match="has not answered yet"):
        services.taking.run_spot(job, services.jobs.get(job).spots[0].id)
    assert not silent.is_set()
    silent.set()
    services.loading.wait()
    monkeypatch.setattr(conversations, "_PAGE_WAITS_S", 20.0)
    assert "has not answered" not in client.get(f"/jobs/{job}/load").text


def test_what_was_asked_goes_on_where_a_page_is_answered_before(services, rack, job, silent, monkeypatch):
    memory, device = rack
    monkeypatch.setattr(conversations, "_DEED_WAITS_S", 0.05)
    monkeypatch.setattr(conversations, "_PAGE_WAITS_S", 0.05)
    client = client_of(services)
    view = services.loading.view
    monkeypatch.setattr(services.loading, "view", lambda *asked, **how: _once_it_speaks(silent, view, *asked, **how))
    answer = post(client, f"/jobs/{job}/load/presets/A", content="corrected")
    assert answer.status_code >= 400
    assert "What was asked goes on" in answer.text
    assert memory.state.presets == {}
    silent.set()
    services.loading.wait()
    assert memory.state.presets["A"] == services.jobs.get(job).processor.presets["A"]
    assert any("loaded into preset A and read back" in entry.text for entry in services.jobs.logbook(job))
    # What nobody waited for and went wrong is said on the next page.
    misbehaves(device, garble=True)
    silent.clear()
    post(client, f"/jobs/{job}/load/presets/B", content="aligned")
    monkeypatch.setattr(services.loading, "view", view)
    silent.set()
    services.loading.wait()
    assert "reads back something else than was sent" in client.get(f"/jobs/{job}/load").text
    misbehaves(device)


def _once_it_speaks(silent, view, *asked, **how):
    """What is looked at before a load, from one that answers; then it falls silent."""
    silent.set()
    found = view(*asked, **how)
    silent.clear()
    return found


ANSWERS = {
    "nested": b"[" * 100_000,
    "a list": b"[1, 2]",
    "half a character": b'{"name": "\\ud800", "protocol": 1}',
    "no number": b'{"level": NaN}',
    "nothing of a processor": b"{}",
    "text": b"hello",
    "outputs that are none": b'{"protocol": 1, "name": "x", "version": "1", "outputs": 3, "limits": {}}',
    "limits that are none": b'{"protocol": 1, "name": "x", "version": "1", "outputs": [], "limits": [[]]}',
}


class Teller:
    """Answers every question with the same bytes: at once, or one by one with a pause before each."""

    def __init__(self, body, *, status=b"200 OK", pause_s=0.0, length=None):
        head = b"HTTP/1.1 " + status + b"\r\nContent-Length: " + str(length or len(body)).encode() + b"\r\n\r\n"
        self.answer, self.pause_s, self.ended = head + body, pause_s, threading.Event()
        self.listening = socket.create_server(("127.0.0.1", 0))
        self.address = f"127.0.0.1:{self.listening.getsockname()[1]}"
        self.thread = threading.Thread(target=self._run, daemon=True)
        self.thread.start()

    def _run(self):
        with suppress(OSError):
            while True:
                link, _ = self.listening.accept()
                with link, suppress(OSError):
                    link.recv(65_536)
                    for k in range(0, len(self.answer), step := 1 if self.pause_s else len(self.answer)):
                        self.ended.wait(self.pause_s)
                        link.sendall(self.answer[k : k + step])

    def close(self):
        self.ended.set()
        self.listening.shutdown(socket.SHUT_RDWR)
        self.listening.close()
        self.thread.join(10)


@pytest.mark.parametrize("kind", ANSWERS)
@pytest.mark.parametrize("status", [b"200 OK", b"409 Conflict", b"500 No"])
def test_whatever_an_address_answers_it_is_said_in_words(services, job, kind, status):
    teller = Teller(ANSWERS[kind], status=status)
    client = client_of(services)
    answer = post(client, f"/jobs/{job}/rig/network/join", address=teller.address)
    assert 400 <= answer.status_code < 500
    device = NetworkProcessor(ProcessorInUse(name="Rack", can=NETWORK, address=teller.address))
    for ask in (device.read, lambda: device.load("A", PRESET), lambda: device.play("A")):
        with suppress(DeviceError, Conflict):
            ask()
    with pytest.raises((DeviceError, Conflict)):
        device.load("A", PRESET)
    teller.close()


@pytest.mark.parametrize("pause_s", [0.02])
def test_one_that_sends_a_byte_now_and_then_is_not_waited_for_to_its_end(monkeypatch, pause_s):
    # Whole, and right at its end, after three seconds: each byte comes in time.
    words = json.dumps({"protocol": 1, "name": "Slow", "version": "1", "outputs": [], "limits": plain(LIMITS)}).encode()
    teller = Teller(words, pause_s=pause_s)
    monkeypatch.setattr(client_module, "_LOOK_S", 0.3)
    with pytest.raises(DeviceError, match="does not answer in time"):
        found_at(teller.address)
    teller.close()


def test_no_page_waits_for_a_stand_in_that_starts_slowly(services, monkeypatch):
    made = services.jobs.create(JobDetails(name="Loft"))
    monkeypatch.setattr(network_processors, "_WAITED_FOR_S", 0.0)
    client, url = client_of(services), f"/jobs/{made.id}/rig"
    page = post(client, f"{url}/network/stand-in/start").text
    port = services.network.view(made.id).own_port
    assert f"The stand-in at port {port} is starting." in page
    assert f"End the stand-in at port {port}" in page
    post(client, f"{url}/network/stand-in/stop")
    assert "is starting" not in client.get(f"{url}?sheet=processor").text


def test_a_stand_in_is_started_from_the_page_found_joined_and_ended(services, monkeypatch):
    monkeypatch.setattr(network_processors, "_WAITED_FOR_S", 60.0)
    made = services.jobs.create(JobDetails(name="Loft"))
    client, url = client_of(services), f"/jobs/{made.id}/rig"
    assert post(client, f"{url}/network/stand-in/start").status_code == 200
    port = services.network.view(made.id).own_port
    with pytest.raises(Conflict, match="runs already"):
        services.network.start_stand_in()
    page = post(client, f"{url}/network/join/127.0.0.1:{port}").text
    assert f"Stand-in</strong> at 127.0.0.1:{port}" in page
    assert services.network.view(made.id).mismatches == ()
    post(client, f"{url}/network/stand-in/stop")
    assert services.network.view(made.id).own_port is None
    with pytest.raises(DeviceError, match="connection was lost"):
        found_at(f"127.0.0.1:{port}")


def test_what_is_pressed_waits_no_longer_for_two_conversations_than_for_one(monkeypatch):
    talks, clock, waited, over = conversations.Conversations(), [10.0], [], threading.Event()
    monkeypatch.setattr(conversations, "time", SimpleNamespace(monotonic=lambda: clock[0]))
    monkeypatch.setattr(conversations, "_DEED_WAITS_S", 4.0)

    def three_seconds(self, _conversation, seconds):
        waited.append(seconds)
        clock[0] += 3.0
        if len(waited) == 1:  # the one that was under way has come to its end
            self._present.clear()
        return len(waited) == 1

    monkeypatch.setattr(conversations.Conversations, "_waited", three_seconds)
    talks._present["rack"] = object()
    with pytest.raises(DeviceError, match="has not answered yet"):
        talks.hold("rack", lambda: over.wait(20))
    over.set()
    assert waited == [4.0, 1.0]
