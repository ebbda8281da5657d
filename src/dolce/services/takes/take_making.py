"""From a recording to a kept take; shared by live passes and files made elsewhere."""

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.geometry import distance_m
from dolce.core.job import Feed, Job, Rig
from dolce.core.response import (
    DRIFT_WORTH_PPM,
    Capture,
    Caution,
    Deconvolver,
    GridLevels,
    InterfaceLoop,
    MicrophoneCurve,
    analyse_recording,
    grid_levels,
    on_one_clock,
    part_with,
    without_response,
)
from dolce.core.signals import (
    Excitation,
    PeriodicSignal,
    SignalKind,
    Sweep,
    SyncedSignal,
    excitation,
    sync_chirp,
    with_chirps,
)
from dolce.core.signals.sync_chirps import GAP_S
from dolce.errors import Conflict

TAIL_S = 1.0
_HIGHEST = 0.49  # of the sample rate


def sweep_of(rig: Rig) -> Sweep:
    """The sweep of a job: 10 Hz to 22 kHz, or as high as its sample rate lets it."""
    return Sweep(
        start_hz=10.0,
        stop_hz=min(22_000.0, _HIGHEST * rig.sample_rate_hz),
        duration_s=rig.sweep_seconds,
        sample_rate_hz=rig.sample_rate_hz,
        level_dbfs=rig.levels.sweep_level_dbfs,
    )


