"""Every command in README and docs: examples are run, in their order; of those in sentences words and options exist."""

import argparse
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from tests import homes
from yellowjacket.cli.main import _parser

ROOT = Path(__file__).parents[1]
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
_BLOCK = re.compile(r"^```\w*\n(.*?)^```", re.MULTILINE | re.DOTALL)
_INLINE = re.compile(r"`(yellowjacket [^`]*)`")


def examples(page):
    """Command lines of a page that stand alone, without their remarks."""
    lines = (line for block in _BLOCK.findall(page.read_text()) for line in block.splitlines())
    return [line.partition("  #")[0].strip() for line in lines if line.startswith("yellowjacket ")]


@pytest.fixture
def here(tmp_path, monkeypatch):
    """A folder to work in, beside a data folder that is ready."""
    home = homes.ready(tmp_path / "home")
    monkeypatch.setenv("YELLOWJACKET_HOME", str(home))
    monkeypatch.chdir(tmp_path)
    return homes.environment(home)


@pytest.mark.parametrize("page", [page for page in PAGES if examples(page)], ids=lambda page: page.stem)
def test_examples_do_what_they_say(page, here, tmp_path):
    """In processes of their own, as they would be typed."""
    for line in examples(page):
        command, _, into = line.partition(" > ")
        words = shlex.split(command)[1:]
        # Passwords are asked for at a terminal; where there is none, one is read as a line.
        said = subprocess.run(
            [sys.executable, "-m", "yellowjacket.cli", *words], env=here, cwd=tmp_path, text=True, capture_output=True,
            input="a-long-secret-1\n",
        )  # fmt: skip
        assert said.returncode == 0, f"{line}: {said.stderr}"
        if into:
            (tmp_path / into).write_text(said.stdout)


def subcommands(parser):
    """Names of the commands of a parser, with the parsers of their own."""
    return {
        name: one
        for action in parser._actions
        if isinstance(action, argparse._SubParsersAction)
        for name, one in action.choices.items()
    }


def test_what_is_to_be_made_can_be_made():
    """Each is made by tests/test_package.py, or is one of the runs that take minutes."""
    targets = re.findall(r"^([\w-]+):", (ROOT / "Makefile").read_text(), re.MULTILINE)
    named = {name for page in PAGES for name in re.findall(r"\bmake ([a-z-]+)(?=`|  | PORT)", page.read_text())}
    assert {"demo", "demo-reset", "serve", "dist", "test"} <= named <= set(targets)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_words_and_options_in_sentences_exist(page):
    for text in _INLINE.findall(page.read_text()):
        parser = _parser()
        for word in text.removeprefix("yellowjacket ").replace("[", " ").replace("]", " ").split():
            below = subcommands(parser)
            if word.startswith("--"):
                assert word in parser._option_string_actions, f"{page.name}: {text}"
            elif below:
                # What stands in capitals is left to the reader.
                assert word in below or not word.islower(), f"{page.name}: {text} names no command"
                parser = below.get(word, parser)
