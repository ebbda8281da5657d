"""Curves that targets follow: typed, from a file, from what was measured, from the loudspeaker; and the shelf."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from dolce.core.correction import (
    SMALL_ROOM_CINEMA,
    Curve,
    CurveKind,
    KeptTarget,
    Preference,
    Target,
    TargetLevel,
    speaker_curve,
    target_levels,
)
from dolce.core.dsp import energy_mean_db
from dolce.core.geometry import distance_m
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import CLOSE_M
from dolce.errors import Conflict, InvalidValue
from dolce.formats.target_text import read_target, write_target
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.shape.present_correction import present_correction
from dolce.services.shape.shaping import Shaping

BASES = {
    "flat": "flat",
    "cinema": "small-room cinema curve",
    "points": "typed points",
    "speaker": "from the loudspeaker",
    "measured": "another channel",
}
_EVERY = slice(None, None, 4)  # 12 points an octave
_DRAWN_HZ = np.array([20.0, 80.0, 300.0, 1000.0, 4000.0, 16_000.0])  # where points stand before any is drawn
_MOVED_DB = 0.2  # by which a target that follows takes may be another before it is told
_FAR_DB = 30.0  # of a measured curve: what lies deeper is no aim


class Targets:
    """Targets of one job, and those kept for all."""

    def __init__(self, context: Context, shaping: Shaping) -> None:
        self._context = context
        self._shaping = shaping

    def levels(self, job_id: int, channel: str) -> tuple[TargetLevel, ...]:
        """What the target's level costs and gives for a channel: how far cuts alone do the work."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            shape = self._shaping.shape(work, job, correction, base.id, channel)[0] if base is not None else None
        if shape is None:
            return ()
        return target_levels(
            shape.plan.frequency_hz,
            shape.needs,
            correction.limits_for(channel, job.limits),
            range_hz=shape.judged_hz,
            at_level_db=shape.level_db,
        )

    def use_level(self, job_id: int, level_db: float) -> None:
        """Let the target be at a level by hand, relative to the stimulus."""
        self._shaping.change(
            job_id,
            f"target at {level_db:+.1f} dB",
            lambda c: replace(c, anchor="hand", anchor_level_db=round(level_db, 1)),
        )

    def curve(self, job_id: int, base: str, *, channel: str, like: str = "", points: str = "") -> Curve | None:
        """The curve of a kind that was chosen.

        Raises
        ------
        InvalidValue, FormatError
            Where points or channel can't be one.
        """
        if base == "flat":
            return None
        if base == "cinema":
            return SMALL_ROOM_CINEMA
        if base == "points" and not points.strip():
            level = self._shaping.correction(job_id).correction_settings(channel).target.level_db(_DRAWN_HZ)
            return Curve(
                frequency_hz=tuple(_DRAWN_HZ.tolist()), level_db=tuple(np.round(level, 1).tolist()), source="drawn"
            )
        if base == "points":
            typed = _of_rows(read_target(points.encode(), name="points"), kind="points", source="typed")
            typed.hung()  # InvalidValue where it reaches too far; the points stay as they were typed
            return typed
        name = like if base == "measured" else channel
        shape = self._shaping.view(job_id, name).shape
        if shape is None or shape.channel != name:
            raise Conflict(
                f"{name or 'that channel'} has no take that counts.",
                where="like",
                remedy="Choose another channel, or take it first.",
            )
        if base == "measured":
            return Curve(
                frequency_hz=tuple(ANALYSIS_GRID_HZ[_EVERY].tolist()),
                kind="measured",
                level_db=tuple(np.round(np.clip(shape.before_db, -_FAR_DB, _FAR_DB)[_EVERY], 2).tolist()),
                source=f"as {name} measures, average of {shape.needs.spots} spots",
                of=name,
            ).hung()
        found = speaker_curve(ANALYSIS_GRID_HZ, shape.before_db, self._close(job_id, name))
        slope = f"{found.slope_db:+.1f}".replace("-", "\N{MINUS SIGN}")
        return Curve(
            frequency_hz=tuple(np.round(found.frequency_hz, 2).tolist()),
            level_db=tuple(np.round(found.level_db, 2).tolist()),
            kind="speaker",
            source=f"Reaches down to {found.extension_hz:.0f} Hz and falls below as the loudspeaker does; slopes by "
            f"{slope} dB per octave, as it measures in this room."
            + (" It follows the character of its direct sound by up to 2 dB." if found.follows_direct else ""),
        )

    def moved_on(self, job_id: int, channel: str) -> bool:
        """Whether a target that follows takes would be another by the takes of now.

        Raises
        ------
        Conflict
            Where it could not be made again, with the reason.
        """
        present = self._shaping.correction(job_id).correction_settings(channel).target.curve
        if present is None or present.kind not in ("speaker", "measured"):
            return False
        fresh = self.curve(job_id, present.kind, channel=channel, like=present.of)
        if fresh is None or fresh.frequency_hz != present.frequency_hz:
            return True
        return bool(np.max(np.abs(np.subtract(fresh.level_db, present.level_db))) > _MOVED_DB)

    def follow(self, job_id: int, channel: str) -> None:
        """Let a target that follows takes be that of the takes of now; Conflict as above."""
        present = self._shaping.correction(job_id).correction_settings(channel).target.curve
        if present is None or present.kind not in ("speaker", "measured"):
            raise Conflict("this target follows no takes.", where="base", remedy="Choose what it follows.")
        fresh = self.curve(job_id, present.kind, channel=channel, like=present.of)
        self._shaping.change(job_id, f"target of {channel} by its takes", lambda c: c.with_curve(channel, fresh))

    def _close(self, job_id: int, channel: str) -> np.ndarray | None:
        """Levels of close takes of a channel in the base round; None where there is none."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            meant = [spot for spot in job.spots if spot.close_to == channel]
            close = {spot.id for spot in job.plan.close_spots(channel)}
            for spot in meant:
                if spot.id not in close:
                    gap_m = distance_m(spot.place, job.speaker(channel).place)
                    raise Conflict(
                        f"spot {spot.number} is meant to stand close to {channel} and stands {gap_m:.1f} m away, where "
                        "the room is in it.",
                        where="base",
                        remedy=f"Take it within {CLOSE_M[1]:g} m, or free the spot on Room.",
                    )
            view = self._shaping.correction(job_id)
            curves = self._context.curves.of(work, view.round_id) if view.round_id is not None else {}
            rows = (
                [k for k, take in enumerate(curves[channel].takes) if take.spot_id in close]
                if channel in curves
                else []
            )
            return energy_mean_db(curves[channel].level_db[rows]) if rows else None

    def from_file(self, data: bytes, name: str) -> Curve:
        """A curve from a text file of frequency and dB.

        Raises
        ------
        FormatError, InvalidValue
            Where it can't be a target.
        """
        return _of_rows(read_target(data, name=name), kind="file", source=name).hung()

    def take_file(self, job_id: int, channel: str, data: bytes, name: str) -> None:
        """A file as the target of a channel that has an aim of its own, else of all; errors as above."""
        curve = self.from_file(data, name)
        self._shaping.change(job_id, f"target of {name}", lambda c: c.with_curve(channel, curve))

    def set_point(
        self, job_id: int, channel: str, frequency_hz: float, level_db: float, *, instead_of: int | None = None
    ) -> None:
        """A point of a drawn target is set or moved; Conflict where the target has no points."""
        self._change_points(
            job_id, channel, lambda curve: curve.with_point(frequency_hz, level_db, instead_of=instead_of)
        )

    def remove_point(self, job_id: int, channel: str, number: int) -> None:
        """A point of a drawn target goes; InvalidValue where fewer than three would be left."""
        self._change_points(job_id, channel, lambda curve: curve.without_point(number))

    def _change_points(self, job_id: int, channel: str, change: Callable[[Curve], Curve]) -> None:
        curve = self._shaping.correction(job_id).correction_settings(channel).target.curve
        if curve is None or curve.kind != "points":
            raise Conflict("this target has no points.", where="target", remedy="Let it follow typed points first.")
        changed = change(curve)
        changed.hung()  # InvalidValue where it reaches too far
        self._shaping.change(job_id, f"point of the target of {channel}", lambda c: c.with_curve(channel, changed))

    def kept(self) -> list[KeptTarget]:
        """Targets kept for all jobs."""
        with self._context.look() as work:
            return work.targets.all()

    def keep(self, name: str, target: Target, preference: Preference | None) -> None:
        """Keep a target, without its level, under a name; one of that name gives way."""
        fresh = KeptTarget(name=name.strip(), target=target, preference=preference)
        with self._context.change() as work:
            for old in work.targets.all():
                if old.name == fresh.name:
                    work.targets.delete(old.id, self._context.now())
            work.targets.add(fresh)

    def forget(self, number: int) -> None:
        """Take one from the shelf."""
        with self._context.change() as work:
            work.targets.delete(number, self._context.now())

    def use(self, job_id: int, number: int) -> None:
        """Take one from the shelf for all channels of a job."""
        with self._context.look() as work:
            kept = work.targets.get(number)
        self._shaping.change(
            job_id,
            f"target {kept.name}",
            lambda c: replace(
                c,
                target=kept.target,
                preference=kept.preference or c.preference,
                by_channel={
                    name: replace(correction_settings, target=kept.target)
                    for name, correction_settings in c.by_channel.items()
                },
            ),
        )

    def file(self, job_id: int, channel: str) -> tuple[bytes, str]:
        """A channel's target as text, without its level, and the file's name."""
        at = ANALYSIS_GRID_HZ[_EVERY]
        level = self._shaping.correction(job_id).target_db(channel, at)
        return write_target(at, level), f"dolce-target-{channel}.csv"


def _of_rows(rows: np.ndarray, *, kind: CurveKind, source: str) -> Curve:
    """Points as they were read."""
    try:
        return Curve(
            frequency_hz=tuple(rows[:, 0].tolist()), level_db=tuple(rows[:, 1].tolist()), kind=kind, source=source
        )
    except InvalidValue as error:
        raise InvalidValue(error.problem, where="points", remedy=error.remedy) from error
