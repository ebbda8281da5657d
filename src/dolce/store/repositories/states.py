"""States of processors, each kept once under the hash of its content, however many rounds and jobs have it."""

import json
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager, suppress
from contextvars import ContextVar

from sqlalchemy import delete, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from dolce.core.cache import Cache
from dolce.core.processor import Convolution, ProcessorState
from dolce.errors import Damaged
from dolce.store import encoding
from dolce.store.models import JobRow, KeptStateRow, RoundRow, StateRow, StateTapsRow, TapsRow

StateCache = Cache[str, ProcessorState]


class States:
    """Contents by hash. What only they refer to, taps of convolutions, is kept once as well."""

    def __init__(self, session: Session, cache: StateCache) -> None:
        self._session = session
        self._cache = cache

    def keep(self, state: ProcessorState) -> str:
        """Keep a state, if no equal one is there; its hash."""
        body, taps = _encoded(state)
        number = encoding.checksum(body.encode())
        present = self._session.scalar(select(StateRow.id).where(StateRow.id == number))
        if present is None:
            self._session.execute(
                insert(StateRow)
                .values(id=number, body=body, bypassed=state.bypassed, corrects=state.corrects)
                .on_conflict_do_nothing()
            )
            for taps_id, data in taps.items():
                self._session.execute(insert(TapsRow).values(id=taps_id, data=data).on_conflict_do_nothing())
                self._session.execute(
                    insert(StateTapsRow).values(state_id=number, taps_id=taps_id).on_conflict_do_nothing()
                )
        self._cache.add(number, state)
        return number

    def get(self, number: str) -> ProcessorState:
        """The state of a hash; Damaged where it can't be read any more."""
        return self.all([number])[number]

    def all(self, numbers: Collection[str]) -> dict[str, ProcessorState]:
        """States by hash, those that are not in the cache in one read; Damaged where one can't be read any more."""
        texts = self._texts(set(numbers))
        return {number: self._state(number, texts) for number in set(numbers)}

    def look_at(self, numbers: Collection[str]) -> None:
        """Read states in one go, into the cache; damaged ones are passed over until they are asked for."""
        texts = self._texts(set(numbers))
        for number in texts:
            with suppress(Damaged):
                self._state(number, texts)

    def _texts(self, numbers: set[str]) -> dict[str, tuple[str, dict[str, bytes]]]:
        """Text and taps by hash, of those that are not in the cache."""
        wanted = {number for number in numbers if self._cache.get(number) is None}
        if not wanted:
            return {}
        texts: dict[str, tuple[str, dict[str, bytes]]] = {
            row.id: (row.body, {}) for row in self._session.scalars(select(StateRow).where(StateRow.id.in_(wanted)))
        }
        for state_id, row in self._session.execute(
            select(StateTapsRow.state_id, TapsRow)
            .join(TapsRow, TapsRow.id == StateTapsRow.taps_id)
            .where(StateTapsRow.state_id.in_(wanted))
        ):
            texts[state_id][1][row.id] = row.data
        return texts

    def _state(self, number: str, texts: Mapping[str, tuple[str, dict[str, bytes]]]) -> ProcessorState:
        state = self._cache.get(number)
        if state is None:
            state = _decoded(number, *texts.get(number, ("", {})))
            self._cache.add(number, state)
        return state

    def body(self, number: str) -> str:
        """A state's text as it stands there; empty where it is gone."""
        return self._session.scalar(select(StateRow.body).where(StateRow.id == number)) or ""

    def forget_unused(self) -> None:
        """Remove states that nothing has any more, and taps that no state has."""
        used = [
            select(column).where(column.is_not(None))
            for column in (JobRow.processor_id, JobRow.simulated_id, RoundRow.state_id, KeptStateRow.state_id)
        ]
        self._session.execute(delete(StateRow).where(*(StateRow.id.not_in(query) for query in used)))
        self._session.execute(delete(TapsRow).where(TapsRow.id.not_in(select(StateTapsRow.taps_id))))


# The taps of the state that is being written or read in this context, by the hash under which they are kept.
_held: ContextVar[dict[str, bytes]] = ContextVar("taps_held")


def _taps_out(convolution: Convolution) -> dict:
    taps_id = encoding.checksum(convolution.data)
    _held.get()[taps_id] = convolution.data
    return {"sample_rate_hz": convolution.sample_rate_hz, "taps": taps_id}


def _taps_back(values: dict, _: type) -> Convolution:
    data = _held.get()[values["taps"]]
    if encoding.checksum(data) != values["taps"]:
        raise ValueError("taps differ from those that were kept")
    return Convolution(sample_rate_hz=values["sample_rate_hz"], data=data)


_converter = encoding.new_converter()
_converter.register_unstructure_hook(Convolution, _taps_out)
_converter.register_structure_hook(Convolution, _taps_back)


@contextmanager
def _holding(taps: dict[str, bytes]) -> Iterator[None]:
    """Taps are written into these, and read from them."""
    token = _held.set(taps)
    try:
        yield
    finally:
        _held.reset(token)


def _encoded(state: ProcessorState) -> tuple[str, dict[str, bytes]]:
    taps: dict[str, bytes] = {}
    with _holding(taps):
        return json.dumps(_converter.unstructure(state), sort_keys=True), taps


def _decoded(number: str, body: str, taps: dict[str, bytes]) -> ProcessorState:
    try:
        if encoding.checksum(body.encode()) != number:
            raise ValueError("the text differs from the one that was kept")
        with _holding(taps):
            return encoding.value_of(ProcessorState, json.loads(body), converter=_converter)
    except encoding.UNDECODABLE as error:
        raise Damaged(
            "what its processor held can't be read any more.",
            where="processor",
            remedy="Restore a backup, or save what can be read from the list of jobs.",
        ) from error
