"""A passage played in the room through the processor's presets, each as loud as the others at the seat."""

import threading
import time
from dataclasses import dataclass

import numpy as np

from dolce.core.job import Job, PassRecord, PassResult
from dolce.core.listening import LONGEST_S, Programme, RoomPlayer
from dolce.core.processor import BYPASS
from dolce.devices.interface import AudioDevice, Progress, SoundStopped, Stopped
from dolce.devices.opening import audio_of
from dolce.errors import Conflict, InvalidValue
from dolce.services.context import Context
from dolce.services.load.listen_material import programme_for
from dolce.services.load.listening import Listening
from dolce.services.load.loading import Loading
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.store import UnitOfWork

_START_DBFS, _LOWEST_DBFS = -30.0, -70.0
_QUIET_BLOCKS = 6  # of silence before the processor is switched: what was given has been played by then
_UNSEEN_S = 15.0
_WITHIN_S = 5.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomLook:
    """What plays in the room: a preset by its key, the level of the loudest channel, and channels left out."""

    key: str
    level_dbfs: float
    left_out: tuple[str, ...]


class _Playing:
    """One passage in one room, from its start to its end."""

    def __init__(self, job: Job, player: RoomPlayer, *, key: str, level_dbfs: float, left_out: tuple[str, ...]) -> None:
        self.job, self.player, self.key, self.level_dbfs, self.left_out = job, player, key, level_dbfs, left_out
        self.device: AudioDevice | None = None
        self.seen, self.over = time.monotonic(), False

    def run(self, _progress: Progress, stopped: Stopped) -> None:
        """Until stopped, or seen by nobody."""
        try:
            device = self.device = audio_of(
                self.job, spot_id=self.job.first_spot.id, round_name="listen", attempt=1, real_time=True
            )
            device.run_live(
                self.player.next_block,
                lambda _: None,
                sample_rate_hz=self.job.rig.sample_rate_hz,
                stopped=lambda: stopped() or time.monotonic() - self.seen > _UNSEEN_S,
            )
        except SoundStopped:
            if stopped():
                raise
            raise Conflict(
                "no page was looking any more. Sound was ended.",
                where="listening",
                remedy="Open the page and start it again.",
            ) from None

    def end(self) -> None:
        """It plays no more, or was stopped before it began."""
        self.over = True


