"""Causes of peaks and dips, each planted alone, in rooms whose truth is a closed form."""

from dataclasses import replace

import numpy as np
import pytest

from dolce.core.acoustics import WALLS, image_field, modal_transfer, modes_of_box
from dolce.core.reading import LIKELY, SURE, CurveFinding, Evidence, ExpectedLevels, findings_of_curve
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.room import BoxField
from dolce.words.curve_findings import finding_rows

SPEED = 343.0
SIZE = (4.1, 5.7, 2.6)
SOURCE = np.array([[0.9, 0.6, 1.1]])
SPOTS = np.array([[1.4 + 0.3 * k, 3.7 + 0.35 * (k % 3), 1.2 + 0.05 * k] for k in range(6)])
NOTHING = Evidence(
    modes=modes_of_box(SIZE, up_to_hz=40, speed_m_s=SPEED),
    drive=np.zeros((6, 1)),
    ring_hz=np.empty(0),
    ring_s=np.empty(0),
    notches_hz={},
)
FLAT = np.zeros((6, ANALYSIS_GRID_HZ.size))


def hill(at_hz, height_db, octaves=0.1):
    return height_db * np.exp(-((np.log2(ANALYSIS_GRID_HZ / at_hz) / octaves) ** 2))


def nearest(findings, at_hz):
    return min(findings, key=lambda f: abs(np.log2(f.frequency_hz / at_hz)))


def test_modes_of_a_rigid_box_are_named_where_they_ring():
    # Kuttruff, eq. (3.20): the modal sum of a box of known size; its peaks are its modes, its ringing is given.
    modes = modes_of_box(SIZE, up_to_hz=320, speed_m_s=SPEED)
    inside = ANALYSIS_GRID_HZ < 200
    transfer = modal_transfer(
        SOURCE, SPOTS, size_m=SIZE, frequency_hz=ANALYSIS_GRID_HZ[inside], reverberation_s=0.8, speed_m_s=SPEED
    )[0]
    levels = FLAT.copy()
    levels[:, inside] = 20 * np.log10(np.abs(transfer))
    levels[:, ~inside] = levels[:, inside][:, -1:]
    drive = modes.pressure_at(SOURCE) * modes.pressure_at(SPOTS)
    ring_hz = ANALYSIS_GRID_HZ[inside]
    axial = SPEED / 2 / SIZE[1]  # 0-1-0, 30.1 Hz
    ring_s = 0.3 + 0.5 * np.exp(-((np.log2(ring_hz / axial) / 0.06) ** 2))
    evidence = replace(NOTHING, modes=modes, drive=drive, ring_hz=ring_hz, ring_s=ring_s)
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, levels, evidence), axial)
    assert finding.frequency_hz == pytest.approx(axial, rel=0.03)
    assert finding.size_db > 3
    assert (finding.cause.kind, finding.cause.what) == ("mode", "0-1-0")
    assert finding.cause.rings > 1.5


def test_a_reflection_is_named_by_the_wall_whose_geometry_the_dips_follow():
    # One mirror image in the floor: |1 / r + 1 / r' e^(-i k (r' - r))|, by hand at every spot.
    mirrored = SOURCE * (1, 1, -1)
    direct, over = (np.linalg.norm(SPOTS - source, axis=1) for source in (SOURCE, mirrored))
    wave = 2 * np.pi * ANALYSIS_GRID_HZ / SPEED
    pressure = 1 / direct[:, None] + np.exp(-1j * wave * (over - direct)[:, None]) / over[:, None]
    levels = 20 * np.log10(np.abs(pressure * direct[:, None]))
    floor, ceiling = SPEED / 2 / (over - direct), SPEED / 2 / (over - direct) * 0.55
    evidence = replace(NOTHING, notches_hz={"ceiling": ceiling, "floor": floor})
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, levels, evidence), float(np.median(floor)))
    assert finding.size_db < -3
    assert (finding.cause.kind, finding.cause.what) == ("boundary", "floor")
    assert finding.cause.pattern > 0.8


def test_what_stands_in_the_direct_sound_is_the_speakers_and_in_that_of_all_the_microphones():
    levels, flat = FLAT + hill(3000, 5), FLAT[0]
    direct = hill(3000, 5)
    own = replace(NOTHING, direct_db=direct, others_direct_db=[flat, flat, flat])
    assert findings_of_curve(ANALYSIS_GRID_HZ, levels, own)[0].cause.kind == "speaker"
    shared = replace(NOTHING, direct_db=direct, others_direct_db=[direct, 0.9 * direct, direct])
    assert findings_of_curve(ANALYSIS_GRID_HZ, levels, shared)[0].cause.kind == "microphone"
    # Not in the direct sound: neither.
    room = replace(NOTHING, direct_db=flat, others_direct_db=[flat, flat])
    assert findings_of_curve(ANALYSIS_GRID_HZ, levels, room)[0].cause is None


