"""What else can be had: louder and less even, or the other way round."""

from collections.abc import Sequence

from dolce.core.subs.cost import Found

_WORTH_DB = 0.05


def front(met: Sequence[Found], chosen: Found) -> tuple[Found, ...]:
    """Those that nothing beats in both output and evenness, the loudest first; the chosen one always among them."""
    louder = [
        one for one in met if one.output_db > chosen.output_db + _WORTH_DB and one.deviation_db > chosen.deviation_db
    ]
    softer = [
        one
        for one in met
        if one.output_db < chosen.output_db - _WORTH_DB and one.deviation_db < chosen.deviation_db - _WORTH_DB
    ]
    kept: list[Found] = []
    for one in [*_by_output(louder), chosen, *_by_output(softer)]:
        if one is chosen or not kept or one.deviation_db < kept[-1].deviation_db - _WORTH_DB:
            kept.append(one)
    return tuple(kept)


def _by_output(met: Sequence[Found]) -> list[Found]:
    return sorted(met, key=lambda one: (-one.output_db, one.deviation_db))
