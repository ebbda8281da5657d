"""What is done behind the pages."""

import threading

from dolce.services.background import Background


def test_what_is_left_gives_way_to_what_is_asked_next_and_faults_end_nothing():
    behind, done, running, go_on = Background(), [], threading.Event(), threading.Event()

    def first() -> None:
        running.set()
        go_on.wait(10)

    behind.begin("read", "one", lambda: [first, lambda: done.append("one")])
    assert running.wait(10)
    behind.begin("read", "two", lambda: [lambda: 1 / 0, lambda: done.append("two")])
    behind.begin("read", "two", lambda: [lambda: done.append("again")])
    behind.begin("align", "two", lambda: [lambda: done.append("another topic")])
    go_on.set()
    behind.wait()
    assert done == ["two", "another topic"]


def test_no_step_begins_while_a_page_is_answered():
    behind, done, first = Background(), [], threading.Event()
    behind.page_begins()
    behind.begin("read", 1, lambda: [lambda: (done.append("step"), first.set())])
    assert not first.wait(0.2)
    done.append("page")
    behind.page_ends()
    assert first.wait(10)
    assert done == ["page", "step"]


def test_once_closed_nothing_more_is_done():
    behind, done = Background(), []
    behind.page_begins()
    behind.begin("read", 1, lambda: [lambda: done.append("step")])
    behind.close()
    behind.begin("read", 2, lambda: [lambda: done.append("step")])
    behind.wait()
    assert done == []
