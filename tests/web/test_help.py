"""Words that explain themselves, the guide and the keys."""

import re
from html import unescape
from pathlib import Path

import pytest

from asking import client_of
from dolce.core.correction.plan import VERDICTS
from dolce.services.wiring import open_services
from dolce.web.help.terms import groups, keys
from rooms import shaped_folder

TEMPLATES = Path(__file__).parents[2] / "src/dolce/web"
USED = {key for path in TEMPLATES.rglob("*.html") for key in re.findall(r'ui\.term\("([\w-]+)"', path.read_text())} | {
    verdict.replace(" ", "-") for verdict in VERDICTS
}  # which the panel of evidence looks up
TERMS = {term.key: term for terms in groups().values() for term in terms}


def test_every_word_that_a_page_explains_is_there_and_every_explanation_stands_on_a_page():
    assert len(USED) > 90
    assert set(TERMS) == USED


# Headings that need no words of ours: names of things, places, times and units.
PLAIN = set(
    """
Above noise | Against 1 kHz | Against the present one | All alike, dB | All-passes per output | Arrival | Bands |
Bound | Bypass | by plan | Channel | Channels × spots | Convolution | Corner | Crossover | Crossovers | Curves | Delay |
Drawing | Ends at | Eyring, s | Fed by | File | Filters | Bands of a graphic equaliser per output | From |
Gain, dB | Group |
High-pass, 24 dB/oct | Hz | Impulse responses | Input | Saved | Kind | Level | Load into it | Locked | Measured |
Microphone | Most of a third octave | Name | Note | Octave | Of | On | One spot | Out | Output | Outputs | Places |
Play | Polarity | Preset | Presets | Processor | Q | Range | Region | Remarks | Response besides | Row | Sabine, s |
Set to, and its limits | Settings | Shall be | Sounds | Source | Spot | Spots | Spread, 20–120 Hz | Sub |
Subs | Sweep | Switch | Taken through | This pass | To | Trim | What | What it is | With correction and cut |
Without processing | angle | at | at most | away | axis | before | by | dB | feeds | from | kind | later | level |
main | now | output | per octave | plan | plays | reads | seat | spots | up | up to | verdict | with boosts | x | y
""".replace("\n", " ")
    .strip()
    .split(" | ")
)


def test_every_heading_of_a_table_of_figures_is_explained_or_needs_no_words():
    left = set()
    for path in TEMPLATES.glob("stops/**/*.html"):
        for heading in re.findall(r"<th(?: class=\"[\w -]*\")?>([^<{]+)</th>", path.read_text()):
            if " ".join(heading.split()) not in PLAIN and path.stem != "spot_sheet":  # which is paper
                left.add(f"{path.stem}: {heading}")
    assert not left


def test_pressing_a_region_explains_its_verdict(prepared):
    opened = open_services(shaped_folder(prepared))
    page = client_of(opened).get("/jobs/1/shape?sheet=evidence&channel=L&at=60").text
    opened.close()
    pressed = page.split('aria-label="Evidence">')[1]
    verdict = re.search(r'popovertarget="help-[\w-]*?\d+-([\w-]+)">([\w ]+)<', pressed)
    assert verdict[1] == verdict[2].replace(" ", "-")
    assert TERMS[verdict[1]].words in unescape(page)


@pytest.mark.parametrize("term", TERMS.values(), ids=lambda item: item.key)
def test_an_explanation_is_one_or_two_sentences(term):
    sentences = re.findall(r"[.?](?:\s|$)", re.sub(r"BS\.\d+|Hz\. ", "", term.words))
    assert 1 <= len(sentences) <= 2, term.words
    assert len(term.words) < 260


def test_words_are_explained_in_place_each_under_an_id_of_its_own(demo, demo_job):
    page = client_of(demo).get(f"/jobs/{demo_job}/prove").text
    targets = re.findall(r'popovertarget="([\w-]+)"', page)
    assert len(targets) >= 3
    assert len(set(targets)) == len(targets)
    for target in targets:
        assert page.count(f'id="{target}"') == 1
    assert TERMS["deviation"].words in unescape(page)


def test_the_guide_shows_every_word_and_key_and_runs_nothing_of_its_text(services):
    page = client_of(services).get("/help").text
    for term in TERMS.values():
        assert f'<dt id="{term.key}">' in page
    for key in keys():
        assert key.replace("&", "&amp;") in page
    assert '<h2 id="room">Room</h2>' in page
    assert not re.findall(r'href="[^"#]*[.]md', page)


def test_every_picture_of_the_guide_is_there_large_and_small(services):
    client = client_of(services)
    pictures = re.findall(r'<img src="(/static/guide/([\w-]+)\.webp)" alt="([^"]+)"', client.get("/help").text)
    assert len(pictures) >= 8
    for address, name, says in pictures:
        with client.get(address) as answer:
            assert answer.status_code == 200
            assert answer.data[8:12] == b"WEBP"  # RIFF of WebP (RFC 9649, 2.4)
        assert (TEMPLATES.parents[2] / f"docs/screenshots/{name}.png").exists()
        assert len(says) > 15
