"""Fits of bands in a process of its own: pages and Stop share no interpreter with them, and its memory goes with it."""

import logging
import os
import signal
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from functools import partial
from multiprocessing import get_context

from dolce.core.correction import CorrectionPlan, Effort, Fit, Limits, fitted

log = logging.getLogger(__name__)
_LOOK_S = 0.1
_RESTS_S = 20.0  # without work, after which it ends
_NICE = 19  # pages come first


class FittingProcess:
    """Called like `dolce.core.correction.fitted`. The process begins with the first fit and ends when it has rested."""

    def __init__(self) -> None:
        self._pool: ProcessPoolExecutor | None = None
        self._working = 0
        self._since = 0.0
        self._lock = threading.Lock()

    def __call__(
        self,
        plan: CorrectionPlan,
        limits: Limits,
        sample_rate_hz: float,
        effort: Effort,
        on_progress: Callable[[], None],
    ) -> Fit:
        """One fit; `on_progress` is called while it is waited for, and what it raises ends the process."""
        try:
            asked = self._begun(partial(fitted, plan, limits, sample_rate_hz, effort, _nothing))
            try:
                while True:
                    on_progress()
                    with suppress(TimeoutError):
                        return asked.result(timeout=_LOOK_S)
            except BrokenProcessPool:
                log.warning("the process of fits was ended from outside: this one is computed here")
                return fitted(plan, limits, sample_rate_hz, effort, on_progress)
            except BaseException:
                self._end(at_once=True)
                raise
        finally:
            with self._lock:
                self._working -= 1
                self._since = time.monotonic()

    def close(self) -> None:
        """End it, whatever it is at."""
        self._end(at_once=True)

    def _begun(self, asked: Callable[[], Fit]) -> "Future[Fit]":
        with self._lock:
            self._working += 1
            if self._pool is None:
                self._pool = ProcessPoolExecutor(
                    max_workers=1, mp_context=get_context("spawn"), initializer=_as_a_child, initargs=(os.getpid(),)
                )
                threading.Thread(target=self._rest, args=(self._pool,), daemon=True, name="rest of fits").start()
            return self._pool.submit(asked)

    def _rest(self, pool: ProcessPoolExecutor) -> None:
        """End the process when nothing was asked of it for a while."""
        while self._pool is pool:
            time.sleep(_RESTS_S / 4)
            with self._lock:
                rested = not self._working and time.monotonic() - self._since > _RESTS_S
            if rested and self._pool is pool:
                self._end(at_once=False)

    def _end(self, *, at_once: bool) -> None:
        with self._lock:
            pool, self._pool = self._pool, None
        if pool is None:
            return
        running = list((pool._processes or {}).values())  # no public name is given to them before Python 3.14
        pool.shutdown(wait=False, cancel_futures=True)
        if at_once:
            for process in running:
                process.kill()


def _nothing() -> None:
    """Progress that is shown nowhere: the process is ended instead."""


def _as_a_child(parent: int) -> None:
    """Interrupts are the parent's business; where that is gone, it ends."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if hasattr(os, "nice"):  # Windows has none
        os.nice(_NICE)

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(1.0)
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()
