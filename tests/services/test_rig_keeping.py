"""Microphones, processor, neutral processor and loop through the services, on the rehearsal rig."""

import numpy as np
import pytest

from dolce.core.processor import ProcessorLimits
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.rig import SLATE, Fault
from dolce.devices.rehearsal import LATENCY_S
from dolce.errors import Conflict, FormatError, InvalidForm, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import ReadOptions
from dolce.services.sample.demo_rooms import attic, net_loft


def job_of(services, plan=None, **rig):
    job = services.jobs.create(JobDetails(name="Loft"), plan=plan or attic())
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0, **rig)
    return job.id


def microphone(services, job_id, *, name="Stand", angles=(0, 90)):
    made = services.microphones.add(name=name)
    for angle in angles:
        services.microphones.read_curve(made.id, angle, services.microphones.rehearsal_curve(angle), file_name="c.txt")
    services.microphones.use(job_id, made.id)
    return made.id


def taken(services, job_id, spot=1):
    services.taking.run_spot(job_id, spot)
    services.sound.wait()
    return services.taking.board(job_id).takes


def phase_of_l(services, job_id):
    return services.reading.view(job_id, ReadOptions(channels=("L",), view="phase")).details[0].found.wrapped_deg


def findings(services, job_id):
    return [f.kind for f in services.microphones.view(job_id).findings]


def test_microphones_serve_all_jobs_and_a_change_reaches_them(services):
    first, second = job_of(services), job_of(services)
    number = microphone(services, first, angles=(0,))
    services.microphones.use(second, number)
    assert findings(services, second) == ["not asked"]
    services.microphones.point(second, "ceiling")
    assert findings(services, second) == ["wrong angle"]
    services.microphones.read_curve(number, 90, services.microphones.rehearsal_curve(90), file_name="side.txt")
    assert findings(services, second) == []
    assert services.jobs.get(first).rig.microphones[0].microphone.curve_files[90] == "side.txt"
    with pytest.raises(FormatError, match="line 2"):
        services.microphones.read_curve(number, 0, b"20 0\nno numbers\n", file_name="bad.txt")
    services.microphones.delete(number)
    assert services.microphones.view(first).shelf == ()
    assert services.jobs.get(first).rig.curve is not None  # jobs keep what they know
    services.microphones.restore(number)
    assert [m.id for m in services.microphones.view(first).shelf] == [number]


def test_the_right_curve_for_the_pointing_gives_the_same_response_either_way(services):
    levels = {}
    for pointing in ("speakers", "ceiling"):
        job_id = job_of(services)
        microphone(services, job_id)
        services.microphones.point(job_id, pointing)
        levels[pointing] = taken(services, job_id)["L", 1].level_db
    high = (ANALYSIS_GRID_HZ > 5000) & (ANALYSIS_GRID_HZ < 16_000)
    assert np.abs(levels["speakers"] - levels["ceiling"])[high].max() < 0.05
    wrong = job_of(services)
    microphone(services, wrong, angles=(0,))
    services.microphones.point(wrong, "ceiling")
    assert np.abs(taken(services, wrong)["L", 1].level_db - levels["speakers"])[high].max() > 1.5


def test_several_microphones_are_compared_and_fill_several_spots_at_once(services):
    job_id = job_of(services)
    microphone(services, job_id)
    services.microphones.point(job_id, "speakers")
    alone = taken(services, job_id, spot=2)["L", 2].level_db
    other = job_of(services)
    services.microphones.use(other, services.microphones.view(other).shelf[0].id)
    microphone(services, other, name="Second")
    services.microphones.point(other, "speakers")
    assert findings(services, other) == ["not compared"]
    services.microphones.compare(other)
    services.sound.wait()
    assert findings(services, other) == []
    takes = taken(services, other)
    assert sorted(takes) == [("L", 1), ("L", 2), ("R", 1), ("R", 2)]
    # The second microphone at spot 2 reads what the first one would have read there.
    inside = (ANALYSIS_GRID_HZ > 40) & (ANALYSIS_GRID_HZ < 16_000)
    apart = smoothed_level_db(np.array([takes["L", 2].level_db - alone]), per_octave=3)[0]
    assert np.abs(apart[inside]).max() < 0.3
    services.taking.repeat(other, "L", 2)
    services.sound.wait()
    again = services.taking.board(other).takes
    assert (again["L", 2].attempt, again["L", 1].attempt) == (2, 1)


