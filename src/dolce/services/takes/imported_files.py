"""Files made elsewhere, sorted to cells and shown before they are kept.

What lies here is in memory only: it is the person's own files, and none of it is a take yet.
"""

import itertools
import logging
import re
import threading
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace

from dolce.core.job import Job
from dolce.core.response import records_bass_alone
from dolce.core.signals import excitation_of, kind_of
from dolce.errors import Conflict, DolceError, FormatError, InvalidValue
from dolce.formats.audio_file import read_audio
from dolce.services.context import Context
from dolce.services.takes.board import begin_round, board_of
from dolce.services.takes.elsewhere import Elsewhere, holds_impulse_response, is_text
from dolce.services.takes.found_take import places_of
from dolce.services.takes.recordings import LONGEST_RECORDING_S
from dolce.services.takes.whole_spot import LONGEST_S, SpotFound, cut_up, words_of

log = logging.getLogger(__name__)

MOST_BYTES = 400 * 1024 * 1024
MOST_FILES = 400


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ImportedFile:
    """One file.

    Attributes
    ----------
    what : str
        "reading" until it is known, then "recording", "impulse response", "curve" or "whole spot"; "unusable" with a
        fault.
    code, spot_id : str, int or None
        The cell that it seems to be of; of a whole spot the spot alone.
    why : str
        What that guess comes from; empty where there is none.
    done : str
        How far it is read.
    """

    number: int
    job_id: int
    file_name: str
    data: bytes
    what: str = "reading"
    code: str = ""
    spot_id: int | None = None
    why: str = ""
    fault: str = ""
    done: str = ""
    found: SpotFound | None = None

    @property
    def words(self) -> tuple[str, ...]:
        """What is missing or doubled in the recording of a whole spot."""
        return () if self.found is None else words_of(self.found)


