"""A sample job from its takes to its report, by the same services that a person uses."""

import time
from collections.abc import Callable
from dataclasses import dataclass

from dolce.core.correction import MEAN_BAND_HZ, Limits, Target
from dolce.core.job import ReportWords
from dolce.core.processor import Crossover, Effects
from dolce.core.subs import SearchLimits
from dolce.core.tuning import BassRequest, CorrectionSettings
from dolce.devices.interface import SoundStopped, Stopped
from dolce.services.align.aligning import Aligning
from dolce.services.align.common_bass import CommonBassBench
from dolce.services.align.crossing import Crossing
from dolce.services.align.sub_workbench import SubWorkbench
from dolce.services.context import Context
from dolce.services.load.loading import Loading
from dolce.services.prove.reporting import Reporting
from dolce.services.shape.finding import Finding
from dolce.services.shape.range_proposing import RangeProposing
from dolce.services.shape.scopes import Scope
from dolce.services.shape.shaping import Shaping
from dolce.services.takes.rounds import Rounds
from dolce.services.takes.taking import Taking

CORRECTED = "Corrected"
_LOOK_S = 0.05


@dataclass(frozen=True, slots=True)
class Finishing:
    """What it takes to bring a job to its end."""

    context: Context
    rounds: Rounds
    taking: Taking
    aligning: Aligning
    workbench: SubWorkbench
    common_bass: CommonBassBench
    crossing: Crossing
    shaping: Shaping
    ranges: RangeProposing
    finding: Finding
    loading: Loading
    reporting: Reporting

    def run(self, job_id: int, *, on_progress: Callable[[int, int], None], stopped: Stopped) -> None:
        """Subs as one, crossovers, filters, both presets, a round through them, and words for the report.

        A job that somebody has begun to align is left to them.

        Raises
        ------
        SoundStopped
            If it was stopped; the next start begins with what is not there yet.
        """
        with self.context.look() as work:
            job, alignment = work.jobs.get(job_id), work.alignments.current(job_id)
            begun = any(round_.name == CORRECTED and round_.id == job.round_id for round_ in work.takes.rounds(job_id))
        if begun:
            self.taking.rehearse(job_id, on_progress=on_progress, stopped=stopped)
            return
        if alignment is not None:
            return

        def step(_fraction: float = 0.0) -> None:
            on_progress(0, 1)
            if stopped():
                raise SoundStopped

        step()
        self.aligning.use_proposal(job_id)
        if len(job.plan.subs) > 1:
            self.workbench.search(job_id, SearchLimits())
            while (searching := self.workbench.view(job_id).searching) is not None and searching.running:
                try:
                    step()
                except SoundStopped:
                    self.workbench.stop(job_id)
                    raise
                time.sleep(_LOOK_S)
            self.workbench.use(job_id, "search")
        if job.plan.subs:
            self.crossing.set_crossovers(
                job_id,
                {"fronts": Crossover(frequency_hz=80.0), "surrounds": Crossover(frequency_hz=100.0)},
                effects=Effects(),
            )
        if len(job.plan.subs) > 1 and len(job.plan.seats) > 1:
            self._common_bass(job_id, step)
        target = Target(bass_lift_db=3.0, tilt_db_per_octave=-0.5)
        self._correction_settings(job_id, CorrectionSettings(target=target, limits=Limits(from_hz=35.0, to_hz=500.0)))
        if job.plan.subs:
            # Near a mode, narrower filters make the level depend on where the microphone is put back.
            self._correction_settings(
                job_id,
                CorrectionSettings(target=target, limits=Limits(from_hz=20.0, to_hz=120.0, max_q=8.0)),
                scope="group",
                channel=job.plan.subs[0].channel,
            )
        self.finding.find(job_id, step)
        self.loading.load(job_id, "A", "corrected")
        self.loading.load(job_id, "B", "aligned")
        self.loading.switch(job_id, "A")
        self.reporting.say(
            job_id,
            ReportWords(
                words=(
                    "The loft speaks clearly at the mixer's place now, and the director hears the same bass. What is "
                    "left at the script bench is the room's: it stands where two walls meet."
                )
            ),
        )
        self.rounds.new(job_id, name=CORRECTED)
        self.taking.rehearse(job_id, on_progress=on_progress, stopped=stopped)

    def _common_bass(self, job_id: int, step: Callable[[], None]) -> None:
        """A preset of its own with the common bass, and its alignment kept, to compare with subs that play alone."""
        self.common_bass.search(job_id, BassRequest())
        while (searching := self.common_bass.search_of(job_id)) is not None and searching.running:
            try:
                step()
            except SoundStopped:
                self.common_bass.stop(job_id)
                raise
            time.sleep(_LOOK_S)
        found = self.common_bass.search_of(job_id)
        if found is None or not found.results:  # what can't be found is said on Align
            return
        self.common_bass.use(job_id, next(iter(found.results)))
        self.aligning.keep_version(job_id, name="Common bass", note="Subs and main channels play the bass together.")
        self.loading.load(job_id, "C", "aligned")
        self.aligning.undo(job_id)

    def _correction_settings(
        self, job_id: int, correction_settings: CorrectionSettings, *, scope: Scope = "all", channel: str = ""
    ) -> None:
        self.shaping.set_correction(
            job_id,
            correction_settings=correction_settings,
            preference=None,
            anchor="band",
            anchor_band_hz=MEAN_BAND_HZ,
            anchor_level_db=0.0,
            linked=False,
            scope=scope,
            channel=channel,
        )
