"""What goes to one worker."""

from sharing import ByModule


def test_modules_stay_whole_benches_go_alone_and_this_computers_audio_is_used_by_one_worker():
    scope = ByModule._split_scope.__get__(object())
    bench = "tests/bench/test_benches.py::test_the_short_form[{}]"
    assert scope("tests/web/test_pages.py::test_one[a::b]") == scope("tests/web/test_pages.py::test_two")
    assert scope("tests/web/test_pages.py::test_one") != scope("tests/web/test_help.py::test_one")
    assert scope(bench.format("figures")) != scope(bench.format("sub_figures"))
    assert scope(bench.format("rig_figures")) == scope("tests/devices/test_sound_card.py::test_one")
