"""The simulated room and its loudspeakers against formulas, handbooks and a reference library."""

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal
from scipy.special import j1

from dolce.core.acoustics import images_of, modes_of_box
from dolce.core.geometry import RoomSize
from dolce.core.response import ImpulseResponse, find_arrival
from dolce.core.room import SURFACES, Reverberation
from dolce.core.simulation import (
    BANDS_HZ,
    WALLS,
    DeskTop,
    Driver,
    LowEnd,
    RoomSurfaces,
    SpeakerModel,
    field_spectrum,
    plain_surfaces,
    response_samples,
    surfaces_of_plan,
)
from dolce.core.simulation.directivity import cap_in_sphere, mean_power
from dolce.core.simulation.image_sources import early_response
from dolce.core.simulation.low_end import low_end_response
from dolce.core.simulation.modal_field import modal_field, mode_decay
from dolce.core.simulation.sound_field import split_hz
from dolce.core.simulation.speaker_model import speaker_sound
from dolce.errors import InvalidValue

SIZE = (4.0, 5.0, 2.5)
ROOM = RoomSize(width_m=4.0, length_m=5.0, height_m=2.5)
SOURCE, RECEIVER = np.array([1.1, 0.7, 1.2]), np.array([2.3, 3.1, 1.1])
AXIS = (RECEIVER - SOURCE) / np.linalg.norm(RECEIVER - SOURCE)
TWO_WAY = SpeakerModel(
    drivers=(Driver(radius_m=0.066, above_m=-0.07, behind_m=0.016), Driver(radius_m=0.0125, above_m=0.07)),
    crossovers_hz=(2200.0,),
    box_radius_m=0.15,
    low_end=LowEnd(kind="vented", corner_hz=44.0),
)
RATE = 48_000


def every_way(cosine):
    """The beam of a source that has none."""
    return np.ones((BANDS_HZ.size, cosine.size))


def alike(absorption):
    """A room whose surfaces all absorb that much, a number or one for each surface or each octave."""
    table = np.broadcast_to(np.asarray(absorption, dtype=float), (6, BANDS_HZ.size))
    return RoomSurfaces(size_m=SIZE, absorption=tuple(map(tuple, table)))


def test_reflections_agree_with_a_reference_library_wall_by_wall():
    # pyroomacoustics 0.10.1, image sources with an absorption of its own for each wall; 40 samples late (its delays).
    import pyroomacoustics as pra

    rate, walls = 16_000, np.array([0.1, 0.5, 0.2, 0.35, 0.6, 0.15])
    names = ("west", "east", "south", "north", "floor", "ceiling")

    def library(order):
        box = pra.ShoeBox(
            list(SIZE),
            fs=rate,
            max_order=order,
            air_absorption=False,
            materials={n: pra.Material(a) for n, a in zip(names, walls, strict=True)},
        )
        box.set_sound_speed(343.0)
        box.add_source(SOURCE)
        box.add_microphone(RECEIVER)
        box.compute_rir()
        return np.pad(box.rir[0][0][40:], (0, rate))[:720]  # 45 ms

    own = early_response(
        images_of(SOURCE, RECEIVER, size_m=SIZE, within_m=343 * 0.07),
        alike(walls[:, None]),
        axis=AXIS,
        beam=every_way,
        fade_s=(0.06, 0.065),
        speed_m_s=343.0,
        sample_rate_hz=rate,
    )[:720]
    reference = library(25) - library(0)
    frequency = np.fft.rfftfreq(720, 1 / rate)
    band = (frequency > 200) & (frequency < 4000)
    a, b = (np.fft.rfft(x)[band] for x in (own, reference))
    # An eighth of a sample that our images are rounded to, and the tails of both delay filters at the cut.
    assert np.sqrt(np.mean(np.abs(a - b) ** 2) / np.mean(np.abs(b) ** 2)) < 0.06


