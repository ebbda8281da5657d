"""Presets compared by ear: rendered at a seat, equally loud, blind, turned by preference."""

import io
import re
from dataclasses import replace

import numpy as np
import pyloudnorm
import pytest
import soundfile

from dolce.core.correction import MonitorSwitches, Position, Preference, Switch, SwitchesAt
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.errors import Conflict, FormatError, InvalidValue, NotFound
from dolce.services.load.audition import ListenOptions
from dolce.services.load.listening import TURNED
from rooms import loaded_pair

PAIR = ("preset-A", "preset-B")


@pytest.fixture(scope="module")
def pair(prepared):
    yield from loaded_pair(prepared)


@pytest.fixture
def rendered(pair):
    services, job_id = pair
    options, view = ListenOptions(compared=(*PAIR, "bypass")), services.listening.view(job_id)
    if view.audition is None or view.audition.options != options or view.audition.turned or view.stale:
        services.listening.begin(job_id, options)
        services.listening.wait(job_id)
        view = services.listening.view(job_id)
        assert view.work.fault == ""
    return services, job_id, view.audition


def samples(data: bytes) -> np.ndarray:
    return soundfile.read(io.BytesIO(data), always_2d=True)[0]


def wav(sample: np.ndarray, rate: int, **kind: str) -> bytes:
    out = io.BytesIO()
    soundfile.write(out, sample, rate, format=kind.get("format", "WAV"))
    return out.getvalue()


def logbook(services, job_id) -> list[str]:
    return [entry.text for entry in services.proving.logbook(job_id, before=10**6)]


def test_presets_that_the_processor_holds_are_offered_first_and_each_thing_once(pair):
    services, job_id = pair
    view = services.listening.view(job_id)
    assert list(view.offered.values()) == ["A: Aligned and corrected", "B: Aligned only", "Bypass"]
    assert view.options.compared == PAIR


def test_what_is_handed_on_is_equally_loud_by_the_standard(rendered):
    services, job_id, audition = rendered
    # BS.1770-4 as another reading of the library's: its own filters (within 0.1 of the tables), on the files.
    meter = pyloudnorm.Meter(audition.sample_rate_hz)
    loudness = [
        meter.integrated_loudness(samples(services.listening.sound(job_id, audition.number, place)))
        for place in range(3)
    ]
    assert max(loudness) - min(loudness) < 0.1
    assert audition.match.off_db < 0.1
    assert max(audition.match.loudness.values()) - min(audition.match.loudness.values()) > 0.5
    lengths = {samples(file).shape for file in audition.files.values()}
    assert len(lengths) == 1


def test_a_difference_between_presets_is_that_of_their_filters(rendered):
    # Pressure per band at the ear against the bands of the processor, where one speaker alone would show it: the mean
    # over the passage of what L and R play together lies between what each was changed by.
    services, job_id, audition = rendered
    view = services.loading.view(job_id, slot="A", content="corrected")
    change = {
        c: s.correction_level_db(audition.pressure["preset-A"].frequency_hz, sample_rate_hz=48_000) + s.trim_db
        for c, s in view.settings.items()
    }
    aligned = services.loading.view(job_id, slot="B", content="aligned").settings
    by_channel = np.array([change[c] - aligned[c].trim_db for c in change])  # the common cut is in both
    found = audition.pressure["preset-A"].mean_db - audition.pressure["preset-B"].mean_db
    wide = audition.pressure["preset-A"].frequency_hz > 600  # below, both add up by phase
    assert np.all(found[wide] >= by_channel.min(axis=0)[wide] - 0.3)
    assert np.all(found[wide] <= by_channel.max(axis=0)[wide] + 0.3)


def test_an_older_rendering_is_not_played_for_a_newer_one(rendered):
    services, job_id, audition = rendered
    with pytest.raises(NotFound, match="this rendering is gone"):
        services.listening.sound(job_id, audition.number - 1, 0)


def test_a_blind_test_plays_what_is_hidden_and_ends_in_the_logbook(rendered):
    services, job_id, audition = rendered
    services.listening.begin_blind(job_id, *PAIR)
    hidden = services.listening.view(job_id).blind.hidden
    for trial, was in enumerate(hidden, start=1):
        assert services.listening.hidden_sound(job_id, audition.number, trial) == audition.files[was]
        services.listening.answer(job_id, trial, was)
    assert re.search(
        r"Heard blind, Drum, bass and strings at .*10 of 10 right; by guessing that happens in 0.1 %",
        logbook(services, job_id)[0],
    )
    with pytest.raises(NotFound, match="trial is over"):
        services.listening.hidden_sound(job_id, audition.number, 10)


def test_a_preset_that_was_loaded_anew_makes_a_rendering_old(rendered):
    services, job_id, _ = rendered
    assert services.listening.view(job_id).stale == ()
    services.loading.load(job_id, "B", "convolved")
    assert services.listening.view(job_id).stale == ("B: Aligned only",)
    services.loading.load(job_id, "B", "aligned")
    assert services.listening.view(job_id).stale == ()


def test_less_than_two_and_what_is_gone_are_refused(pair):
    services, job_id = pair
    with pytest.raises(InvalidValue, match="1 are chosen"):
        services.listening.begin(job_id, ListenOptions(compared=("preset-A", "version-99")))
    services.listening.begin(job_id, ListenOptions(material="own", compared=PAIR))
    services.listening.wait(job_id)
    assert "no recording was handed in" in services.listening.view(job_id).work.fault


