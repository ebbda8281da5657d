"""Recordings as a recorder of its own would make them, for tests of files made elsewhere."""

import io

import numpy as np
import soundfile

from dolce.core.job import Job
from dolce.core.response import stretched
from dolce.devices.opening import audio_of
from dolce.services.takes.whole_spot import spot_file


def flac(samples: np.ndarray, rate: int = 48_000) -> bytes:
    """Samples as a 24-bit FLAC file."""
    out = io.BytesIO()
    soundfile.write(out, samples, rate, format="FLAC", subtype="PCM_24")
    return out.getvalue()


def of_whole_spot(job: Job, *, at: int, ppm: float = 45.0) -> np.ndarray:
    """What a recorder hears at a spot when the file for a whole spot is played; its clock runs slow."""
    file, _ = spot_file(job)
    with file:
        sent, rate = soundfile.read(file)
    device = audio_of(job, spot_id=job.spots[at].id, round_name="file", attempt=1)
    heard = device.play_and_record(
        {k + 1: sent[:, k] for k in range(sent.shape[1]) if sent[:, k].any()},
        sample_rate_hz=rate,
        progress=lambda _: None,
        stopped=lambda: False,
    )[0]
    return stretched(np.concatenate([np.zeros(30_000), heard]), ppm * 1e-6)
