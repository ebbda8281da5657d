"""What is listened to: material that ships, or a recording of the calibrator's own."""

from dataclasses import dataclass

import numpy as np

from dolce.core import checked
from dolce.core.job import Job
from dolce.core.listening import LONGEST_S, SHORTEST_S, Programme, programme_of
from dolce.errors import Conflict, InvalidValue
from dolce.formats.audio_file import read_passage
from dolce.formats.channel_order import Order, recording_channels

OWN = "own"
_MOST_NAME = 80
_DULL_HZ = 40_000  # sample rates below it lack treble


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Recording:
    """A recording of the calibrator's own, as it was handed in."""

    name: str
    data: bytes
    order: Order
    whole_s: float
    channels: int
    sample_rate_hz: int


def recording_of(data: bytes, *, name: str, order: Order) -> Recording:
    """A recording as it is handed in: WAV or FLAC, one channel to twelve.

    Raises
    ------
    FormatError
        If it can't be read, or has a number of channels that no layout has.
    InvalidValue
        If it is too short.
    """
    name = checked.text(name.strip() or "recording", longest=_MOST_NAME, where="recording")
    passage = read_passage(data, name=name, start_s=0.0, duration_s=0.1)
    recording_channels(len(passage.sample), order, name=name)
    if passage.whole_s < SHORTEST_S:
        raise InvalidValue(
            f"it lasts {passage.whole_s:.1f} s.", where=name, remedy=f"Choose one of {SHORTEST_S:g} s or more."
        )
    return Recording(
        name=name,
        data=data,
        order=order,
        whole_s=passage.whole_s,
        channels=len(passage.sample),
        sample_rate_hz=passage.sample_rate_hz,
    )


def programme_for(
    job: Job, material: str, recording: Recording | None, *, start_s: float, sample_rate_hz: int
) -> tuple[Programme, tuple[str, ...]]:
    """What plays, at the rate of the takes, and what should be said of it.

    Raises
    ------
    Conflict
        If a recording is wanted and none was handed in.
    InvalidValue, FormatError
        If too little of it is left, or there is no such material.
    """
    main_channels = job.main_channels
    if material != OWN:
        return programme_of(material, main_channels, sample_rate_hz=sample_rate_hz, rng=np.random.default_rng(16)), ()
    if recording is None:
        raise Conflict(
            "no recording was handed in.",
            where="material",
            remedy="Choose a WAV or FLAC file, or material that is shipped.",
        )
    passage = read_passage(recording.data, name=recording.name, start_s=start_s, duration_s=LONGEST_S)
    codes, remarks = recording_channels(recording.channels, recording.order, name=recording.name), []
    sample = passage.sample
    if sample.shape[1] < SHORTEST_S * passage.sample_rate_hz:
        raise InvalidValue(
            f"only {sample.shape[1] / passage.sample_rate_hz:.1f} s are left from there on.",
            where="from",
            remedy="Choose an earlier beginning.",
        )
    if codes == ("C",) and "C" not in main_channels:
        codes, sample = ("L", "R"), np.vstack([sample, sample]) * np.float32(np.sqrt(0.5))
        remarks.append("The recording has one channel: it plays on L and R.")
    if passage.whole_s > LONGEST_S:
        remarks.append(f"Of its {length_words(passage.whole_s)}, {LONGEST_S:g} s from {length_words(start_s)} on play.")
    if passage.sample_rate_hz < _DULL_HZ:
        remarks.append(
            f"The recording ends at {passage.sample_rate_hz / 2000:g} kHz: what lies above can't be compared with it."
        )
    if float(np.abs(sample).max()) >= 1.0:
        remarks.append("The recording itself reaches full scale: what it clips, every preset plays.")
    made = Programme(name=recording.name, channels=codes, sample=sample, sample_rate_hz=passage.sample_rate_hz)
    return made.without_seam().at_rate(sample_rate_hz), tuple(remarks)


def length_words(seconds: float) -> str:
    """Hours, minutes and seconds."""
    minutes, rest = divmod(round(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02d}:{rest:02d}" if hours else f"{minutes}:{rest:02d}"
