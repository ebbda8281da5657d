"""Rows of numbers and their ranges, as every value of the core asks for them."""

import numpy as np
import pytest

from dolce.core import checked
from dolce.errors import InvalidValue


@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf])
def test_one_number_that_is_none_among_good_ones_is_refused_with_its_place(bad):
    with pytest.raises(InvalidValue, match="value 2 is not a finite number"):
        checked.finite([1.0, bad, 3.0], where="levels")


def test_a_checked_row_is_a_copy_that_nobody_changes():
    given = np.array([1.0, 2.0])
    held = checked.finite(given, where="levels")
    given[0] = 7
    assert held.tolist() == [1, 2]
    with pytest.raises(ValueError, match="read-only"):
        held[0] = 3


@pytest.mark.parametrize(
    ("row", "message"),
    [([20.0], "1 points"), ([0.0, 20.0], "0 is not above 0"), ([20.0, 40.0, 40.0], r"40 follows 40")],
)
def test_frequencies_rise_from_above_0(row, message):
    with pytest.raises(InvalidValue, match=message):
        checked.rising(row, where="curve")


@pytest.mark.parametrize(("value", "fits"), [(0.49, False), (0.5, True), (2.0, True), (2.01, False), (np.nan, False)])
def test_both_ends_of_a_range_belong_to_it_and_what_is_no_number_does_not(value, fits):
    span = checked.Range(0.5, 2.0, "gain", "dB")
    if fits:
        assert span.holds(value) == value
    else:
        with pytest.raises(InvalidValue) as caught:
            span.holds(value)
        assert (caught.value.where, caught.value.remedy) == ("gain", "Choose 0.5 to 2 dB.")