class ImportedFiles:
    """Files of all jobs that wait to be sorted and kept."""

    def __init__(self, context: Context, elsewhere: Elsewhere) -> None:
        self._context, self._elsewhere = context, elsewhere
        self._items: dict[int, ImportedFile] = {}
        self._numbers = itertools.count(1)
        self._lock = threading.Lock()
        self._pool = ThreadPoolExecutor(max_workers=1, thread_name_prefix="imported_files")
        self._work: list[Future] = []

    def items(self, job_id: int) -> list[ImportedFile]:
        """What lies there of a job, in the order in which it came."""
        with self._lock:
            return [item for item in self._items.values() if item.job_id == job_id]

    def add(self, job_id: int, files: Sequence[tuple[bytes, str]]) -> None:
        """Lay files down; what they are is found in a thread of its own.

        Raises
        ------
        FormatError
            If there are none.
        Conflict
            If they are too many.
        """
        if not files:
            raise FormatError("no file was chosen.", remedy="Choose some first.")
        with self._lock:
            there = sum(len(item.data) for item in self._items.values()) + sum(len(data) for data, _ in files)
            if there > MOST_BYTES or len(self._items) + len(files) > MOST_FILES:
                raise Conflict(
                    "too many files wait to be kept.",
                    where="files",
                    remedy="Keep or put aside what is there, then bring the others.",
                )
            new = [
                ImportedFile(number=next(self._numbers), job_id=job_id, file_name=name, data=data)
                for data, name in files
            ]
            self._items.update({item.number: item for item in new})
        self._work = [future for future in self._work if not future.done()]
        self._work += [self._pool.submit(self._read, item) for item in new]

    def sort(self, job_id: int, number: int, *, code: str, spot_id: int | None) -> None:
        """Say which cell a file is of; the recording of a whole spot is read again where its spot changes."""
        item = self._item(job_id, number)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        if spot_id is not None:
            job.spot(spot_id)
        if item.what == "whole spot":
            if spot_id is not None and spot_id != item.spot_id:
                self._put(replace(item, what="reading", spot_id=spot_id, found=None, why=""))
                self._work.append(self._pool.submit(self._read, self._item(job_id, number)))
            return
        self._put(replace(item, code=job.feed(code).code if code else "", spot_id=spot_id, why="", fault=""))

    def keep(self, job_id: int, *, recorder: str = "") -> int:
        """Keep all that is sorted; how many takes that made. What can't be kept stays, and says why."""
        kept = 0
        for item in self.items(job_id):
            if item.what in ("reading", "unusable") or item.spot_id is None:
                continue
            try:
                kept += self._kept_spot(item, recorder) if item.found else self._kept_one(item, recorder)
            except DolceError as error:
                self._put(replace(item, fault=str(error)))
                continue
            with self._lock:
                self._items.pop(item.number, None)
        return kept

    def drop(self, job_id: int, number: int | None = None) -> None:
        """Put a file aside, or all of a job; the person's own copies stay."""
        with self._lock:
            gone = [
                item.number for item in self._items.values() if item.job_id == job_id and number in (None, item.number)
            ]
            for id_ in gone:
                del self._items[id_]

    def wait(self) -> None:
        """Until all that was laid down is read."""
        for future in list(self._work):
            future.result()

    def close(self) -> None:
        self._pool.shutdown(wait=True, cancel_futures=True)

    # Reading

    def _read(self, item: ImportedFile) -> None:
        try:
            with self._context.look() as work:
                job = work.jobs.get(item.job_id)
            self._put(self._known(job, item))
        except DolceError as error:
            self._put(replace(item, what="unusable", fault=str(error)))
        except Exception:
            log.exception("a file in the imported files could not be read")
            self._put(replace(item, what="unusable", fault="Something broke inside Dolce while it was read."))

    def _known(self, job: Job, item: ImportedFile) -> ImportedFile:
        """What a file is, and which cell it seems to be of."""
        code, spot = cell_of_name(item.file_name, job)
        guess = replace(
            item,
            code=code,
            spot_id=spot if item.spot_id is None else item.spot_id,
            why="by its name" if code and spot else "",
        )
        if is_text(item.data):
            return self._placed(replace(guess, what="curve"))
        audio = read_audio(item.data, name=item.file_name, longest_s=LONGEST_S)
        if holds_impulse_response(audio, job.rig):
            return self._placed(replace(guess, what="impulse response"))
        spot = guess.spot_id or board_of(self._context, job.id).next_spot or next((s.id for s in job.spots), None)
        if spot is None:
            raise InvalidValue(
                "there is no spot to put it at.", where=item.file_name, remedy="Lay out spots in the Room stop first."
            )
        try:
            found = cut_up(
                job,
                spot,
                item.data,
                file_name=item.file_name,
                on_progress=lambda done, of: self._put(replace(guess, done=f"{done} of {of} rows")),
            )
        except InvalidValue:
            found = None  # no sync chirp: it is no recording of a whole spot
        if found is not None and found.parts:
            return replace(
                guess,
                what="whole spot",
                spot_id=spot,
                found=found,
                code="",
                why="by its name" if guess.spot_id else "the next spot",
            )
        if audio.sample.size > LONGEST_RECORDING_S * audio.sample_rate_hz:
            raise InvalidValue(
                "no sync chirp is heard in it, and it is too long for one take.",
                where=item.file_name,
                remedy="Bring the recording of the whole spot's file, with its sync chirp's speaker on, or cut "
                f"it to less than {LONGEST_RECORDING_S:.0f} s around one sweep.",
            )
        bass = records_bass_alone(audio.sample, sample_rate_hz=audio.sample_rate_hz)
        return self._placed(replace(guess, what="recording"), bass=bass)

    def _placed(self, item: ImportedFile, *, bass: bool | None = None) -> ImportedFile:
        """With the next empty cell that fits, where the name does not tell."""
        if item.code and item.spot_id:
            return item
        board = board_of(self._context, item.job_id)
        spoken_for = {(file.code, file.spot_id) for file in self.items(item.job_id) if file.number != item.number}
        order = {spot.id: k for k, spot in enumerate(board.job.spots)}
        for code, spot in sorted(board.job.asked, key=lambda cell: order[cell[1]]):
            fits = (
                (not item.code or code == item.code)
                and (not item.spot_id or spot == item.spot_id)
                and (bass is None or item.code or board.job.feed(code).bass_alone == bass)
            )
            if fits and not board.settled(code, spot) and (code, spot) not in spoken_for:
                why = "the next empty cell" + (
                    "" if bass is None or item.code else " of a sub, by its sound" if bass else ""
                )
                return replace(item, code=code, spot_id=spot, why=why)
        return item

    # Keeping

    def _kept_one(self, item: ImportedFile, recorder: str) -> int:
        if not item.code or item.spot_id is None:
            what = "spot" if item.code else "row"
            raise InvalidValue(f"it has no {what} yet.", where=item.file_name, remedy="Choose one.")
        self._elsewhere.add(
            item.job_id, item.code, item.spot_id, item.data, file_name=item.file_name, recorder=recorder
        )
        return 1

    def _kept_spot(self, item: ImportedFile, recorder: str) -> int:
        """All usable parts of the recording of a whole spot, in one transaction."""
        board = board_of(self._context, item.job_id)
        board.require_state()
        job, now = board.job, self._context.now()
        parts = () if item.found is None else item.found.parts
        usable = [(part, part.take) for part in parts if part.take is not None and part.feed in job.feeds]
        if item.spot_id is None:
            raise InvalidValue("it has no spot yet.", where=item.file_name, remedy="Choose one.")
        with self._context.change() as work:
            begin_round(work, board)
            for part, take in usable:
                work.takes.add(
                    round_id=board.round.id,
                    channel=part.feed.code,
                    spot_id=item.spot_id,
                    at=now,
                    source="file",
                    capture=take.capture,
                    levels=take.levels,
                    arrival_known=take.arrival_known,
                    recording=part.flac,
                    recording_name=f"{item.file_name} {part.feed.code}.flac",
                    played=take.played,
                    signal=kind_of(excitation_of(take.played)),
                    sounded=part.feed.channels if part.feed.together else (),
                    cautions=take.cautions,
                    recorder=recorder or item.file_name[:40],
                    places=places_of(job, part.feed, item.spot_id),
                )
            work.logbook.add(
                job.id,
                f"Recording {item.file_name} of a whole spot used for "
                f"{', '.join(part.feed.label for part, _ in usable)} at {job.at_spot(item.spot_id)}.",
                at=now,
            )
            work.jobs.touch(job.id, now)
        return len(usable)

    def _item(self, job_id: int, number: int) -> ImportedFile:
        with self._lock:
            item = self._items.get(number)
        if item is None or item.job_id != job_id:
            raise InvalidValue("that file no longer lies there.", where="files", remedy="Reload the page.")
        return item

    def _put(self, item: ImportedFile) -> None:
        """In place of what lies there under its number; nothing where it was put aside meanwhile."""
        with self._lock:
            if item.number in self._items:
                self._items[item.number] = item


