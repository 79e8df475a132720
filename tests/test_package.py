"""What README says to type: `make` in a checkout, what it builds there for others, which works outside of the checkout, and the
benchmark, on the one demo that is made here."""

import contextlib
import html
import os
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import urllib.request
import venv
import zipfile
from pathlib import Path

import pytest

from tests import homes
from tests.test_serving import free_port
from yellowjacket import __version__

ROOT = Path(__file__).parents[1]
# Styles are built from these; what is built ships.
_SOURCES = ("src/yellowjacket/web/styles/",)
_PAGES = ("/", "/bodies/", "/help/", "/help/numbers/", "/help/screenshots/desk.png", "/settings/")


# Of each module what is made small; what it finds is told and never asserted.
_SMALL = {
    "suite": {
        "_SIZES": {"24 MP": (1536, 768)},
        "WIDTH_PX": 1536,
        "HEIGHT_PX": 768,
        "_PATCHES": 3,
        "_ROUNDS": 1,
        "_SCALED": 2,
        "_ACCURACY_MARKS": (800,),
        "_PAGE_ROUNDS": 1,
        "_NIGHT_LADDERS": 2,
        "_MATCHED": 50,
        "_ADOPTED": 4,
    },
    "darks": {"HEIGHT_PX": 512, "WIDTH_PX": 768, "_DARKS": 4, "_HOT": 50, "_ROUNDS": 1},
    "looking": {"_CELLS": 2, "_ROUNDS": 1},
    "cluster": {"_TASKS": 6, "_WORKERS": (1, 2)},
}
_BENCH = f"""
import contextlib, importlib, sys
for name, values in {_SMALL!r}.items():
    module = importlib.import_module("yellowjacket.benchmarks." + name)
    for key, value in values.items():
        assert hasattr(module, key), key
        setattr(module, key, value)
from yellowjacket.benchmarks import suite
suite.BODIES = {{key: suite.BODIES[key] for key in ("heath", "wold")}}
suite.tempfile.TemporaryDirectory = lambda **words: contextlib.nullcontext(sys.argv[1])
from yellowjacket.cli.main import main
sys.exit(main(["bench"]))
"""
_FIGURE = re.compile(r".*\d.*(\(goal [\d.]+ .*(met|missed)\)|of CPU time|\(goal 1\.8 × on two\))$")


def make(target, place=ROOT):
    """As it is typed there, with the packages that the tests run with, which no copy may lay hands on."""
    return ["make", "-C", str(place), "-o", f"{sys.prefix}/.base", *target.split(), f"VENV={sys.prefix}"]


def typing(home):
    """What a shell has, that no other `make` has started."""
    return {k: v for k, v in homes.environment(home).items() if k not in ("MAKEFLAGS", "MAKELEVEL", "MFLAGS", "PORT")}


@contextlib.contextmanager
def typed(command, environment, port):
    """Lines of a command up to the one that says the application is up; Ctrl-C goes to all of its processes, as in a shell."""
    process = subprocess.Popen(
        command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, start_new_session=True
    )
    try:
        lines = []
        while f"http://127.0.0.1:{port}/" not in "".join(lines[-1:]):
            lines.append(process.stdout.readline())
            assert lines[-1], f"{command}: {lines}"
        yield lines
        os.killpg(process.pid, signal.SIGINT)
        assert "Stopped." in process.stdout.read()
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()


def fetched(port, path):
    with urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=60) as answer:
        return answer.read()


def page(port, path="/"):
    return fetched(port, path).decode()


def pictures(text):
    return re.findall(r'<img[^>]* src="([^"]+)"', text)


@pytest.fixture(scope="module")
def demo_home(tmp_path_factory):
    """The demo as `make demo-reset` makes it where there was something else before."""
    home, port = homes.ready(tmp_path_factory.mktemp("demo") / "home"), free_port()
    (home / "before").touch()
    with typed(make(f"demo-reset PORT={port}"), typing(home), port) as lines:
        assert "Demo: ready.\n" in lines
        desk, record = page(port), page(port, "/sittings/1/record/")
    assert not (home / "before").exists()
    assert "Drawer 12" in desk
    assert "ISO 6400 for the large print" in record
    assert pictures(record)
    return home


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """Built from what is in the repository, in a copy, as building leaves things behind."""
    copy = tmp_path_factory.mktemp("copy")
    listed = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, check=True, capture_output=True, text=True).stdout
    for name in filter(None, listed.split("\0")):
        if not name.startswith("tests/") and (ROOT / name).exists():
            (copy / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, copy / name, follow_symlinks=False)
    made = subprocess.run(make("dist", copy), env=typing(copy), capture_output=True, text=True)
    assert made.returncode == 0, made.stderr
    assert {one.name for one in (copy / "dist").iterdir()} == {
        f"yellowjacket-{__version__}-py3-none-any.whl", f"yellowjacket-{__version__}.tar.gz",
    }  # fmt: skip
    return next((copy / "dist").glob("*.whl"))


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


