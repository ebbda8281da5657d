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


def words_in(path: Path) -> str:
    """Every identifier, comment and string of a Python file in its words, a line each; any other file as one line."""
    text = path.read_text()
    if path.suffix != ".py":
        return " ".join(parts(text))
    tokens = {
        token.string
        for token in tokenize.generate_tokens(io.StringIO(text).readline)
        if token.type in (tokenize.NAME, tokenize.COMMENT, tokenize.STRING)
    }
    return "\n".join(" ".join(parts(token)) for token in sorted(tokens))


def holds(words: str, term: str) -> bool:
    """Whether the words of a term stand in a row, the last one with or without an s."""
    return re.search(rf"(?<![a-z\d]){' '.join(parts(term))}s?(?![a-z\d])", words) is not None


@pytest.fixture(scope="module")
def written() -> dict[Path, str]:
    paths = [*sources("*.py", *TEXTS), *sorted(ROOT.glob("*.md"))]
    return {path: words_in(path) for path in paths}


def test_the_table_of_retired_words_is_read():
    assert {"taste", "blend", "ladder"} <= set(retired())


@pytest.mark.parametrize("word", retired())
def test_a_retired_word_is_found_nowhere(written, word):
    assert [path.relative_to(ROOT).as_posix() for path, words in written.items() if holds(words, word)] == []


def test_words_are_found_in_names_of_either_style_and_in_running_text():
    assert holds(" ".join(parts("OpenLadderRows")), "ladder")
    assert holds(" ".join(parts("open_ladders")), "ladder")
    assert holds(" ".join(parts("over thirds of octaves")), "thirds of octaves")
    assert not holds(" ".join(parts("stretched")), "stretch")
