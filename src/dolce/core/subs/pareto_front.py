"""What else can be had: louder and less even, or the other way round."""

from collections.abc import Sequence

from dolce.core.subs.cost import Found

_WORTH_DB = 0.05


def front(met: Sequence[Found], chosen: Found) -> tuple[Found, ...]:
    """Those that nothing beats in both output and evenness, the loudest first; the chosen one always among them."""
    louder = [
        result
        for result in met
        if result.output_db > chosen.output_db + _WORTH_DB and result.deviation_db > chosen.deviation_db
    ]
    softer = [
        result
        for result in met
        if result.output_db < chosen.output_db - _WORTH_DB and result.deviation_db < chosen.deviation_db - _WORTH_DB
    ]
    kept: list[Found] = []
    for result in [*_by_output(louder), chosen, *_by_output(softer)]:
        if result is chosen or not kept or result.deviation_db < kept[-1].deviation_db - _WORTH_DB:
            kept.append(result)
    return tuple(kept)


def _by_output(met: Sequence[Found]) -> list[Found]:
    return sorted(met, key=lambda result: (-result.output_db, result.deviation_db))
