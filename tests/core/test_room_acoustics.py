"""Modes, reverberation, boundaries and the modal sum, against published formulas and a reference library."""

import json
from importlib import resources
from itertools import product

import numpy as np
import pyroomacoustics as pra
import pytest
from numpy.testing import assert_allclose

from dolce.core.acoustics import (
    WALLS,
    boundary_gain_db,
    cancellation,
    eyring_s,
    image_field,
    modal_transfer,
    mode_count_estimate,
    modes_of_box,
    sabine_s,
    schroeder_hz,
)
from dolce.core.room import MATERIALS
from dolce.errors import InvalidValue

BOX = (5.0, 4.0, 2.5)


def test_lowest_modes_of_a_box_from_a_handbook():
    # H. Kuttruff, Room Acoustics, eq. (3.15), for 5.00 x 4.00 x 2.50 m at 343 m/s.
    modes = modes_of_box(BOX, up_to_hz=70, speed_m_s=343.0)
    assert_allclose(modes.frequency_hz[:3], [34.3, 42.875, 54.907], atol=0.001)
    assert [tuple(o) for o in modes.orders[:3]] == [(1, 0, 0), (0, 1, 0), (1, 1, 0)]
    assert modes.kind[:3] == ["axial", "axial", "tangential"]
    # Along the length twice and over the height once fall together: 2 x 34.3 and 343 / 5.
    assert [tuple(o) for o in modes.orders[3:]] == [(0, 0, 1), (2, 0, 0)]


@pytest.mark.parametrize("size", [BOX, (8.3, 6.1, 2.96), (3.3, 2.9, 2.4)])
def test_mode_list_is_that_of_a_brute_force_count(size):
    found = modes_of_box(size, up_to_hz=300, speed_m_s=343.2)
    counted = sorted(
        f
        for o in product(range(40), repeat=3)
        if any(o) and (f := 171.6 * np.sqrt(sum((n / length) ** 2 for n, length in zip(o, size, strict=True)))) <= 300
    )
    assert_allclose(found.frequency_hz, counted, rtol=1e-12)
    # Kuttruff, eq. (3.19): volume, surface and edges. Within 3 percent at these numbers of modes.
    assert len(counted) == pytest.approx(mode_count_estimate(size, up_to_hz=300, speed_m_s=343.2), rel=0.03)


def test_pressure_is_one_in_corners_and_nothing_at_nodes():
    modes = modes_of_box(BOX, up_to_hz=120, speed_m_s=343.0)
    assert_allclose(np.abs(modes.pressure_at([[0, 0, 0], [5, 4, 2.5]])), 1, atol=1e-12)
    middle = modes.pressure_at([[2.5, 2.0, 1.25]])[0]
    odd = (modes.orders % 2 == 1).any(axis=1)
    assert_allclose(middle[odd], 0, atol=1e-12)
    drive = modes.drive_db([[0, 0, 0]], [[0, 0, 0], [2.5, 2.0, 1.25]])
    assert drive.shape == (1, 2, len(modes.frequency_hz))
    assert_allclose(drive[0, 0], 0, atol=1e-9)
    assert drive[0, 1, 0] == -60


def test_sizes_without_sense_are_refused():
    with pytest.raises(InvalidValue, match="size of the box"):
        modes_of_box((5, 4, 0), up_to_hz=100, speed_m_s=343)
    with pytest.raises(InvalidValue, match="highest mode"):
        modes_of_box(BOX, up_to_hz=1e5, speed_m_s=343)


def test_reverberation_agrees_with_the_reference_library_and_a_handbook():
    areas = np.array([20, 20, 10, 10, 12.5, 12.5])
    absorption = np.array([[0.1], [0.6], [0.05], [0.3], [0.2], [0.2]])
    mean = float(areas @ absorption[:, 0] / areas.sum())
    ours = [f(50, areas, absorption, speed_m_s=343.0)[0] for f in (sabine_s, eyring_s)]
    theirs = [f(areas.sum(), 50, mean, 0, 343.0) for f in (pra.rt60_sabine, pra.rt60_eyring)]
    assert_allclose(ours, theirs, rtol=1e-6)
    # Sabine's 0.161 V / A of every handbook, at 20 degrees.
    assert sabine_s(50, areas, absorption, speed_m_s=343.2)[0] == pytest.approx(
        0.161 * 50 / (areas.sum() * mean), rel=0.002
    )


def test_absorption_of_materials_is_that_of_the_published_table():
    table = json.loads(resources.files(pra).joinpath("data/materials.json").read_text())["absorption"]
    published = {tuple(entry["coeffs"][:6]) for group in table.values() for entry in group.values()}
    assert {name for name, values in MATERIALS.items() if values not in published} == set()


def test_schroeder_frequency():
    assert schroeder_hz(0.3, 50) == pytest.approx(155, abs=0.5)  # 2000 sqrt(T / V)


@pytest.mark.parametrize(("wall_m", "notch_hz"), [(0.6, 143.0), (0.75, 114.4)])
def test_wall_straight_behind_a_speaker_cancels_at_a_quarter_wave(wall_m, notch_hz):
    # c / 4 d at 343.2 m/s; far away the two paths differ by 2 d.
    found = cancellation(np.array([100.0]), np.array([100 + 2 * wall_m]), speed_m_s=343.2)
    assert found.frequency_hz[0] == pytest.approx(notch_hz, abs=0.05)


