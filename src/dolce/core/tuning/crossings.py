"""Who plays the bass of each channel: where groups of main channels fall off, and what the sums make of it at seats."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from dolce.core.alignment.crossover_frequency import falls_off_hz, proposed_crossover_hz, protective_high_pass_hz
from dolce.core.correction import low_frequency_extension_hz
from dolce.core.dsp import energy_mean_db
from dolce.core.job import Job
from dolce.core.processor import Crossover
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.room import Seat, group_of
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.bass_sums import CrossoverSum, crossover_sum
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.core.tuning.outputs import Outputs
from dolce.core.tuning.prediction import Responses


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupCrossover:
    """A group of main channels, and what is proposed for it.

    Attributes
    ----------
    crossover : what is set; None for the whole range
    falls_off_hz : where the weakest of them ends, and which one that is
    distorts_hz : below which the worst of them distorts by more than 3 % at the level of its sweep; None where none
        does, or it is not known yet
    """

    group: str
    channels: tuple[str, ...]
    crossover: Crossover | None
    falls_off_hz: float
    weakest: str
    proposed_hz: int
    distorts_hz: float | None = None

    @property
    def leaves_a_gap(self) -> bool:
        """Whether the weakest ends above its crossover, so that nobody plays what lies between."""
        return self.crossover is not None and self.crossover.frequency_hz < self.falls_off_hz


@dataclass(frozen=True, slots=True, kw_only=True)
class Protection:
    """A loudspeaker that plays down to its end: where that is, the high-pass proposed, and the one that is set."""

    channel: str
    extension_hz: float
    proposed_hz: float
    set_hz: float | None


def sums_at_seats(
    job: Job, alignment: Alignment, responses: Responses, seats: Sequence[Seat]
) -> dict[str, CrossoverSum]:
    """Every main channel with the subs that play its bass, by seat: over the spots of a seat that have all of them.

    A channel is left out where it plays its whole range alone, or where a seat has no such spot.
    """
    outputs = Outputs.of(alignment, None, job.channels, sample_rate_hz=job.rig.sample_rate_hz, device=job.limits)
    seat_of = {spot.id: spot.seat_id for spot in job.spots}
    shares = np.array([[seat_of.get(spot) == seat.id for spot in responses.spots] for seat in seats], dtype=float)
    found = {}
    for channel in job.main_channels:
        codes = (channel, *job.subs)
        known = responses.complete(codes)
        if not known.size or not (shares[:, known] > 0).any(axis=1).all():
            continue
        rows = shares[:, known] / shares[:, known].sum(axis=1, keepdims=True)
        if (summed := crossover_sum(outputs, responses.at(known, codes), channel, seats=rows)) is not None:
            found[channel] = summed
    return found


def group_crossovers(
    job: Job, alignment: Alignment, curves: Mapping[str, ChannelCurves], distorts_hz: Mapping[str, float | None]
) -> tuple[GroupCrossover, ...]:
    """Every group of main channels with what is proposed for it: by the one that ends first, and distorts highest."""
    found = []
    for name in dict.fromkeys(group_of(channel) for channel in job.main_channels):
        channels = tuple(channel for channel in job.main_channels if group_of(channel) == name)
        ends = {
            channel: falls_off_hz(
                ANALYSIS_GRID_HZ, smoothed_level_db(energy_mean_db(curves[channel].level_db), per_octave=3)
            )
            for channel in channels
            if channel in curves
        }
        weakest = max(ends, key=lambda channel: ends[channel], default="")
        end = ends.get(weakest, 0.0)
        distorting = [distorts_hz.get(channel) for channel in channels]
        distorts = max((at_hz for at_hz in distorting if at_hz is not None), default=None)
        found.append(
            GroupCrossover(
                group=name,
                channels=channels,
                weakest=weakest,
                falls_off_hz=end,
                distorts_hz=distorts,
                proposed_hz=proposed_crossover_hz(end, distorts),
                crossover=None if alignment.routing is None else alignment.routing.of(channels[0]),
            )
        )
    return tuple(found)


def protections(
    job: Job, alignment: Alignment, curves: Mapping[str, ChannelCurves], weights: Mapping[int, float]
) -> tuple[Protection, ...]:
    """Every output that plays down to its own end."""
    found = []
    for speaker in job.speakers:
        whole = curves[speaker.channel].averaged_over_seats(weights) if speaker.channel in curves else None
        relieved = alignment.routing is not None and not speaker.is_sub and alignment.routing.of(speaker.channel)
        if whole is None or relieved:
            continue
        end = low_frequency_extension_hz(ANALYSIS_GRID_HZ, whole.average.level_db, is_sub=speaker.is_sub)
        high_pass = alignment.settings(speaker.channel).high_pass
        found.append(
            Protection(
                channel=speaker.channel,
                extension_hz=end,
                proposed_hz=protective_high_pass_hz(end),
                set_hz=high_pass.frequency_hz if high_pass else None,
            )
        )
    return tuple(found)


def large_losses(sums: Mapping[str, CrossoverSum], seats: Sequence[Seat]) -> tuple[tuple[str, str, float], ...]:
    """Channels whose sum loses much at some seat, with that seat and the loss in dB; the largest first."""
    found = [
        (channel, seats[int(np.argmin(summed.loss_db))].name, float(summed.loss_db.min()))
        for channel, summed in sums.items()
        if "much" in summed.grades
    ]
    return tuple(sorted(found, key=lambda row: row[2]))
