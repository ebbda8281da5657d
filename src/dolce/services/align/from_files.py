"""The command `align`: settings from a list of impulse responses in files."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path

from dolce.core import checked
from dolce.core.alignment.main_channels import MainSetting, align_main_channels
from dolce.core.alignment.subs_with_main_channels import align_subs
from dolce.core.response import ImpulseResponse
from dolce.core.subs import SearchLimits
from dolce.errors import DolceError, FormatError, InvalidValue
from dolce.formats.takes_csv import ListedTake, read_takes
from dolce.services.files import keep_files, read_bytes, read_sound

_DIGITS = {"trim_db": 3, "delay_s": 8, "level_db": 3, "arrival_s": 8}


def write_alignment(
    listed: Path,
    *,
    main_seat: str | None,
    out: Path,
    weights: Mapping[str, float] | None = None,
    crossover_hz: float = 80.0,
    max_loss_db: float = 3.0,
    max_delay_s: float = 0.03,
    all_passes: int = 0,
) -> None:
    """Write levels, delays and polarity of the channels of a list of takes, and what makes its subs one.

    `main_seat` is where main channels are matched and joined to the subs: the first of the list where none is named.
    `weights` say how much each seat counts for the subs.
    """
    checked.within(crossover_hz, low=30, high=300, where="--crossover", unit="Hz")
    checked.within(max_delay_s, low=0.001, high=1.0, where="--max-delay", unit="s")
    takes = read_takes(read_bytes(listed), name=listed.name)
    seat = required_seat(takes, main_seat)
    main_channels = list(dict.fromkeys(take.channel for take in takes if take.kind == "main"))
    if not main_channels:
        raise InvalidValue("no main channel is listed.", where=listed.name, remedy="Give lines of the kind main.")
    found = align_main_channels(
        {
            channel: responses_of(listed, [take for take in takes if (take.channel, take.seat) == (channel, seat)])
            for channel in main_channels
        }
    )
    channels = {
        channel: {
            name: round(value, _DIGITS[name]) if name in _DIGITS else value for name, value in asdict(setting).items()
        }
        for channel, setting in found.items()
    }
    document: dict = {"main_seat": seat, "channels": channels}
    if any(take.kind == "sub" for take in takes):
        limits = SearchLimits(max_loss_db=max_loss_db, max_delay_s=max_delay_s, all_passes=all_passes)
        _with_subs(
            document,
            listed,
            takes,
            found,
            seat=seat,
            weights=weights,
            crossover_hz=crossover_hz,
            limits=limits,
            max_delay_s=max_delay_s,
        )
    keep_files({out: (json.dumps(document, indent=2) + "\n").encode()})


def required_seat(takes: Sequence[ListedTake], name: str | None) -> str:
    """The seat of a name, or the first one of a list where none is named."""
    seats = list(dict.fromkeys(take.seat for take in takes))
    seat = seats[0] if name is None else name
    if seat not in seats:
        raise InvalidValue(
            f"{seat[:60]!r} is no seat of the list.", where="--main-seat", remedy=f"There are {', '.join(seats[:8])}."
        )
    return seat


def _with_subs(
    document: dict,
    listed: Path,
    takes: Sequence[ListedTake],
    found: Mapping[str, MainSetting],
    *,
    seat: str,
    weights: Mapping[str, float] | None,
    crossover_hz: float,
    limits: SearchLimits,
    max_delay_s: float,
) -> None:
    """Add what makes the subs one, and let the main channels wait for them."""
    by_kind: dict[str, dict[str, dict[tuple[str, str], ImpulseResponse]]] = {"main": {}, "sub": {}}
    for take, response in zip(takes, responses_of(listed, takes), strict=True):
        by_kind[take.kind].setdefault(take.channel, {})[take.seat, take.spot] = response
    warnings = _missing(by_kind["sub"])
    if weights is not None and (unknown := set(weights) - {take.seat for take in takes}):
        raise InvalidValue(
            f"{sorted(unknown)[0][:60]!r} is no seat of the list.",
            where="--weights",
            remedy="Use the names that stand there.",
        )
    aligned = align_subs(
        by_kind["main"],
        by_kind["sub"],
        found,
        seat=seat,
        weights=weights,
        crossover_hz=crossover_hz,
        limits=limits,
        max_delay_s=max_delay_s,
    )
    for row in document["channels"].values():
        row["delay_s"] = round(row["delay_s"] + aligned.main_channels_later_s, 8)
    if aligned.summed_level_change_db < -limits.max_loss_db - 0.05:
        warnings.append(
            f"No setting keeps {-limits.max_loss_db:g} dB of output; this one has "
            f"{aligned.summed_level_change_db:.1f} dB."
        )
    document |= {
        "subs": {
            channel: {
                "gain_db": round(setting.gain_db, 2),
                "delay_s": round(setting.delay_s, 8),
                "polarity": "normal" if setting.polarity > 0 else "inverted",
                "all_pass": [{"frequency_hz": round(f, 2), "q": round(q, 3)} for f, q in setting.all_pass],
            }
            for channel, setting in aligned.subs.items()
        },
        "crossover": {
            "frequency_hz": crossover_hz,
            "high_pass": "linkwitz-riley",
            "low_pass": "linkwitz-riley",
            "slope_db_per_octave": 24,
        },
        "spread_db": {"before": round(aligned.before_spread_db, 3), "after": round(aligned.after_spread_db, 3)},
        "output_change_db": round(aligned.summed_level_change_db, 3),
        "warnings": warnings,
    }


def _missing(subs: Mapping[str, Mapping[tuple[str, str], ImpulseResponse]]) -> list[str]:
    """Spots that some subs lack: they are left out for all of them."""
    every = {place for responses in subs.values() for place in responses}
    absent = sorted(spot for seat, spot in every if any((seat, spot) not in responses for responses in subs.values()))
    return [f"Left out, since not every sub was taken there: {', '.join(absent[:8])}."] if absent else []


def responses_of(listed: Path, takes: Sequence[ListedTake]) -> list[ImpulseResponse]:
    """The files of takes, each beginning at its own moment."""
    responses = []
    for take in takes:
        where = f"{listed.name}, line {take.line}"
        try:
            sound = read_sound(listed.parent / take.file)
        except DolceError as error:
            raise _at_line(error, where) from error
        responses.append(
            ImpulseResponse(sample=sound.sample, sample_rate_hz=sound.sample_rate_hz, start_s=take.start_s)
        )
    return responses


def _at_line(error: DolceError, where: str) -> FormatError:
    """The same fault, named by the line of the list that it came from."""
    return FormatError(error.problem, where=f"{where}, {error.where}" if error.where else where, remedy=error.remedy)