def test_make_demo_keeps_changes(demo_home):
    said = "Which of my drawers is this?"
    with contextlib.closing(sqlite3.connect(demo_home / "yellowjacket.sqlite3")) as database:
        database.execute("UPDATE bench_sitting SET question = ? WHERE id = 1", [said])
        database.commit()
    port = free_port()
    with typed(make(f"demo PORT={port}"), typing(demo_home), port):
        assert said in page(port, "/sittings/1/plan/")
        for path in pictures(page(port, "/sittings/1/record/")):
            assert fetched(port, html.unescape(path))


def test_make_serve_starts_without_the_demo(tmp_path):
    port = free_port()
    with typed(make(f"serve PORT={port}"), typing(tmp_path / "home"), port) as lines:
        assert not any("Demo" in line for line in lines)
        assert "Drawer 12" not in page(port)


def test_a_taken_port_names_the_command_of_the_readme(tmp_path):
    home = homes.ready(tmp_path / "home")
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        said = subprocess.run(make(f"serve PORT={port}"), env=typing(home), capture_output=True, text=True)
    assert said.returncode
    assert f"PORT={port + 1}" in said.stderr


def test_pipx_installs_the_wheel_and_the_demo_starts_from_it(wheel, demo_home, tmp_path):
    """What the application needs is at hand as a user's own packages, so that nothing is fetched; pip says if it is not."""
    packages = tmp_path / "user" / "lib" / f"python{sys.version_info.major}.{sys.version_info.minor}" / "site-packages"
    packages.mkdir(parents=True)
    here = Path(sys.prefix) / packages.relative_to(tmp_path / "user")
    for one in here.iterdir():
        if not re.match(r"pip\b|setuptools|_distutils|distutils|.*yellowjacket", one.name):
            (packages / one.name).symlink_to(one)
    venv.create(tmp_path / "pipx" / "shared", with_pip=True)
    environment = typing(demo_home) | {
        "PYTHONUSERBASE": str(tmp_path / "user"), "PIPX_HOME": str(tmp_path / "pipx"), "PIP_NO_INDEX": "1",
        "PIPX_BIN_DIR": str(tmp_path / "bin"),
    }  # fmt: skip
    install = [sys.executable, "-m", "pipx", "install", "--system-site-packages", wheel.name]
    said = subprocess.run(install, cwd=wheel.parent, env=environment, capture_output=True, text=True)
    assert said.returncode == 0, said.stderr
    port = free_port()
    with typed([tmp_path / "bin" / "yellowjacket", "demo", "--port", str(port)], environment, port):
        desk = page(port)
        assert "Drawer 12" in desk
        for path in (*_PAGES, *re.findall(r'"(/static/[^"]+\.(?:css|js))"', desk)):
            assert fetched(port, path), path
        asked = "import yellowjacket; print(yellowjacket.__file__)"
        python = tmp_path / "pipx" / "venvs" / "yellowjacket" / "bin" / "python"
        place = subprocess.run([python, "-c", asked], env=environment, capture_output=True, text=True, cwd=tmp_path)
        assert place.stdout.startswith(str(tmp_path / "pipx")), place.stderr


def test_the_benchmark_runs_to_its_end(demo_home, tmp_path):
    """On small frames, and on the demo that is there: another would take as long as all the rest."""
    # Originals are only read.
    shutil.copytree(demo_home / "card", tmp_path / "home" / "card", copy_function=os.link)
    shutil.copytree(demo_home, tmp_path / "home", dirs_exist_ok=True, ignore=shutil.ignore_patterns("card"))
    done = subprocess.run(
        [sys.executable, "-c", _BENCH, str(tmp_path)], capture_output=True, text=True, env=typing(tmp_path / "other")
    )
    # Whether every goal is met is no matter of a machine that runs tests.
    assert done.returncode in (0, 1), done.stderr
    assert done.stdout, done.stderr
    *said, verdict = done.stdout.splitlines()
    assert verdict in ("all goals met", "a goal was missed"), done.stderr
    figures = said[next(n for n, line in enumerate(said) if "decoded and copied" in line) :]
    assert [line for line in figures if not _FIGURE.match(line)] == []
    for told in (
        "24 MP pair measured", "darks analysed", "at the size of a use", "on a cluster of 2", "demo data made", "page look",
        "files of 24 MP adopted",
    ):  # fmt: skip
        assert any(told in line for line in figures), told
    # How much a page asks of the database is the same on every machine.
    asked = [line for line in figures if ", queries" in line]
    assert len(asked) == 8
    assert [line for line in asked if not line.endswith("met)")] == []