_WORDS = re.compile(r"[A-Za-z]+[0-9]*|[0-9]+")
_SPOT = re.compile(r"(?:spot|pos|position|mic|p|s)0*([0-9]{1,3})", re.IGNORECASE | re.ASCII)


def cell_of_name(file_name: str, job: Job) -> tuple[str, int | None]:
    """Row and spot that a name tells, such as "L spot 3.wav" or "Sub1_Sub2-spot04.flac"; "" and None where not."""
    stem = file_name.rsplit(".", 1)[0]
    words = _WORDS.findall(stem)
    lower = [word.lower() for word in words]
    rows = {feed.code.lower(): feed.code for feed in job.feeds} | {feed.label.lower(): feed.code for feed in job.feeds}
    longest = sorted(rows, key=len, reverse=True)
    flat = re.sub(r"[^a-z0-9_+]+", " ", stem.lower())
    code = next((rows[row] for row in longest if re.search(rf"(?<![a-z0-9]){re.escape(row)}(?![a-z0-9])", flat)), "")
    number = next((int(found[1]) for word in lower if (found := _SPOT.fullmatch(word)) and word not in rows), None)
    if number is None:
        follows = next(
            (
                after
                for word, after in itertools.pairwise(lower)
                if word in ("spot", "pos", "position", "mic") and after.isdigit()
            ),
            None,
        )
        number = int(follows) if follows else None
    if not code or number is None:
        # The two alone, such as "R03" or "Ls 2".
        for row in longest:
            both = re.fullmatch(rf".*?(?<![a-z0-9]){re.escape(row)}[ _]*0*([0-9]{{1,3}})", flat)
            if both and not code:
                code, number = rows[row], int(both[1]) if number is None else number
    return code, next((spot.id for spot in job.spots if spot.number == number), None)
