"""What caches keep: by how often, and by how large all of it is together."""

import gc
from dataclasses import dataclass

import numpy as np
import pytest

from dolce.core import cache as module
from dolce.core.cache import Cache, bytes_of, cache, held_bytes

MB = 1 << 20


@dataclass(frozen=True)
class Pair:
    name: str
    samples: np.ndarray


@pytest.fixture
def ten_mb(monkeypatch):
    """Nobody else keeps anything, and all of it may be ten megabytes."""
    monkeypatch.setattr(module, "_together", module._Together())
    monkeypatch.setattr(module, "MOST_BYTES", 10 * MB)


def test_what_was_not_asked_for_longest_goes_first():
    kept = Cache(2)
    for key in "ab":
        kept.add(key, key.upper())
    assert kept.get("a") == "A"
    kept.add("c", "C")
    assert [kept.get(key) for key in "abc"] == ["A", None, "C"]
    assert kept.get_or("b", lambda: "made anew") == "made anew"


def test_all_that_is_kept_by_whomever_has_one_bound_in_bytes(ten_mb):
    few, many, before = Cache(100), Cache(100), held_bytes()
    few.add("old", np.zeros(4 * MB // 8))
    for number in range(5):
        many.add(number, Pair("x", np.zeros(2 * MB // 8)))
        assert held_bytes() <= before + 10 * MB
    assert few.get("old") is None  # of another one, and asked for longest ago
    assert [number for number in range(5) if many.get(number) is not None] == [1, 2, 3, 4]


def test_one_that_is_too_large_alone_is_kept_until_another_comes(ten_mb):
    kept = Cache(5)
    kept.add("large", np.zeros(20 * MB // 8))
    assert kept.get("large") is not None
    kept.add("small", 1)
    assert (kept.get("large"), kept.get("small")) == (None, 1)


def test_shrinking_lets_go_of_what_was_not_asked_for_longest(ten_mb):
    kept = Cache(10)
    for number in range(4):
        kept.add(number, np.zeros(2 * MB // 8))
    kept.get(0)
    module.shrink(5 * MB)
    assert [number for number in range(4) if kept.get(number) is not None] == [0, 3]
    module.shrink(0)
    assert held_bytes() == 0


def test_an_array_counts_with_all_that_it_is_cut_out_of_and_once():
    whole = np.zeros(MB)
    assert bytes_of(whole[3:5]) == pytest.approx(8 * MB, rel=0.01)
    assert bytes_of([whole[:3], whole[5:], {"a": whole}]) == pytest.approx(8 * MB, rel=0.01)
    assert bytes_of(whole[3:5].copy()) < 1000
    assert bytes_of((Pair("x", whole), b"y" * MB)) == pytest.approx(9 * MB, rel=0.01)


def test_what_one_kept_that_is_no_more_is_not_counted_any_more(ten_mb):
    before = held_bytes()
    kept = Cache(5)
    kept.add("a", np.zeros(MB))
    assert held_bytes() > before + 7 * MB
    del kept
    gc.collect()
    assert held_bytes() == before


def test_a_function_is_asked_once_for_the_same(ten_mb):
    asked = []

    @cache(3)
    def made(size, *, fill=0.0):
        """Makes."""
        asked.append(size)
        return np.full(size, fill)

    assert made(4, fill=2.0) is made(4, fill=2.0)
    assert made(4)[0] == 0.0
    assert asked == [4, 4]
    assert made.__doc__ == "Makes."