def test_depth_of_a_cancellation_follows_from_the_two_distances():
    found = cancellation(np.array([2.0, 2.0, 2.0]), np.array([4.0, 3.0, np.inf]), speed_m_s=343.2)
    # 1 - 2/4 = 0.5 and 1 - 2/3 = 1/3 of the direct sound, spherical waves.
    assert_allclose(found.depth_db[:2], [20 * np.log10(0.5), 20 * np.log10(1 / 3)])
    assert np.isinf(found.frequency_hz[2])


def test_walls_add_6_12_and_18_db_at_low_and_3_6_9_at_high_frequencies():
    # Allison, JAES 22 (1974); Waterhouse, JASA 30 (1958): coherent images below, incoherent ones above.
    for walls in (1, 2, 3):
        gain = boundary_gain_db(np.full(walls, 0.4), frequency_hz=np.array([0.1, 60_000.0]), speed_m_s=343.0)
        assert_allclose(gain, [walls * 20 * np.log10(2), walls * 10 * np.log10(2)], atol=0.05)
    # At one wall the power is 1 + sin(2kx) / 2kx of the open (Waterhouse, eq. 7): least near 2kx = 4.493.
    f = np.linspace(50, 1000, 400)
    kx = 2 * 2 * np.pi * f / 343.0 * 0.4
    assert_allclose(
        boundary_gain_db(np.array([0.4]), frequency_hz=f, speed_m_s=343.0),
        10 * np.log10(1 + np.sin(kx) / kx) + 10 * np.log10(2),
        atol=1e-9,
    )


def test_modal_sum_agrees_with_an_image_source_simulation():
    # pyroomacoustics' image sources; both leave out the other's approximations: mean within 1 dB, shape within 2 dB.
    sources, receivers = [(0.4, 0.5, 0.3), (4.0, 1.1, 0.4)], [(2.1, 2.3, 1.2), (3.3, 3.1, 1.2)]
    absorption, rate = 0.1, 2000
    room = pra.ShoeBox(BOX, fs=rate, materials=pra.Material(absorption), max_order=70, air_absorption=False)
    room.set_sound_speed(343.0)
    for source in sources:
        room.add_source(source)
    room.add_microphone_array(np.array(receivers).T)
    room.compute_rir()
    frequency = np.arange(25, 120, 0.5)
    areas = np.array([20, 20, 10, 10, 12.5, 12.5])
    decay = eyring_s(50, areas, np.full((6, 1), absorption), speed_m_s=343.0)[0]
    ours = modal_transfer(
        np.array(sources),
        np.array(receivers),
        size_m=BOX,
        frequency_hz=frequency,
        reverberation_s=decay,
        speed_m_s=343.0,
    )
    for s in range(2):
        for r in range(2):
            response = np.array(room.rir[r][s])
            theirs = np.exp(-2j * np.pi * np.outer(frequency, np.arange(response.size)) / rate) @ response
            apart = 20 * np.log10(np.abs(theirs) / np.abs(ours[s, r]))
            assert abs(apart.mean()) < 1.0
            assert apart.std() < 2.0
            assert np.corrcoef(np.abs(theirs), np.abs(ours[s, r]))[0, 1] > 0.95


def test_a_wall_alone_is_one_mirror_image_and_all_walls_are_the_sum_of_the_modes():
    size, source, receivers = (3.6, 5.1, 2.5), np.array([0.9, 0.7, 1.1]), np.array([[2.1, 3.4, 1.2], [1.5, 4.2, 0.9]])
    at_hz = np.geomspace(30, 110, 60)
    absorbed = 0.22
    field = image_field(
        source,
        receivers,
        size_m=size,
        exponents=np.full((6, at_hz.size), -np.log(1 - absorbed)),
        frequency_hz=at_hz,
        within_m=60.0,
        speed_m_s=343.0,
    )
    # One image by hand: the floor's, a factor sqrt(1 - absorption) at each touch (Allen and Berkley 1979).
    near, far = (np.linalg.norm(receivers - place, axis=1) for place in (source, source * (1, 1, -1)))
    wave = 2j * np.pi * at_hz / 343.0
    by_hand = np.array(
        [np.exp(-wave * d) / d + np.sqrt(1 - absorbed) * np.exp(-wave * e) / e for d, e in zip(near, far, strict=True)]
    )
    np.testing.assert_allclose(field[7 + WALLS.index("floor")], by_hand, atol=1e-4)
    # Kuttruff, eq. (3.20), with Eyring's time of the same walls: another way to the same room.
    x, y, z = size
    areas = np.array([y * z, y * z, x * z, x * z, x * y, x * y])
    time_s = float(eyring_s(x * y * z, areas, np.full((6, 1), absorbed), speed_m_s=343.0)[0])
    modal = modal_transfer(
        source[None], receivers, size_m=size, frequency_hz=at_hz, reverberation_s=time_s, speed_m_s=343.0
    )[0]
    apart_db = 20 * np.log10(np.abs(field[0]) / np.abs(modal))
    assert np.median(np.abs(apart_db)) < 2.0
    assert np.corrcoef(np.abs(field[0]).ravel(), np.abs(modal).ravel())[0, 1] > 0.95
    # Without the floor nothing that touches it arrives: as if it took everything.
    open_floor = np.full((6, at_hz.size), -np.log(1 - absorbed))
    open_floor[WALLS.index("floor")] = 60.0
    again = image_field(
        source, receivers, size_m=size, exponents=open_floor, frequency_hz=at_hz, within_m=60.0, speed_m_s=343.0
    )
    np.testing.assert_allclose(field[1 + WALLS.index("floor")], again[0], atol=1e-4)
