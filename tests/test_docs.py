"""Lists that must agree with what is there."""

import re
import sys
import tomllib
from pathlib import Path

import pytest

from dolce.cli.main import _parser
from dolce.services.jobs.progress import STOPS
from dolce.services.sample.demo import COMPLETE

ROOT = Path(__file__).parents[1]
README = (ROOT / "README.md").read_text()


def commands():
    choices = next(a for a in _parser()._actions if a.choices).choices
    return [(name, action) for name, parser in choices.items() for action in parser._actions if action.dest != "help"]


@pytest.mark.parametrize(("name", "action"), commands(), ids=lambda x: getattr(x, "dest", x))
def test_every_command_and_option_stands_in_the_readme(name, action):
    start = README.index(f"dolce {name}")
    following = re.search(r"\n(dolce |```)", README[start:])
    written = README[start : start + following.start()]
    assert (action.option_strings[0] if action.option_strings else action.metavar) in written


def test_every_picture_is_linked_and_every_link_leads_somewhere():
    linked = set(re.findall(r"docs/screenshots/([\w-]+\.png)", README))
    assert linked == {path.name for path in (ROOT / "docs/screenshots").glob("*.png")}
    assert len(linked) < 20
    for target in re.findall(r"\]\(([\w./-]+)\)", README):
        assert (ROOT / target).exists()


def test_every_stop_has_its_page_and_its_line_in_the_guide():
    guide = (ROOT / "docs/guide.md").read_text()
    for stop in STOPS:
        assert (ROOT / f"src/dolce/web/stops/{stop}/templates/{stop}/page.html").exists()
        assert f"\n## {stop.capitalize()}\n\nWhat it is for: " in guide


def test_what_people_search_for_is_in_the_guide_and_leads_to_its_page():
    guide = (ROOT / "docs/guide.md").read_text()
    headings = {heading.lower().replace(" ", "-") for heading in re.findall(r"^## (.+)$", guide, re.MULTILINE)}
    rows = re.findall(
        r"^\| ([\w, ]+) \| .+ \| (.+) \|$", guide.split("## What you may be looking for")[1], re.MULTILINE
    )
    words = {word for row, _ in rows for word in row.split(", ")}
    assert words >= {
        *("house curve", "null", "time alignment", "bass management", "phase", "waterfall", "room mode", "sweet spot"),
        *("lip sync", "loudness", "headroom"),
    }
    assert set(re.findall(r"\]\(#([\w-]+)\)", guide)) <= headings


def test_every_vendored_library_has_its_licence_beside_it():
    for folder in (ROOT / "src/dolce/web/static/vendor").iterdir():
        assert (folder / "LICENSE").exists()
        assert re.search(r"-\d+\.\d+\.\d+$", folder.name)


def test_every_pinned_package_has_a_hash():
    lock = (ROOT / "requirements/app.lock").read_text()
    pinned = re.findall(r"^([\w.-]+)==", lock, re.MULTILINE)
    declared = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["dependencies"]
    assert {re.match(r"[\w-]+", d)[0] for d in declared} <= set(pinned)
    for block in re.split(r"\n(?=[\w.-]+==)", lock)[1:]:
        assert "--hash=sha256:" in block


def test_sample_job_is_named_in_neither_code_of_the_core():
    for path in (ROOT / "src/dolce/core").rglob("*.py"):
        assert COMPLETE not in path.read_text()


def test_the_guide_is_made_of_the_texts_that_the_application_shows():
    sys.path.insert(0, str(ROOT / "scripts"))
    try:
        import docs
    finally:
        sys.path.pop(0)
    assert (ROOT / "docs/guide.md").read_text() == docs.guide(), "run scripts/docs.py"
    formulas = docs.formulas()
    assert (ROOT / "docs/formulas.md").read_text() == formulas, "run scripts/docs.py"
    # Some that anybody would look for, each with its source.
    for name, source in (
        ("sabine_s", "Sabine"),
        ("exponential", "Farina"),
        ("modes_of_box", "Kuttruff"),
        ("integrated_loudness", "BS.1770"),
        ("weighting_db", "61672"),
    ):
        assert re.search(rf"`{name}.*{source}", formulas)


def test_every_package_is_listed_with_what_it_is_for():
    declared = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["dependencies"]
    listed = set(re.findall(r"^\| ([\w-]+) \| \w", (ROOT / "docs/dependencies.md").read_text(), re.MULTILINE))
    assert listed - {"package"} == {re.match(r"[\w-]+", item)[0] for item in declared}
    desired = {line.split("==")[0] for line in (ROOT / "requirements/app.in").read_text().split()}
    assert desired - {"werkzeug"} == listed - {"package"}  # werkzeug is flask's own
    assert all(re.search(r">=[\d.]+,<\d+", item) for item in declared)


def test_every_module_that_the_architecture_names_is_there():
    named = set(
        re.findall(
            r"`((?:core|services|store|web|devices|formats|cli)/[\w/]+(?:\.py)?)",
            "".join(path.read_text() for path in (ROOT / "docs/architecture.md", *ROOT.glob("src/dolce/*/README.md"))),
        )
    )
    assert len(named) > 80
    there = {
        name
        for name in named
        if any((ROOT / "src/dolce" / f"{name.removesuffix('.py')}{end}").exists() for end in (".py", "/", ""))
    }
    assert named - there == set()
