"""The whole job for other layouts than a pair: every stop opens, and the proof holds."""

import pytest

from asking import client_of
from dolce.core.correction.outcome import level_within_db
from dolce.core.geometry import RoomSize
from dolce.core.room import new_plan
from dolce.services.jobs.job_keeping import JobDetails

SIZE = RoomSize(length_m=6.0, width_m=4.5, height_m=2.8)
STOPS = ("room", "rig", "takes", "read", "align", "shape", "load", "prove")


@pytest.mark.parametrize(("layout", "subs"), [("1.0", 0), ("5.1.2", 2)])
def test_a_job_of_any_layout_goes_through_all_stops(services, layout, subs):
    job = services.jobs.create(JobDetails(name="Loft"), plan=new_plan(SIZE, layout=layout, subs=subs, spots=2))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=4.0)  # a second leaves subs 12 dB above noise
    client = client_of(services)

    def all_open():
        for stop in STOPS:
            answer = client.get(f"/jobs/{job.id}/{stop}")
            assert answer.status_code == 200, (stop, answer.text)

    all_open()
    services.rigging.check_level(job.id)
    services.sound.wait()
    services.taking.run_rest(job.id)
    services.sound.wait()
    all_open()
    if len(job.channels) > 1:
        alignment_table = services.aligning.view(job.id).alignment_table
        polarities = {
            channel_row.reading.channel: channel_row.reading.polarity for channel_row in alignment_table.channel_rows
        }
        assert polarities.pop("C", "normal") in ("normal", "unsure")  # three-way: of two takes not always told
        assert set(polarities.values()) == {"normal"}
        assert all(-20 <= channel_row.trim_db <= 0 for channel_row in alignment_table.channel_rows)
        services.aligning.use_proposal(job.id)
    services.finding.find(job.id)
    for channel, shaped in services.shaping.shapes(job.id).items():
        # A sub is corrected where it plays, the others where the limits say.
        highest = max((band.filter.frequency_hz for band in shaped.bands), default=0)
        assert highest <= (121 if channel.startswith("Sub") else 501)
    services.loading.load(job.id, "A", "corrected")
    services.loading.switch(job.id, "A")
    services.rounds.new(job.id)
    services.taking.run_rest(job.id)
    services.sound.wait()
    all_open()
    proof = services.proving.view(job.id)
    assert set(proof.channels) == set(job.channels)
    assert proof.passed, proof.against
    assert proof.spots == proof.spots_wanted == 2
    if len(job.channels) > 1:
        # Levels stay matched although bands reach into the band where they are: they are levelled again.
        assert proof.after_match.level_db <= level_within_db(2)


def test_linked_pairs_get_the_same_bands_and_others_their_own(services):
    job = services.jobs.create(JobDetails(name="Loft"), plan=new_plan(SIZE, layout="3.1", subs=1, spots=2))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    view = services.shaping.view(job.id)
    services.shaping.set_correction(
        job.id,
        correction_settings=view.correction.correction_settings("L"),
        preference=None,
        anchor="band",
        anchor_band_hz=(200.0, 2000.0),
        anchor_level_db=0.0,
        linked=True,
    )
    services.finding.find(job.id)
    bands = services.shaping.view(job.id).correction.bands
    assert bands["L"] == bands["R"]
    assert bands["C"] != bands["L"]
    services.bands.remove(job.id, "R", services.shaping.correction(job.id).bands["R"][0].id)
    after = services.shaping.view(job.id).correction.bands
    assert len(after["L"]) == len(after["R"]) == len(bands["L"]) - 1
    assert (after["C"], after["Sub1"]) == (bands["C"], bands["Sub1"])
