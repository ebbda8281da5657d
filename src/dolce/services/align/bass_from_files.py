"""The command `bass`: filters for the bass that loudspeakers play together, from impulse responses in files."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.alignment.main_channels import MainSetting, align_main_channels
from dolce.core.bass import THOROUGH, BassAim, BassTakes, MainChannel, SharedBass, shared_bass
from dolce.core.bass.lattice import FREQUENCY_HZ
from dolce.core.response import ImpulseResponse, find_arrival
from dolce.errors import InvalidValue
from dolce.formats.audio_file import write_wav
from dolce.formats.takes_csv import ListedTake, read_takes
from dolce.formats.target_text import read_target
from dolce.services.align.from_files import required_seat, responses_of
from dolce.services.files import keep_files, read_bytes
from dolce.words.common_bass import doubt_words, limit_words

Play = Literal["all", "subs"]
_LEAST_DB = -120.0
SEARCH_STEPS = THOROUGH


def write_shared_bass(
    listed: Path,
    *,
    out: Path,
    fir_folder: Path,
    main_seat: str | None = None,
    play: Play = "all",
    to_hz: float = 120.0,
    max_loss_db: float = 4.0,
    latency_s: float = 0.012,
    length_s: float = 0.4,
    weights: Mapping[str, float] | None = None,
    target: Path | None = None,
) -> None:
    """Write a filter for each loudspeaker that plays the common bass, and what the main channels get.

    The first spot of the main seat is its centre. A spot where a loudspeaker was not taken is left out, and said.
    """
    checked.within(to_hz, low=60, high=120, where="--to", unit="Hz")
    checked.within(max_loss_db, low=0, high=12, where="--max-loss", unit="dB")
    checked.within(latency_s, low=0, high=0.1, where="--latency", unit="s")
    checked.within(length_s, low=0.1, high=0.5, where="--length", unit="s")
    takes = read_takes(read_bytes(listed), name=listed.name)
    seat = required_seat(takes, main_seat)
    kinds = {take.channel: take.kind for take in takes}
    for kind, what in (("main", "main channel"), ("sub", "sub")):
        if kind not in kinds.values():
            raise InvalidValue(f"no {what} is listed.", where=listed.name, remedy=f"Give lines of the kind {kind}.")
    if weights is not None and (unknown := set(weights) - {take.seat for take in takes}):
        raise InvalidValue(
            f"{min(unknown)[:60]!r} is no seat of the list.",
            where="--weights",
            remedy="Use the names that stand there.",
        )
    spots, warnings = _whole_spots(takes, kinds)
    if not any(of_seat == seat for of_seat, _ in spots):
        raise InvalidValue(
            f"no spot of {seat} has takes of every loudspeaker. {' '.join(warnings)}",
            where=listed.name,
            remedy="Take what is missing at one spot of it at least.",
        )
    heard: dict[str, dict[tuple[str, str], ImpulseResponse]] = {}
    for take, response in zip(takes, responses_of(listed, takes), strict=True):
        heard.setdefault(take.channel, {})[take.seat, take.spot] = response
    rates = {response.sample_rate_hz for of in heard.values() for response in of.values()}
    if len(rates) > 1:
        raise InvalidValue(
            f"takes are at {' and '.join(map(str, sorted(rates)))} Hz.",
            where=listed.name,
            remedy="Give all at one sample rate.",
        )
    mains = [channel for channel, kind in kinds.items() if kind == "main"]
    settings = align_main_channels(
        {channel: [heard[channel][spot] for spot in spots if spot[0] == seat] for channel in mains}
    )
    rows = {channel: [of[spot] for spot in spots] for channel, of in heard.items()}
    # Where mains end is told by all of their takes, also of those that play no bass.
    loudspeakers = BassTakes.of(
        rows, subs=[channel for channel in kinds if kinds[channel] == "sub"], seat_of=[of_seat for of_seat, _ in spots]
    )
    aim = BassAim.of(
        loudspeakers,
        [_as_played(rows[channel], settings[channel], latency_s) for channel in mains],
        target_db=_target(target),
        hand_over_hz=to_hz,
        max_loss_db=max_loss_db,
        main_seat=seat,
        weights=weights,
    )
    taking_part = loudspeakers.of_loudspeakers(
        [play == "all" or kinds[channel] == "sub" for channel in loudspeakers.names]
    )
    found = shared_bass(
        taking_part, aim, length_s=length_s, latency_s=latency_s, weights=weights, search_steps=SEARCH_STEPS
    )
    sample_rate_hz = rates.pop()
    filters = found.filters.impulses(sample_rate_hz)
    document = {
        "main_seat": seat,
        "hand_over_hz": to_hz,
        "latency_ms": round(1000 * latency_s, 4),
        "channels": {
            channel: {
                "file": f"{channel}.wav",
                "highest_gain_db": round(_highest_db(sample), 3),
                "ends_hz": round(end_hz, 1),
            }
            for (channel, sample), end_hz in zip(filters.items(), taking_part.ends_hz, strict=True)
        },
        "mains": {
            channel: {
                "delay_ms": round(1000 * (setting.delay_s + latency_s), 5),
                "polarity": -1 if setting.polarity == "inverted" else 1,
            }
            for channel, setting in settings.items()
        },
        "given": {name: round(value, 3) for name, value in asdict(found.given).items()},
        "expected": _expected(found),
        "effort": found.effort,
        "warnings": [*warnings, *_doubts(found, settings, max_loss_db)],
    }
    keep_files(
        {
            **{
                fir_folder / f"{channel}.wav": write_wav(sample, sample_rate_hz=sample_rate_hz)
                for channel, sample in filters.items()
            },
            out: (json.dumps(document, indent=2) + "\n").encode(),
        }
    )


def _whole_spots(takes: Sequence[ListedTake], kinds: Mapping[str, str]) -> tuple[list[tuple[str, str]], list[str]]:
    """Spots where every loudspeaker was taken, and what is to be said of the others."""
    taken: dict[tuple[str, str], set[str]] = {}
    for take in takes:
        taken.setdefault((take.seat, take.spot), set()).add(take.channel)
    whole = [spot for spot, channels in taken.items() if len(channels) == len(kinds)]
    lacking = {
        spot: [channel for channel in kinds if channel not in channels]
        for (_, spot), channels in taken.items()
        if len(channels) < len(kinds)
    }
    return whole, [
        f"Left out {spot}: {', '.join(absent[:6])} {'was' if len(absent) == 1 else 'were'} not taken there."
        for spot, absent in list(lacking.items())[:8]
    ]


def _as_played(rows: Sequence[ImpulseResponse], setting: MainSetting, latency_s: float) -> MainChannel:
    return MainChannel.of(
        rows,
        level_db=setting.level_db,
        delay_s=setting.delay_s + latency_s,
        polarity=-1 if setting.polarity == "inverted" else 1,
        arrival_s=[find_arrival(response).time_s for response in rows],
    )


def _target(target: Path | None) -> NDArray[np.float64]:
    """At the frequencies of the lattice; flat where none is given."""
    if target is None:
        return np.zeros(FREQUENCY_HZ.size)
    points = read_target(read_bytes(target), name=target.name)
    return np.interp(np.log(np.maximum(FREQUENCY_HZ, 1.0)), np.log(points[:, 0]), points[:, 1])


def _highest_db(sample: NDArray[np.float64]) -> float:
    """Over the whole band, finely."""
    size = 4 * 2 ** int(np.ceil(np.log2(sample.size)))
    return max(_LEAST_DB, float(20 * np.log10(np.abs(np.fft.rfft(sample, size)).max() + 1e-12)))


def _expected(found: SharedBass) -> dict[str, float] | None:
    return None if found.expected is None else {k: round(v, 3) for k, v in asdict(found.expected).items()}


def _doubts(found: SharedBass, settings: Mapping[str, MainSetting], max_loss_db: float) -> list[str]:
    seats = found.takes.seat_of
    said = [
        *doubt_words(found.expected, found.nodes, {}),
        *limit_words(
            found.filters,
            found.given,
            max_loss_db=max_loss_db,
            spots_at={seat: seats.count(seat) for seat in dict.fromkeys(seats)},
        ),
    ]
    unsure = [channel for channel, setting in settings.items() if setting.polarity_measured == "unsure"]
    if unsure:
        said.append(f"The polarity of {', '.join(unsure[:8])} is unsure and taken as normal: check the wires.")
    return said
