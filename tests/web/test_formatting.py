import pytest
from werkzeug.datastructures import MultiDict

from dolce.errors import InvalidForm
from dolce.web.shared.form_reader import FormReader, metres_of_feet
from dolce.words.numbers import duration, hertz, length, plain, signed


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (41.2, "41.2 Hz"),
        (40, "40 Hz"),
        (125.4, "125 Hz"),
        (500, "500 Hz"),
        (1000, "1 kHz"),
        (1250, "1.25 kHz"),
        (12_500, "12.5 kHz"),
        (20_000, "20 kHz"),
    ],
)
def test_frequencies_read_as_the_trade_writes_them(value, text):
    assert hertz(value) == text


def test_signs_are_real_minus_signs_and_zero_has_none():
    assert (signed(-0.44), signed(1.25), signed(-0.04)) == ("−0.4", "+1.2", "0.0")


def test_lengths_carry_the_unit_of_the_job():
    assert length(1.5, "metres") == "1.50 m"
    # The international foot is 0.3048 m, the inch 0.0254 m, both exact.
    assert [length(m, "feet") for m in (0.3048, 2.3114, 0.0889, 0)] == ["1' 0\"", "7' 7\"", '3.5"', '0"']


@pytest.mark.parametrize(
    ("text", "metres"),
    [
        ("7' 6.9\"", 7 * 0.3048 + 6.9 * 0.0254),
        ("7 ft 6,9 in", 7 * 0.3048 + 6.9 * 0.0254),
        ('6.9"', 6.9 * 0.0254),
        ("7'", 7 * 0.3048),
        ("7.5", 7.5 * 0.3048),
        ("−2'", -2 * 0.3048),
        ("7 6", None),
        ("seven", None),
        ("", None),
    ],
)
def test_feet_and_inches_are_read_as_people_write_them(text, metres):
    assert metres_of_feet(text) == (None if metres is None else pytest.approx(metres))


def test_a_length_that_was_not_changed_is_kept_exactly():
    form = FormReader({"x": "7' 6.9\"", "y": "2.30"})
    assert form.length_m("x", low=0, high=9, units="feet", now=2.3089) == 2.3089
    assert form.length_m("y", low=0, high=9, units="metres", now=2.3149) == 2.3


def test_durations_and_plain_numbers():
    assert (duration(48.4), duration(126), plain(10.0), plain(0.25)) == ("48 s", "2 min 06 s", "10", "0.25")


def test_all_faults_of_a_form_are_gathered():
    form = FormReader(MultiDict({"a": "1,5", "b": "x", "c": "99", "d": "2.5", "e": "blue", "f": "−3"}))
    assert form.number("a", low=0, high=2) == 1.5
    assert form.number("f", low=-5, high=2) == -3
    form.number("b", low=0, high=1)
    form.number("c", low=0, high=1, unit="dB")
    form.whole("d", low=0, high=9)
    form.choice("e", ("red", "green"))
    form.number("g", low=0, high=1)
    with pytest.raises(InvalidForm) as caught:
        form.done()
    assert set(caught.value.faults) == {"b", "c", "d", "e", "g"}
    assert caught.value.faults["c"] == "99 dB is out of range. Choose 0 to 1 dB."
    assert caught.value.faults["g"] == "Fill this in."
