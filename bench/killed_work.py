"""What is killed: each kind of work goes on for ever in a process of its own, and says what it has been told is kept.

`work` runs in that process; `wrong` looks afterwards, in another one, at what is left.
"""

import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path

import numpy as np

from dolce.core.geometry import Point
from dolce.errors import Conflict
from dolce.services.jobs.folder_check import check_folder
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.first_start import make_samples
from dolce.services.takes.take_making import stimulus_of, sweep_of
from dolce.services.wiring import Services, open_services

Say = Callable[[str], None]


class Work:
    """One kind; `latest_s` is how long after it began it may be killed.

    Attributes
    ----------
    begins : whether it says that it began, once all is open; what opens a folder is killed from the first moment on
    share : of all kills
    """

    name = ""
    latest_s = 1.5
    begins = True
    share = 0.1

    def prepare(self, folder: Path) -> None:
        """What must be there before."""
        services = open_services(folder)
        job = services.jobs.create(JobDetails(name="Kills"))
        services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
        self.more(services)
        services.close()

    def more(self, services: Services) -> None:
        """And besides."""

    def before(self, folder: Path) -> None:
        """Before each process."""

    def work(self, folder: Path, say: Say) -> None:
        services = open_services(folder)
        say("begun")
        while True:
            self.step(services, say)

    def step(self, services: Services, say: Say) -> None:
        raise NotImplementedError

    def wrong(self, folder: Path, message: list[str]) -> list[str]:
        """What is lost, half there or can't be read."""
        report = check_folder(folder)
        found = list(report.faults)
        services = open_services(folder)
        try:
            for job in services.jobs.all():
                services.progress.status(job.id)
                services.room.view(job.id)
                services.reporting.report(job.id)
                if services.taking.board(job.id).last_pass is not None and (
                    services.taking.board(job.id).last_pass.state == "running"
                ):
                    found.append("a pass still counts as running")
            found += self.lost(services, message)
        finally:
            services.close()
        return found

    def lost(self, services: Services, message: list[str]) -> list[str]:
        return []


def takes_of(services: Services, job_id: int = 1) -> int:
    with services.context.look() as work:
        return sum(1 for _ in work.takes.of_job(job_id))


def fewer(what: str, found: int, message: list[str]) -> list[str]:
    """Numbers only grow: as many as were said, or more."""
    wanted = max(map(int, message), default=0)
    return [f"{what}: {found} of {wanted}"] if found < wanted else []


class Passes(Work):
    name, share = "a pass", 0.25

    def step(self, services: Services, say: Say) -> None:
        if not services.sound.running():
            services.rounds.new(1)
            services.taking.run_rest(1)
        say(str(takes_of(services)))

    def lost(self, services: Services, message: list[str]) -> list[str]:
        return fewer("takes", takes_of(services), message)


class LiveSound(Work):
    """Levels that are read by ear and eye, and moving averages."""

    name = "live sound"

    def step(self, services: Services, say: Say) -> None:
        services.live.start(1, "reference", channel="L", automatic=True)
        services.sound.wait()
        say(str(self._kept(services)))
        services.live.start(1, "moving", channel="L", automatic=True)
        services.sound.wait()
        say(str(self._kept(services)))

    @staticmethod
    def _kept(services: Services) -> int:
        read = sum("Reference level" in entry.text for entry in services.jobs.logbook(1))
        return read + len(services.live.moving_takes(1))

    def lost(self, services: Services, message: list[str]) -> list[str]:
        return fewer("readings and averages", self._kept(services), message)


class Saves(Work):
    """Notes, places, targets and undo: each a step that stands, or does not."""

    name, share = "saving", 0.25

    def step(self, services: Services, say: Say) -> None:
        number = int(services.jobs.get(1).notes or 0) + 1
        services.jobs.edit(1, JobDetails(name="Kills", notes=str(number)))
        say(str(number))
        services.room.move(1, "spot-1", Point(x_m=1.0 + number % 50 / 100, y_m=2.0, z_m=1.2))
        if number % 3 == 0:
            services.room.undo(1)
        correction_settings = services.shaping.correction(1).correction_settings("L")
        target = replace(correction_settings.target, tilt_db_per_octave=-0.1 * (number % 9))
        services.shaping.set_correction(
            1,
            correction_settings=replace(correction_settings, target=target),
            preference=None,
            anchor="band",
            anchor_band_hz=(200.0, 2000.0),
            anchor_level_db=0.0,
            linked=False,
        )

    def lost(self, services: Services, message: list[str]) -> list[str]:
        return fewer("notes", int(services.jobs.get(1).notes or 0), message)


class Imports(Work):
    """Recordings of other devices, and room files."""

    name = "import"

    def work(self, folder: Path, say: Say) -> None:
        import io

        import soundfile

        services = open_services(folder)
        out = io.BytesIO()
        sweep = stimulus_of(sweep_of(services.jobs.get(1).rig)) * 0.3
        soundfile.write(out, np.concatenate([sweep, np.zeros(48_000)]), 48_000, format="WAV", subtype="PCM_24")
        room, name = services.room.room_file(1)
        say("begun")
        while True:
            services.recordings.add(1, "L", 1, out.getvalue(), file_name="one.wav")
            say(str(takes_of(services)))
            services.room.use_file(1, room, name=name)

    def lost(self, services: Services, message: list[str]) -> list[str]:
        return fewer("takes", takes_of(services), message)


