"""Switches at monitors' backs: what they do, how they stand, how they would best stand, and whether it came true."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from numpy.typing import NDArray

from dolce.core.correction import (
    MonitorSwitches,
    Position,
    Switch,
    SwitchCheck,
    SwitchesAt,
    SwitchSearch,
    SwitchShape,
    best_switches,
    checked_switches,
    measured_position,
)
from dolce.core.job import Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import AUDIBLE_TO_HZ
from dolce.errors import Conflict, InvalidValue
from dolce.formats.target_text import read_target
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.shape.present_correction import present_correction
from dolce.services.shape.shaping import Shaping
from dolce.store import UnitOfWork

_EVERY = slice(None, None, 4)  # 12 points an octave
_NEUTRAL = Position(name="0 dB")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SwitchView:
    """The switches of one channel.

    Attributes
    ----------
    kept : models that are known
    at : how they stand; None where no model was chosen
    search : the best positions, None without a model
    range_hz : over which they were looked for
    rounds : those in which the channel was taken with the processor bypassed
    base : the one that the correction starts from
    check, checked : what a later round says, and which
    """

    kept: tuple[MonitorSwitches, ...]
    at: SwitchesAt | None
    search: SwitchSearch | None
    range_hz: tuple[float, float]
    rounds: tuple[Round, ...]
    base: Round | None
    check: SwitchCheck | None = None
    checked: Round | None = None

    @property
    def later(self) -> tuple[Round, ...]:
        """Rounds by which the positions can be checked."""
        return tuple(round_ for round_ in self.rounds if self.base is None or round_.id != self.base.id)


class Switching:
    """Switches of one job's monitors, and the shelf of models."""

    def __init__(self, context: Context, shaping: Shaping) -> None:
        self._context = context
        self._shaping = shaping

    def view(self, job_id: int, channel: str, *, check_by: int | None = None) -> SwitchView:
        """How they stand, the best positions, and the check by a round where one is given."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            kept, at = tuple(work.switches.all()), correction.switches.get(channel)
            rounds = tuple(
                r for r in work.takes.rounds(job_id) if r.bypassed and channel in self._context.curves.of(work, r.id)
            )
            range_hz = (20.0, AUDIBLE_TO_HZ)
            search = check = checked = None
            if at is not None and base is not None:
                plain = replace(
                    correction, switches={c: position for c, position in correction.switches.items() if c != channel}
                )
                shape = self._shaping.shape(work, job, plain, base.id, channel)[0]
                if shape is not None:
                    limits = correction.limits_for(channel)
                    range_hz = (max(20.0, limits.from_hz), AUDIBLE_TO_HZ)
                    search = best_switches(
                        at, shape.needs, at_hz=ANALYSIS_GRID_HZ, range_hz=range_hz, level_band_hz=shape.level_band_hz
                    )
                checked = next((r for r in rounds if r.id == check_by and r.id != base.id), None)
                if checked is not None:
                    before, after = self._at_both(work, channel, base.id, checked.id)
                    check = checked_switches(
                        at, at_hz=ANALYSIS_GRID_HZ, before_db=before, after_db=after, range_hz=range_hz
                    )
        return SwitchView(
            kept=kept, at=at, search=search, range_hz=range_hz, rounds=rounds, base=base, check=check, checked=checked
        )

    def use(self, job_id: int, channel: str, number: int | None) -> None:
        """Say which model a channel's monitor is; None for one without switches."""
        model = None
        if number is not None:
            with self._context.look() as work:
                model = work.switches.get(number)
        self._shaping.change(
            job_id,
            f"model of {channel}",
            lambda c: c.with_switches(channel, None if model is None else SwitchesAt(model=model)),
        )

    def set_positions(self, job_id: int, channel: str, *, measured: dict[str, str], chosen: dict[str, str]) -> None:
        """How they stood while the round was taken, and how they shall stand."""
        at = self._at(job_id, channel)
        changed = replace(at, measured=at.model.positions(measured), chosen=at.model.positions(chosen))
        self._shaping.change(job_id, f"switches of {channel}", lambda c: c.with_switches(channel, changed))

    def choose_best(self, job_id: int, channel: str) -> None:
        """Let them stand as the search found best."""
        view = self.view(job_id, channel)
        if view.at is None or view.search is None:
            raise Conflict(
                f"nothing is known of the switches of {channel}.", where="switches", remedy="Choose its model first."
            )
        self.set_positions(job_id, channel, measured=dict(view.at.measured), chosen=dict(view.search.positions))

    def start_from_turned(self, job_id: int, round_id: int) -> None:
        """Start from a round that was taken with the switches as chosen: what was predicted is measured now."""
        self._shaping.start_from(job_id, round_id)
        self._shaping.change(
            job_id,
            "switches as chosen were measured",
            lambda c: replace(
                c,
                switches={
                    channel: replace(at, measured=at.model.positions(at.chosen)) for channel, at in c.switches.items()
                },
            ),
        )

    # The shelf

    def add_steps(
        self, model: str, switch: str, *, shape: SwitchShape, frequency_hz: float, q: float, steps_db: Sequence[float]
    ) -> MonitorSwitches:
        """A switch as its data sheet describes it; the model is made where there is none of that name."""
        return self._keep(
            model,
            Switch.of_steps(
                switch, shape=shape, frequency_hz=frequency_hz, q=q, steps_db=steps_db, at_hz=ANALYSIS_GRID_HZ[_EVERY]
            ),
        )

    def add_points(self, model: str, switch: str, position: str, text: str) -> MonitorSwitches:
        """A position by typed points.

        Raises
        ------
        FormatError, InvalidValue
            Where points can't be read, or leave a gap.
        """
        rows = read_target(text.encode(), name="points")
        return self._add_position(
            model,
            switch,
            Position(
                name=position.strip(), frequency_hz=tuple(rows[:, 0].tolist()), level_db=tuple(rows[:, 1].tolist())
            ),
        )

    def add_measured(
        self, job_id: int, model: str, switch: str, position: str, *, channel: str, without: int, with_it: int
    ) -> MonitorSwitches:
        """A position from two rounds in which a channel was taken without and with it, at the same spots."""
        with self._context.look() as work:
            work.jobs.get(job_id).speaker(channel)
            known = {r.id for r in work.takes.rounds(job_id)}
            if not {without, with_it} <= known or without == with_it:
                raise InvalidValue(
                    "two different rounds of this job are needed.",
                    where="rounds",
                    remedy="Take the same spot in both positions, each in a round of its own.",
                )
            before, after = self._at_both(work, channel, without, with_it)
        return self._add_position(
            model, switch, measured_position(position.strip(), at_hz=ANALYSIS_GRID_HZ, without_db=before, with_db=after)
        )

    def forget_switch(self, number: int, switch: str) -> None:
        """Take a switch from a model; the model goes with its last one."""
        with self._context.change() as work:
            model = work.switches.get(number)
            rest = tuple(known_switch for known_switch in model.switches if known_switch.name != switch)
            if rest:
                work.switches.change(replace(model, switches=rest))
            else:
                work.switches.delete(number, self._context.now())

    def _add_position(self, model: str, switch: str, position: Position) -> MonitorSwitches:
        with self._context.look() as work:
            present = next((switches for switches in work.switches.all() if switches.name == model.strip()), None)
        known = (
            next((known_switch for known_switch in present.switches if known_switch.name == switch.strip()), None)
            if present
            else None
        )
        others = (
            tuple(known_position for known_position in known.positions if known_position.name != position.name)
            if known
            else (_NEUTRAL,)
        )
        return self._keep(model, Switch(name=switch.strip(), positions=(*others, position)))

    def _keep(self, model: str, switch: Switch) -> MonitorSwitches:
        name = model.strip()
        with self._context.change() as work:
            present = next((switches for switches in work.switches.all() if switches.name == name), None)
            if present is None:
                return work.switches.add(MonitorSwitches(name=name, switches=(switch,)))
            changed = present.with_switch(switch)
            work.switches.change(changed)
        return changed

    def _at(self, job_id: int, channel: str) -> SwitchesAt:
        at = self._shaping.correction(job_id).switches.get(channel)
        if at is None:
            raise Conflict(
                f"nothing is known of the switches of {channel}.", where="switches", remedy="Choose its model first."
            )
        return at

    def _at_both(self, work: UnitOfWork, channel: str, first: int, second: int) -> tuple[NDArray, NDArray]:
        """Levels of a channel at the spots that two rounds share, shape (spots, points) each."""
        first_curves, other = (self._context.curves.of(work, number).get(channel) for number in (first, second))
        if first_curves is None or other is None:
            raise Conflict(
                f"{channel} was not taken in both rounds.",
                where="rounds",
                remedy="Take it at the same spot in both positions.",
            )
        shared = tuple(spot for spot in first_curves.spots.spots if spot in other.spots.spots)
        if not shared:
            raise Conflict(
                f"{channel} was not taken at the same spot in both rounds.",
                where="rounds",
                remedy="Take it at the same spot in both positions.",
            )
        return first_curves.spots.at(shared), other.spots.at(shared)
