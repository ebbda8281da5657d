"""What is asked of the filters of the common bass, so that it fits an alignment."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from dolce.core.bass import BassAim, BassTakes, MainChannel, output_of_subs_db
from dolce.core.bass.lattice import FREQUENCY_HZ
from dolce.core.correction import Target
from dolce.core.dsp import delay_response
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.common_bass import BassRequest
from dolce.core.tuning.prediction import response_of
from dolce.core.tuning.steps import on_step
from dolce.errors import InvalidValue

_REACHES = 0.8  # of the hand-over: a main that ends above has next to nothing to add


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BassProblem:
    """What a search for filters needs.

    Attributes
    ----------
    alignment : Alignment
        As it would be with the common bass: subs with one trim and no delay of their own.
    takes : BassTakes
        Of the loudspeakers that play it, through their outputs.
    aim : BassAim
    unable : mapping of main channel to Hz
        Those that end too high to take part, and where.
    """

    alignment: Alignment
    takes: BassTakes
    aim: BassAim
    unable: Mapping[str, float]


def bass_problem(
    alignment: Alignment,
    as_taken: BassTakes,
    request: BassRequest,
    *,
    main_seat: str,
    arrival_s: Mapping[str, Sequence[float]],
    matched_db: Mapping[str, float],
    level_db: float,
    target: Target,
    weights: Mapping[str, float] | None = None,
    highest_trim_db: float = 0.0,
    trim_step_db: float = 0.1,
    sample_rate_hz: float,
) -> BassProblem:
    """What is asked of filters for an alignment whose subs arrive together.

    The bass is brought to the level of the main channels: subs get one trim that makes them so much louder together
    as the filters may lose of it. Where that is more than the processor's highest trim, all main channels are turned
    down by the rest.

    Parameters
    ----------
    as_taken : BassTakes
        Of every channel.
    arrival_s : mapping of main channel to its arrivals at these spots
    matched_db : mapping of main channel to its level with its trim
    level_db : float
        That which the bass is to have.
    weights : mapping of seat to weight, or None

    Raises
    ------
    InvalidValue
        If there is no spot of the main seat.
    """
    if main_seat not in as_taken.seat_of:
        raise InvalidValue(
            "no spot of the main seat has takes of every loudspeaker.",
            where="common bass",
            remedy="Take what is missing there.",
        )
    target_db = target.level_db(np.maximum(FREQUENCY_HZ, 1.0))
    of_subs_db = output_of_subs_db(as_taken, target_db, hand_over_hz=request.hand_over_hz, weights=weights)
    trim_db = level_db + request.max_loss_db - of_subs_db
    turned_down_db = max(0.0, on_step(trim_db - highest_trim_db + trim_step_db / 2, trim_step_db))
    aligned_subs = {name for name, is_sub in zip(as_taken.names, as_taken.is_sub, strict=True) if is_sub}
    channels = {
        channel: replace(settings, trim_db=on_step(trim_db - turned_down_db, trim_step_db))
        if channel in aligned_subs
        else replace(settings, trim_db=round(settings.trim_db - turned_down_db, 3))
        for channel, settings in alignment.channels.items()
    }
    aligned = replace(alignment, channels=channels)
    turns = {
        channel: response_of(aligned.settings(channel), at_hz=FREQUENCY_HZ, sample_rate_hz=sample_rate_hz)
        for channel in as_taken.names
    }
    takes = replace(as_taken, heard=as_taken.heard * np.array([turns[name] for name in as_taken.names])[:, None])
    main_channels = [
        MainChannel(
            spectra=takes.heard[takes.names.index(channel)] * delay_response(FREQUENCY_HZ, request.latency_s),
            level_db=matched_db[channel] - turned_down_db,
            arrival_s=np.asarray(arrival_s[channel]) + aligned.settings(channel).delay_s + request.latency_s,
        )
        for channel in matched_db
    ]
    aim = BassAim.of(
        takes,
        main_channels,
        target_db=target_db,
        hand_over_hz=request.hand_over_hz,
        max_loss_db=request.max_loss_db,
        main_seat=main_seat,
        weights=weights,
    )
    unable = {
        name: end
        for name, end, is_sub in zip(takes.names, takes.ends_hz, takes.is_sub, strict=True)
        if not is_sub and end > _REACHES * request.hand_over_hz
    }
    return BassProblem(
        alignment=aligned,
        takes=takes.of_loudspeakers(
            [
                is_sub or (request.play == "all" and name not in unable)
                for name, is_sub in zip(takes.names, takes.is_sub, strict=True)
            ]
        ),
        aim=aim,
        unable=unable,
    )
