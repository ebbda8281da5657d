"""What is handed over of a 7.1.4 job with three subs: files for 14 outputs at four rates, the report as page and PDF.

`.venv/bin/python bench/handing_over_figures.py [--short]`; short has a pair at two spots.
"""

import base64
import resource
import sys
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path

from promises import SHORT, ended, line, note
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.load.packing import PackageOptions
from dolce.services.sample.demo_rooms import attic, barn
from dolce.services.wiring import Services, open_services
from dolce.web.serving import new_server

RATES = (44_100, 48_000, 88_200, 96_000)[: 1 if SHORT else 4]
FLAGS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-dev-shm-usage",
    "--no-first-run",
    "--disable-background-networking",
)


def proven(services: Services) -> int:
    """Taken, aligned, corrected, loaded and taken again; the job's number."""
    plan = barn() if not SHORT else replace(attic(), spots=attic().spots[:2])
    job = services.jobs.create(JobDetails(name="Barn"), plan=plan)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    services.aligning.use_proposal(job.id)
    services.finding.find(job.id)
    services.loading.load(job.id, "A", "corrected")
    services.loading.switch(job.id, "A")
    services.rounds.new(job.id)
    services.taking.run_rest(job.id)
    services.sound.wait()
    return job.id


def packed(services: Services, job_id: int) -> None:
    """The package part by part, as a browser gets it."""
    begun, size, largest, first = time.perf_counter(), 0, 0, 0.0
    parts, _ = services.loading.package(job_id, PackageOptions(rates_hz=RATES))
    for part in parts:
        first = first or time.perf_counter() - begun
        size, largest = size + len(part), max(largest, len(part))
    took = time.perf_counter() - begun
    line("files for 14 outputs at 4 rates", f"{took:.1f} s, {size / 1e6:.0f} MB", "10 s", took < 10)
    note("  first part after, and the largest", f"{first:.2f} s, {largest / 1e6:.1f} MB")


def on_progress(services: Services, job_id: int) -> None:
    """The report as a page and on paper."""
    server = new_server(services, port=0)
    threading.Thread(target=server.run, daemon=True).start()
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    begun = time.perf_counter()
    driver.get(f"http://127.0.0.1:{server.effective_port}/jobs/{job_id}/report")
    page = time.perf_counter() - begun
    begun = time.perf_counter()
    pdf = base64.b64decode(
        driver.execute_cdp_cmd("Page.printToPDF", {"preferCSSPageSize": True, "printBackground": True})["data"]
    )
    paper = time.perf_counter() - begun
    driver.quit()
    server.close()
    line("report of 7.1.4, the page in a browser, for the first time", f"{page:.2f} s", "2 s", page < 2)
    line(
        "report of 7.1.4 as PDF",
        f"{paper:.1f} s, {len(pdf) / 1e6:.2f} MB",
        "15 s and 3 MB",
        paper < 15 and len(pdf) < 3e6,
    )


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job_id = proven(services)
        packed(services, job_id)
        on_progress(services, job_id)
        note("memory at its highest", f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
        services.close()
    return ended()


if __name__ == "__main__":
    sys.exit(main())