def test_a_rendering_that_is_stopped_leaves_the_one_before(rendered):
    services, job_id, _ = rendered
    services.listening.begin(job_id, ListenOptions(material="pink", compared=PAIR))
    services.listening.stop(job_id)
    view = services.listening.view(job_id)
    assert view.work.stopped or view.audition.programme == "Pink noise"
    assert view.audition is not None


def test_a_dull_long_recording_of_one_channel_plays_and_what_it_lacks_is_said(pair):
    services, job_id = pair
    rng = np.random.default_rng(4)
    data = wav((0.1 * rng.standard_normal(8000 * 600)).astype(np.float32), 8000, format="FLAC")
    services.listening.hand_in(job_id, data, name="dictation.flac", order="broadcast")
    services.listening.begin(job_id, ListenOptions(material="own", start_s=90, compared=PAIR))
    services.listening.wait(job_id)
    audition = services.listening.view(job_id).audition
    assert audition.programme == "dictation.flac"
    assert audition.remarks == (
        "The recording has one channel: it plays on L and R.",
        "Of its 10:00, 30 s from 1:30 on play.",
        "The recording ends at 4 kHz: what lies above can't be compared with it.",
    )
    assert audition.duration_s == pytest.approx(30, abs=0.1)


def test_channels_of_a_recording_that_the_room_lacks_are_named(pair):
    services, job_id = pair
    rng = np.random.default_rng(4)
    data = wav(0.1 * rng.standard_normal((5 * 48_000, 6)), 48_000)
    services.listening.hand_in(job_id, data, name="five.wav", order="film")
    services.listening.begin(job_id, ListenOptions(material="own", compared=PAIR))
    services.listening.wait(job_id)
    assert set(services.listening.view(job_id).audition.left_out) == {"C", "LFE", "Ls", "Rs"}


@pytest.mark.parametrize(
    ("data", "kind", "message"),
    [
        (b"no sound", FormatError, "not a WAV or FLAC"),
        (wav(np.zeros((48_000 * 3, 5)), 48_000), FormatError, "has 5 channels"),
        (wav(np.zeros(48_000), 48_000), InvalidValue, "lasts 1.0 s"),
        (wav(np.full(48_000 * 3, np.nan), 48_000, format="WAV"), FormatError, "no recorder gives"),
    ],
)
def test_recordings_that_are_none_are_refused_with_the_reason(pair, data, kind, message):
    services, job_id = pair
    if message == "no recorder gives":
        out = io.BytesIO()
        soundfile.write(out, np.full(48_000 * 3, np.nan), 48_000, format="WAV", subtype="FLOAT")
        data = out.getvalue()
    with pytest.raises(kind, match=message):
        services.listening.hand_in(job_id, data, name="x.wav", order="film")


def test_preference_is_heard_at_once_and_kept_as_a_version_with_filters_of_its_own(rendered):
    services, job_id, audition = rendered
    preference = Preference(tilt_db_per_octave=-0.5, bass_db=3.0)
    services.listening.turn(job_id, "preset-A", preference)
    turned = services.listening.view(job_id).audition
    assert turned.names[TURNED] == "A, turned"
    assert turned.number > audition.number
    assert turned.match.off_db < 0.1
    # Band by band it is the curve of the preference on top of what A was.
    bands = turned.pressure["preset-A"]
    change = turned.pressure[TURNED].mean_db - bands.mean_db
    wanted = preference.level_db(bands.frequency_hz)
    assert np.abs(change - wanted)[bands.frequency_hz > 50].max() < 0.5
    services.listening.keep_preference(job_id, "Warmer")
    services.listening.wait(job_id)
    assert services.listening.view(job_id).work.fault == ""
    version = next(item for item in services.loading.view(job_id).tuned.versions.values() if item.name == "Warmer")
    assert version.preference.level_db(ANALYSIS_GRID_HZ) == pytest.approx(preference.level_db(ANALYSIS_GRID_HZ))
    assert version.found
    services.shaping.undo(job_id)
    services.shaping.undo(job_id)


def test_preference_on_top_of_bypass_can_be_heard_but_not_kept(rendered):
    services, job_id, _ = rendered
    services.listening.turn(job_id, "bypass", Preference(treble_db=2.0))
    with pytest.raises(Conflict, match="Bypass is no correction of this job"):
        services.listening.keep_preference(job_id, "Brighter")


def test_a_note_says_what_was_compared(rendered):
    services, job_id, _ = rendered
    services.listening.note(job_id, "A is tighter in the bass.")
    assert logbook(services, job_id)[0].startswith("Heard (Drum, bass and strings at ")
    with pytest.raises(InvalidValue, match="nothing is typed"):
        services.listening.note(job_id, "  ")


def test_switches_at_the_monitors_backs_are_heard_where_a_correction_counts_on_them(rendered):
    services, job_id, audition = rendered
    lift = MonitorSwitches(
        name="Model",
        switches=(
            Switch(
                name="treble",
                positions=(
                    Position(name="0 dB"),
                    Position(name="+4 dB", frequency_hz=(20.0, 20_000.0), level_db=(4.0, 4.0)),
                ),
            ),
        ),
    )
    services.shaping.change(
        job_id,
        "switches",
        lambda c: replace(c, switches=dict.fromkeys(("L", "R"), SwitchesAt(model=lift, chosen={"treble": "+4 dB"}))),
    )
    services.listening.begin(job_id, ListenOptions(compared=PAIR))
    services.listening.wait(job_id)
    turned = services.listening.view(job_id).audition
    services.shaping.undo(job_id)
    louder = {key: turned.match.loudness[key] - audition.match.loudness[key] for key in PAIR}
    assert louder["preset-A"] == pytest.approx(4.0, abs=0.1)
    assert louder["preset-B"] == pytest.approx(0.0, abs=0.01)