class RoomListening:
    """Presets of one job, heard in the room."""

    def __init__(self, context: Context, sound: SoundWork, loading: Loading, listening: Listening) -> None:
        self._context, self._sound = context, sound
        self._loading, self._listening = loading, listening
        self._playing: _Playing | None = None
        self._switching = threading.Lock()

    def look(self, job_id: int) -> RoomLook | None:
        """What plays in the room of a job; tells the sound that somebody looks."""
        playing = self._of(job_id)
        if playing is None:
            return None
        playing.seen = time.monotonic()
        return RoomLook(key=playing.key, level_dbfs=playing.level_dbfs, left_out=playing.left_out)

    def start(self, job_id: int, key: str) -> PassRecord:
        """Play what was rendered, through a preset that the processor holds.

        Raises
        ------
        Conflict
            If nothing is rendered, something sounds, or the processor can't be switched from here.
        InvalidValue
            If that was not rendered, or is no preset of the processor.
        """
        audition, slot = self._listening.cache(job_id), self._slot(job_id, key)
        self._loading.switch(job_id, slot)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        programme, _ = programme_for(
            job,
            audition.options.material,
            self._listening.recording(job_id),
            start_s=audition.options.start_s,
            sample_rate_hz=job.rig.sample_rate_hz,
        )
        outputs = {
            speaker.output: channel
            for channel in programme.channels
            for speaker in job.speakers
            if speaker.channel == channel
        }
        if not outputs:
            raise Conflict(
                f"no speaker plays {', '.join(programme.channels)}.", where="listening", remedy="Choose other material."
            )
        rows = _scaled(programme)
        player = RoomPlayer(
            {output: rows[channel] for output, channel in outputs.items()},
            sample_rate_hz=job.rig.sample_rate_hz,
            gain_db=0.0,
        )
        level = min(_START_DBFS, job.rig.levels.ceiling_dbfs - 20 * float(np.log10(max(player.peak, 1e-9))))
        player.sound(level + audition.match.gain_db[key])
        playing = _Playing(
            job,
            player,
            key=key,
            level_dbfs=level,
            left_out=tuple(channel for channel in programme.channels if channel not in outputs.values()),
        )

        def step(_channel: str, _spot: int, progress: Progress, stopped: Stopped) -> Keep:
            playing.run(progress, stopped)
            return _nothing

        return self._sound.start(
            job_id,
            kind="listen",
            steps=[(next(iter(outputs.values())), job.first_spot.id)],
            step=step,
            seconds_per_step=LONGEST_S,
            before=lambda: setattr(self, "_playing", playing),
            after=playing.end,
        )

    def switch(self, job_id: int, key: str) -> None:
        """Another preset at the same place: down, the processor is switched, up again at its own gain."""
        playing, slot = self._require(job_id), self._slot(job_id, key)
        audition = self._listening.cache(job_id)
        with self._switching:
            playing.player.sound(None)
            until = time.monotonic() + _WITHIN_S
            while playing.player.silent_blocks < _QUIET_BLOCKS and not playing.over:
                if time.monotonic() > until:
                    break
                time.sleep(0.02)
            self._loading.switch(job_id, slot)
            with self._context.look() as work:
                job = work.jobs.get(job_id)
            if playing.device is not None:
                playing.device.becomes(knobs_db=job.rig.rehearsal.knobs_db, processor=job.simulated)
            playing.key = key
            playing.player.sound(playing.level_dbfs + audition.match.gain_db[key])

    def louder(self, job_id: int, change_db: float) -> None:
        """All of them louder or softer, never above the ceiling."""
        playing = self._require(job_id)
        most = playing.job.rig.levels.ceiling_dbfs - 20 * float(np.log10(max(playing.player.peak, 1e-9)))
        playing.level_dbfs = float(np.clip(playing.level_dbfs + change_db, _LOWEST_DBFS, most))
        gain = self._listening.cache(job_id).match.gain_db.get(playing.key, 0.0)
        playing.player.sound(playing.level_dbfs + gain)

    def _slot(self, job_id: int, key: str) -> str:
        audition = self._listening.cache(job_id)
        if key not in audition.names or not (key == BYPASS or key.startswith("preset-")):
            raise InvalidValue(
                "only what the processor holds can be heard in the room.",
                where="listening",
                remedy="Load it into a preset, then render again.",
            )
        with self._context.look() as work:
            processor = work.jobs.get(job_id).rig.processor
        if not processor.can.loads:
            raise Conflict(
                "the processor can't be switched from here.",
                where="listening",
                remedy="Compare by what is rendered, or switch it by hand.",
            )
        return key.removeprefix("preset-")

    def _of(self, job_id: int) -> _Playing | None:
        playing = self._playing
        return playing if playing is not None and not playing.over and playing.job.id == job_id else None

    def _require(self, job_id: int) -> _Playing:
        playing = self._of(job_id)
        if playing is None:
            raise Conflict("nothing plays in the room.", where="listening", remedy="Start it first.")
        return playing


def _scaled(programme: Programme) -> dict[str, np.ndarray]:
    """Rows whose loudest has an RMS of a full-scale sine: then a gain is a level in dBFS."""
    loudest = max(float(np.sqrt(2 * np.mean(np.square(row, dtype=float)))) for row in programme.sample)
    rows = zip(programme.channels, programme.sample, strict=True)
    return {channel: row / max(loudest, 1e-9) for channel, row in rows}


def _nothing(_work: UnitOfWork, _found: PassResult) -> None:
    """There is nothing to keep of what was listened to."""
