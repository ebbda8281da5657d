"""Makes docs/guide.md and docs/formulas.md of the application's own texts. Run with the project's Python."""

import importlib
import inspect
import pkgutil
import re
from pathlib import Path

import dolce.core
from dolce.web.help.terms import groups, guide_text, keys

ROOT = Path(__file__).parents[1]


def guide() -> str:
    """The guide with words, figures and keys behind it, as the application shows them."""
    parts = [guide_text().rstrip(), "", "## Words and figures", ""]
    for group, terms in groups().items():
        parts += [f"### {group.capitalize()}", "", *(f"- **{term.name}.** {term.words}" for term in terms), ""]
    parts += ["## Keys", "", *(f"- `{key}`: {what}" for key, what in keys().items()), ""]
    return "\n".join(parts)


def formulas() -> str:
    """Everything of the core that names where it comes from: what it gives, and its source."""
    parts = [
        "# Formulas and their sources",
        "",
        "Made from the docstrings of `dolce.core` by `scripts/docs.py`: every public function and value that "
        "names a published source.",
        "",
    ]
    folder = ""
    for info in sorted(pkgutil.walk_packages(dolce.core.__path__, "dolce.core."), key=lambda item: item.name):
        module = importlib.import_module(info.name)
        rows = [
            row
            for name, thing in sorted(vars(module).items())
            if not name.startswith("_")
            and (inspect.isfunction(thing) or inspect.isclass(thing))
            and thing.__module__ == info.name
            for row in _rows(name, thing)
        ]
        if rows:
            top = info.name.split(".")[2]
            parts += [f"## {top.replace('_', ' ').capitalize()}", ""] if top != folder else []
            folder = top
            parts += [f"### `{info.name.removeprefix('dolce.core.')}`", "", *rows, ""]
    return "\n".join(parts)


def _rows(name: str, thing: object) -> list[str]:
    """A line for a function or class, and for each method that names a source of its own."""
    found = [(name, thing)]
    if inspect.isclass(thing):
        found += [
            (f"{name}.{key}", value)
            for key, value in vars(thing).items()
            if inspect.isfunction(value) and not key.startswith("_")
        ]
    rows = []
    for label, value in found:
        text = inspect.getdoc(value) or ""
        source = re.search(r"References\n-+\n(.*?)(?:\n\n[A-Z]\w+\n-+|\Z)", text, re.DOTALL)
        if source and value.__doc__:
            rows.append(
                f"- **`{label}`** {' '.join(text.split(chr(10) + chr(10))[0].split())} *{' '.join(source[1].split())}*"
            )
    return rows


if __name__ == "__main__":
    (ROOT / "docs" / "guide.md").write_text(guide(), encoding="utf-8")
    (ROOT / "docs" / "formulas.md").write_text(formulas(), encoding="utf-8")
