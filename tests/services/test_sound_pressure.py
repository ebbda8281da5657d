"""Absolute levels and room noise on the rehearsal rig, whose full scale is known."""

import numpy as np
import pytest

from dolce.core.dsp import energy_sum_db
from dolce.core.rig import NOISE_THIRD_OCTAVES_HZ, Fault, room_noise
from dolce.devices.rehearsal import FULL_SCALE_SPL_DB, ROOM_NOISE_DBFS
from dolce.errors import Conflict, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic, barn
from dolce.words.rig import level_words


@pytest.fixture
def job_id(services):
    job = services.jobs.create(JobDetails(name="Loft"), plan=attic())
    services.rigging.set_rig(job.id, pace="fast")
    return job.id


def done(services, job_id):
    services.sound.wait()
    view = services.pressure.view(job_id)
    assert view.last_pass.state == "done", view.last_pass.message
    return view


@pytest.mark.parametrize("level_db", [94.0, 114.0])
def test_a_calibrator_tells_the_level_of_full_scale(services, job_id, level_db):
    services.pressure.calibrate(job_id, level_db)
    done(services, job_id)
    # IEC 60942 calibrators state their level at 1 kHz; the rehearsal rig's noise moves it by hundredths.
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db == pytest.approx(FULL_SCALE_SPL_DB, abs=0.05)
    # 10 dB more gain: full scale is reached at 10 dB less.
    services.rigging.set_rig(job_id, microphone_gain_db=10.0)
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db == pytest.approx(FULL_SCALE_SPL_DB - 10, abs=0.05)
    services.pressure.forget(job_id)
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db is None


def test_another_device_knows_nothing_of_the_level(services, job_id):
    services.pressure.calibrate(job_id, 94.0)
    done(services, job_id)
    services.rigging.set_rig(job_id, hardware="sound card", card_name="other", card_host="x")
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db is None


def test_a_meter_reading_does_the_same(services, job_id):
    with pytest.raises(Conflict, match="no noise was played"):
        services.pressure.type_reading(job_id, 70.0)
    services.pressure.play_reference(job_id)
    view = done(services, job_id)
    services.pressure.type_reading(job_id, view.rehearsed_db)
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db == pytest.approx(FULL_SCALE_SPL_DB, abs=0.01)
    for reading in (0, 200):
        with pytest.raises(InvalidValue, match="out of range"):
            services.pressure.type_reading(job_id, reading)


def test_a_calibrator_that_is_not_there_or_too_loud_is_said(services, job_id):
    with pytest.raises(InvalidValue, match="not a calibrator"):
        services.pressure.calibrate(job_id, 100.0)
    services.rigging.set_rig(job_id, microphone_gain_db=30.0)
    services.pressure.calibrate(job_id, 114.0)  # 114 + 30 dB over full scale of 120
    services.sound.wait()
    view = services.pressure.view(job_id)
    assert view.last_pass.state == "failed"
    assert "clipping" in view.last_pass.message
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db is None


def test_room_noise_has_its_level_and_rating(services, job_id):
    services.pressure.listen(job_id)
    view = done(services, job_id)
    # All thirds together are the noise of the rig, less what lies below 22 Hz.
    assert float(energy_sum_db(view.noise.third_octave_dbfs)) == pytest.approx(ROOM_NOISE_DBFS, abs=1.5)
    assert view.noise.rating is None  # dB SPL is not known yet
    assert view.noise.doubtful_hz == ()
    services.pressure.calibrate(job_id, 94.0)
    rated = done(services, job_id).noise
    assert rated.octaves_spl_db == pytest.approx(
        energy_sum_db(view.noise.third_octave_dbfs.reshape(-1, 3).T) + FULL_SCALE_SPL_DB, abs=0.06
    )
    assert 5 < rated.rating[0] < 50


def test_hum_makes_its_bands_doubtful(services, job_id):
    services.rigging.set_faults(job_id, [Fault(kind="hum")])
    services.rigging.set_rig(job_id, sweep_level_dbfs=-40.0)
    services.pressure.listen(job_id)
    assert 50.0 in done(services, job_id).noise.doubtful_hz


