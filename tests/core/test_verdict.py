"""The one verdict on a job: what outweighs what, and what is said beside it."""

from dataclasses import replace

import pytest

from dolce.core.tuning import Objection, ProofFacts, verdict_of

WHOLE = ProofFacts(taken=18, wanted=18, spots=9, spots_wanted=9)
AGAINST = Objection(kind="no closer", channels=("L",))


@pytest.mark.parametrize(
    ("changed", "kind", "message"),
    [
        ({}, "proven", ()),
        ({"needs": "load"}, "not known", ("load",)),
        ({"needs": "load", "objections": (AGAINST,)}, "not known", ("load",)),
        ({"taken": 9, "sounding": True}, "not known", ("rest",)),
        # Whoever ends a round early is told at how many spots it holds.
        ({"taken": 9, "spots": 4}, "proven but", ("fewer spots",)),
        ({"taken": 2, "wanted": 2, "spots": 1, "spots_wanted": 1}, "proven but", ("one spot",)),
        ({"lines_checked": False}, "proven but", ("no line check",)),
        ({"lines_doubtful": ("C",)}, "proven but", ("lines to look at",)),
        ({"outside": 2, "figures": 45, "tolerances": "Own"}, "proven but", ("tolerances",)),
        ({"moved_meanwhile": ("R",)}, "proven but", ("moved meanwhile",)),
        ({"objections": (AGAINST,), "outside": 2}, "not proven", ("no closer", "tolerances")),
        ({"lines_wrong": ("R",)}, "not proven", ("line wrong",)),
    ],
)
def test_what_is_missing_outweighs_what_speaks_against_it_and_that_what_is_not_covered(changed, kind, message):
    verdict = verdict_of(replace(WHOLE, **changed))
    assert verdict.kind == kind
    found = (*filter(None, [verdict.needs]), *(o.kind for o in verdict.objections), *(li.kind for li in verdict.limits))
    assert found == message
    assert verdict.holds == (kind in ("proven", "proven but"))


@pytest.mark.parametrize(
    ("changed", "kind"),
    [
        ({"moved_since": ("L",)}, "moved"),
        ({"same_processor": False}, "processor"),
        ({"same_correction": False}, "correction"),
    ],
)
def test_what_was_changed_afterwards_is_said_with_it_and_nothing_is_handed_over(changed, kind):
    verdict = verdict_of(replace(WHOLE, **changed))
    assert (verdict.kind, [since.kind for since in verdict.since], verdict.holds) == ("proven", [kind], False)
