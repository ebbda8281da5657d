"""Whether the rows of somebody else's file are such as the application writes, before any of them is kept."""

import json
import sqlite3
import typing
from collections.abc import Callable, Mapping
from contextlib import closing
from math import isfinite
from pathlib import Path
from typing import Any, cast

from sqlalchemy import JSON, Engine, Float, LargeBinary, Table, create_engine, select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session, defer
from sqlalchemy.pool import StaticPool

from dolce.core import checked
from dolce.core.job import Job, PassRecord, ReportWords, Rig, Rows, TakeRecord
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import plan_of
from dolce.core.signals import excitation_of
from dolce.core.tuning import Alignment, Correction
from dolce.errors import DolceError, FormatError
from dolce.store import encoding
from dolce.store.models import (
    AlignmentStepRow,
    AlignmentVersionRow,
    CorrectionStepRow,
    CorrectionVersionRow,
    JobRow,
    KeptStateRow,
    LogbookRow,
    PassRow,
    PlanStepRow,
    ReportRow,
    RoundRow,
    Row,
    SamplesRow,
    SelectionRow,
    StateRow,
    StateTapsRow,
    TakeRow,
    TapsRow,
)
from dolce.store.repositories import Passes, States, Takes
from dolce.store.repositories.states import StateCache

_MOST_ROWS, _MOST_TEXT_BYTES = 1_000_000, 1 << 24
_LARGEST_NUMBER = 1 << 53
_AT_ONCE = 50
_STRANGE = (
    ValueError,
    TypeError,
    LookupError,
    AttributeError,
    ArithmeticError,
    RecursionError,
    MemoryError,
    DBAPIError,
    sqlite3.Error,
)
_FORMS: Mapping[type, tuple[type, ...]] = {float: (int, float)}


def require_plain_tables(path: Path, *, name: str) -> None:
    """FormatError where a file of SQLite holds anything that would compute when it is read, such as a view.

    Looked at before anything else is: a view, a trigger or a generated column may run for hours.
    """
    with closing(sqlite3.connect(_address(path), uri=True)) as link:
        try:
            kinds = {kind for _, _, kind, *_ in link.execute("PRAGMA main.table_list")}
            kinds |= {kind for (kind,) in link.execute("SELECT DISTINCT type FROM main.sqlite_schema")}
            tables = [row[1] for row in link.execute("PRAGMA main.table_list")]
            computed = any(
                hidden
                for table in tables
                for *_, hidden in link.execute("SELECT * FROM pragma_table_xinfo(?)", (table,))
            )
        except sqlite3.Error as error:
            raise _not_ours(name, "its tables can't be read") from error
    if kinds - {"table", "index"} or computed:
        raise _not_ours(name, "it holds more than tables")


def require_own_rows(path: Path, *, name: str) -> None:
    """Every row of a backup of the newest step, against the types that the application reads it as.

    Rows are read a few at a time; no text is read that is longer than 16 MB, and no table of more than a million rows.
    Whether the numbers of other rows are there is for the one to see who gives them new ones.

    Raises
    ------
    FormatError
        Where a table is missing, or a row is none that the application would have written.
    """
    engine = create_engine(
        "sqlite://",
        poolclass=StaticPool,
        creator=lambda: sqlite3.connect(_address(path), uri=True, check_same_thread=False),
    )
    try:
        _require_small(engine, name)
        with Session(engine) as session:
            for kind, require in _REQUIRED.items():
                _require_rows(session, kind, require, name)
            _require_states(session, name)
    finally:
        engine.dispose()


def _require_rows(session: Session, kind: type[Row], require: Callable[[Any], object], name: str) -> None:
    number = 0
    try:
        asked = select(kind).execution_options(yield_per=_AT_ONCE)
        if kind is SamplesRow:  # too large to be looked at for its own sake
            asked = asked.options(defer(SamplesRow.response), defer(SamplesRow.recording), defer(SamplesRow.fine_db))
        for number, row in enumerate(session.scalars(asked), 1):  # noqa: B007 - is told
            _require_types(row)
            require(row)
    except (*_STRANGE, DolceError) as error:
        raise _not_ours(name, f"{kind.__tablename__}, row {number}: {_short(error)}") from error


def _require_types(row: Row) -> None:
    """What SQLite keeps in any column is of any type: here, only of the column's own, finite and of a usual size."""
    for column in row.__table__.columns:
        if isinstance(column.type, LargeBinary):
            continue
        value = getattr(row, column.name)
        if value is None:
            if not column.nullable and not isinstance(column.type, JSON):
                raise ValueError(f"{column.name} is missing")
            continue
        if isinstance(column.type, JSON):
            continue
        wanted = column.type.python_type
        if not isinstance(value, _FORMS.get(wanted, (wanted,))) or (isinstance(value, bool) and wanted is not bool):
            raise ValueError(f"{column.name} is of another kind")
        if isinstance(column.type, Float) and not isfinite(value):
            raise ValueError(f"{column.name} is no number")
        if wanted is int and abs(value) > _LARGEST_NUMBER and not column.name.endswith("id"):
            raise ValueError(f"{column.name} is too large")
        if isinstance(value, str):
            checked.text(value, longest=_MOST_TEXT_BYTES, where=column.name)


