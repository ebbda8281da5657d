"""What figures, words of ours and verdicts mean, and the keys: read from one file, which the guide is made of too."""

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from flask import g, request


@dataclass(frozen=True, slots=True, kw_only=True)
class Term:
    """A word and what it means; `id` names it on a page, each time anew."""

    key: str
    name: str
    words: str
    id: str = ""


@cache
def _file() -> dict:
    return tomllib.loads(files("dolce.web.help").joinpath("terms.toml").read_text(encoding="utf-8"))


@cache
def groups() -> dict[str, tuple[Term, ...]]:
    """Terms by where they stand."""
    return {
        group: tuple(Term(key=key, name=name, words=words) for key, (name, words) in terms.items())
        for group, terms in _file().items()
        if group != "keys"
    }


def keys() -> dict[str, str]:
    """Keys, and what each does."""
    return _file()["keys"]


@cache
def _by_key() -> dict[str, Term]:
    return {term.key: term for terms in groups().values() for term in terms}


def help_term(key: str) -> Term:
    """A term for this place on this page.

    Raises
    ------
    KeyError
        If there is none: a fault of the template.
    """
    found = _by_key()[key]
    g.terms = getattr(g, "terms", 0) + 1
    place = (request.endpoint or "").replace(".", "-")
    return Term(key=key, name=found.name, words=found.words, id=f"help-{place}-{g.terms}-{key}")


def guide_text() -> str:
    """The guide as Markdown."""
    return files("dolce.web.help").joinpath("guide.md").read_text(encoding="utf-8")
