"""Styles and templates name the same things: a class that a style sheet draws is given by a template or a script."""

import re
from itertools import chain
from pathlib import Path

import dolce.web

WEB = Path(dolce.web.__file__).parent


def drawn() -> set[str]:
    """Classes of our style sheets."""
    found = set()
    for sheet in (WEB / "static/css").glob("*.css"):
        selectors = re.sub(r"\{[^{}]*\}", "{}", re.sub(r"/\*.*?\*/", "", sheet.read_text(), flags=re.S))
        found |= set(re.findall(r"\.([a-zA-Z][\w-]*)", selectors))
    return found


def given() -> tuple[set[str], tuple[str, ...], tuple[str, ...]]:
    """What may be a class: in templates what stands in class attributes, in scripts and values any word; whole words,
    and how joined ones begin and end."""
    text = ""
    for path in sorted(WEB.parent.rglob("*")):
        if "vendor" not in path.parts and path.suffix in (".html", ".js", ".py"):
            found = path.read_text()
            if path.suffix == ".html":
                found = " ".join(re.findall(r"class=\"((?:\{\{.*?\}\}|\{%.*?%\}|[^\"])*)\"", found, flags=re.S))
            text += found + "\n"
    values = {value.replace(" ", "-") for value in re.findall(r"[\"']([a-z]+(?: [a-z]+)*)[\"']", text)}
    beginnings = re.findall(r"([a-z][\w-]*-)(?:\{|\"|')|([a-z]+)\$\{", text)
    endings = re.findall(r"\}(-[a-z][\w-]*)", text)
    words = values | set(re.findall(r"[\w-]+", text))
    return words, tuple(filter(None, chain(*beginnings))), tuple(endings)


def test_every_class_that_a_style_draws_is_given_somewhere():
    words, beginnings, endings = given()
    left = {
        name
        for name in drawn()
        if name not in words and not name.startswith((*beginnings, "htmx-")) and not name.endswith(endings)
    }
    assert left == set()


def test_lines_of_templates_can_be_read():
    long = [
        f"{path.name}:{number}"
        for path in sorted(WEB.parent.rglob("*.html"))
        for number, line in enumerate(path.read_text().splitlines(), start=1)
        if len(line) > 160
    ]
    assert not long
