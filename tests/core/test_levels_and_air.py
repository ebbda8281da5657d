import numpy as np
import pytest
from numpy.testing import assert_allclose

from dolce.core.acoustics import speed_of_sound
from dolce.core.dsp import dbfs_rms, energy_mean_db, energy_sum_db, mid_bands
from dolce.core.geometry import Point, RoomSize, azimuth_deg, distance_m, pair_angle_deg
from dolce.core.levels import level_reading
from dolce.errors import InvalidValue

ROOM = RoomSize(length_m=5.0, width_m=4.0, height_m=2.5)


@pytest.mark.parametrize(("celsius", "speed"), [(0, 331.3), (20, 343.2), (25, 346.1)])
def test_speed_of_sound(celsius, speed):
    # Dry air, handbook values (Kinsler et al., Fundamentals of Acoustics, table A10: 331.6 at 0, 343 at 20; the
    # constant 331.3 at 0 is that of the formula). 0.3 m/s covers the difference between the handbooks.
    assert speed_of_sound(celsius) == pytest.approx(speed, abs=0.3)


def test_sums_of_equal_sources():
    # Closed form: two incoherent ones 10 lg 2 = 3.01 dB; a mean of equal levels is that level.
    assert energy_sum_db([60.0, 60.0]) == pytest.approx(63.01, abs=0.005)
    assert energy_mean_db([60.0, 60.0]) == pytest.approx(60)


def test_full_scale_sine_is_0_dbfs():
    # AES17 definition.
    assert dbfs_rms(np.sin(2 * np.pi * np.arange(4800) / 48)) == pytest.approx(0, abs=1e-9)


def test_mid_bands_stand_on_the_base_ten_grid():
    # IEC 61260-1, eq. 2: third octaves around 1 kHz are 794.33, 1000, 1258.9 Hz.
    assert_allclose(mid_bands(per_octave=3, from_hz=790, to_hz=1260), [794.33, 1000, 1258.93], atol=0.01)


@pytest.mark.parametrize(
    ("noise", "peak", "verdict"),
    [(-70, -10, "good"), (-45, -10, "usable"), (-30, -10, "too soft"), (-70, -2, "too loud"), (-70, 0, "clipped")],
)
def test_level_check_names_both_distances(noise, peak, verdict):
    quiet = np.full(1000, 10 ** (noise / 20) / np.sqrt(2))
    tone = np.sin(2 * np.pi * np.arange(48_000) / 48) * 10 ** (peak / 20)
    reading = level_reading(np.concatenate([quiet, tone]), quiet_samples=1000)
    assert reading.verdict == verdict
    assert reading.noise_dbfs == pytest.approx(noise, abs=1e-6)
    assert reading.above_noise_db == pytest.approx(peak - noise, abs=1e-6)
    part, change_db = reading.remedy
    assert (part == "none", change_db == 0) == ((True, True) if verdict == "good" else (False, False))
    assert (change_db > 0) == (verdict in ("usable", "too soft"))
    assert reading.good_dbfs == pytest.approx((noise + 40, -6))


def test_equilateral_triangle_has_60_degrees():
    # Plane geometry; ITU-R BS.775 asks for 30 degrees to each side.
    left, right = Point(x_m=1, y_m=1, z_m=1), Point(x_m=3, y_m=1, z_m=1)
    seat = Point(x_m=2, y_m=1 + np.sqrt(3), z_m=1)
    assert pair_angle_deg(left, right, seen_from=seat) == pytest.approx(60)
    assert azimuth_deg(right, seen_from=seat) == pytest.approx(30)
    assert distance_m(left, seat) == pytest.approx(2)


def test_things_outside_the_room_are_named_with_their_axis():
    with pytest.raises(InvalidValue, match=r"speaker L: x = 4\.20 m lies outside"):
        ROOM.require_inside(Point(x_m=4.2, y_m=1, z_m=1), where="speaker L")