def test_doubtful_bands_are_those_less_than_20_db_under_the_signal():
    third_octaves = np.full(len(NOISE_THIRD_OCTAVES_HZ), -80.0)
    third_octaves[3] = -55.0
    noise = room_noise(
        third_octaves, full_scale_spl_db=None, signal_third_octave_dbfs=np.full(len(third_octaves), -40.0)
    )
    assert noise.doubtful_hz == (float(NOISE_THIRD_OCTAVES_HZ[3]),)


def test_a_calibrator_that_is_off_by_20_db_is_doubted(services, job_id):
    services.pressure.listen(job_id)
    assert done(services, job_id).doubt is None
    services.rigging.set_faults(job_id, [Fault(kind="calibrator")])
    services.pressure.calibrate(job_id, 94.0)
    view = done(services, job_id)
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db == pytest.approx(FULL_SCALE_SPL_DB + 20, abs=0.05)
    assert view.doubt[0] == "noise"  # the quiet room would have more than 50 dB(A)
    services.rigging.set_faults(job_id, [])
    services.pressure.calibrate(job_id, 94.0)
    kind, change = done(services, job_id).doubt
    assert (kind, round(change)) == ("before", -20)
    services.pressure.calibrate(job_id, 94.0)
    assert done(services, job_id).doubt is None


def test_sensitivity_of_the_microphone_gives_the_level_too(services, job_id):
    with pytest.raises(Conflict, match="sensitivity is not known"):
        services.pressure.use_sensitivity(job_id, 0.0)
    services.microphones.use(job_id, services.microphones.add(name="m", sensitivity_mv_pa=12.6).id)
    services.pressure.use_sensitivity(job_id, -10.0)
    # 0.2449 V over 12.6 mV/Pa are 19.44 Pa: 119.75 dB.
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db == pytest.approx(119.75, abs=0.02)
    with pytest.raises(InvalidValue, match="dB SPL of full scale"):
        services.pressure.use_sensitivity(job_id, -80.0)


def test_a_ceiling_suits_the_room_unless_one_is_typed(services):
    job = services.jobs.create(JobDetails(name="Attic"), plan=attic())  # 36 m3: 79 dB SPL, common practice
    assert job.ceiling.spl_db == 91
    hall = services.jobs.create(JobDetails(name="Barn"), plan=barn())
    assert hall.room.volume_m3 > 150
    assert hall.ceiling.spl_db == 97
    assert job.ceiling_at(0.25).spl_db == pytest.approx(91 + 18.06, abs=0.01)  # three halvings from a seat 2 m away
    assert job.ceiling_at(4.0).spl_db == 91
    assert services.rigging.set_rig(job.id, ceiling_spl_db=80.0).ceiling.spl_db == 80
    assert services.jobs.get(job.id).ceiling_at(0.25).spl_db == 80  # what is typed holds everywhere
    assert services.rigging.set_rig(job.id, ceiling_spl_db=None).ceiling.spl_db == 91


def test_a_sweep_that_is_far_too_loud_for_the_room_is_not_good(services, job_id):
    services.rigging.set_rig(job_id, ceiling_spl_db=115.0, sweep_level_dbfs=-12.0)
    services.rigging.check_level(job_id)
    services.sound.wait()
    assert {r.verdict for r in services.rigging.level_readings(job_id).values()} == {"good"}  # pressure not known yet
    services.rigging.set_rig(job_id, full_scale_spl_db=120.0)
    for reading in services.rigging.level_readings(job_id).values():
        over = reading.signal_dbfs + 120.0 - (79 + 6)
        assert over > 3
        assert reading.verdict == "too loud"
        assert f"{over:.0f} dB louder than suits this room" in level_words(reading)
        assert reading.remedy == ("sweep level", pytest.approx(-over))


def test_takes_end_above_the_ceiling_of_the_room(services, job_id):
    services.rigging.set_rig(job_id, full_scale_spl_db=130.0, sweep_level_dbfs=-6.0, sweep_seconds=1.0)
    services.taking.run_spot(job_id, services.jobs.get(job_id).spots[0].id)
    services.sound.wait()
    message = services.taking.board(job_id).last_pass.message
    assert "above the ceiling of 91 dB. Sound was ended" in message
    assert services.taking.board(job_id).taken == 0
