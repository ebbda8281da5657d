"""Presets compared by ear: programme rendered at a seat through each, equally loud; blind trials; preference."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from dolce.core import checked
from dolce.core.correction import Preference, SwitchesAt
from dolce.core.job import Job
from dolce.core.listening import BlindTest, loudness_matched, pressure_by_band, retuned
from dolce.core.processor import BYPASS, Preset
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Correction
from dolce.errors import Conflict, DolceError, InvalidValue, NotFound
from dolce.formats.audio_file import write_flac
from dolce.formats.channel_order import Order
from dolce.services.align.bass_takes import summable
from dolce.services.context import Context
from dolce.services.load.audition import Audition, Candidate, ListenOptions, ears_at, rendered
from dolce.services.load.contents import Tuned, preset_of
from dolce.services.load.listen_material import OWN, Recording, recording_of
from dolce.services.load.loading import Loading
from dolce.services.read.round_curves import base_round
from dolce.services.searches import Report, ReportedSearch, Searches
from dolce.services.shape.finding import Finding
from dolce.services.shape.present_correction import present_correction
from dolce.services.shape.shaping import Shaping
from dolce.services.shape.versions import CorrectionVersions

TURNED = "turned"
MOST_AT_ONCE = 4
_KEPT = 2  # jobs whose recording and rendering stay in memory


@dataclass(slots=True, kw_only=True)
class Work(ReportedSearch):
    """A rendering, or filters that are found for a preference."""

    what: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ListenView:
    """Everything that the page shows.

    Attributes
    ----------
    offered : what can be compared, by key
    seats : id and name of those where something was taken
    stale : names of what has changed since it was rendered
    """

    job: Job
    options: ListenOptions
    offered: Mapping[str, str]
    seats: Sequence[tuple[int, str]]
    recording: Recording | None
    work: Work | None
    audition: Audition | None
    stale: tuple[str, ...]
    blind: BlindTest | None


class Listening:
    """What each job listens to. Recordings and renderings stay in memory until Dolce is closed."""

    def __init__(
        self, context: Context, loading: Loading, shaping: Shaping, finding: Finding, versions: CorrectionVersions
    ) -> None:
        self._context, self._loading = context, loading
        self._shaping, self._finding, self._versions = shaping, finding, versions
        self._recordings: OrderedDict[int, Recording] = OrderedDict()
        self._auditions: OrderedDict[int, Audition] = OrderedDict()
        self._options_kept: dict[int, ListenOptions] = {}
        self._blind: dict[int, BlindTest] = {}
        self._searches: Searches[Work] = Searches()
        self._lock = threading.Lock()
        self._count = 0

    # Looking

    def view(self, job_id: int) -> ListenView:
        """What can be compared, and what is there."""
        job, candidates = self._candidates(job_id)
        base = next((candidate.base for candidate in candidates.values()), None)
        with self._context.look() as work:
            taken = {take.spot_id for take in summable(work, base.id, job.channels)} if base else set()
        offered = {key: candidate.name for key, candidate in candidates.items()}
        seats = [
            (seat.id, seat.name)
            for seat in job.plan.seats
            if any(spot.id in taken for spot in job.plan.spots_of(seat.id))
        ]
        audition = self._auditions.get(job_id)
        stale = (
            ()
            if audition is None
            else tuple(
                audition.names[key]
                for key in audition.stood
                if key != TURNED and (key not in candidates or candidates[key].preset != audition.stood[key])
            )
        )
        return ListenView(
            job=job,
            options=self._options_of(job_id, offered),
            offered=offered,
            seats=seats,
            recording=self._recordings.get(job_id),
            work=self._searches.of(job_id),
            audition=audition,
            stale=stale,
            blind=self._blind.get(job_id),
        )

    def work(self, job_id: int) -> Work | None:
        """What is computed now, or was computed last."""
        return self._searches.of(job_id)

    def _options_of(self, job_id: int, offered: Mapping[str, str]) -> ListenOptions:
        options = self._options_kept.get(job_id, ListenOptions())
        compared = tuple(key for key in options.compared if key in offered)
        if len(compared) < 2:
            held = [key for key in offered if key.startswith("preset-")]
            compared = tuple(dict.fromkeys((*held[:2], *(k for k in ("corrected", BYPASS) if k in offered))))[:2]
        return replace(options, compared=compared)

    def _candidates(self, job_id: int) -> tuple[Job, dict[str, Candidate]]:
        """By key: what the processor holds, what could be loaded besides, bypass, and the same of other loudspeakers
        in the room.
        """
        tuned = self._loading.view(job_id).tuned
        with self._context.look() as work:
            base = base_round(work, tuned.job, kept=tuned.correction.round_id)
            family = [
                Tuned(
                    job=other, correction=present_correction(work, other), alignment=work.alignments.current(other.id)
                )
                for other in work.jobs.family(job_id)
            ]
            others = [(tuning, base_round(work, tuning.job, kept=tuning.correction.round_id)) for tuning in family]
        if base is None:
            return tuned.job, {}
        held = tuned.job.processor.presets
        found = {
            f"preset-{slot}": Candidate(
                name=f"{slot}: {held_preset.name}",
                preset=held_preset,
                job=tuned.job,
                base=base,
                turned=tuned.correction.switches if held_preset.corrects else {},
            )
            for slot, held_preset in held.items()
        }
        found |= {
            key: Candidate(
                name=f"{preset.name}, not loaded", preset=preset, job=tuned.job, base=base, turned=_turned(tuned, key)
            )
            for key, preset in _loadable(tuned)
            if preset not in held.values()
        }
        found[BYPASS] = Candidate(name="Bypass", preset=None, job=tuned.job, base=base)
        for other, its_base in others:
            if its_base is not None:
                found |= {
                    f"job-{other.job.id}-{key}": Candidate(
                        name=f"{other.job.name}: {preset.name if preset else 'bypass'}",
                        preset=preset,
                        job=other.job,
                        base=its_base,
                        turned=_turned(other, key),
                    )
                    for key, preset in (*_loadable(other), (BYPASS, None))
                }
        return tuned.job, found

    def recording(self, job_id: int) -> Recording | None:
        """The calibrator's own, if one was handed in."""
        return self._recordings.get(job_id)

    def sound(self, job_id: int, number: int, place: int) -> bytes:
        """One rendered sound as FLAC, by its place in the row of what is compared.

        Raises
        ------
        NotFound
            If another rendering has taken its place.
        """
        audition = self._auditions.get(job_id)
        if audition is None or audition.number != number or not 0 <= place < len(audition.keys):
            raise NotFound("this rendering is gone.", where="listening", remedy="Reload the page.")
        return audition.files[audition.keys[place]]

    def hidden_sound(self, job_id: int, number: int, trial: int) -> bytes:
        """The unnamed one of a blind trial."""
        audition, test = self._auditions.get(job_id), self._blind.get(job_id)
        if audition is None or test is None or audition.number != number or trial != test.trial or test.over:
            raise NotFound("this trial is over.", where="listening", remedy="Reload the page.")
        return audition.files[test.hidden[trial - 1]]

    # Material

    def hand_in(self, job_id: int, data: bytes, *, name: str, order: Order) -> None:
        """A recording of one's own; errors as for `recording_of`."""
        self._loading.view(job_id)
        _kept(self._recordings, job_id, recording_of(data, name=name, order=order))
        self._options_kept[job_id] = replace(self._options_kept.get(job_id, ListenOptions()), material=OWN, start_s=0.0)

    # Rendering

    def begin(self, job_id: int, options: ListenOptions) -> None:
        """Render behind the page.

        Raises
        ------
        InvalidValue
            If less than two, or more than four, are to be compared.
        Conflict, NotFound
            If there are no takes, or something of it is gone.
        """
        view = self.view(job_id)
        compared = tuple(key for key in dict.fromkeys(options.compared) if key in view.offered)
        if not 2 <= len(compared) <= MOST_AT_ONCE:
            raise InvalidValue(
                f"{len(compared)} are chosen.", where="compare", remedy=f"Tick two to {MOST_AT_ONCE} of them."
            )
        if not view.seats:
            raise Conflict(
                "no seat has takes of channels while the processor was bypassed.",
                where="listening",
                remedy="Run the spots of a seat on the Takes page first.",
            )
        checked.within(options.start_s, low=0, high=24 * 3600, where="from", unit="s")
        options = replace(options, compared=compared)
        self._options_kept[job_id] = options
        self._run(job_id, "rendering", lambda on_progress: self._render(job_id, options, on_progress))

    def stop(self, job_id: int) -> None:
        """End what is computed; what was there stays."""
        self._searches.stop(job_id)

    def wait(self, job_id: int) -> None:
        """Until it is done."""
        self._searches.wait(job_id)

    def close(self) -> None:
        self._searches.close()

    def _run(self, job_id: int, what: str, task: Callable[[Report], None]) -> None:
        work = Work(what=what)
        self._searches.begin(job_id, work, partial(work.run, task), name=f"{what} to listen to", asked=task)

    def _render(self, job_id: int, options: ListenOptions, on_progress: Report) -> None:
        job, offered = self._candidates(job_id)
        chosen = {key: offered[key] for key in options.compared if key in offered}
        with self._context.look() as work:
            ears = ears_at(work, job, options, chosen, self._recordings.get(job_id))
        self._keep(job_id, rendered(ears, on_progress))

    def _keep(self, job_id: int, audition: Audition) -> None:
        """Keep a rendering as files, under a number of its own; a blind test of another one is over."""
        files = {
            key: write_flac(sample.T.astype(float), sample_rate_hz=audition.sample_rate_hz)
            for key, sample in audition.match.sample.items()
        }
        with self._lock:
            self._count += 1
            self._blind.pop(job_id, None)
            _kept(
                self._auditions,
                job_id,
                replace(audition, number=self._count, files=files, match=replace(audition.match, sample={})),
            )  # the files hold it

    # Preference

    def turn(self, job_id: int, of: str, preference: Preference) -> None:
        """One of what is compared with tilt, bass and treble on top, beside the others and as loud as they."""
        audition = self.cache(job_id)
        if of not in audition.names or of == TURNED:
            raise InvalidValue(
                "what shall be turned is not among what is compared.", where="preference", remedy="Choose one of them."
            )
        change = preference.level_db(ANALYSIS_GRID_HZ)
        levels = {
            **audition.heard,
            TURNED: retuned(audition.heard[of], change, ANALYSIS_GRID_HZ, sample_rate_hz=audition.sample_rate_hz),
        }
        rate = audition.sample_rate_hz
        self._keep(
            job_id,
            replace(
                audition,
                names={**audition.names, TURNED: f"{audition.names[of].partition(':')[0]}, turned"},
                heard=levels,
                match=loudness_matched(levels, sample_rate_hz=rate),
                turned=preference,
                turned_of=of,
                pressure={**audition.pressure, TURNED: pressure_by_band(levels[TURNED][0], sample_rate_hz=rate)},
            ),
        )

    def keep_preference(self, job_id: int, name: str) -> None:
        """Find filters toward the target with this preference on top, and keep them as a version; behind the page.

        Raises
        ------
        Conflict
            If nothing was turned, or what was turned is no correction of this job.
        """
        audition = self.cache(job_id)
        name = checked.text(name.strip(), longest=60, where="name")
        if audition.turned is None:
            raise Conflict("nothing was turned.", where="preference", remedy="Turn tilt, bass or treble first.")
        if not name:
            raise InvalidValue("a version needs a name.", where="name", remedy="Type one.")
        tuned = self._loading.view(job_id).tuned
        correction = next(
            (
                correction
                for correction in (tuned.correction, *tuned.versions.values())
                if correction.found and _made_of(tuned, correction, audition.stood[audition.turned_of])
            ),
            None,
        )
        if correction is None:
            raise Conflict(
                f"{audition.names[audition.turned_of]} is no correction of this job any more.",
                where="preference",
                remedy="Render again, and turn one that corrects.",
            )
        preference = _together(correction.preference, audition.turned, name)

        def task(on_progress: Report) -> None:
            self._shaping.change(job_id, f"preference {name}", lambda _: replace(correction, preference=preference))
            self._finding.find(job_id, on_progress)
            self._versions.keep(job_id, name, "Turned while listening.")

        self._run(job_id, "filters", task)

    # Blind

    def begin_blind(self, job_id: int, first: str, second: str) -> None:
        """Ten trials between two of what is compared."""
        audition = self.cache(job_id)
        if not {first, second} <= set(audition.names):
            raise InvalidValue(
                "one of both is not among what is compared.", where="blind test", remedy="Choose two of them."
            )
        self._blind[job_id] = BlindTest.drawn((first, second), rng=np.random.default_rng())

    def answer(self, job_id: int, trial: int, choice: str) -> None:
        """What was said of a trial; after the last one the result goes into the logbook."""
        audition, test = self.cache(job_id), self._blind.get(job_id)
        if test is None:
            raise Conflict("no blind test runs.", where="blind test", remedy="Begin one.")
        self._blind[job_id] = test = test.answered(choice, trial=trial)
        if test.over:
            first, second = (audition.names[key] for key in test.pair)
            self._log(
                job_id,
                f"Heard blind, {audition.programme} at {audition.seat}, equally loud: {first} against "
                f"{second}, {test.right} of {len(test.hidden)} right; by guessing that happens in "
                f"{100 * test.rng:.1f} % of tests.",
            )

    def end_blind(self, job_id: int) -> None:
        """Forget it."""
        self._blind.pop(job_id, None)

    def note(self, job_id: int, text: str) -> None:
        """What was heard, into the logbook."""
        text = checked.text(text.strip(), longest=1000, where="note")
        if not text:
            raise InvalidValue("nothing is typed.", where="note", remedy="Type what you heard.")
        audition = self._auditions.get(job_id)
        where = f" ({audition.programme} at {audition.seat}: {', '.join(audition.names.values())})" if audition else ""
        self._log(job_id, f"Heard{where}: {text}")

    def _log(self, job_id: int, text: str) -> None:
        with self._context.change() as work:
            work.jobs.get(job_id)
            work.logbook.add(job_id, text, at=self._context.now())

    def cache(self, job_id: int) -> Audition:
        """What was rendered last; Conflict where nothing was."""
        found = self._auditions.get(job_id)
        if found is None:
            raise Conflict("nothing is rendered.", where="listening", remedy="Render it first.")
        return found


