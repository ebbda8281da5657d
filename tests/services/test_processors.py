"""Processors as they are spoken to: what is believed of one is what it read back, and a round knows the whole chain."""

import io
import zipfile
from dataclasses import replace

import numpy as np
import pytest

from asking import client_of, post
from dolce.core.filters import BandFilter
from dolce.core.processor import (
    REHEARSAL_PROCESSOR,
    BassManagement,
    ChannelSettings,
    Convolution,
    Crossover,
    Preset,
    ProcessorInUse,
    ProcessorLimits,
    ProcessorState,
)
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.rig import SLATE
from dolce.devices.processor import RehearsalProcessor
from dolce.errors import Conflict, Damaged, DeviceError, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.load.packing import PackageOptions
from dolce.services.sample.demo_rooms import net_loft
from dolce.words.unsupported import unsupported_words

BELL = BandFilter(frequency_hz=80, gain_db=-4, q=2)
RECEIVER = ProcessorInUse(name="Receiver", latency_s=0.012, by_itself=True)


@pytest.fixture
def job_id(services):
    """A pair with one spot, aligned and shaped."""
    job = services.jobs.create(JobDetails(name="Loft"))
    services.room.lay_out_spots(job.id, "one", seat_id=1, count=1, spacing_m=0.2)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    taken(services, job.id)
    services.aligning.use_proposal(job.id)
    services.finding.find(job.id)
    return job.id


def taken(services, job_id):
    services.taking.run_spot(job_id, services.jobs.get(job_id).spots[0].id)
    services.sound.wait()
    return {take.channel: take for take in services.taking.board(job_id).takes.values()}


def known(services, job_id):
    return services.jobs.get(job_id).processor


def test_what_another_in_the_chain_is_set_to_stands_on_load_and_in_the_files(services, job_id):
    services.processor.add_other(job_id, RECEIVER)
    client = client_of(services)
    url = f"/jobs/{job_id}/rig/chain/{RECEIVER.name}/settings"
    page = post(client, url, settings="Auto correction on, 8 bands below 300 Hz")
    assert "Auto correction on, 8 bands below 300 Hz" in page.text
    assert services.jobs.get(job_id).rig.others[0].settings == "Auto correction on, 8 bands below 300 Hz"
    load = client.get(f"/jobs/{job_id}/load").text
    assert "Auto correction on, 8 bands below 300 Hz" in load
    assert "16 bands, −24 to +12 dB in steps of 0.1" in load  # the one that Dolce loads, beside it
    parts, _ = services.loading.package(job_id, PackageOptions(rates_hz=(48_000,)))
    note = zipfile.ZipFile(io.BytesIO(b"".join(parts))).read("README.txt").decode()
    assert "Receiver, 12 ms, all channels: Auto correction on, 8 bands below 300 Hz" in note
    long = post(client, url, settings="x" * 401)
    assert long.status_code == 422
    assert services.jobs.get(job_id).rig.others[0].settings.startswith("Auto correction on")
    assert post(client, f"/jobs/{job_id}/rig/chain/Nobody/settings", settings="x").status_code == 404


def test_a_preset_that_reads_back_otherwise_is_told_and_never_believed(services, job_id, monkeypatch):
    as_told = RehearsalProcessor.load

    def rounding(self, slot, preset):
        channels = {c: replace(s, trim_db=round(s.trim_db) - 1.0) for c, s in preset.channels.items()}
        as_told(self, slot, replace(preset, channels=channels))

    monkeypatch.setattr(RehearsalProcessor, "load", rounding)
    with pytest.raises(Conflict, match=r"reads back something else than was sent: L differs"):
        services.loading.load(job_id, "A", "corrected")
    held = known(services, job_id).presets["A"]
    # What it holds, not what was sent.
    assert all(s.trim_db == round(s.trim_db) for s in held.channels.values())
    assert not services.loading.view(job_id).loaded_is_current["A"]


def test_a_processor_that_breaks_off_half_way_is_known_as_it_stands(services, job_id, monkeypatch):
    services.loading.load(job_id, "A", "aligned")
    before = known(services, job_id)

    def lost(self, slot, preset):
        raise DeviceError("the connection was lost.", where="processor")

    monkeypatch.setattr(RehearsalProcessor, "load", lost)
    with pytest.raises(DeviceError, match="connection was lost"):
        services.loading.load(job_id, "A", "corrected")
    assert known(services, job_id) == before