class Loads(Work):
    """The correction and the alignment by turns in one preset."""

    name = "loading"

    def more(self, services: Services) -> None:
        services.taking.run_rest(1)
        services.sound.wait()
        services.aligning.use_proposal(1)
        services.finding.find(1)
        for content in ("corrected", "aligned"):
            services.loading.load(1, "A", content)
            self._whole.append(services.jobs.get(1).processor.presets["A"])

    def __init__(self) -> None:
        self._whole: list = []

    def step(self, services: Services, say: Say) -> None:
        for content in ("corrected", "aligned"):
            services.loading.load(1, "A", content)
            say(str(self._count(services)))
            services.loading.switch(1, "A")

    @staticmethod
    def _count(services: Services) -> int:
        return sum("loaded into preset A" in entry.text for entry in services.jobs.logbook(1))

    def lost(self, services: Services, message: list[str]) -> list[str]:
        known = services.jobs.get(1)
        held = services.loading.view(1).job  # reads the processor again
        mixed = [
            f"the preset {where} is none that was loaded"
            for where, job in (("as known", known), ("in the processor", held))
            if job.processor.presets["A"] not in self._whole
        ]
        return mixed + fewer("loads", self._count(services), message)


class Keeping(Work):
    """Backups that are written and put back."""

    name = "backup and restore"

    def more(self, services: Services) -> None:
        services.taking.run_rest(1)
        services.sound.wait()

    def step(self, services: Services, say: Say) -> None:
        services.backups.begin_backup([1])
        services.folder_work.wait()
        say(str(len(services.backups.files())))
        services.backups.begin_restore(services.backups.files()[0].name)
        services.folder_work.wait()

    def before(self, folder: Path) -> None:
        """Not more and more of them."""
        services = open_services(folder)
        for job in services.jobs.all():
            if job.id != 1:
                with services.context.change() as work:
                    work.jobs.purge(job.id)
        for file in services.backups.files():
            services.backups.delete(file.name)
        services.close()

    def lost(self, services: Services, message: list[str]) -> list[str]:
        found = [f"{file.name}: {file.fault}" for file in services.backups.files() if file.manifest is None]
        found += [
            f"left behind: {path.name}"
            for path in services.backups.folder.glob("*")
            if not path.name.endswith(".dolce-backup")
        ]
        wanted = takes_of(services)
        found += [
            f"{job.name} came back with {takes_of(services, job.id)} of {wanted} takes"
            for job in services.jobs.all()
            if takes_of(services, job.id) != wanted
        ]
        return found + fewer("backups", len(services.backups.files()), message)


class FirstStart(Work):
    """The very first one: an empty folder, the sample jobs, and the second start."""

    name, latest_s, begins = "the very first start", 0.5, False

    def prepare(self, folder: Path) -> None:
        """Nothing is there."""

    def before(self, folder: Path) -> None:
        shutil.rmtree(folder, ignore_errors=True)

    def work(self, folder: Path, say: Say) -> None:
        make_samples(folder, report=lambda _: None)
        open_services(folder).close()
        say("4")

    def wrong(self, folder: Path, message: list[str]) -> list[str]:
        make_samples(folder, report=lambda _: None)
        found = super().wrong(folder, message)
        return found + [f"left behind: {path}" for path in folder.glob("first-start*")]

    def lost(self, services: Services, message: list[str]) -> list[str]:
        names, deleted = [job.name for job in services.jobs.all()], services.jobs.deleted()
        return [] if len(set(names)) == len(names) == 4 and not deleted else [f"{names}, deleted {deleted}"]


KINDS: tuple[type[Work], ...] = (Passes, LiveSound, Saves, Imports, Loads, Keeping, FirstStart)


def torn(folder: Path, to: Path, keep: float) -> None:
    """A copy as a loss of power may leave it: of what was written last, and not yet said to be kept, only a part.

    The last transaction of the log is cut off somewhere: SQLite takes a transaction only whole, by the checksums of its
    frames (https://www.sqlite.org/fileformat2.html#walformat, "WAL File Format").
    """
    shutil.copytree(folder, to)
    log = to / "dolce.sqlite-wal"
    if not log.exists() or (size := log.stat().st_size) <= 32:
        return
    with log.open("rb") as file:
        head = file.read(32)
        page = int.from_bytes(head[8:12], "big")
        starts, at = [32], 32  # where each transaction begins
        while at + 24 + page <= size:
            file.seek(at)
            frame = file.read(24)
            if frame[8:16] != head[16:24]:  # of an earlier run of the log
                break
            at += 24 + page
            if int.from_bytes(frame[4:8], "big"):
                starts.append(at)
    if len(starts) > 1:
        begin, end = starts[-2], starts[-1]
        with log.open("r+b") as file:
            file.truncate(begin + round(keep * (end - begin)))
    with suppress(FileNotFoundError):
        (to / "dolce.sqlite-shm").unlink()


def torn_wrong(folder: Path) -> list[str]:
    """What is half there in a folder whose log was cut off."""
    with suppress(Conflict), closing(sqlite3.connect(folder / "dolce.sqlite")) as raw:
        if raw.execute("PRAGMA integrity_check").fetchone() != ("ok",):
            return ["the database is damaged"]
    open_services(folder).close()
    return list(check_folder(folder).faults)