def test_of_a_pair_alone_the_microphone_is_never_named():
    direct = hill(3000, 5)
    pair = replace(NOTHING, direct_db=direct, others_direct_db=[direct])
    finding = findings_of_curve(ANALYSIS_GRID_HZ, FLAT + direct, pair)[0]
    assert [cause.kind for cause in finding.causes] == ["speaker"]
    assert finding.causes[0].sure < 0.7


def test_what_nothing_explains_is_unexplained_and_sizes_are_told():
    levels = FLAT + hill(160, -9, octaves=0.12)
    levels[:2] += hill(160, 9, octaves=0.12)  # two spots don't have it
    far = replace(NOTHING, notches_hz={"left wall": np.full(6, 260.0)})
    finding = findings_of_curve(ANALYSIS_GRID_HZ, levels, far)[0]
    assert finding.cause is None
    assert (finding.spots, finding.of_spots) == (4, 6)
    assert finding.frequency_hz == pytest.approx(160, rel=0.02)
    # Against the octave around, which the dip itself pulls down: -6 in the mean of the spots, less a part of that.
    assert -6 < finding.size_db < -4
    # A Gaussian of 0.12 octaves (1/e) is 0.2 wide at half height.
    assert finding.width_octaves == pytest.approx(0.2, abs=0.05)


def test_a_dip_that_lies_where_the_wall_wants_it_at_few_spots_is_not_blamed_on_it():
    levels = FLAT + hill(160, -9)
    notches = np.array([160.0, 230, 240, 110, 100, 150])
    finding = findings_of_curve(ANALYSIS_GRID_HZ, levels, replace(NOTHING, notches_hz={"left wall": notches}))[0]
    assert all(cause.sure < LIKELY for cause in finding.causes)


def test_treble_that_the_direct_sound_lacks_is_the_screens_where_the_plan_has_one():
    dull = -6.0 / (1 + (4000 / ANALYSIS_GRID_HZ) ** 4)
    evidence = replace(NOTHING, direct_db=dull, others_direct_db=[FLAT[0], FLAT[0], FLAT[0]], screened=True)
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, FLAT + dull, evidence), 4000)
    assert finding.size_db == pytest.approx(-6, abs=0.7)
    assert (finding.cause.kind, finding.spots) == ("screen", 6)
    bare = nearest(findings_of_curve(ANALYSIS_GRID_HZ, FLAT + dull, replace(evidence, screened=False)), 4000)
    assert bare.cause.kind == "speaker"
    # As dull as the others: nothing of its own.
    alike = replace(evidence, others_direct_db=[dull, dull, dull])
    assert all(
        item.cause is None or item.cause.kind != "screen"
        for item in findings_of_curve(ANALYSIS_GRID_HZ, FLAT + dull, alike)
    )


def test_treble_that_rises_on_every_channel_is_the_microphones():
    bright = 5.0 / (1 + (4000 / ANALYSIS_GRID_HZ) ** 4)
    evidence = replace(NOTHING, direct_db=bright, others_direct_db=[bright, bright, bright])
    finding = max(findings_of_curve(ANALYSIS_GRID_HZ, FLAT + bright, evidence), key=lambda f: f.size_db)
    assert finding.cause.kind == "microphone"
    alone = replace(evidence, others_direct_db=[FLAT[0], FLAT[0], bright])
    assert all(
        item.cause is None or item.cause.kind != "microphone"
        for item in findings_of_curve(ANALYSIS_GRID_HZ, FLAT + bright, alone)
    )


def test_a_wide_hump_of_one_speaker_is_its_own():
    # 8 dB over an octave and a half: against the octave around it hardly stands out.
    hump = hill(2000, 8, octaves=0.75)
    evidence = replace(NOTHING, direct_db=hump, others_direct_db=[FLAT[0], FLAT[0], FLAT[0]])
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, FLAT + hump, evidence), 2000)
    assert finding.cause.kind == "speaker"
    assert finding.frequency_hz == pytest.approx(2000, rel=0.1)


def test_main_and_sub_that_take_from_each_other_are_told_where_they_do():
    """Two equal parts with a phase between them: |1 + e^(i phi)| against 1, by hand."""
    phase = np.pi * np.exp(-((np.log2(ANALYSIS_GRID_HZ / 80) / 0.35) ** 2))
    both = np.maximum(20 * np.log10(np.abs(1 + np.exp(1j * phase))), -30)
    parts = (FLAT, FLAT)
    evidence = replace(NOTHING, parts_db=parts, together_db=FLAT + both)
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, FLAT + both, evidence), 80)
    assert finding.cause.kind == "crossover"
    assert finding.frequency_hz == pytest.approx(80, rel=0.1)
    assert finding.spots == 6
    adding = replace(evidence, together_db=FLAT + 6)
    assert findings_of_curve(ANALYSIS_GRID_HZ, FLAT + 6, adding) == []


