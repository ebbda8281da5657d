"""Polarity of a channel from all that was heard of it."""

from collections.abc import Sequence

from dolce.core.response import Polarity

_MOST_OF_ALL = 0.34          # of the takes must tell it
_OF_THOSE = 0.8              # of these must agree


def common_polarity(told: Sequence[Polarity]) -> Polarity:
    """What takes of one channel say together; "unsure" where too few tell it, or where they disagree."""
    sure = [one for one in told if one != "unsure"]
    if not sure or len(sure) < _MOST_OF_ALL * len(told):
        return "unsure"
    normal = sum(one == "normal" for one in sure) / len(sure)
    if normal >= _OF_THOSE:
        return "normal"
    return "inverted" if normal <= 1 - _OF_THOSE else "unsure"
