"""What the stand-in holds: presets that are whole or not there, whatever happens in between."""

import json
import os
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from dolce.core.processor import BYPASS, ChannelSettings, Preset, ProcessorLimits, ProcessorState, UnsupportedSetting
from dolce.devices.network.wire import digest, plain, value_of
from dolce.errors import Conflict, FormatError, InvalidValue, NotFound

MOST_OUTPUTS = 64


@dataclass(slots=True, kw_only=True)
class Write:
    """A preset that is being written, output by output; it plays nowhere before it is whole."""

    key: str
    slot: str
    frame: Preset
    outputs: tuple[str, ...]
    written: dict[str, ChannelSettings] = field(default_factory=dict)

    @property
    def missing(self) -> tuple[str, ...]:
        return tuple(output for output in self.outputs if output not in self.written)


class Memory:
    """The state of a stand-in, kept in a file where one is given.

    Every change makes a new state and puts it in the place of the old one in one step, in memory and on the disk: a
    process that is killed leaves either.
    """

    def __init__(self, *, outputs: tuple[str, ...], limits: ProcessorLimits, file: Path | None = None) -> None:
        if not 1 <= len(outputs) <= MOST_OUTPUTS or len(set(outputs)) < len(outputs):
            raise InvalidValue(
                f"{len(outputs)} outputs.",
                where="outputs",
                remedy=f"Give 1 to {MOST_OUTPUTS} names that differ, parted by commas.",
            )
        self.outputs, self.limits, self._file = outputs, limits, file
        self._lock = threading.Lock()
        self._writes: dict[str, Write] = {}
        self._level_db = 0.0
        self._state = self._kept(file) if file is not None and file.exists() else ProcessorState()

    @property
    def state(self) -> ProcessorState:
        return self._state

    @property
    def level_db(self) -> float:
        return self._level_db

    @property
    def slots(self) -> tuple[str, ...]:
        return tuple(chr(ord("A") + k) for k in range(self.limits.presets))

    def begin(self, slot: str, frame: Preset, outputs: tuple[str, ...], key: str) -> Write:
        """Begin to write a preset, or go on with one of the same key.

        Raises
        ------
        Conflict
            Where another one is being written into that slot by somebody else.
        """
        with self._lock:
            self._require_slot(slot)
            unknown = [output for output in outputs if output not in self.outputs]
            if unknown:
                raise NotFound(
                    f"there is no output {', '.join(unknown)}.",
                    where="outputs",
                    remedy=f"It has {', '.join(self.outputs)}.",
                )
            self._require_fits(self.limits.broken_by(replace(frame, channels={})), "routes")
            other = next(
                (found_ for found_ in self._writes.values() if found_.slot == slot and found_.key != key), None
            )
            if other is not None and other.written:
                raise Conflict(
                    f"somebody else is writing preset {slot}.",
                    where="preset",
                    remedy="Wait until that is done, or give it up.",
                )
            if other is not None:
                del self._writes[other.key]
            return self._writes.setdefault(key, Write(key=key, slot=slot, frame=frame, outputs=outputs))

    def write(self, key: str, output: str, settings: ChannelSettings) -> Write:
        """One output of a preset that is being written."""
        with self._lock:
            found_ = self._write_of(key)
            if output not in found_.outputs:
                raise NotFound(f"output {output} was not announced.", where="outputs")
            self._require_fits(self.limits.broken_by_channel(settings), output)
            found_.written[output] = settings
            return found_

    @staticmethod
    def _require_fits(broken: Sequence[UnsupportedSetting], what: str) -> None:
        if broken:
            raise InvalidValue(
                f"{what}: {broken[0].kind} does not fit.", where="limits", remedy="Load something that fits."
            )

    def give_up(self, key: str) -> None:
        with self._lock:
            self._writes.pop(key, None)

    def commit(self, key: str) -> Preset:
        """Put a whole preset in its place; Conflict where outputs are missing."""
        with self._lock:
            found_ = self._write_of(key)
            if found_.missing:
                raise Conflict(
                    f"{', '.join(found_.missing)} was not written.", where="preset", remedy="Write it first."
                )
            preset = replace(found_.frame, channels={output: found_.written[output] for output in found_.outputs})
            if digest(preset) != key:
                raise Conflict("what was written is not what was announced.", where="preset", remedy="Begin again.")
            self._become(replace(self._state, presets={**self._state.presets, found_.slot: preset}))
            del self._writes[key]
            return preset

    def play(self, slot: str) -> None:
        with self._lock:
            if slot != BYPASS and slot not in self._state.presets:
                raise NotFound(f"preset {slot} is empty.", where="preset", remedy="Load it first.")
            self._become(replace(self._state, active=slot))

    def shut(self, *, muted: tuple[str, ...], solo: str, dimmed: bool) -> None:
        with self._lock:
            self._become(replace(self._state, muted=muted, solo=solo, dimmed=dimmed))

    def restore(self, state: ProcessorState) -> None:
        with self._lock:
            for slot in state.presets:
                self._require_slot(slot)
            self._become(state)

    def set_level(self, level_db: float) -> None:
        """The volume, which no preset holds; -80 to 0 dB."""
        with self._lock:
            self._level_db = min(0.0, max(-80.0, float(level_db)))

    def written(self, key: str) -> Write:
        with self._lock:
            return self._write_of(key)

    def _write_of(self, key: str) -> Write:
        found_ = self._writes.get(key)
        if found_ is None:
            raise NotFound("nothing such is being written.", where="preset", remedy="Begin again.")
        return found_

    def _require_slot(self, slot: str) -> None:
        if slot not in self.slots:
            raise NotFound(
                f"there is no preset {slot[:20]!r}.", where="preset", remedy=f"It has {', '.join(self.slots)}."
            )

    def _become(self, state: ProcessorState) -> None:
        if self._file is not None:
            beside = self._file.with_suffix(".new")
            beside.write_text(json.dumps(plain(state)), "utf-8")
            os.replace(beside, self._file)
        self._state = state

    def _kept(self, file: Path) -> ProcessorState:
        try:
            values: Mapping[str, object] = json.loads(file.read_text("utf-8"))
        except (OSError, ValueError) as error:
            raise FormatError(
                "its memory can't be read.", where=str(file), remedy="Move the file away to begin with nothing."
            ) from error
        return value_of(ProcessorState, values, where=str(self._file))
