"""Impulse responses as files: one as WAV, all of a channel with their places as SOFA."""

import numpy as np

from dolce.core.job import TakeRecord
from dolce.core.response import from_emission
from dolce.errors import InvalidValue, NotFound
from dolce.formats.audio_file import write_wav
from dolce.formats.sofa_file import RoomResponses, write_sofa
from dolce.store import UnitOfWork


def impulse_wav(work: UnitOfWork, job_id: int, take_id: int) -> tuple[bytes, str]:
    """The impulse response of a take as mono WAV in 32-bit float, and its file name."""
    if work.takes.job_of(take_id) != job_id:
        raise InvalidValue("that take is not of this job.", where="takes", remedy="Reload the page.")
    take, response, job = work.takes.get(take_id), work.takes.response(take_id), work.jobs.get(job_id)
    spot = next((s.number for s in job.spots if s.id == take.spot_id), 0)
    return (
        write_wav(response.sample, sample_rate_hz=response.sample_rate_hz),
        f"impulse {take.channel} spot {spot} attempt {take.attempt}.wav",
    )


def responses_sofa(work: UnitOfWork, job_id: int, round_id: int, channel: str) -> tuple[bytes, str]:
    """All responses of a channel in a round as AES69 (SOFA), with where they were taken, and the file's name.

    Every response begins when the sound is emitted. Takes that can't be put on that axis, or don't count, are left
    out; the file's comment names them.

    Raises
    ------
    NotFound
        Where the channel has no response with a known arrival; it says why.
    """
    job = work.jobs.get(job_id)
    chosen = next((r for r in work.takes.rounds(job_id) if r.id == round_id), None)
    taken = [t for t in work.takes.latest(round_id) if t.channel == channel] if chosen else []
    rate = next((t.sample_rate_hz for t in taken if not _kept_out(t, t.sample_rate_hz)), None)
    takes = [take for take in taken if not _kept_out(take, rate)]
    out = "; ".join(f"{job.at_spot(take.spot_id)} ({_kept_out(take, rate)})" for take in taken if _kept_out(take, rate))
    if not takes or chosen is None or rate is None:
        raise NotFound(
            f"{channel} has no impulse response with a known arrival in that round" + (f": {out}." if out else "."),
            where="takes",
            remedy="Choose another channel or round, or take it through the rig.",
        )
    responses = [work.takes.response(take.id) for take in takes]
    places = {spot.id: spot.place for spot in job.spots}
    found = RoomResponses(
        samples=from_emission(responses),
        sample_rate_hz=rate,
        source_m=job.speaker(channel).place.as_array(),
        microphones_m=np.array([(take.spot_place or places[take.spot_id]).as_array() for take in takes]),
        delay_samples=np.zeros(len(takes)),
        room_m=(job.room.width_m, job.room.length_m, job.room.height_m),
        title=f"{job.name}, {chosen.name}, {channel}",
        comment="Time 0 is when the sound is emitted." + (f" Left out: {out}." if out else ""),
    )
    date = f"{max(take.taken_at for take in takes):%Y-%m-%d %H:%M:%S}"
    return write_sofa(found, date=date), f"responses {channel} {chosen.name}.sofa"


def _kept_out(take: TakeRecord, rate_hz: int | None) -> str:
    """Why a take is not among responses on one time axis; empty where it is."""
    if not take.has_response:
        return "no impulse response"
    if take.left_out:
        return f"left out: {take.left_out}"
    if not take.usable:
        return take.word
    if not take.arrival_known:
        return "its arrival is not known"
    return "" if take.sample_rate_hz == rate_hz else f"at {take.sample_rate_hz} Hz"
