"""A wheel holds everything that the application runs with."""

import os
import subprocess
import sys
import zipfile
from pathlib import Path

ROOT = Path(__file__).parents[1]
PAGES = """
import pathlib, sys
import dolce
from dolce.services.wiring import open_services
from dolce.web import create_app
assert str(pathlib.Path(dolce.__file__)).startswith(sys.argv[1]), dolce.__file__
services = open_services(pathlib.Path(sys.argv[2]))
client = create_app(services).test_client()
for page in ("/", "/help", "/static/css/tokens.css", "/static/js/start.js",
             "/static/vendor/fraunces-5.3.0/fraunces-latin-wght-normal.woff2"):
    assert client.get(page).status_code == 200, page
services.close()
"""


def test_a_wheel_installs_and_shows_its_pages_with_fonts(tmp_path):
    build = "import setuptools.build_meta as b, sys; print(b.build_wheel(sys.argv[1]))"
    source = tmp_path / "source"
    source.mkdir()
    # Built from a copy: a build leaves folders behind.
    for part in ("src", "pyproject.toml", "README.md"):
        (source / part).symlink_to(ROOT / part)
    made = subprocess.run(
        [sys.executable, "-c", build, str(tmp_path)], cwd=source, capture_output=True, text=True, check=True
    ).stdout.split()[-1]
    installed = tmp_path / "installed"
    with zipfile.ZipFile(tmp_path / made) as wheel:
        inside = set(wheel.namelist())
        wheel.extractall(installed)
    kept = {
        f"dolce/{path.relative_to(ROOT / 'src/dolce')}"
        for path in (ROOT / "src/dolce").rglob("*")
        if path.is_file() and path.suffix != ".pyc" and path.name != "README.md"
    }
    assert kept <= inside
    shown = subprocess.run(
        [sys.executable, "-c", PAGES, str(installed), str(tmp_path / "data")],
        cwd=tmp_path,
        env={**os.environ, "PYTHONPATH": str(installed)},
        capture_output=True,
        text=True,
    )
    assert shown.returncode == 0, shown.stderr
