"""What is built for others to install holds all that is needed, and works outside of the checkout."""

import os
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from yellowjacket import __version__

ROOT = Path(__file__).parents[1]
# Styles are built from these; what is built ships.
_SOURCES = ("src/yellowjacket/web/styles/",)
_SHOWS_PAGES = """
from yellowjacket import data_folder
data_folder.prepare(data_folder.data_folder())
data_folder.set_up_django()
from yellowjacket import serving, __file__ as place
serving.prepare_database()
serving.collect_static_files()
from django.test import Client
client = Client(HTTP_HOST="127.0.0.1")
for page in ("/", "/bodies/", "/help/", "/help/numbers/", "/help/screenshots/desk.png", "/settings/", "/static/web/app.css"):
    assert client.get(page).status_code == 200, page
print(place)
"""


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """Built from what is in the repository, in a copy, as building leaves things behind."""
    copy, out = tmp_path_factory.mktemp("copy"), tmp_path_factory.mktemp("dist")
    listed = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, check=True, capture_output=True, text=True).stdout
    for name in filter(None, listed.split("\0")):
        if not name.startswith("tests/") and (ROOT / name).exists():
            (copy / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, copy / name, follow_symlinks=False)
    command = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(out), str(copy)]
    made = subprocess.run(command, capture_output=True, text=True)
    assert made.returncode == 0, made.stderr
    assert {one.name for one in out.iterdir()} == {
        f"yellowjacket-{__version__}-py3-none-any.whl", f"yellowjacket-{__version__}.tar.gz",
    }  # fmt: skip
    return next(out.glob("*.whl"))


def test_everything_that_is_no_test_and_no_source_of_styles_is_in_it(wheel):
    held = set(zipfile.ZipFile(wheel).namelist())
    listed = subprocess.run(["git", "ls-files", "src", "docs"], cwd=ROOT, check=True, capture_output=True, text=True)
    wanted = set()
    for name in listed.stdout.splitlines():
        if name.startswith(_SOURCES) or (ROOT / name).is_symlink():
            continue
        place = name.replace("docs/", "src/yellowjacket/book/", 1) if name.startswith("docs/") else name
        wanted.add(place.removeprefix("src/"))
    assert wanted | {"yellowjacket/book.yml"} <= held
    said = zipfile.ZipFile(wheel).read(f"yellowjacket-{__version__}.dist-info/METADATA").decode()
    assert "License-Expression: GPL-3.0-or-later" in said
    assert "Requires-Dist: setuptools" not in said


def test_it_shows_pages_without_the_checkout(wheel, tmp_path):
    """The wheel alone on the path before everything else, with another data folder, and nothing of the repository at hand."""
    place = tmp_path / "unpacked"
    zipfile.ZipFile(wheel).extractall(place)
    kept = {k: v for k, v in os.environ.items() if k != "DJANGO_SETTINGS_MODULE"}
    environment = {**kept, "PYTHONPATH": str(place), "YELLOWJACKET_HOME": str(tmp_path / "home")}
    said = subprocess.run(
        [sys.executable, "-c", _SHOWS_PAGES], cwd=tmp_path, env=environment, capture_output=True, text=True
    )
    assert said.returncode == 0, said.stderr
    assert said.stdout.strip().endswith(str(place / "yellowjacket" / "__init__.py"))
