"""Words that explain themselves, the guide and the keys."""

import re
from html import unescape
from pathlib import Path

import pytest

from asking import client_of
from dolce.web.help.terms import groups, keys

TEMPLATES = Path(__file__).parents[2] / "src/dolce/web"
USED = {key for path in TEMPLATES.rglob("*.html") for key in re.findall(r'ui\.term\("([\w-]+)"', path.read_text())}
TERMS = {term.key: term for terms in groups().values() for term in terms}


def test_every_word_that_a_page_explains_is_there():
    assert len(USED) > 15
    assert set(TERMS) >= USED


@pytest.mark.parametrize("term", TERMS.values(), ids=lambda one: one.key)
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
    assert "<strong>Room.</strong>" in page
    assert "<img" not in page.split("</header>")[1]