def test_reflections_lose_in_each_octave_what_the_surfaces_take_there():
    rate = 16_000
    by_octave = np.interp(np.log(BANDS_HZ), np.log([125, 8000]), [0.05, 0.8])
    parts = {}
    for name, absorption in (("as it is", by_octave), *((f, by_octave[f == BANDS_HZ][0]) for f in (250, 1000))):
        parts[name] = np.abs(
            np.fft.rfft(
                early_response(
                    images_of(SOURCE, RECEIVER, size_m=SIZE, within_m=343 * 0.07),
                    alike(absorption),
                    axis=AXIS,
                    beam=every_way,
                    fade_s=(0.05, 0.06),
                    speed_m_s=343.0,
                    sample_rate_hz=rate,
                )
            )
        )
    frequency = np.linspace(0, rate / 2, parts["as it is"].size)
    for octave in (250, 1000):
        near = np.abs(np.log2(np.maximum(frequency, 1) / octave)) < 0.04
        assert_allclose(
            np.sqrt(np.mean(parts["as it is"][near] ** 2)), np.sqrt(np.mean(parts[octave][near] ** 2)), rtol=0.06
        )


def test_modes_ring_at_the_frequencies_of_the_rigid_box_and_decay_as_eyring_has_it():
    surfaces = alike(0.05)
    field = modal_field(surfaces, up_to_hz=100.0, step_hz=0.05, speed_m_s=343.0)
    corner = np.array([0.01, 0.01, 0.01])
    level = np.abs(field.transfer(corner, corner))
    peaks = field.frequency_hz[signal.find_peaks(level)[0]]
    # Handbook: (c / 2) sqrt(...) for 5.00 x 4.00 x 2.50 m: 34.3, 42.9, 54.9, 68.6 Hz (Kuttruff, eq. 3.15).
    for expected in (34.3, 42.875, 54.9, 68.6):
        assert np.min(np.abs(peaks - expected)) < 0.35
    modes = modes_of_box(SIZE, up_to_hz=300, speed_m_s=343.0)
    oblique = np.all(modes.orders > 0, axis=1)
    decay = mode_decay(modes, surfaces, speed_m_s=343.0)
    assert_allclose(3 * np.log(10) / decay[oblique], surfaces.reverberation_s[0], rtol=1e-6)
    # Modes along one axis touch the other walls only in passing, and ring for longer (Morse and Bolt 1944).
    assert np.all(decay[modes.orders.sum(axis=1) == 1] < 0.8 * decay[oblique].min())


def test_modes_and_reflections_are_the_same_sound_where_they_meet():
    surfaces, step = alike(0.2), 1.0
    modal = modal_field(surfaces, up_to_hz=300.0, step_hz=step, speed_m_s=343.0).transfer(SOURCE, RECEIVER)
    images = images_of(SOURCE, RECEIVER, size_m=SIZE, within_m=343 * 0.6)
    strength = np.exp(-0.5 * images.hits @ surfaces.exponents[:, 4]) / images.distance_m
    frequency = np.arange(150, 260, step)
    sum_ = np.exp(-2j * np.pi * np.multiply.outer(frequency, images.distance_m) / 343.0) @ strength
    a, b = modal[150:260], sum_
    # Our own bounds: waves that graze a wall are damped half as much in one model and not at all in the other.
    assert np.abs(np.vdot(a, b)) / np.linalg.norm(a) / np.linalg.norm(b) > 0.8
    assert 20 * np.log10(np.linalg.norm(a) / np.linalg.norm(b)) == pytest.approx(0, abs=1.5)


def impulse(model=TWO_WAY, *, surfaces=None, receiver=RECEIVER, seed=1, **more):
    surfaces = surfaces or plain_surfaces(ROOM, reverberation_s=0.4)
    spectrum = field_spectrum(
        model,
        SOURCE,
        AXIS,
        receiver,
        surfaces=surfaces,
        speed_m_s=343.0,
        sample_rate_hz=RATE,
        rng=np.random.default_rng(seed),
        **more,
    )
    late = np.exp(-2j * np.pi * np.arange(spectrum.size) / response_samples(surfaces, RATE) * 480)  # 10 ms
    return np.fft.irfft(spectrum * late, response_samples(surfaces, RATE))


