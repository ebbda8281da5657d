"""One language: words that docs/glossary.md has retired are found in no identifier, template, script or document."""

import io
import re
import tokenize
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
TEXTS = ("*.html", "*.js", "*.css", "*.toml", "*.md")


def retired() -> list[str]:
    """Words of the first column of the second table."""
    rows = (ROOT / "docs/glossary.md").read_text().partition("## Retired words")[2]
    cells = re.findall(r"^\| ([^|]+) \|", rows, re.MULTILINE)
    return [word for cell in cells if cell not in ("retired", "---") for word in cell.split(", ")]


def sources(*patterns: str) -> list[Path]:
    """Our own files; what others wrote is not ours to word."""
    return [
        path
        for folder in ("src", "tests", "bench", "scripts", "docs")
        for pattern in patterns
        for path in sorted((ROOT / folder).rglob(pattern))
        if "vendor" not in path.parts and path.name not in ("glossary.md", "test_language.py")
    ]


def parts(name: str) -> list[str]:
    """An identifier in its words: `SeatWeighting` and `seat_weighting` are both seat, weighting."""
    return [word.lower() for word in re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+", name)]


def words_in(path: Path) -> list[list[str]]:
    """Every identifier, comment and string of a Python file in its words; any other file as one text."""
    text = path.read_text()
    if path.suffix != ".py":
        return [parts(text)]
    return [
        parts(token.string)
        for token in tokenize.generate_tokens(io.StringIO(text).readline)
        if token.type in (tokenize.NAME, tokenize.COMMENT, tokenize.STRING)
    ]


def holds(words: list[str], term: list[str]) -> bool:
    """Whether the words of a term stand in a row, the last one with or without an s."""
    size = len(term)
    return any(
        words[k : k + size - 1] == term[:-1] and words[k + size - 1] in (term[-1], f"{term[-1]}s")
        for k in range(len(words) - size + 1)
    )


@pytest.fixture(scope="module")
def written() -> dict[Path, list[list[str]]]:
    paths = [*sources("*.py", *TEXTS), *sorted(ROOT.glob("*.md"))]
    return {path: words_in(path) for path in paths}


def test_the_table_of_retired_words_is_read():
    assert {"taste", "blend", "ladder"} <= set(retired())


@pytest.mark.parametrize("word", retired())
def test_a_retired_word_is_found_nowhere(written, word):
    term = parts(word)
    assert [
        path.relative_to(ROOT).as_posix() for path, all_ in written.items() if any(holds(w, term) for w in all_)
    ] == []


def test_words_are_found_in_names_of_either_style_and_in_running_text():
    assert holds(parts("OpenLadderRows"), ["ladder"])
    assert holds(parts("open_ladders"), ["ladder"])
    assert holds(parts("over thirds of octaves"), ["thirds", "of", "octaves"])
    assert not holds(parts("stretched"), ["stretch"])