def _loadable(tuned: Tuned) -> list[tuple[str, Preset]]:
    """What could be loaded of a job, by key."""
    contents = ["aligned"] if tuned.stands_on is not None else []
    contents += ["corrected"] if tuned.correction.found else []
    contents += [f"version-{number}" for number in tuned.versions]
    found = []
    for key in contents:
        with suppress(DolceError):  # what the processor could not hold is not offered
            found.append((key, preset_of(key, tuned)))
    return found


def _turned(tuned: Tuned, content: str) -> Mapping[str, SwitchesAt]:
    """Switches at the monitors' backs that a content counts on."""
    return {} if content in (BYPASS, "aligned") else tuned.of(content).correction.switches


def _made_of(tuned: Tuned, correction: Correction, preset: Preset | None) -> bool:
    """Whether a preset holds this very correction."""
    if preset is None:
        return False
    tuning = replace(tuned, correction=correction)
    for key in ("corrected", "convolved"):
        try:
            if replace(preset_of(key, tuning), name=preset.name) == preset:
                return True
        except DolceError:
            continue
    return False


def _together(base: Preference | None, turned: Preference, name: str) -> Preference:
    """A preference on top of the one that a correction has already."""
    base = base if base is not None and base.on else Preference()
    return replace(
        base,
        name=name,
        on=True,
        tilt_db_per_octave=round(base.tilt_db_per_octave + turned.tilt_db_per_octave, 2),
        bass_db=round(base.bass_db + turned.bass_db, 2),
        treble_db=round(base.treble_db + turned.treble_db, 2),
    )


def _kept(store: OrderedDict, job_id: int, value: object) -> None:
    """Keep a value of a job; those of the jobs that were at it least lately go."""
    store.pop(job_id, None)
    store[job_id] = value
    while len(store) > _KEPT:
        store.popitem(last=False)