@pytest.mark.parametrize(("before_db", "named"), [(0, True), (-2, True), (-6, False)])
def test_a_dip_is_the_crossovers_only_where_it_was_not_there_before_it_was_in_use(before_db, named):
    levels = FLAT + hill(85, -6, octaves=0.3)
    evidence = replace(NOTHING, crossover_hz=80, without_crossover_db=FLAT + hill(85, before_db, octaves=0.3))
    blamed = nearest(findings_of_curve(ANALYSIS_GRID_HZ, levels, evidence), 85)
    assert (blamed.cause is not None and blamed.cause.kind == "crossover") is named
    assert ("crossover" in [cause.kind for cause in blamed.causes]) is named  # nor does it come closest
    # Where nobody took it before, it comes closest, with too little evidence.
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, levels, replace(NOTHING, crossover_hz=80)), 85)
    assert finding.cause is None
    assert finding.causes[0].kind == "crossover"
    assert findings_of_curve(ANALYSIS_GRID_HZ, levels, NOTHING)[0].causes == ()


@pytest.mark.parametrize(("turned", "likely"), [(1, True), (-1, False)])
def test_a_mode_is_likely_only_if_the_levels_over_the_spots_agree_with_its_shape(turned, likely):
    modes = modes_of_box(SIZE, up_to_hz=40, speed_m_s=SPEED)  # of which 0-1-0 lies at 30.1 Hz
    drive = modes.pressure_at(SOURCE) * modes.pressure_at(SPOTS)
    first = int(np.argmin(np.abs(modes.frequency_hz - SPEED / 2 / SIZE[1])))
    shape = 20 * np.log10(np.abs(drive[:, first]))
    levels = np.array([hill(30.1, 9 + turned * db) for db in shape - shape.mean()])
    ring_s = 0.3 + 0.5 * np.exp(-((np.log2(ANALYSIS_GRID_HZ / 30.1) / 0.06) ** 2))
    evidence = replace(NOTHING, modes=modes, drive=drive, ring_hz=ANALYSIS_GRID_HZ, ring_s=ring_s)
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, levels, evidence), 30.1)
    assert finding.causes[0].kind == "mode"
    assert np.sign(finding.causes[0].pattern) == turned
    assert (finding.cause is not None) is likely


@pytest.mark.parametrize(("crossover_hz", "named"), [(85 * 2**0.45, True), (85 * 2**0.6, False), (85 / 2**0.6, False)])
def test_a_dip_further_than_half_an_octave_from_the_crossover_is_not_blamed_on_it(crossover_hz, named):
    levels = FLAT + hill(85, -8)
    evidence = replace(NOTHING, crossover_hz=crossover_hz)
    finding = nearest(findings_of_curve(ANALYSIS_GRID_HZ, levels, evidence), 85)
    assert ("crossover" in [cause.kind for cause in finding.causes]) is named


@pytest.mark.parametrize(
    ("size_db", "width", "spots", "said"),
    [
        (-14.0, 0.15, 6, "A cancellation: filling it costs headroom; move speaker or seat."),
        (-14.0, 0.15, 3, "Leave it: not enough spots have it."),
        (-14.0, 0.5, 6, "Fill it within the limits."),
        (-6.0, 0.2, 6, "Fill it within the limits."),
        (-6.0, 0.1, 6, "Leave it: it is narrow."),
        (6.0, 0.15, 3, "Leave it: not enough spots have it."),
        (6.0, 0.15, 6, "Cut it."),
    ],
)
def test_what_nothing_explains_has_the_advice_that_shape_gives(size_db, width, spots, said):
    """Deeper than 12 dB and narrower than a third of an octave at all spots is what Shape leaves as a cancellation."""
    finding = CurveFinding(frequency_hz=130, size_db=size_db, width_octaves=width, spots=spots, of_spots=6, causes=())
    assert finding_rows((finding,))[0].remedy == said
    low = replace(finding, frequency_hz=29.0)  # where it may be the end of the speaker
    wide = said == "Fill it within the limits."
    assert ("unless it lies below" in finding_rows((low,))[0].remedy) is wide


def _field(exponents, source=SOURCE[0], spots=SPOTS):
    at_hz = np.geomspace(18, 600, 120)
    return image_field(
        source,
        spots,
        size_m=SIZE,
        exponents=np.repeat(np.array(exponents)[:, None], at_hz.size, axis=1),
        frequency_hz=at_hz,
        within_m=28.0,
        speed_m_s=SPEED,
    ), at_hz


