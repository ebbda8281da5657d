"""Blind trials: one of two plays unnamed, and what was said of it may have been guessed."""

from dataclasses import dataclass, replace
from math import comb
from typing import Self

import numpy as np

from dolce.core import checked
from dolce.errors import Conflict, InvalidValue

TRIALS = 10
_SURE = 0.05  # a smaller chance of guessing is called heard: the usual bound of statistics


def guessing_probability(right: int, trials: int) -> float:
    """Chance to be right so often or more by guessing between two.

    References
    ----------
    The binomial distribution with p = 1/2: 9 of 10 right have a chance of 11/1024.
    """
    checked.within(right, low=0, high=trials, where="right answers")
    return sum(comb(trials, k) for k in range(right, trials + 1)) / 2**trials


@dataclass(frozen=True, slots=True, kw_only=True)
class BlindTest:
    """Ten trials between two.

    Attributes
    ----------
    pair : (str, str)
        Keys of both.
    hidden : tuple of str
        What plays in each trial.
    answers : tuple of str
        What was said so far.
    """

    pair: tuple[str, str]
    hidden: tuple[str, ...]
    answers: tuple[str, ...] = ()

    @classmethod
    def drawn(cls, pair: tuple[str, str], *, rng: np.random.Generator) -> Self:
        """Trials in which each of both plays as often as chance has it."""
        if pair[0] == pair[1]:
            raise InvalidValue("the same twice.", where="blind test", remedy="Choose two that differ.")
        return cls(pair=pair, hidden=tuple(pair[int(k)] for k in rng.integers(2, size=TRIALS)))

    @property
    def trial(self) -> int:
        """Number of the present trial, 1 for the first."""
        return len(self.answers) + 1

    @property
    def over(self) -> bool:
        return len(self.answers) == len(self.hidden)

    @property
    def right(self) -> int:
        return sum(answer == was for answer, was in zip(self.answers, self.hidden, strict=False))

    @property
    def rng(self) -> float:
        """That so many were right by guessing."""
        return guessing_probability(self.right, len(self.answers))

    @property
    def heard(self) -> bool:
        """Whether guessing is unlikely enough."""
        return self.over and self.rng < _SURE

    def answered(self, answer: str, *, trial: int) -> Self:
        """The test with one more answer.

        Raises
        ------
        Conflict
            If that trial is over: a second press, or another tab.
        InvalidValue
            If it is none of both.
        """
        if self.over or trial != self.trial:
            raise Conflict(f"trial {trial} is over.", where="blind test", remedy="Answer the one that plays now.")
        if answer not in self.pair:
            raise InvalidValue(f"{answer[:40]!r} is none of both.", where="blind test", remedy="Choose one of the two.")
        return replace(self, answers=(*self.answers, answer))