def test_another_leading_microphone_or_input_forgets_the_pressure(services):
    job_id = job_of(services)
    number = microphone(services, job_id)
    services.rigging.set_rig(job_id, full_scale_spl_db=120.0)
    services.microphones.set_input(job_id, number, 3)
    assert services.jobs.get(job_id).rig.levels.full_scale_spl_db is None


def test_the_loop_takes_latency_and_electronics_out_of_every_take(services):
    job_id = job_of(services)
    before = taken(services, job_id)["L", 1]
    phase = phase_of_l(services, job_id)
    with pytest.raises(Conflict, match="no loop is joined"):
        services.loop.measure(job_id)
    services.rigging.set_rig(job_id, loop_output=9, loop_input=4)
    services.loop.measure(job_id)
    services.sound.wait()
    loop = services.jobs.get(job_id).rig.loop_in_use
    assert loop.latency_s == pytest.approx(LATENCY_S, abs=1 / 48_000)
    services.taking.repeat(job_id, "L", 1)
    services.sound.wait()
    after = services.taking.board(job_id).takes["L", 1]
    assert before.arrival_s - after.arrival_s == pytest.approx(LATENCY_S, abs=1 / 48_000)
    # The response moves as its arrival does, so what Read shows of the phase stays where it was.
    turned = np.angle(np.exp(1j * np.radians(phase_of_l(services, job_id) - phase)))
    assert np.degrees(np.median(np.abs(turned[(ANALYSIS_GRID_HZ > 100) & (ANALYSIS_GRID_HZ < 2000)]))) < 5
    at_20k = np.argmin(np.abs(ANALYSIS_GRID_HZ - 18_000))
    assert after.level_db[at_20k] - before.level_db[at_20k] == pytest.approx(0.243, abs=0.05)  # 0.3 (18/20)^2 dB
    services.rigging.set_rig(job_id, sample_rate_hz=96_000)
    assert services.jobs.get(job_id).rig.loop_in_use is None  # it holds for its rate only


def test_a_microphone_on_the_loops_input_is_refused(services):
    job_id = job_of(services)
    with pytest.raises(InvalidValue, match="input 1 has a microphone"):
        services.rigging.set_rig(job_id, loop_output=1, loop_input=1)


def test_what_somebody_left_in_the_processor_is_kept_made_neutral_and_put_back(services):
    job_id = job_of(services, net_loft())
    services.processor.leave_something(job_id)
    view = services.processor.view(job_id)
    assert not view.is_clean
    assert view.state.presets["C"].bass.subs == ("Sub1", "Sub2")
    left = taken(services, job_id)
    assert services.taking.board(job_id).round.name == "Film night"
    services.processor.make_neutral(job_id)
    view = services.processor.view(job_id)
    assert view.is_clean
    assert [state.description for _, _, state in view.kept] == ["C, Film night"]
    with pytest.raises(Conflict, match="Start a new round"):
        services.taking.run_spot(job_id, 1)
    services.rounds.new(job_id)
    clean = taken(services, job_id)
    bass = (ANALYSIS_GRID_HZ > 30) & (ANALYSIS_GRID_HZ < 45)
    # Bass management had sent it to the subs.
    assert np.abs(left["C", 1].level_db - clean["C", 1].level_db)[bass].mean() > 3
    services.processor.put_back(job_id, view.kept[0][0])
    assert services.jobs.get(job_id).processor.description == "C, Film night"