def _expected(source=SOURCE[0], spots=SPOTS):
    """Of a plan that knows no materials: all walls take the same."""
    field, at_hz = _field([0.25] * 6, source, spots)
    level = 20 * np.log10(np.abs(field))
    return ExpectedLevels(
        BoxField(frequency_hz=at_hz, level_db=level[0], without_db=level[1:7], alone_db=level[7:]), ANALYSIS_GRID_HZ
    )


def _levels(exponents):
    """What is measured in a room of these walls, to the analysis grid, with a decibel of scatter."""
    field, at_hz = _field(exponents)
    level = 20 * np.log10(np.abs(field[0]))
    on_grid = np.array([np.interp(np.log(ANALYSIS_GRID_HZ), np.log(at_hz), row) for row in level])
    on_grid += np.random.default_rng(3).normal(0, 1, on_grid.shape)
    return smoothed_level_db(on_grid, per_octave=12)


@pytest.mark.parametrize("wall", ["front wall", "left wall", "back wall"])
def test_one_hard_wall_is_found_by_a_plan_that_knows_no_materials(wall):
    hard = [0.05 if name == wall else 9.0 for name in WALLS]
    found = findings_of_curve(ANALYSIS_GRID_HZ, _levels(hard), replace(NOTHING, expected=_expected()))
    dips = [f for f in found if f.size_db < -4 and 30 < f.frequency_hz < 300]
    assert dips
    for finding in dips:
        assert finding.cause is not None, finding
        assert finding.cause.what.split(", ")[0] == wall
        assert finding.cause.sure >= SURE


def test_a_plan_whose_places_are_wrong_names_no_wall_with_confidence():
    levels = _levels([0.05 if name == "front wall" else 9.0 for name in WALLS])
    elsewhere = _expected(np.array([2.8, 2.9, 0.5]), SPOTS + np.array([-0.9, -1.6, 0.4]))
    found = findings_of_curve(ANALYSIS_GRID_HZ, levels, replace(NOTHING, expected=elsewhere))
    assert any(f.size_db < -4 for f in found)
    assert not any(cause.sure >= SURE for f in found for cause in f.causes)


def test_below_its_end_a_loudspeaker_plays_no_more_and_a_sub_has_no_dips_above_it():
    levels = FLAT + hill(33, -9, 0.25) + hill(300, -9, 0.2)
    within = replace(NOTHING, plays_hz=(45.0, 250.0))
    (finding,) = findings_of_curve(ANALYSIS_GRID_HZ, levels, within)
    assert (finding.cause.kind, finding.cause.at_hz) == ("end", 45.0)
    assert finding_rows((finding,))[0].remedy.startswith("Leave it: no filter makes it play lower")


def test_two_modes_that_lie_together_are_named_together_where_their_sum_fits_the_spots():
    modes = modes_of_box((4.1, 4.13, 2.6), up_to_hz=60, speed_m_s=SPEED)  # 1-0-0 and 0-1-0 within 1 %
    source, spots = (
        np.array([[0.1, 0.1, 1.0]]),
        np.array(
            [[0.4, 3.9, 1.2], [1.1, 2.3, 1.2], [1.9, 3.6, 1.2], [2.6, 2.0, 1.2], [3.2, 1.4, 1.2], [2.1, 2.6, 1.2]]
        ),
    )
    drive = modes.pressure_at(source) * modes.pressure_at(spots)
    pair = np.flatnonzero(np.abs(modes.frequency_hz - 41.7) < 1)
    assert pair.size == 2
    energy = np.sum(drive[:, pair] ** 2, axis=1)
    levels = FLAT + hill(41.7, 1, 0.1) * (11 + 10 * np.log10(energy))[:, None]
    (finding, *_) = findings_of_curve(ANALYSIS_GRID_HZ, levels, replace(NOTHING, modes=modes, drive=drive))
    assert sorted(finding.causes[0].what.split(", ")) == ["0-1-0", "1-0-0"]
    assert "together" in finding_rows((replace(finding, causes=(replace(finding.causes[0], sure=0.6),)),))[0].cause


def test_a_reflection_that_a_take_shows_confirms_its_surface_and_is_told():
    levels, expected = _levels([0.05 if name == "front wall" else 9.0 for name in WALLS]), _expected()
    plain = findings_of_curve(ANALYSIS_GRID_HZ, levels, replace(NOTHING, expected=expected))
    seen = replace(NOTHING, expected=expected, seen={"front wall": (0.0044, -17.0), "floor": (0.003, -9.0)})
    shown = findings_of_curve(ANALYSIS_GRID_HZ, levels, seen)
    first, confirmed = (next(f for f in found if f.cause and f.cause.what == "front wall") for found in (plain, shown))
    assert confirmed.cause.seen == (0.0044, -17.0)
    assert confirmed.cause.sure == pytest.approx(min(0.95, first.cause.sure + 0.05))
    assert "seen 4.4 ms late" in finding_rows((confirmed,))[0].evidence
    assert "ms late" not in finding_rows((first,))[0].evidence
