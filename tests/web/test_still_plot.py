"""A plot drawn without a script: the same description, the same places."""

import re

from dolce.web.shared.plot_data import frequency_plot
from dolce.web.shared.still_plot import still


def curve(x, y):
    return {"state": "before", "channel": "L", "label": "before", "x": x, "y": y}


def drawn(*curves):
    plot = frequency_plot([], list(curves), x_range=(20.0, 20_000.0), y_range=(-20.0, 20.0))
    return still(plot, width=330, height=120, left=30, bottom=20, at_levels=(-10, 0, 10), sign=True)


def test_decades_are_equally_far_apart_and_zero_lies_in_the_middle():
    shown = drawn(curve([20.0, 200.0, 2000.0, 20_000.0], [20.0, 0.0, -20.0, 0.0]))
    assert shown.curves[0].d == "M30.0 0.0L130.0 50.0L230.0 100.0L330.0 50.0"
    assert [text for _, text in shown.y_ticks] == ["\N{MINUS SIGN}10", "0", "+10"]
    assert {text: round(x, 6) for x, text in shown.x_ticks}["2k"] == 230


def test_a_curve_is_broken_where_it_leaves_the_range_instead_of_running_along_its_edge():
    shown = drawn(curve([20.0, 40.0, 60.0, 80.0, 100.0], [0.0, 0.0, -30.0, 0.0, 0.0]))
    assert re.findall("[ML]", shown.curves[0].d) == ["M", "L", "M", "L"]
    assert drawn(curve([20.0, 40.0], [-30.0, -30.0])).curves[0].d == ""