def test_what_was_changed_elsewhere_is_found_before_a_pass_and_kept_apart(services, job_id):
    services.processor.leave_something(job_id)
    assert known(services, job_id).bypassed  # nobody has read it since
    with pytest.raises(Conflict, match=r"changed from elsewhere: it is C, Film night now, and was bypassed"):
        services.taking.run_spot(job_id, services.jobs.get(job_id).spots[0].id)
    assert known(services, job_id).description == "C, Film night"
    with pytest.raises(Conflict, match="Start a new round"):
        services.taking.run_spot(job_id, services.jobs.get(job_id).spots[0].id)
    assert any("holds something else than before" in entry.text for entry in services.jobs.logbook(job_id))


def test_a_processor_that_is_only_spoken_of_holds_what_the_person_says(services, job_id):
    services.rigging.set_rig(job_id, hardware="sound card", card_name="x", card_host="y")
    assert services.jobs.get(job_id).limits is None
    services.loading.load(job_id, "A", "corrected")
    services.loading.switch(job_id, "A")
    assert known(services, job_id).description == "A, Aligned and corrected"
    assert any(entry.text.endswith("into preset A, as you say.") for entry in services.jobs.logbook(job_id))
    with pytest.raises(Conflict, match="can't be told to mute"):
        services.processor.mute(job_id, "L")
    for key in SLATE:
        services.processor.tick(job_id, key, on=True)
    assert services.taking.board(job_id).slate_left == 0
    services.rigging.set_rig(job_id, hardware="rehearsal")
    services.processor.looked_at(job_id)
    assert known(services, job_id).bypassed  # the rehearsal's own was never loaded
    assert known(services, job_id).slate == tuple(SLATE)  # ticks are the person's


def test_another_processor_of_the_chain_is_heard_and_is_part_of_a_round(services, job_id):
    services.rigging.set_rig(job_id, placed_by_hand=False)
    before = taken(services, job_id)
    services.processor.add_other(job_id, RECEIVER)
    services.rounds.new(job_id, name="Late")
    late = taken(services, job_id)
    assert late["L"].arrival_s - before["L"].arrival_s == pytest.approx(0.012, abs=1e-5)
    services.processor.switch_other(job_id, "Receiver")
    assert known(services, job_id).description == "bypassed, Receiver correcting by itself"
    assert not known(services, job_id).is_neutral
    with pytest.raises(Conflict, match="Start a new round"):
        services.taking.run_spot(job_id, services.jobs.get(job_id).spots[0].id)
    services.rounds.new(job_id, name="With it")
    louder = taken(services, job_id)["L"].level_db - late["L"].level_db
    assert louder[np.abs(ANALYSIS_GRID_HZ - 70).argmin()] == pytest.approx(3, abs=0.3)  # its own preference
    assert services.aligning.view(job_id).round.name == "Untouched"
    services.processor.drop_other(job_id, "Receiver")
    assert known(services, job_id).bypassed
    assert not known(services, job_id).by_themselves
    assert len(services.jobs.get(job_id).rig.chain) == 1


def test_one_for_the_subs_alone_leaves_the_others_in_time(services):
    job_id = services.jobs.create(JobDetails(name="Radio"), plan=net_loft()).id
    services.room.lay_out_spots(job_id, "one", seat_id=1, count=1, spacing_m=0.2)
    services.rigging.set_rig(job_id, pace="fast", sweep_seconds=2.0)
    before = taken(services, job_id)
    services.processor.add_other(job_id, replace(RECEIVER, channels=("Sub1",)))
    services.rounds.new(job_id, name="Background")
    after = taken(services, job_id)
    moved = {c for c in after if abs(after[c].arrival_s - before[c].arrival_s) > 0.01}
    assert moved == {"Sub1"}


def test_a_chain_that_can_not_be_is_refused_beside_its_field(services, job_id):
    client = client_of(services)
    services.processor.add_other(job_id, RECEIVER)
    for typed, message in (
        ({"other_name": "Receiver"}, "two processors of the chain have one name"),
        ({"other_name": ""}, "needs a name"),
        ({"other_name": "X", "other_channels": "L, Q9"}, "There is no channel Q9. There are L, R."),
        ({"other_name": "X", "other_latency_ms": "900"}, "out of range"),
    ):
        answer = post(client, f"/jobs/{job_id}/rig/chain", **{"other_latency_ms": "0", "other_channels": "", **typed})
        assert answer.status_code == 422
        assert message in answer.text
    assert [other.name for other in services.jobs.get(job_id).rig.others] == ["Receiver"]
    with pytest.raises(InvalidValue, match="correct by themselves"):
        services.rigging.set_rig(job_id, chain=())


