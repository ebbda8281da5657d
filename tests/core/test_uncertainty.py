"""Intervals of figures that were averaged over few spots."""

import numpy as np
import pytest

from dolce.core.uncertainty import effective_count, jackknife_error, mean_error, pooled_difference_error, student_factor


@pytest.mark.parametrize(("count", "factor"), [(2, 12.706), (3, 4.303), (5, 2.776), (9, 2.306), (31, 2.042)])
def test_factors_are_those_of_students_table(count, factor):
    # Two-sided 95 % points of Student's t with count - 1 degrees of freedom, any table of it.
    assert student_factor(np.ones(count)) == pytest.approx(factor, abs=5e-4)


@pytest.mark.parametrize("count", [2, 3, 9])
def test_an_interval_of_95_of_100_holds_so_often(count):
    rng = np.random.default_rng(count)
    held = []
    for _ in range(3000):
        spots = rng.normal(0, 2, count)
        error = jackknife_error(lambda rows, spots=spots: spots[rows].mean(), np.ones(count))
        held.append(abs(spots.mean()) <= error)
    # Exact for the mean of normal values; 3,000 trials scatter by 0.4 %. With 2 standard errors: 70, 79 and 91 %.
    assert np.mean(held) == pytest.approx(0.95, abs=0.012)


def test_unequal_weights_count_for_fewer_spots():
    assert effective_count([1, 1, 1, 1]) == pytest.approx(4)
    assert effective_count([1, 0.05]) == pytest.approx(1.1, abs=0.01)
    rng, weight = np.random.default_rng(5), np.array([0.5, 0.2, 0.2, 0.05, 0.05])
    held = []
    for _ in range(3000):
        spots = rng.normal(0, 2, 5)

        def mean(rows, spots=spots):
            return np.average(spots[rows], weights=weight[rows])

        held.append(abs(mean(np.arange(5))) <= jackknife_error(mean, weight))
    # An approximation for unequal weights: on the safe side (98 % seen), and not by much.
    assert 0.94 < np.mean(held) < 0.99


@pytest.mark.parametrize("share", [0.8, 0.95])
@pytest.mark.parametrize("seat_of", [None, "aaaaaaaa", "aabababa", "aabacaba", "abcdefgh"])
def test_what_seats_differ_by_is_no_chance_where_each_has_several_spots(seat_of, share):
    # Spots are put around every seat on purpose: what varies from one set of spots to another is their place around it.
    rng, held, widths = np.random.default_rng(11), [], []
    seats = {name: 1.5 * k for k, name in enumerate(dict.fromkeys(seat_of or "a"))}
    apart = np.array([seats[name] for name in seat_of or "aaaaaaaa"])
    for _ in range(3000):
        spots = apart + rng.normal(0, 1, 8)
        error = mean_error(spots, np.ones(8), seat_of=seat_of, share=share)
        held.append(abs(spots.mean() - apart.mean()) <= error)
        widths.append(error)
    if seat_of == "abcdefgh":  # nothing tells the seats from chance: too much is said, never too little
        assert np.mean(held) > 0.99
    else:
        assert np.mean(held) == pytest.approx(share, abs=0.025)
        most = student_factor(np.ones(5 if seat_of == "aabacaba" else 7), share=share)
        assert np.mean(widths) < 1.1 * most / np.sqrt(8)


def test_the_mean_of_spots_around_one_seat_has_students_interval():
    # Any table of Student's t: 2.132 is the two-sided 90 % point of 4 degrees of freedom.
    values = np.array([1.0, 2.0, 4.0, 5.0, 8.0])
    expected = 2.132 * values.std(ddof=1) / np.sqrt(5)
    assert mean_error(values, np.ones(5), share=0.9) == pytest.approx(expected, rel=1e-3)
    assert mean_error(values, np.full(5, 0.2), seat_of=[3] * 5, share=0.9) == pytest.approx(expected, rel=1e-3)
    assert mean_error([2.0], [1.0]) == np.inf


def test_of_one_spot_nothing_is_known():
    assert jackknife_error(lambda rows: 1.0, [1.0]) == np.inf
    assert np.isinf(jackknife_error(lambda rows: np.zeros(3), [1.0, 0.0])).all()
    assert np.isinf(pooled_difference_error(np.zeros((3, 1)), [1.0]))


def test_scatter_that_channels_share_tells_more_than_two_of_them():
    rng, weight = np.random.default_rng(8), np.array([0.5, 0.2, 0.2, 0.1])
    held, widths = [], []
    for _ in range(2000):
        levels = rng.normal(0, 0.7, (5, 4))
        error = pooled_difference_error(levels, weight)
        held.append(abs((levels[0] - levels[1]) @ weight) <= error)
        widths.append(error)
    assert np.mean(held) == pytest.approx(0.95, abs=0.02)
    assert np.std(widths) < 0.35 * np.mean(widths)
