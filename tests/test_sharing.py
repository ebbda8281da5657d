"""What goes to one worker."""

from sharing import InGroups, group


def test_modules_stay_whole_benches_go_alone_and_this_computers_audio_is_used_by_one_worker():
    bench = "tests/bench/test_benches.py::test_the_short_form[{}]"
    assert group("tests/web/test_pages.py::test_one[a::b]") == group("tests/web/test_pages.py::test_two")
    assert group("tests/web/test_pages.py::test_one") != group("tests/web/test_help.py::test_one")
    assert group(bench.format("figures")) != group(bench.format("sub_figures"))
    assert group(bench.format("rig_figures")) == group("tests/devices/test_sound_card.py::test_one")


def test_work_is_handed_out_in_these_groups(pytestconfig, monkeypatch):
    monkeypatch.setattr(InGroups, "__init__", lambda *_: None)
    scheduler = pytestconfig.hook.pytest_xdist_make_scheduler(config=pytestconfig, log=None)
    for nodeid in ("tests/web/test_pages.py::test_one[a::b]", "tests/devices/test_sound_card.py::test_one"):
        assert scheduler._split_scope(nodeid) == group(nodeid)