def test_chain_that_cannot_be_read_is_ticked_and_a_round_remembers_the_ticks(services):
    job_id = job_of(services)
    services.rigging.set_rig(job_id, hardware="sound card", card_name="x", card_host="y")
    with pytest.raises(Conflict, match="can't be read"):
        services.processor.keep(job_id)
    assert not services.processor.view(job_id).is_clean
    for key in SLATE:
        services.processor.tick(job_id, key, on=True)
    assert services.processor.view(job_id).is_clean
    services.rigging.set_rig(job_id, hardware="rehearsal")
    taken(services, job_id)
    services.processor.tick(job_id, "delay", on=False)
    assert not services.taking.board(job_id).state_fits


@pytest.mark.parametrize("shut", ["mute", "solo", "dim"])
def test_takes_and_lines_are_refused_while_the_processor_shuts_or_dims(services, shut):
    job_id = job_of(services)
    services.processor.dim(job_id) if shut == "dim" else getattr(services.processor, shut)(job_id, "L")
    for begin in (
        lambda: services.taking.run_spot(job_id, 1),
        lambda: services.lines.run(job_id),
        lambda: services.rigging.check_level(job_id),
    ):
        with pytest.raises(Conflict, match=r"dimmed|silent"):
            begin()


def test_shape_align_and_load_keep_to_the_limits_of_the_processor(services):
    job_id = job_of(services)
    taken(services, job_id)
    services.aligning.use_proposal(job_id)
    services.finding.find(job_id)
    box = services.processor.add_limits(
        job_id,
        ProcessorLimits(name="Little box", bands=3, gain_step_db=0.5, highest_q=4, trim_step_db=0.5, most_delay_s=0.01),
    )
    assert services.shaping.view(job_id).broken
    with pytest.raises(Conflict, match="Little box can't hold it"):
        services.loading.load(job_id, "A", "corrected")
    services.finding.find(job_id)
    assert services.shaping.view(job_id).broken == ()
    bands = services.shaping.view(job_id).correction.bands["L"]
    assert 1 <= len(bands) <= 3
    assert all(band.filter.gain_db % 0.5 == 0 and band.filter.q <= 4 for band in bands)
    with pytest.raises(InvalidValue, match=r"steps of 0\.5 dB"):
        services.bands.edit(job_id, "L", bands[0].id, type(bands[0].filter)(frequency_hz=50, gain_db=-1.2, q=1))
    with pytest.raises(InvalidForm, match="device allows 10 ms"):
        services.aligning.choose(job_id, {"L": (0.0, 15.0, "normal"), "R": (0.0, 0.0, "normal")})
    services.aligning.use_proposal(job_id)
    with pytest.raises(Conflict, match="can't hold it: R: trim"):  # the filters stand on the old trims
        services.loading.load(job_id, "A", "corrected")
    services.shaping.stand_on_present(job_id)
    services.loading.load(job_id, "A", "corrected")
    with pytest.raises(Conflict, match="no convolution"):
        services.loading.load(job_id, "B", "convolved")
    with pytest.raises(InvalidValue, match="already"):
        services.processor.add_limits(job_id, ProcessorLimits(name="Little box"))
    services.processor.delete_limits(box.id)
    assert services.jobs.get(job_id).limits.name == "Little box"


def test_a_preset_loaded_as_convolution_is_proven_like_bands(services):
    job_id = job_of(services)
    services.rigging.set_rig(job_id, placed_by_hand=False)
    taken(services, job_id)
    services.aligning.use_proposal(job_id)
    services.finding.find(job_id)
    services.loading.load(job_id, "C", "convolved")
    assert services.loading.view(job_id).loaded_is_current == {"C": True}
    services.loading.switch(job_id, "C")
    assert services.rounds.new(job_id).name == "Corrected"
    taken(services, job_id)
    proof = services.proving.view(job_id).channels["L"]
    assert proof.proof.outcome.predicted_against_measured_db < 0.4


def test_feedback_is_said_on_the_line_check(services):
    job_id = job_of(services)
    services.rigging.set_faults(job_id, [Fault(kind="feedback")])
    services.lines.run(job_id)
    services.sound.wait()
    assert {line.word for line in services.lines.view(job_id).lines} == {"wrong"}