def signal_of(job: Job, feed: Feed, kind: SignalKind = "sweep", *, attenuation_db: float = 0.0) -> Excitation:
    """What a row is played with. Several speakers at once are softer by what they add up to."""
    rig, how = job.rig, job.rows.how(feed)
    fed, _ = job.routed(feed.channels)
    level = rig.levels.sweep_level_dbfs + how.offset_db - attenuation_db - 20 * float(np.log10(len(fed)))
    return excitation(
        kind,
        start_hz=how.low_hz,
        stop_hz=min(how.high_hz, _HIGHEST * rig.sample_rate_hz),
        duration_s=how.sweep_s or rig.sweep_seconds,
        sample_rate_hz=rig.sample_rate_hz,
        level_dbfs=max(-90.0, min(0.0, level)),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Playing:
    """What one take of a row plays, output by output, and how its recordings are read.

    Attributes
    ----------
    synced : CuedSignal or None
        Where what records has a clock of its own.
    """

    signal: Excitation
    outputs: tuple[int, ...]
    synced: SyncedSignal | None = None
    sync_output: int | None = None

    @property
    def seconds(self) -> float:
        """How long one recording lasts."""
        return (self.synced or self.signal).size / self.signal.sample_rate_hz + TAIL_S

    def sent(self) -> dict[int, NDArray[np.float64]]:
        """Samples by physical output, the silence behind them included."""
        if self.synced is None:
            samples = stimulus_of(self.signal)
            return dict.fromkeys(self.outputs, samples)
        sync_chirps, samples = _synced_stimuli(self.synced)
        sent = dict.fromkeys(self.outputs, samples)
        if self.sync_output is not None:
            sent[self.sync_output] = sent.get(self.sync_output, 0.0) + sync_chirps
        return sent

    def one_clock(
        self, recording: NDArray[np.float64], *, sync_flight_s: float
    ) -> tuple[NDArray[np.float64], list[Caution], bool]:
        """The recording as of one clock, what to know of that, and whether its arrival is known."""
        if self.synced is None:
            return recording, [], True
        samples = stimulus_of(self.signal).size
        found = on_one_clock(recording, synced=self.synced, samples=samples, sync_flight_s=sync_flight_s)
        if found is None:
            return recording[self.synced.signal_at :][:samples], [Caution(kind="no sync chirp")], False
        worth = abs(found.drift_ppm) > DRIFT_WORTH_PPM
        return found.recording, [Caution(kind="clock differs", value=found.drift_ppm)] if worth else [], True


def playing_of(job: Job, feed: Feed, kind: SignalKind = "sweep", *, attenuation_db: float = 0.0) -> Playing:
    """What a row's take plays through the job's rig."""
    signal = signal_of(job, feed, kind, attenuation_db=attenuation_db)
    fed, _ = job.routed(feed.channels)
    outputs = tuple(job.speaker(channel).output for channel in fed)
    if not job.rig.interface.own_clock:
        return Playing(signal=signal, outputs=outputs)
    return replace(
        synced_playing(signal, sync_dbfs=job.rig.levels.sweep_level_dbfs),
        outputs=outputs,
        sync_output=job.speaker(job.sync_channel).output,
    )


def synced_playing(signal: Excitation, *, sync_dbfs: float = 0.0, code: int = 0) -> Playing:
    """A test signal behind a sync chirp, not yet on any output."""
    return Playing(signal=signal, outputs=(), synced=SyncedSignal(signal=signal, sync_dbfs=sync_dbfs, code=code))


def sync_flight_s(job: Job, spot_id: int) -> float:
    """From the sync chirp's output to a spot by the plan, with the delay that the processor gives it now."""
    sync_speaker = job.speaker(job.sync_channel)
    settings = job.processor.settings_for(sync_speaker.channel)
    return distance_m(sync_speaker.place, job.spot(spot_id).place) / job.plan.speed_m_s + settings.delay_s


@cache(6)
def stimulus_of(signal: Excitation) -> NDArray[np.float64]:
    """The test signal with the silence behind it, computed once; read-only."""
    samples = np.concatenate([signal.samples(), np.zeros(round(TAIL_S * signal.sample_rate_hz))])
    samples.flags.writeable = False
    return samples


@cache(4)
def _synced_stimuli(synced: SyncedSignal) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Of the sync chirp's output and of the feed's, with the silence behind them."""
    tail = np.zeros(round(TAIL_S * synced.sample_rate_hz))
    return np.concatenate([synced.sync_chirps(), tail]), np.concatenate([synced.samples(), tail])


@cache(4)
def deconvolver_of(signal: Excitation, recording_samples: int) -> Deconvolver:
    """The test signal's inverse, computed once for all takes of a board."""
    return new_deconvolver(signal, recording_samples)


def new_deconvolver(signal: Excitation, recording_samples: int) -> Deconvolver:
    """The test signal's inverse for one length of recording."""
    return Deconvolver(
        signal.one_period if isinstance(signal, PeriodicSignal) else signal.samples(),
        periodic=isinstance(signal, PeriodicSignal),
        sample_rate_hz=signal.sample_rate_hz,
        recording_samples=recording_samples,
        band_hz=(signal.start_hz, signal.stop_hz),
    )


def with_sync_chirps(sweep: Sweep) -> NDArray[np.float64]:
    """The sweep between its two marks, as a test signal for a recorder with a clock of its own."""
    return with_chirps(sweep.samples(), sample_rate_hz=sweep.sample_rate_hz)


def chirps_of(sweep: Sweep) -> tuple[int, int]:
    """Where the marks begin in that test signal, in samples."""
    samples = sweep.samples().size + 2 * round(GAP_S * sweep.sample_rate_hz)
    return 0, samples + sync_chirp(sweep.sample_rate_hz).size


def deconvolver_with_chirps(sweep: Sweep, recording_samples: int) -> Deconvolver:
    """The inverse of the sweep with its marks for one length of recording."""
    return Deconvolver(
        with_sync_chirps(sweep),
        sample_rate_hz=sweep.sample_rate_hz,
        recording_samples=recording_samples,
        band_hz=(sweep.start_hz, sweep.stop_hz),
        sweep_s=sweep.duration_s,
    )


def captured(
    recording: NDArray[np.float64],
    *,
    sweep: Excitation,
    microphone: MicrophoneCurve | None,
    loop: InterfaceLoop | None = None,
    gain_db: float = 0.0,
    clipped: int | None = None,
    is_sub: bool = False,
    deconvolver: Deconvolver | None = None,
) -> tuple[Capture, GridLevels]:
    """Response, arrival and quality of a recording, and its levels on the analysis grid.

    A sub's arrival and polarity are read in its own band. Where the interface's loop is known, its response and its
    latency are taken out.

    Raises
    ------
    InvalidValue
        If the recording is silent or does not hold the test signal.
    """
    if isinstance(sweep, PeriodicSignal):
        recording = sweep.folded(recording)
    begin_s = 0.0
    if deconvolver is None:
        part = part_with(recording, stimulus_of(sweep), sample_rate_hz=sweep.sample_rate_hz)
        recording, begin_s = recording[part], part.start / sweep.sample_rate_hz
        deconvolver = deconvolver_of(sweep, recording.size)
    capture = analyse_recording(
        recording, deconvolver=deconvolver, microphone=microphone, gain_db=gain_db, clipped=clipped, is_sub=is_sub
    )
    if loop is not None:
        capture = replace(capture, response=without_response(capture.response, loop.response))
        begin_s -= loop.latency_s
    capture = capture.later(begin_s)
    return capture, grid_levels(capture.response)


def require_open(job: Job, channels: Iterable[str]) -> None:
    """Conflict where the processor shuts or dims what is to be measured; one that can't be read is not asked."""
    shut = [channel for channel in channels if not job.processor.is_open(channel)]
    if shut:
        raise Conflict(
            f"the processor keeps {', '.join(shut)} silent.",
            where="processor",
            remedy="Take mute and solo off on the Rig page, under Processor.",
        )
    if job.processor.dimmed:
        raise Conflict(
            "the processor is dimmed.", where="processor", remedy="Undim it on the Rig page, under Processor."
        )
