"""Figures of the Room stop: run `.venv/bin/python bench/room_figures.py`; needs Chromium for what follows a drag."""

import resource
import statistics
import sys
import tempfile
import time
from dataclasses import replace
from itertools import product
from pathlib import Path

sys.path[:0] = [str(Path(__file__).parents[1] / "tests" / "browser"), str(Path(__file__).parents[1] / "tests")]

import numpy as np
from pages import Page, serving
from promises import ended, line
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from conftest import FLAGS
from dolce.core.acoustics import modes_of_box
from dolce.core.geometry import Point, RoomSize
from dolce.core.room import (
    RoomPlan,
    Seat,
    candidates_of,
    findings_of,
    new_plan,
    numbered,
    rank_sub_places,
    spots_by_pattern,
)
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services

SPEED = 343.2


def full_room() -> RoomPlan:
    """9.1.6 with three subs, six seats and 24 spots."""
    size = RoomSize(length_m=8.2, width_m=6.4, height_m=3.4)
    plan = replace(new_plan(size, layout="9.1.6", subs=3), spots=())
    places = [(3.2, 3.4), (2.3, 3.5), (4.1, 3.5), (2.3, 5.0), (3.2, 5.0), (4.1, 5.0)]
    seats = tuple(
        Seat(id=k, name=f"Seat {k}", is_main=k == 1, place=Point(x_m=x, y_m=y, z_m=1.2))
        for k, (x, y) in enumerate(places, 1)
    )
    plan = replace(plan, seats=seats)
    placed = [spot for s in seats for spot in spots_by_pattern(plan, "flat", seat_id=s.id, count=4, spacing_m=0.2)]
    return replace(plan, spots=numbered(plan, placed))


def ranking() -> None:
    """Four subs over 24 places, six seats, 100 frequencies."""
    plan = full_room()
    candidates = candidates_of(plan, ["corners", "middles", "quarters", "grid"], grid_m=1.7)[:24]
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.perf_counter()
    found = rank_sub_places(plan, candidates, subs=4)
    seconds = time.perf_counter() - begun
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    line(
        f"{found.tried} choices of 4 subs over {len(candidates)} places, {len(plan.seats)} seats",
        f"{seconds:.2f} s",
        "3 s",
        seconds < 3 and found.tried == 10_626,
    )
    line(
        "  memory of the whole process at its highest",
        f"{peak:.0f} MB ({peak - before / 1024:.0f} for it)",
        "1000 MB",
        peak < 1000,
    )


def modes() -> None:
    """Modes to 300 Hz of 150 m3 against counting all orders."""
    size = (7.5, 6.25, 3.2)
    times = []
    for _ in range(20):
        begun = time.perf_counter()
        found = modes_of_box(size, up_to_hz=300, speed_m_s=SPEED)
        times.append(time.perf_counter() - begun)
    counted = sorted(
        f
        for o in product(range(30), repeat=3)
        if any(o) and (f := SPEED / 2 * sum((n / d) ** 2 for n, d in zip(o, size, strict=True)) ** 0.5) <= 300
    )
    exact = len(counted) == len(found.frequency_hz) and np.allclose(found.frequency_hz, counted, rtol=1e-12)
    line(
        f"{len(counted)} modes to 300 Hz of {np.prod(size):.0f} m3",
        f"{1000 * statistics.median(times):.2f} ms",
        "50 ms, exact",
        exact and statistics.median(times) < 0.05,
    )


def dragging() -> None:
    """From a pointer move to new text, in the browser, for the full room."""
    plan = full_room()
    begun = time.perf_counter()
    findings_of(plan)
    print(
        f"        findings of {len(plan.speakers)} speakers and {len(plan.seats)} seats alone: "
        f"{1000 * (time.perf_counter() - begun):.0f} ms"
    )
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job = services.jobs.create(JobDetails(name="Full"), plan=plan)
        server, thread, address = serving(services)
        options = webdriver.ChromeOptions()
        options.binary_location = "/usr/bin/chromium"
        for flag in FLAGS:
            options.add_argument(flag)
        driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
        driver.set_script_timeout(60)
        driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False},
        )
        page = Page(driver, address).open(f"/jobs/{job.id}/room?sheet=findings&pick=L")
        for name, count in (("thing.speaker", 15), ("thing.sub", 3), ("thing.spot", 24)):
            assert len(page.all(f"[data-plan=xy] .{name}")) == count
        times = driver.execute_async_script("""
          const done = arguments[0], thing = document.querySelector('[data-plan=xy] [data-thing=L]');
          const box = thing.getBoundingClientRect(), x = box.x + box.width / 2, y = box.y + box.height / 2, times = [];
          const fire = (kind, dx) => (kind === 'pointermove' ? document : thing).dispatchEvent(new PointerEvent(kind,
            { bubbles: true, clientX: x + dx, clientY: y + dx, pointerId: 1, button: 0 }));
          fire('pointerdown', 0);
          let step = 0, begun = 0;
          new MutationObserver(() => {
            times.push(performance.now() - begun);
            if (times.length === 60) { done(times); return; }
            requestAnimationFrame(move);
          }).observe(document.documentElement, { attributes: true, attributeFilter: ['data-followed'] });
          function move() { step += 2; begun = performance.now(); fire('pointermove', 4 + step); }
          move();""")
        driver.quit()
        server.close()
        thread.join(0.1)
        services.close()
    rest = sorted(times[10:])
    median, worst = statistics.median(rest), rest[int(0.95 * len(rest))]
    line(
        "pointer move to new findings, 9.1.6 with 3 subs, 6 seats, 24 spots",
        f"{median:.0f} ms, 95 %: {worst:.0f} ms",
        "100 ms",
        worst < 100,
    )


if __name__ == "__main__":
    ranking()
    modes()
    dragging()
    raise SystemExit(ended())
