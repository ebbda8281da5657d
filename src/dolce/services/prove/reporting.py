"""The report of a job, from the first curve to the last: everything that a client reads, put together."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, LogGroup, ReportWords, Round, grouped
from dolce.core.room import Finding, findings_of, group_of
from dolce.core.tuning import ChannelShape, JobVerdict
from dolce.services.context import Context
from dolce.services.load.load_view import LoadView
from dolce.services.load.loading import Loading
from dolce.services.prove.change_since import ChangeView
from dolce.services.prove.decays import Decays, SeatDecays
from dolce.services.prove.proving import ProofView, Proving
from dolce.services.prove.tolerating import ToleranceView, Tolerating
from dolce.services.prove.verdicts import Verdicts
from dolce.services.read.reading import Reading
from dolce.services.shape.shaping import Shaping
from dolce.words.curve_findings import UNEXPLAINED, FindingRow, finding_rows
from dolce.words.regions import region_words

_MOST_LEFT, _MOST_FINDINGS = 12, 6
_DECAY_OCTAVES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class LeftAlone:
    """A region that was not simply corrected, why, and what Read lays it to; empty where nothing explains it."""

    channels: tuple[str, ...]
    from_hz: float
    to_hz: float
    why: str
    cause: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Report:
    """All of it.

    Attributes
    ----------
    shapes : every channel as it was found and corrected
    findings : what geometry says, the weightiest first
    log : by day, takes of one round as one line
    modes : decay of the modes of the fronts at the main seat, by channel
    decays : octave in Hz, decay time before and after in seconds, None where a round doesn't tell it
    changed : a round against the one before in the same state; None where there are no two
    """

    job: Job
    words: ReportWords
    shapes: dict[str, ChannelShape]
    proof: ProofView
    verdict: JobVerdict
    load: LoadView
    tolerances: ToleranceView
    findings: tuple[Finding, ...]
    left_alone: tuple[LeftAlone, ...]
    log: tuple[LogGroup, ...]
    decays: tuple[tuple[float, float | None, float | None], ...]
    changed: ChangeView | None
    modes: tuple[tuple[str, SeatDecays], ...] = ()

    def tells(self, part: str) -> bool:
        return part not in self.words.left_out


class Reporting:
    """Reports of jobs."""

    def __init__(
        self,
        context: Context,
        shaping: Shaping,
        loading: Loading,
        proving: Proving,
        tolerating: Tolerating,
        verdicts: Verdicts,
        reading: Reading,
        decays: Decays,
    ) -> None:
        self._context, self._reading, self._decays = context, reading, decays
        self._shaping, self._loading = shaping, loading
        self._proving, self._tolerating, self._verdicts = proving, tolerating, verdicts

    def report(self, job_id: int) -> Report:
        """As it stands now."""
        with self._context.look() as work:
            job, words = work.jobs.get(job_id), work.reports.get(job_id)
            log = tuple(grouped(work.logbook.all(job_id)))
        shapes, proof, changed = self._shaping.shapes(job_id), self._proving.view(job_id), self._proving.drift(job_id)
        rounds = [round_ for round_ in (proof.before_round, proof.after_round) if round_ is not None]
        return Report(
            job=job,
            words=words,
            shapes=shapes,
            proof=proof,
            verdict=self._verdicts.of(job_id),
            load=self._loading.view(job_id, content="corrected"),
            tolerances=self._tolerating.view(job_id),
            findings=findings_of(job.plan).first[:_MOST_FINDINGS],
            left_alone=_left_alone(shapes, self._causes(job_id, proof.before_round, shapes)),
            log=log,
            decays=_decay_rows(self._tolerating.decay_times(job_id, rounds)) if len(rounds) == 2 else (),
            modes=tuple(
                (channel, at)
                for channel in proof.channels
                if group_of(channel) == "fronts"
                for at in self._decays.at_seats(job_id, channel, main_alone=True)[1]
                if at.rows
            ),
            changed=changed if changed.now is not None and changed.same_state else None,
        )

    def _causes(
        self, job_id: int, before: Round | None, shapes: dict[str, ChannelShape]
    ) -> dict[str, tuple[FindingRow, ...]]:
        """What Read lays the peaks and dips of each channel to that has anything left alone."""
        if before is None:
            return {}
        return {
            channel: tuple(
                row
                for row in finding_rows(self._reading.findings(job_id, before.id, channel))
                if row.cause != UNEXPLAINED
            )
            for channel, shape in shapes.items()
            if shape.plan.left_alone
        }

    def words(self, job_id: int) -> ReportWords:
        """What the calibrator says."""
        with self._context.look() as work:
            return work.reports.get(job_id)

    def say(self, job_id: int, words: ReportWords) -> None:
        """Keep what the calibrator says, and what is left out."""
        with self._context.change() as work:
            work.jobs.get(job_id)
            work.reports.keep(job_id, words)


def _left_alone(shapes: dict[str, ChannelShape], causes: dict[str, tuple[FindingRow, ...]]) -> tuple[LeftAlone, ...]:
    """Stretches with their reasons and causes; those of one reason and cause at one place are one line."""
    found: dict[tuple[float, float, str, str], list[str]] = {}
    for channel, shape in shapes.items():
        for region in shape.plan.left_alone:
            rows = [row for row in causes.get(channel, ()) if region.from_hz <= row.at_hz <= region.to_hz]
            cause = ", ".join(dict.fromkeys(row.cause for row in rows))
            key = (round(region.from_hz), round(region.to_hz), region_words(region), cause)
            found.setdefault(key, []).append(channel)
    ordered = sorted(found.items(), key=lambda item: (item[0][0], item[0][1]))
    return tuple(
        LeftAlone(channels=tuple(channels), from_hz=low, to_hz=high, why=why, cause=cause)
        for (low, high, why, cause), channels in ordered
    )[:_MOST_LEFT]


def _decay_rows(found: list[tuple[tuple[float, ...], NDArray]]) -> tuple[tuple[float, float | None, float | None], ...]:
    """Octaves from 63 Hz to 4 kHz: middle, before and after; nothing where not both rounds tell decay."""
    if len(found) < 2:
        return ()
    rows = []
    for octave_hz in _DECAY_OCTAVES_HZ:
        of_rounds = []
        for bands_hz, seconds in found:
            inside = np.abs(np.log2(np.array(bands_hz) / octave_hz)) < 0.5
            known = seconds[inside & np.isfinite(seconds)]
            of_rounds.append(float(known.mean()) if known.size else None)
        rows.append((octave_hz, of_rounds[0], of_rounds[1]))
    return tuple(row for row in rows if row[1] is not None or row[2] is not None)
