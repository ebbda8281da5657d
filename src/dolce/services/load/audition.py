"""One rendering: what several presets make of a passage at a seat, equally loud, and how loud each band gets."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import Preference, SwitchesAt
from dolce.core.job import Job, Round
from dolce.core.listening import (
    BandPressure,
    LoudnessMatch,
    Programme,
    Rendering,
    loudness_matched,
    paths_of,
    pressure_by_band,
)
from dolce.core.processor import Preset, ProcessorState
from dolce.core.response import ImpulseResponse
from dolce.core.room import Spot
from dolce.core.tuning import Outputs
from dolce.errors import Conflict
from dolce.services.align.bass_takes import summable
from dolce.services.load.listen_material import Recording, programme_for
from dolce.store import UnitOfWork

_EARS_M, _HEAD_M = (0.10, 0.60), 0.18  # how far two spots may be apart to stand for two ears: our own bounds


@dataclass(frozen=True, slots=True, kw_only=True)
class ListenOptions:
    """What is to be rendered.

    Attributes
    ----------
    material : a key of MATERIAL, or "own" for the recording that was handed in
    start_s : where the passage of a recording begins
    seat_id : int; 0 for the main seat
    two_ears : whether two spots of the seat stand for two ears, where there are such
    compared : keys of what is compared, two to four
    """

    material: str = "trio"
    start_s: float = 0.0
    seat_id: int = 0
    two_ears: bool = True
    compared: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Audition:
    """What was rendered, and what of.

    Attributes
    ----------
    number : int
        Another one for each rendering, so that a page never plays an older one by mistake.
    names : mapping of key to what it is, in words
    stood : mapping of key to the very preset; None for bypass
    heard : mapping of key to ndarray, shape (ears, samples), as loud as they are
    match : the same equally loud
    files : mapping of key to FLAC
    pressure : mapping of key to BandPressure at the first ear
    full_scale_spl_db : dB SPL of a full-scale sine at the microphone, None where pressure is not known
    spots : numbers of the spots that stand for the ears
    left_out : channels of the programme that have no take there
    remarks : what the person should know, in sentences
    """

    number: int
    options: ListenOptions
    programme: str
    duration_s: float
    sample_rate_hz: int
    round_name: str
    seat: str
    spots: tuple[int, ...]
    names: Mapping[str, str]
    stood: Mapping[str, Preset | None]
    heard: Mapping[str, NDArray[np.float32]]
    match: LoudnessMatch
    files: Mapping[str, bytes]
    pressure: Mapping[str, BandPressure]
    full_scale_spl_db: float | None
    left_out: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    turned: Preference | None = None
    turned_of: str = ""

    @property
    def keys(self) -> tuple[str, ...]:
        return tuple(self.names)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Candidate:
    """Something that can be compared: a preset or None for bypass, of a job whose round `base` has the takes.

    `turned` are switches at the monitors' backs that its correction counts on.
    """

    name: str
    preset: Preset | None
    job: Job
    base: Round
    turned: Mapping[str, SwitchesAt] = field(default_factory=dict)

    @property
    def outputs(self) -> Outputs:
        """What every output gets."""
        state = ProcessorState() if self.preset is None else ProcessorState(presets={"A": self.preset}, active="A")
        return replace(Outputs.held(state, self.job.channels), turned=self.turned)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Ears:
    """What is needed to render: a programme, and each candidate's responses at the spots that stand for ears."""

    options: ListenOptions
    candidates: Mapping[str, Candidate]
    seat: str
    spots: tuple[int, ...]
    responses: Mapping[str, tuple[Mapping[str, ImpulseResponse], ...]]
    programme: Programme
    remarks: tuple[str, ...]
    full_scale_spl_db: float | None