@pytest.mark.parametrize(("absorption", "longer"), [(0.12, 0.0), (0.25, 0.0), (0.33, 0.4)])
def test_the_whole_room_decays_as_eyring_has_it(absorption, longer):
    surfaces = alike(absorption)
    # Paths between reflections differ: in deader rooms it takes 1 / (1 + g / 2 ln(1 - a)) as long as that, with
    # a variance g of about 0.4 for boxes (Kuttruff, 6th ed., eq. 5.27).
    wanted = surfaces.reverberation_s[5] / (1 + longer / 2 * np.log(1 - absorption))
    found = []
    for seed, receiver in enumerate(([2.3, 3.1, 1.1], [3.1, 4.2, 1.5], [0.8, 3.9, 0.9], [2.9, 1.9, 1.9])):
        sample = impulse(
            SpeakerModel(
                drivers=(Driver(radius_m=0.02),), box_radius_m=0.05, low_end=LowEnd(kind="closed", corner_hz=30)
            ),
            surfaces=surfaces,
            receiver=np.array(receiver),
            seed=seed,
        )
        for octave in (500, 1000, 2000):
            band = signal.butter(3, [octave / 2**0.5, octave * 2**0.5], "band", fs=RATE, output="sos")
            energy = np.cumsum(signal.sosfiltfilt(band, sample)[::-1] ** 2)[::-1]
            level = 10 * np.log10(energy / energy[0])
            found.append(3 * (np.argmax(level < -25) - np.argmax(level < -5)) / RATE)  # T20, ISO 3382-1
    assert np.mean(found) == pytest.approx(wanted, rel=0.10)


def test_a_cap_in_a_sphere_beams_like_a_piston_and_not_at_all_when_it_is_small():
    angle = np.arange(0, 181, 5.0)
    # Piston in a baffle: 2 J1(ka sin t) / (ka sin t) (Kinsler et al., "Fundamentals of Acoustics", 4th ed., 7.4.17).
    for ka in (2.0, 3.0):
        cap = cap_in_sphere(np.array([ka / np.sin(np.radians(6))]), cap_deg=6.0, angle_deg=angle)[0]
        x = ka * np.sin(np.radians(angle[1:9]))
        assert_allclose(cap[1:9], np.abs(2 * j1(x) / x), atol=0.06)  # to 40 degrees
    assert_allclose(cap_in_sphere(np.array([0.05]), cap_deg=25.0, angle_deg=angle)[0], 1.0, atol=0.1)
    # Behind a box the treble is missing; power against the axis falls with frequency.
    power = mean_power(cap_in_sphere(np.array([0.2, 1.0, 3.0, 8.0]), cap_deg=25.0, angle_deg=angle), angle)
    assert np.all(np.diff(power) < 0)


def test_bottom_ends_are_those_of_the_handbook():
    closed, vented = (
        20 * np.log10(np.abs(low_end_response(LowEnd(kind=kind, corner_hz=60.0), np.array([60, 6, 3.0]))))
        for kind in ("closed", "vented")
    )
    # Small 1972, 1973: both 3 dB down at their corner here; 12 and 24 dB per octave below.
    assert_allclose((closed[0], vented[0]), -3.01, atol=0.02)
    assert_allclose((closed[1] - closed[2], vented[1] - vented[2]), (12.04, 24.08), atol=0.1)


def test_reflections_of_a_real_speaker_lose_treble_and_its_drivers_stand_apart():
    sound = speaker_sound(TWO_WAY, samples=4800, sample_rate_hz=RATE)
    fell = 10 * np.log10(sound.power)
    assert fell[2] > -1.5  # 125 Hz: nearly all around
    assert fell[-3] < -3.5  # 4 kHz
    # On its axis far away both drivers add up to an all-pass; above it the ways differ by up to 14 cm.
    frequency = np.fft.rfftfreq(4800, 1 / RATE)
    band = (frequency > 300) & (frequency < 15_000)
    assert_allclose(np.abs(sound.together[band]), 1, atol=0.01)


