"""A passage in the room through the processor's presets: on all outputs at once, matched, switched in place."""

import numpy as np
import pytest

from dolce.core.listening import RoomPlayer
from dolce.errors import Conflict, InvalidValue
from dolce.services.load.audition import ListenOptions
from dolce.services.sound.sounding import Sounding
from rooms import loaded_pair

PAIR = ("preset-A", "preset-B")


@pytest.fixture(scope="module")
def pair(prepared):
    yield from loaded_pair(prepared)


@pytest.fixture
def playing(pair):
    services, job_id = pair
    if services.listening.view(job_id).audition is None:
        services.listening.begin(job_id, ListenOptions(material="pink", compared=(*PAIR, "bypass", "corrected")[:3]))
        services.listening.wait(job_id)
    services.room_listening.start(job_id, "preset-A")
    yield services, job_id
    services.sound.stop()


def test_a_player_keeps_its_place_in_silence_and_never_steps():
    ramp = {1: np.linspace(-1, 1, 4800, dtype=np.float32), 2: np.ones(4800, dtype=np.float32)}
    player = RoomPlayer(ramp, sample_rate_hz=48_000, gain_db=0.0)
    first = player.next_block(1200)
    assert first[2][0] == 0  # it fades in
    assert first[2][-1] == 1
    player.sound(None)
    down, quiet = player.next_block(1200), player.next_block(1200)
    assert np.abs(np.diff(np.concatenate([first[2], down[2], quiet[2]]))).max() < 1.5 / 960  # of a 20 ms ramp
    assert not quiet[2].any()
    assert player.silent_blocks == 1
    player.sound(-6.0)
    up = player.next_block(1200)
    # The fourth quarter of the passage, as if it had gone on sounding.
    assert up[1][-1] == pytest.approx(10 ** (-6 / 20) * ramp[1][-1], abs=1e-6)
    assert player.peak == pytest.approx(2.0)


def test_it_plays_on_both_outputs_through_the_preset_under_the_ceiling(playing):
    services, job_id = playing
    assert services.jobs.get(job_id).processor.active == "A"
    look = services.room_listening.look(job_id)
    assert look.key == "preset-A"
    assert look.level_dbfs <= -30.0
    assert look.left_out == ()
    block = services.room_listening._playing.player.next_block(4800)
    assert set(block) == {speaker.output for speaker in services.jobs.get(job_id).speakers}
    with pytest.raises(Conflict, match="sound is playing already"):
        services.rigging.check_level(job_id)


def test_switching_goes_through_silence_to_the_other_preset_at_its_own_gain(playing):
    services, job_id = playing
    played, player = [], services.room_listening._playing.player
    ask = player.next_block

    def noted(count):
        block = ask(count)
        played.append((services.jobs.get(job_id).simulated.active, max(np.abs(item).max() for item in block.values())))
        return block

    player.next_block = noted
    services.room_listening._playing.device = None  # blocks are asked for here, not by a clock
    services.room_listening.switch(job_id, "preset-B")
    assert services.jobs.get(job_id).processor.active == "B"
    gains = services.listening.cache(job_id).match.gain_db
    wanted = services.room_listening.look(job_id).level_dbfs + gains["preset-B"]
    assert player._wanted == pytest.approx(10 ** (wanted / 20))
    player.next_block(4800)
    assert player._gain == player._wanted
    assert services.room_listening.look(job_id).key == "preset-B"


def test_louder_never_passes_the_ceiling(playing):
    services, job_id = playing
    for _ in range(30):
        services.room_listening.louder(job_id, 3.0)
    room = services.room_listening._playing
    gains = services.listening.cache(job_id).match.gain_db
    room.player.sound(room.level_dbfs + gains[room.key])
    peak = 20 * np.log10(room.player.peak) + room.level_dbfs
    assert peak <= services.jobs.get(job_id).rig.levels.ceiling_dbfs + 1e-6


def test_what_was_stopped_before_it_began_does_not_count_as_playing(playing, monkeypatch):
    services, job_id = playing
    services.sound.stop()
    services.sound.wait()
    monkeypatch.setattr(Sounding, "hold", lambda sounding: sounding.stop.set())  # pressed before the first step
    services.room_listening.start(job_id, "preset-A")
    assert services.sound.wait(20)
    assert services.room_listening.look(job_id) is None


def test_only_what_the_processor_holds_is_heard_there(playing):
    services, job_id = playing
    services.sound.stop()
    services.sound.wait()
    assert services.room_listening.look(job_id) is None
    with pytest.raises(Conflict, match="nothing plays in the room"):
        services.room_listening.switch(job_id, "preset-B")
    with pytest.raises(InvalidValue, match="only what the processor holds"):
        services.room_listening.start(job_id, "corrected")
