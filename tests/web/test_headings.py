"""Every page can be read by its headings and tables: common practice of assistive technology (WCAG 2.2, 1.3.1)."""

from html.parser import HTMLParser

import pytest

from asking import client_of
from dolce.web.stops.rig.sheets import SHEETS as RIG_SHEETS
from dolce.web.stops.room.views import SHEETS as ROOM_SHEETS

PAGES = (
    "/",
    "/jobs/{job}/edit",
    *(f"/jobs/{{job}}/room?sheet={sheet}" for sheet in ROOM_SHEETS),
    *(f"/jobs/{{job}}/rig?sheet={sheet}" for sheet in RIG_SHEETS),
    *(f"/jobs/{{job}}/{stop}" for stop in ("takes", "read", "align", "shape", "load", "prove")),
    "/jobs/{job}/room/spot-sheet",
    "/jobs/999/room",
)


class Outline(HTMLParser):
    """Levels of headings in their order, and texts of the heads of tables."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.levels: list[int] = []
        self.heads: list[str] = []
        self._inside = False
        self.feed(text)

    def handle_starttag(self, tag: str, attrs) -> None:
        if tag in ("h1", "h2", "h3", "h4", "h5", "h6"):
            self.levels.append(int(tag[1]))
        self._inside = tag == "th" or (self._inside and tag != "td")
        if tag == "th":
            self.heads.append("")

    def handle_endtag(self, tag: str) -> None:
        self._inside = self._inside and tag != "th"

    def handle_data(self, data: str) -> None:
        if self._inside:
            self.heads[-1] += data.strip()


@pytest.mark.parametrize("page", PAGES)
@pytest.mark.parametrize("kind", ["full", "empty"])
def test_headings_are_in_order_under_one_first_and_no_head_of_a_table_is_empty(demo, page, kind):
    named = {job.name: job.id for job in demo.jobs.all()}
    job = named["Ferry Lane attic" if kind == "full" else "Lantern barn"]
    outline = Outline(client_of(demo).get(page.format(job=job)).text)
    assert outline.levels.count(1) == 1
    assert outline.levels[0] == 1
    assert all(after <= before + 1 for before, after in zip(outline.levels, outline.levels[1:], strict=False))
    assert "" not in outline.heads
