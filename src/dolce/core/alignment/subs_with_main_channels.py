"""Subs among themselves for all seats, then as a group with the main channels, from impulse responses."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment.main_channels import MainSetting
from dolce.core.dsp import crossover_sides, delay_response, in_band
from dolce.core.levels import SUB_LEVEL_BAND_HZ
from dolce.core.response import ImpulseResponse
from dolce.core.seat_weights import spot_weights_of
from dolce.core.subs import (
    BassField,
    SearchLimits,
    SubSetting,
    SummationLoss,
    crossover_region,
    found_at,
    neutral,
    search,
    spectrum_at,
    summation_loss_at,
)
from dolce.errors import InvalidValue

Takes = Mapping[str, Mapping[tuple[str, str], ImpulseResponse]]


@dataclass(frozen=True, slots=True, kw_only=True)
class SubsAligned:
    """What goes into the settings: subs with their whole delays, and the wait of the main channels for them."""

    subs: dict[str, SubSetting]
    main_channels_later_s: float
    before_spread_db: float
    after_spread_db: float
    summed_level_change_db: float
    loss_db: tuple[float, ...]


def align_subs(
    main_channels: Takes,
    subs: Takes,
    settings: Mapping[str, MainSetting],
    *,
    seat: str,
    weights: Mapping[str, float] | None,
    crossover_hz: float,
    limits: SearchLimits,
    max_delay_s: float,
) -> SubsAligned:
    """Subs among themselves for all seats, then the group to all main channels at one seat.

    `main_channels` and `subs` hold responses by channel, then by seat and spot.

    Raises
    ------
    InvalidValue
        If no spot of the seat has them all, or no seat weighs anything.
    """
    among = [place for place in next(iter(subs.values())) if all(place in responses for responses in subs.values())]
    field = BassField.of(
        [[responses[place] for place in among] for responses in subs.values()],
        seat_of=[place[0] for place in among],
        weights=weights,
    )
    # Without weights for the main seat alone; with them for all seats that count.
    joined = {seat: 1.0} if weights is None else {s: weights.get(s, 1.0) for s, _ in among}
    spots = [
        place for place in among if joined.get(place[0], 0) > 0 and all(place in of for of in main_channels.values())
    ]
    if not spots:
        where = seat if weights is None else "a seat that counts"
        raise InvalidValue(
            f"no spot of {where} has takes of every main and every sub.",
            where="subs",
            remedy="Take what is missing at one spot at least.",
        )
    counts = spot_weights_of([place[0] for place in spots], joined)
    before = found_at(field, neutral(field.count), limits)
    found = search(field, limits)
    delays = {channel: setting.delay_s for channel, setting in settings.items()}
    sub_delays = [setting.delay_s for setting in found.settings]
    group = _join(main_channels, subs, settings, found.settings, spots, counts, crossover_hz).best(
        min(0.0, max(delays.values()) - max_delay_s - min(sub_delays)),
        max(0.0, min(delays.values()) + max_delay_s - max(sub_delays)),
    )
    whole = [late + group.delay_s for late in sub_delays]
    later = max(0.0, -min([*whole, *delays.values()]))
    earlier = min([*(delay_s + later for delay_s in whole), *(delay + later for delay in delays.values())])
    later -= earlier
    loudest = max(setting.gain_db for setting in found.settings)
    return SubsAligned(
        subs={
            channel: SubSetting(
                delay_s=late + later,
                polarity=1 if setting.polarity == group.polarity else -1,
                gain_db=setting.gain_db - loudest,
                all_pass=setting.all_pass,
            )
            for channel, setting, late in zip(subs, found.settings, whole, strict=True)
        },
        main_channels_later_s=later,
        before_spread_db=before.spread_db,
        after_spread_db=found.spread_db,
        summed_level_change_db=found.output_db,
        loss_db=group.loss_db,
    )


def _join(
    main_channels: Takes,
    subs: Takes,
    settings: Mapping[str, MainSetting],
    found: Sequence[SubSetting],
    spots: Sequence[tuple[str, str]],
    weights: NDArray,
    crossover_hz: float,
) -> SummationLoss:
    low, high = crossover_region(crossover_hz)
    frequency = np.arange(low / 1.1, high * 1.1, 1.0)
    upper, lower = crossover_sides(crossover_hz, frequency)
    made = []
    for channel, responses in main_channels.items():
        setting = settings[channel]
        sign = -1.0 if setting.polarity == "inverted" else 1.0
        turn = sign * 10 ** (-setting.level_db / 20) * delay_response(frequency, setting.delay_s)
        made.append([spectrum_at(responses[spot], frequency) * turn * upper for spot in spots])
    total = np.zeros((len(spots), frequency.size), dtype=complex)
    for takes, sub_setting in zip(subs.values(), found, strict=True):
        total += np.array([spectrum_at(takes[spot], frequency) for spot in spots]) * sub_setting.response(frequency)
    inside = in_band(frequency, SUB_LEVEL_BAND_HZ)
    level = np.sqrt(np.average(np.mean(np.abs(total[:, inside]) ** 2, axis=1), weights=weights))
    return summation_loss_at(
        crossover_hz, frequency, np.array(made), total * lower / max(level, 1e-20), weights=weights
    )
