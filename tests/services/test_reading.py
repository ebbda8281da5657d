"""Read: curves of many takes come from one read, and are those of each take."""

import numpy as np
from sqlalchemy import event

from dolce.core.response import ANALYSIS_GRID_HZ, level_on_grid
from dolce.services.read.reading import ReadWish


def statements(services, wish):
    """How many statements one look at the curves sends to the database."""
    sent = []

    def note(connection, cursor, statement, *_):
        sent.append(statement)

    engine = services.context.database.engine
    event.listen(engine, "before_cursor_execute", note)
    try:
        services.reading.view(1, wish)
    finally:
        event.remove(engine, "before_cursor_execute", note)
    return len(sent)


def test_statements_grow_neither_with_channels_nor_with_spots(demo):
    statements(demo, ReadWish())                                 # what stays at hand is read once
    few = statements(demo, ReadWish(channels=("L",), spot=1, smoothing="none"))
    assert statements(demo, ReadWish(smoothing="none")) == few


def test_unsmoothed_curves_are_those_of_each_response(demo):
    curves = demo.reading.view(1, ReadWish(smoothing="none")).curves
    assert [(c.channel, len(c.takes)) for c in curves] == [("L", 9), ("R", 9)]
    for curve in curves:
        for take, level in zip(curve.takes, curve.level_db, strict=True):
            with demo.context.look() as work:
                response = work.takes.response(take.id)
            np.testing.assert_allclose(level, level_on_grid(response, at_hz=ANALYSIS_GRID_HZ, per_octave=None),
                                       atol=1e-3)                # the response is kept as 32-bit numbers