def test_the_direct_sound_comes_from_the_highest_driver_first_and_the_same_words_give_the_same_sound():
    sample = impulse()
    arrival = find_arrival(ImpulseResponse(sample=sample, sample_rate_hz=RATE, start_s=0))
    tweeter = SOURCE + np.array([0, 0, 0.07])
    assert arrival.time_s - 0.01 == pytest.approx(np.linalg.norm(RECEIVER - tweeter) / 343.0, abs=40e-6)
    assert arrival.polarity == "normal"
    assert np.array_equal(sample, impulse())
    assert not np.array_equal(sample, impulse(seed=2))


@pytest.mark.parametrize("corners_hz", [(1700.0,), (2600.0,), (300.0, 2700.0), (390.0, 2700.0), (480.0, 3200.0)])
def test_polarity_of_two_and_three_way_speakers_is_never_wrong(corners_hz):
    # The truth is the simulation's own wiring; a Linkwitz-Riley crossover turns by half a circle at its corner.
    drivers = (
        Driver(radius_m=0.08, above_m=-0.09, behind_m=0.02),
        Driver(radius_m=0.04, behind_m=0.01),
        Driver(radius_m=0.0125, above_m=0.08),
    )
    model = SpeakerModel(
        drivers=drivers if len(corners_hz) == 2 else drivers[::2],
        crossovers_hz=corners_hz,
        box_radius_m=0.16,
        low_end=LowEnd(kind="closed", corner_hz=52.0),
    )
    on_progress = []
    for seed in range(16):
        rng = np.random.default_rng(seed)
        sample = impulse(
            model,
            surfaces=plain_surfaces(ROOM, reverberation_s=rng.uniform(0.25, 0.6)),
            seed=seed,
            receiver=np.array([rng.uniform(1.2, 2.8), rng.uniform(2.0, 3.8), rng.uniform(1.0, 1.4)]),
        )
        for sign, right in ((1, "normal"), (-1, "inverted")):
            found = find_arrival(ImpulseResponse(sample=sign * sample, sample_rate_hz=RATE, start_s=0)).polarity
            assert found in (right, "unsure")
            on_progress.append(found == right)
    if len(corners_hz) == 1:
        assert np.mean(on_progress) >= 0.95


def test_a_desk_makes_the_notch_that_its_detour_predicts():
    desk = DeskTop(x_m=(0, 4), y_m=(0.5, 3.0), top_m=0.75)
    at = np.linspace(200, 2000, 1801)
    direct, mirrored = (np.linalg.norm(RECEIVER - place) for place in (SOURCE, SOURCE * [1, 1, -1] + [0, 0, 1.5]))
    total = np.exp(-2j * np.pi * at * direct / 343.0) / direct + desk.reflection(SOURCE, RECEIVER, at, speed_m_s=343.0)
    notch = at[np.argmin(np.abs(total))]
    assert notch == pytest.approx(343.0 / 2 / (mirrored - direct), rel=0.12)  # half a wave (common practice)
    assert not desk.reflection(SOURCE, RECEIVER * [1, 1, 0.5], at, speed_m_s=343.0).any()  # from below


@pytest.mark.parametrize(
    ("reverberation", "message"),
    [
        (Reverberation(typed_s=4.0), "would ring for"),
        (Reverberation(typed_s=0.05), "simulation needs 60 ms"),
        (
            Reverberation(source="surfaces", surfaces=dict.fromkeys(SURFACES, "mineral wool 50 mm")),
            "simulation needs 60 ms",
        ),
        (Reverberation(), None),
    ],
)
def test_rooms_that_break_the_model_are_said_and_others_are_not(reverberation, message):
    if message is None:
        assert surfaces_of_plan(ROOM, reverberation).volume_m3 == pytest.approx(50)
        return
    with pytest.raises(InvalidValue, match=message) as refused:
        surfaces_of_plan(ROOM, reverberation)
    assert "on the Room page" in str(refused.value)


def test_a_typed_time_is_that_of_the_bass_and_modes_give_way_above_it():
    surfaces = plain_surfaces(ROOM, reverberation_s=0.5)
    assert np.mean(surfaces.reverberation_s[1:4]) == pytest.approx(0.5, rel=0.02)
    begin, end = split_hz(surfaces)
    assert 150 < begin < end <= 330  # Schroeder: 2000 sqrt(0.5 / 50) = 200
    assert len(WALLS) == 6
