"""The board as rows of cells, and where the pass stands."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

import numpy as np

from dolce.core.dsp import in_band
from dolce.core.job import (
    Feed,
    Job,
    PassOptions,
    PassRecord,
    TakeRecord,
    bass_alone,
    label_of,
    placement_of,
    steps_of,
    waits_of,
)
from dolce.core.reading import NoiseUnder
from dolce.core.response import ANALYSIS_GRID_HZ, SUB_TOP_HZ, smoothed_level_db
from dolce.core.response.outliers import LEVELS_MATTER_DB, REPEATS_MATTER_DB, Outlier, repeats_differ_db
from dolce.core.room import Spot
from dolce.services.read.reading import TakeDetail
from dolce.services.read.take_details import detail_as
from dolce.services.takes import cells
from dolce.services.takes.board import Board
from dolce.services.takes.outliers import outlier_words
from dolce.web.shared.plot_data import frequency_plot, range_around, small_path

CELL_WIDTH, CELL_HEIGHT = 72, 40


CellKind = Literal["empty", "waiting", "sounding", "taken", "not asked"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Cell:
    """One channel at one spot (id, and number for people); `moved` says what stands elsewhere since the take."""

    channel: str
    spot: int
    number: int
    kind: CellKind
    word: str
    path: str
    take: TakeRecord | None
    percent: int
    moved: str = ""
    odd: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """A row with its cells; `channel` is its code, `note` how it is played where not as the rig's sweep is."""

    channel: str
    label: str
    title: str
    note: str
    cells: tuple[Cell, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class PassView:
    """The running pass: what sounds, how far it is, and how long it takes."""

    channel: str
    label: str
    spot: int
    step: int
    steps: int
    percent: int
    seconds_left: float
    paused: bool
    waiting_s: float

    @classmethod
    def of(cls, running: PassRecord) -> "PassView | None":
        """Of a pass that runs, with its last step until its end is told; None of one that has ended."""
        if running.state != "running":
            return None
        step = min(running.done_steps, len(running.steps) - 1)
        channel, spot = running.steps[step]
        remaining = len(running.steps) - running.done_steps - running.fraction
        return cls(
            channel=channel,
            label=label_of(channel),
            spot=spot,
            step=step + 1,
            steps=len(running.steps),
            percent=round(100 * (running.done_steps + running.fraction) / len(running.steps)),
            seconds_left=remaining * running.seconds_per_step + running.waits_left_s,
            paused=running.paused,
            waiting_s=running.waiting_s,
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class BoardView:
    """The board, the pass and the figures beside them."""

    board: Board
    rows: tuple[Row, ...]
    running: PassView | None
    message: str
    spoiled: tuple[TakeRecord, ...]
    lowest_signal_to_noise_db: float | None
    least_to_clipping_db: float | None
    odd: tuple[Outlier, ...] = ()

    @classmethod
    def of(cls, board: Board, odd: Sequence[Outlier] = ()) -> "BoardView":
        last = board.last_pass
        running = last if last is not None and last.state == "running" else None
        waiting = set(running.steps[running.done_steps :]) if running else set()
        now = running.steps[running.done_steps] if running and running.done_steps < len(running.steps) else None
        outlier_cells = {outlier.cell for outlier in odd}
        asked = set(board.job.asked)
        rows = tuple(
            Row(
                channel=feed.code,
                label=feed.label,
                title=feed.title,
                note=how_words(board.job, feed),
                cells=tuple(
                    _cell(
                        board,
                        feed.code,
                        spot,
                        waiting,
                        now,
                        running,
                        odd=(feed.code, spot.id) in outlier_cells,
                        asked=(feed.code, spot.id) in asked,
                    )
                    for spot in board.job.spots
                ),
            )
            for feed in board.job.feeds
        )
        qualities = [take.quality for take in board.takes.values() if take.tells_noise]
        return cls(
            board=board,
            rows=rows,
            running=PassView.of(running) if running else None,
            odd=tuple(odd),
            message=last.message if last is not None and last.state in ("failed", "stopped", "interrupted") else "",
            spoiled=tuple(board.to_repeat),
            lowest_signal_to_noise_db=min((q.signal_to_noise_db for q in qualities), default=None),
            least_to_clipping_db=min((-q.peak_dbfs for q in qualities), default=None),
        )

    def waits_for_all(self, options: PassOptions) -> float:
        """How long the waits of a pass over what is missing are, in s."""
        board = self.board
        steps = steps_of(board.job, options, board.settled)
        return sum(waits_of(steps, options.wait_s))

    def done_about(self, options: PassOptions) -> str:
        """When a pass over what is missing would be done that began now, by the clock of this machine."""
        seconds = self.seconds_for_all + self.waits_for_all(options)
        return f"{datetime.now() + timedelta(seconds=seconds):%H:%M}"

    @property
    def odd_said(self) -> list[str]:
        """What is odd, each thing once: a microphone that was not moved is a matter of all channels."""
        return list(dict.fromkeys(outlier_words(outlier, self.board.job) for outlier in self.odd))

    @property
    def dense(self) -> bool:
        """Whether cells are small, so that the whole board is seen at once."""
        return len(self.board.job.spots) > 9 or len(self.rows) > 6

    @property
    def placement_now(self) -> list[int]:
        """Spots where microphones stand in the pass that runs."""
        return placement_of(self.board.job, self.running.spot) if self.running else []

    @property
    def seats(self) -> list[tuple[str, int]]:
        """What the columns belong to, with how many neighbouring spots each has."""
        plan = self.board.job.plan
        groups = itertools.groupby(plan.spots, key=plan.belongs_to)
        main = plan.main_seat.name
        return [(f"{name}, main seat" if name == main else name, len(list(spots))) for name, spots in groups]

    @property
    def seconds_for_all(self) -> float:
        """How long what is missing would take, without walking."""
        seconds = self.board.seconds
        return sum(seconds[code] for code, spot in self.board.job.asked if not self.board.settled(code, spot))


def how_words(job: Job, feed: Feed) -> str:
    """How a row is played where not as usual, in a few words."""
    how = job.rows.how(feed)
    words = [f"{how.low_hz:g} to {how.high_hz:g} Hz"] if (how.low_hz, how.high_hz) != (10, 22_000) else []
    words += [f"{how.sweep_s:g} s"] if how.sweep_s else []
    words += [f"{how.offset_db:+g} dB"] if how.offset_db else []
    words += [f"{how.repeats} averaged"] if how.repeats > 1 else []
    return ", ".join([*words, "one spot"] if how.one_spot else words)


def _cell(
    board: Board,
    channel: str,
    spot: Spot,
    waiting: set[tuple[str, int]],
    now: tuple[str, int] | None,
    running: PassRecord | None,
    *,
    odd: bool,
    asked: bool,
) -> Cell:
    here = (channel, spot.id)
    take = board.takes.get(here)
    kind: CellKind = (
        "sounding"
        if here == now
        else "waiting"
        if here in waiting
        else "taken"
        if take
        else "empty"
        if asked
        else "not asked"
    )
    path = ""
    if take is not None and not take.damaged:
        path = small_path(board.sketches[take.id], width=CELL_WIDTH, height=CELL_HEIGHT)
    sounding = "waiting" if running is not None and running.waiting_s > 0 else "sounding"
    word = take.word if take and kind == "taken" else {"sounding": sounding, "waiting": "next"}.get(kind, "")
    return Cell(
        channel=channel,
        spot=spot.id,
        number=spot.number,
        kind=kind,
        word=word,
        path=path,
        take=take,
        percent=round(100 * running.fraction) if running and here == now else 0,
        moved=_moved(board, take) if take else "",
        odd=odd and kind == "taken",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class CellView:
    """One cell as its card shows it; `noisiest` is a third of an octave and how far it stands above noise, in dB."""

    channel: str
    label: str
    spot: int
    number: int
    counts: TakeRecord | None
    attempts: tuple[TakeRecord, ...]
    moved: str
    odd: tuple[str, ...]
    plot: dict | None
    noisiest: tuple[float, float] | None
    repeats_db: float | None
    levels: tuple[float, float, float] | None

    @classmethod
    def of(cls, cell: cells.Cell, board: Board, noise: TakeDetail | None, odd: Sequence[Outlier]) -> "CellView":
        """`noise` is what Read finds of the noise under the take that counts."""
        take = cell.counts
        found = None if noise is None or noise.found is None else detail_as(NoiseUnder, noise.found)
        return cls(
            channel=cell.channel,
            label=label_of(cell.channel),
            spot=cell.spot_id,
            number=cell.job.spot(cell.spot_id).number,
            counts=take,
            attempts=cell.attempts,
            moved=_moved(board, take) if take else "",
            odd=tuple(
                outlier_words(outlier, board.job) for outlier in odd if outlier.cell == (cell.channel, cell.spot_id)
            ),
            plot=None
            if take is None or take.damaged
            else _cell_plot(take, found, board.job.rig.levels.response_spl_db),
            noisiest=None if found is None or take is None else found.least_above(_top_hz(take)),
            repeats_db=_repeats_db(_at_level_of(take, cell.attempts)),
            levels=_levels(take, cell.attempts),
        )

    @property
    def distorts(self) -> bool:
        """Whether takes of two levels differ by more than noise does."""
        return self.levels is not None and self.levels[2] > LEVELS_MATTER_DB

    @property
    def repeats_differ(self) -> bool:
        """Whether its attempts differ by more than the room itself does."""
        return self.repeats_db is not None and self.repeats_db > REPEATS_MATTER_DB


def _at_level_of(take: TakeRecord | None, attempts: Sequence[TakeRecord]) -> list[TakeRecord]:
    """Attempts that were played as loud as a take."""
    return [] if take is None else [attempt for attempt in attempts if attempt.level_dbfs == take.level_dbfs]


def _levels(take: TakeRecord | None, attempts: Sequence[TakeRecord]) -> tuple[float, float, float] | None:
    """Levels in dBFS of a take and of the last that was played softer, and by how much they differ; or None."""
    if take is None or take.level_dbfs is None:
        return None
    for softer in attempts:
        alike = softer.usable and not softer.removed and softer.signal == take.signal
        if alike and softer.level_dbfs is not None and softer.level_dbfs < take.level_dbfs - 3:
            differ = _repeats_db([take, softer])
            return None if differ is None else (take.level_dbfs, softer.level_dbfs, 2 * differ)
    return None


def _repeats_db(attempts: Sequence[TakeRecord]) -> float | None:
    """How much the attempts at a cell differ, those that are usable and not deleted."""
    levels = [smoothed_level_db(take.level_db, per_octave=12) for take in attempts if take.usable and not take.removed]
    return repeats_differ_db(levels, ANALYSIS_GRID_HZ, bass=bool(attempts) and bass_alone(attempts[0].channel))


def _top_hz(take: TakeRecord) -> float:
    """A sub's curve says nothing of it further up."""
    return SUB_TOP_HZ if bass_alone(take.channel) else 20_000.0


def _cell_plot(take: TakeRecord, noise: NoiseUnder | None, spl_db: float | None) -> dict:
    shift = spl_db or 0.0
    shown = np.flatnonzero(in_band(ANALYSIS_GRID_HZ, (20, _top_hz(take))))[::4]
    level = smoothed_level_db(take.level_db, per_octave=12)[shown] + shift
    curves = [
        {
            "label": label_of(take.channel),
            "channel": take.channel,
            "state": "after",
            "note": "",
            "quiet": True,
            "x": np.round(ANALYSIS_GRID_HZ[shown], 1).tolist(),
            "y": np.round(level, 1).tolist(),
        }
    ]
    lowest = float(level.min())
    if noise is not None:
        inside = np.array(noise.nominal_hz) <= _top_hz(take)
        under = noise.noise_db[inside] + shift
        curves.append(
            {
                "label": "noise",
                "channel": take.channel,
                "state": "target",
                "note": "",
                "quiet": True,
                "x": np.array(noise.nominal_hz)[inside].tolist(),
                "y": np.round(under, 1).tolist(),
            }
        )
        lowest = min(lowest, float(under.min()))
    return frequency_plot(
        curves[0]["x"],
        curves,
        x_range=(20, _top_hz(take)),
        unit="dB" if spl_db is None else "dB SPL",
        y_range=range_around([lowest, level.max()], most_db=100.0),
    )


def _moved(board: Board, take: TakeRecord) -> str:
    """The speaker, the spot, or neither, by name."""
    if take.speaker_place is not None and take.speaker_place != board.job.speaker(take.channel).place:
        return f"the speaker {take.channel}"
    if take.spot_place is not None and take.spot_place != board.job.spot(take.spot_id).place:
        return board.job.at_spot(take.spot_id)
    return ""