def test_a_device_without_crossovers_is_not_given_any():
    limits = ProcessorLimits(name="Plain", crossovers=False)
    crossover = Crossover(frequency_hz=80)
    preset = Preset(
        name="x",
        channels={"L": ChannelSettings(high_pass=crossover)},
        bass=BassManagement(crossover=crossover, subs=("Sub1",)),
    )
    assert tuple(map(unsupported_words, limits.broken_by(preset))) == (
        "bass goes to the subs, the device has no crossovers",
        "L: crossover, the device has none",
    )
    assert ProcessorLimits(name="Rich").broken_by(preset) == ()


def rows(services, table):
    with services.context.database.engine.connect() as connection:
        return connection.exec_driver_sql(f"SELECT count(*) FROM {table}").scalar()


def test_equal_states_are_kept_once_with_their_taps_and_forgotten_when_nobody_has_them(services, job_id):
    taps = Convolution.of(np.linspace(1, 0, 500), sample_rate_hz=48_000)
    convolved = ProcessorState(
        active="A",
        presets={
            "A": Preset(
                name="Ours",
                channels={
                    "L": ChannelSettings(convolution=taps),
                    "R": ChannelSettings(convolution=taps, filters=(BELL,)),
                },
            )
        },
    )
    states = rows(services, "states")
    with services.context.change() as work:
        for number in range(3):
            made = work.takes.add_round(job_id, name=f"R{number}", at=services.context.now())
            work.takes.set_round_state(made.id, convolved, name=f"R{number}")
        work.kept_states.add(job_id, convolved, at=services.context.now())
    assert (rows(services, "states") - states, rows(services, "taps")) == (1, 1)
    services.context.database.state_cache._kept.clear()  # as after a new start
    with services.context.look() as work:
        rounds = [r for r in work.takes.rounds(job_id) if r.name.startswith("R")]
        assert [r.state for r in rounds] == [convolved] * 3
        assert {(r.bypassed, r.corrects) for r in rounds} == {(False, True)}
    with services.context.change() as work:
        work.jobs.purge(job_id)
    assert (rows(services, "states"), rows(services, "taps")) == (0, 0)


def test_taps_that_the_disk_has_changed_are_not_taken_for_those_that_were_kept(services, job_id):
    convolved = ProcessorState(
        active="A",
        presets={
            "A": Preset(
                name="Ours",
                channels={
                    "L": ChannelSettings(convolution=Convolution.of(np.linspace(1, 0, 500), sample_rate_hz=48_000))
                },
            )
        },
    )
    with services.context.change() as work:
        work.jobs.set_processor(job_id, convolved)
    services.context.database.state_cache._kept.clear()  # as after a new start
    assert services.jobs.get(job_id).processor == convolved
    with services.context.database.engine.begin() as connection:
        connection.exec_driver_sql("UPDATE taps SET data = CAST(x'07' || substr(data, 2) AS BLOB)")
    services.context.database.state_cache._kept.clear()
    with pytest.raises(Damaged, match="its processor can't be read"):
        services.jobs.get(job_id)


def test_the_rehearsals_processor_refuses_what_it_has_no_room_for_and_keeps_what_it_holds():
    kept = []
    limits = ProcessorLimits(name="Small", bands=1, presets=2)
    use = replace(REHEARSAL_PROCESSOR, limits=limits)
    device = RehearsalProcessor(use, held=ProcessorState(), hold=kept.append)
    band = BandFilter(frequency_hz=80, gain_db=-4, q=2)
    first, two = (
        Preset(name=name, channels={"L": ChannelSettings(filters=bands)})
        for name, bands in (("one", (band,)), ("two", (band, replace(band, frequency_hz=160))))
    )
    device.load("A", first)
    with pytest.raises(DeviceError, match="refuses preset B: it has no room"):
        device.load("B", two)
    assert set(device.read().presets) == {"A"}
    assert len(kept) == 1