def ears_at(
    work: UnitOfWork, job: Job, options: ListenOptions, candidates: Mapping[str, Candidate], recording: Recording | None
) -> Ears:
    """Responses at a seat of a job for a passage through what is compared.

    Raises
    ------
    Conflict
        If no spot of the seat has the takes that all of them need.
    InvalidValue, FormatError
        If there is no such passage.
    """
    seat = next((seat for seat in job.plan.seats if seat.id == options.seat_id), job.seat)
    takes = {key: summable(work, candidate.base.id, candidate.job.channels) for key, candidate in candidates.items()}
    first = next((take for of_one in takes.values() for take in of_one), None)
    programme, remarks = programme_for(
        job,
        options.material,
        recording,
        start_s=options.start_s,
        sample_rate_hz=first.sample_rate_hz if first else job.rig.sample_rate_hz,
    )
    spots = job.plan.spots_of(seat.id)
    cells: dict[str, dict[int, dict[str, int]]] = {}
    there, absent = {spot.id for spot in spots}, set()
    for key, candidate in candidates.items():
        needed = {route.output for channel in programme.channels for route in candidate.outputs.routes(channel)}
        needed &= {take.channel for take in takes[key]}
        cells[key] = {
            spot.id: {
                take.channel: take.id for take in takes[key] if take.spot_id == spot.id and take.channel in needed
            }
            for spot in spots
        }
        there &= {spot for spot, found in cells[key].items() if found and set(found) == needed}
        absent |= needed
    ears = _ears(spots, there, two=options.two_ears)
    if not ears:
        raise Conflict(
            f"at {seat.name} no spot has takes of all of {', '.join(sorted(absent)) or 'these'}.",
            where="listening",
            remedy="Choose another seat, or run its spots on the Takes page.",
        )
    wanted = {take for of_one in cells.values() for ear in ears for take in of_one[ear.id].values()}
    responses = dict(work.takes.responses(wanted))
    return Ears(
        options=options,
        candidates=candidates,
        seat=seat.name,
        spots=tuple(ear.number for ear in ears),
        programme=programme,
        remarks=remarks,
        full_scale_spl_db=_full_scale(job),
        responses={
            key: tuple({code: responses[take] for code, take in of_one[ear.id].items()} for ear in ears)
            for key, of_one in cells.items()
        },
    )


def rendered(ears: Ears, on_progress: Callable[[float], None]) -> Audition:
    """What the ears hear of every preset, not numbered, and without files.

    Raises
    ------
    Conflict, InvalidValue
        If there is nothing to be heard.
    """
    programme, rendering = ears.programme, Rendering(ears.programme)
    rows: dict[str, list[NDArray]] = {}
    places: dict[str, int] = {}
    played: set[str] = set()
    count = len(ears.candidates) * len(ears.spots)
    for ear in range(len(ears.spots)):
        for key, listed in ears.candidates.items():
            on_progress(0.9 * sum(len(done) for done in rows.values()) / count)
            paths = paths_of(listed.outputs, ears.responses[key][ear], programme.channels)
            if paths is None:
                raise Conflict(
                    f"{listed.name} plays none of {', '.join(programme.channels)}.",
                    where="listening",
                    remedy="Choose other material.",
                )
            played |= set(paths.sample)
            # The first ear of the first candidate gives the place; ears keep their distance from one another.
            places.setdefault(key, paths.onset)
            place = paths.onset - places[key] + next(iter(places.values()))
            rows.setdefault(key, []).append(rendering.through(paths, onset=place))
    on_progress(0.9)
    at_seats = {key: np.array(levels) for key, levels in rows.items()}
    rate = programme.sample_rate_hz
    rounds = dict.fromkeys(candidate.base.name for candidate in ears.candidates.values())
    return Audition(
        number=0,
        options=ears.options,
        programme=programme.name,
        duration_s=programme.duration_s,
        sample_rate_hz=rate,
        round_name=", ".join(rounds),
        seat=ears.seat,
        spots=ears.spots,
        heard=at_seats,
        files={},
        names={key: candidate.name for key, candidate in ears.candidates.items()},
        stood={key: candidate.preset for key, candidate in ears.candidates.items()},
        match=loudness_matched(at_seats, sample_rate_hz=rate),
        full_scale_spl_db=ears.full_scale_spl_db,
        pressure={key: pressure_by_band(sample[0], sample_rate_hz=rate) for key, sample in at_seats.items()},
        left_out=tuple(channel for channel in programme.channels if channel not in played),
        remarks=ears.remarks,
    )


def _ears(spots: Sequence[Spot], taken: set[int], *, two: bool) -> tuple[Spot, ...]:
    """One spot, or those two that are nearest to a head's width apart, left before right."""
    there = [spot for spot in spots if spot.id in taken]
    pairs = [
        (abs(right.place.x_m - spot.place.x_m - _HEAD_M), spot.id, right.id)
        for spot in there
        for right in there
        if two and _EARS_M[0] <= right.place.x_m - spot.place.x_m <= _EARS_M[1]
    ]
    if not pairs:
        return tuple(there[:1])
    _, *ears = min(pairs)
    return tuple(next(spot for spot in there if spot.id == ear) for ear in ears)


def _full_scale(job: Job) -> float | None:
    levels = job.rig.levels
    return None if levels.full_scale_spl_db is None else levels.full_scale_spl_db + levels.microphone_gain_db