def _require_small(engine: Engine, name: str) -> None:
    """Sizes, asked for without reading what is as large: rows of tables, texts, and what bytes have to hold."""
    with engine.connect() as link:
        kinds: tuple[type[Row], ...] = (*_REQUIRED, StateRow, TapsRow, StateTapsRow)
        for kind in kinds:
            table = cast(Table, kind.__table__)
            blobs = [column.name for column in table.columns if isinstance(column.type, LargeBinary)]
            texts = [column.name for column in table.columns if column.name not in blobs]
            asked = ", ".join(
                [
                    "count(*)",
                    *(f"max(length(CAST({text} AS BLOB)))" for text in texts),
                    *(f"sum(typeof({blob}) NOT IN ('blob', 'null'))" for blob in blobs),
                ]
            )
            try:
                rows, *sizes = link.exec_driver_sql(f"SELECT {asked} FROM {table.name}").one()
                odd = (
                    link.exec_driver_sql(f"SELECT count(*) FROM {table.name} WHERE {_ODD[kind]}").scalar()
                    if kind in _ODD
                    else 0
                )
            except DBAPIError as error:
                raise _not_ours(name, f"{table.name}: {_short(error)}") from error
            if rows > _MOST_ROWS or max((size or 0 for size in sizes[: len(texts)]), default=0) > _MOST_TEXT_BYTES:
                raise _not_ours(name, f"{table.name} is larger than anything that Dolce writes")
            if odd or any(sizes[len(texts) :]):
                raise _not_ours(name, f"{table.name} holds samples of another kind")


def _require_states(session: Session, name: str) -> None:
    """What is kept under the hash of its content has that content: it may be shared with other jobs."""
    try:
        for taps in session.scalars(select(TapsRow).execution_options(yield_per=_AT_ONCE)):
            if encoding.checksum(taps.data) != taps.id:
                raise ValueError(f"taps {taps.id[:8]} are not those of their hash")
        states = States(session, StateCache(1))
        for number, bypassed, corrects in session.execute(select(StateRow.id, StateRow.bypassed, StateRow.corrects)):
            state = states.get(number)  # which hashes its text and its taps again
            if (bypassed, corrects) != (state.bypassed, state.corrects):
                raise ValueError(f"state {number[:8]} is described as what it is not")
    except (*_STRANGE, DolceError) as error:
        raise _not_ours(name, f"states: {_short(error)}") from error


def _require_job(row: JobRow) -> None:
    _chosen(Job, units=row.units)
    encoding.value_of(Rig, json.loads(row.rig))
    encoding.value_of(Rows, json.loads(row.rows or "{}"))
    if row.round_id is None or row.plan_position is None:
        raise ValueError("it has no round or no plan")


def _require_take(row: TakeRow) -> None:
    record = Takes.record_of(row)
    _chosen(TakeRecord, source=record.source, polarity=record.polarity, signal=record.signal)
    if not all(isinstance(channel, str) for channel in record.sounded):
        raise ValueError("what sounded is not said by names")


def _require_pass(row: PassRow) -> None:
    record = Passes.as_kept(row)
    _chosen(PassRecord, kind=record.kind, state=record.state)
    for channel, spot in record.steps:
        checked.text(channel, longest=80, where="channel")
        int(spot)


def _chosen(of: type, /, **values: object) -> None:
    """ValueError where a value is none of those that a field of `of` may have."""
    hints = typing.get_type_hints(of)
    for field, value in values.items():
        if value not in typing.get_args(hints[field]):
            raise ValueError(f"{field} is {str(value)[:40]!r}")


def _decoded(kind: type, column: str) -> Callable[[Row], object]:
    return lambda row: encoding.value_of(kind, getattr(row, column))


def _nothing_more(_row: Row) -> None:
    """Its columns say it all."""


_REQUIRED: Mapping[type[Row], Callable[[Any], object]] = {
    JobRow: _require_job,
    RoundRow: _nothing_more,
    PlanStepRow: lambda row: plan_of(row.plan),
    PassRow: _require_pass,
    AlignmentStepRow: _decoded(Alignment, "alignment"),
    AlignmentVersionRow: _decoded(Alignment, "alignment"),
    CorrectionStepRow: _decoded(Correction, "correction"),
    CorrectionVersionRow: _decoded(Correction, "correction"),
    LogbookRow: _nothing_more,
    SelectionRow: _nothing_more,
    ReportRow: _decoded(ReportWords, "data"),
    KeptStateRow: _nothing_more,
    TakeRow: _require_take,
    SamplesRow: lambda row: row.sweep and excitation_of(row.sweep),
}
# Bytes that are no whole numbers of samples, in the terms of SQL.
_ODD: Mapping[type[Row], str] = {
    TakeRow: f"length(level_db) != {8 * ANALYSIS_GRID_HZ.size}",
    SamplesRow: "length(response) % 4 OR length(response) = 0",
    TapsRow: "length(data) % 4",
}


def _short(error: BaseException) -> str:
    text = str(error.orig if isinstance(error, DBAPIError) else error) or type(error).__name__
    return " ".join(text.split())[:160]


def _address(path: Path) -> str:
    """Read as it lies: nothing is ever written into it, and what follows the database does no harm."""
    return f"{path.resolve().as_uri()}?mode=ro&immutable=1"


def _not_ours(name: str, what: str) -> FormatError:
    return FormatError(
        f"this is no backup that Dolce has written: {what}.",
        where=name,
        remedy="Use another copy of it. Nothing was changed.",
    )
