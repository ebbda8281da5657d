"""Fits in a process of its own: the same filters, stopped at once, and no less where that process is gone."""

import os
import signal
import threading

import numpy as np
import pytest

from dolce.core.correction import QUICK, Limits, Needs, fitted, plan_correction
from dolce.services.searches import Stopped
from dolce.services.shape.fitting_process import FittingProcess

AT_HZ = np.geomspace(20, 20_000, 240)
LIMITS = Limits(from_hz=30, to_hz=300, bands=2)


@pytest.fixture(scope="module")
def process():
    made = FittingProcess()
    yield made
    made.close()


@pytest.fixture(scope="module")
def plan():
    absent = -5 * np.exp(-((np.log2(AT_HZ / 63) / 0.3) ** 2)) - 4 * np.exp(-((np.log2(AT_HZ / 160) / 0.2) ** 2))
    needs = Needs(error_db=absent[None], weight=np.ones(1))
    return plan_correction(AT_HZ, needs, np.zeros(AT_HZ.size), limits=LIMITS)


def nothing():
    pass


def test_it_finds_what_is_found_here(process, plan):
    there = process(plan, LIMITS, 48_000.0, QUICK, nothing)
    here = fitted(plan, LIMITS, 48_000.0, QUICK, nothing)
    assert there.filters == here.filters
    assert there.fewer == here.fewer


def test_what_is_told_ends_it_and_the_next_one_begins_anew(process, plan):
    def stopped():
        raise Stopped

    with pytest.raises(Stopped):
        process(plan, LIMITS, 48_000.0, QUICK, stopped)
    assert process(plan, LIMITS, 48_000.0, QUICK, nothing).filters


def test_where_it_is_killed_the_fit_is_made_here(process, plan):
    process(plan, LIMITS, 48_000.0, QUICK, nothing)
    (child,) = process._pool._processes
    killed = threading.Event()

    def kill_once():
        if not killed.is_set():
            os.kill(child, signal.SIGKILL)
            killed.set()

    assert (
        process(plan, LIMITS, 48_000.0, QUICK, kill_once).filters
        == fitted(plan, LIMITS, 48_000.0, QUICK, nothing).filters
    )
