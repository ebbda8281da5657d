"""What goes to one worker."""

from sharing import group


def test_modules_stay_whole_benches_go_alone_and_this_computers_audio_is_used_by_one_worker():
    bench = "tests/bench/test_benches.py::test_the_short_form[{}]"
    assert group("tests/web/test_pages.py::test_one[a::b]") == group("tests/web/test_pages.py::test_two")
    assert group("tests/web/test_pages.py::test_one") != group("tests/web/test_help.py::test_one")
    assert group(bench.format("figures")) != group(bench.format("sub_figures"))
    assert group(bench.format("rig_figures")) == group("tests/devices/test_sound_card.py::test_one")
