"""What several tests share."""

import gc
import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")


import pytest
from hypothesis import HealthCheck
from hypothesis import settings as hypothesis_settings

from dolce.services.align.common_bass import CommonBassBench
from dolce.services.sample.demo import build_demo
from dolce.services.shape.finding import Finding
from dolce.services.wiring import Services, open_services
from dolce.web.serving import settle
from rooms import BRIEF, BRIEF_BASS, Prepared
from sharing import InGroups

# Nothing is timed, on a busy machine neither, and every run tries the same; `bench/break_input.py` tries others.
hypothesis_settings.register_profile(
    "tests",
    deadline=None,
    derandomize=True,
    database=None,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
hypothesis_settings.load_profile("tests")

# What is tested of jobs holds however long bands are looked for; tests/core and bench/ look in earnest.
Finding.effort = BRIEF
CommonBassBench.search_steps = BRIEF_BASS


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config, log):
    return InGroups(config, log)


def pytest_collection_finish() -> None:
    """What is imported stays to the end, as in the application (`dolce.web.serving.settle`); of what tests make, waste
    is looked for less often than usual: together a seventh of their time."""
    settle()
    gc.set_threshold(20_000, 20, 50)


@pytest.fixture
def services(prepared):
    """Opened services on an empty data folder."""
    opened = open_services(prepared("empty", lambda _: None))
    yield opened
    opened.close()


@pytest.fixture(scope="session")
def prepared(tmp_path_factory) -> Prepared:
    """Data folders that are made once for all workers of a run; whoever asks gets a copy."""
    base = tmp_path_factory.getbasetemp()
    return Prepared(base.parent if base.name.startswith("popen") else base, tmp_path_factory.mktemp)


@pytest.fixture(scope="session")
def demo(prepared) -> Services:
    """Both sample jobs, made once; tests look at them and change only copies."""
    opened = open_services(prepared("demo", build_demo))
    yield opened
    opened.close()


@pytest.fixture(scope="session")
def demo_job(demo: Services) -> int:
    """Number of the complete sample job."""
    return next(job.id for job in demo.jobs.all() if job.name == "Ferry Lane attic")
