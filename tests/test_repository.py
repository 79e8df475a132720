"""What the repository promises about itself: current files, no hosts, documents that match the code."""

import argparse
import ast
import dataclasses
import json
import re
import subprocess
import tomllib
from importlib import import_module
from pathlib import Path

import pytest
from tools import third_party
from tools.schemas import SCHEMAS

from yellowjacket.cli.main import _parser, main
from yellowjacket.core.metrology.measurands import REGISTRY, Measurand
from yellowjacket.core.planning.ladder import LadderSpec
from yellowjacket.web.plan.files import CSV_COLUMNS

ROOT = Path(__file__).parent.parent


def tracked() -> list[Path]:
    listed = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    return [ROOT / name for name in listed.split("\0") if name]


def texts() -> list[tuple[Path, str]]:
    found = []
    for path in tracked():
        if path.suffix in {".woff2", ".ttf", ".png", ".zip"} or not path.is_file():
            continue
        found.append((path, path.read_text(encoding="utf-8")))
    return found


@pytest.mark.skipif(not (ROOT / ".git").exists(), reason="not a checkout")
def test_no_package_host_and_no_path_of_a_machine_stands_in_the_repository():
    hosts = re.compile(
        r'"resolved": *"http|--(?:extra-)?index-url|--find[-]links|https?://(?:registry|files|pypi|deb|ftp)\.'
    )
    home = str(Path.home())
    for path, text in texts():
        if path == Path(__file__):
            continue
        assert not hosts.search(text), path
        assert f"{ROOT}/" not in text, path
        assert len(home) < 3 or f"{home}/" not in text, path


def test_the_stylesheet_is_the_one_its_source_makes(tmp_path):
    built = tmp_path / "app.css"
    source = "src/yellowjacket/web/styles/app.css"
    subprocess.run(
        ["npx", "--no-install", "tailwindcss", "-i", source, "-o", str(built), "--minify"],
        cwd=ROOT, check=True, capture_output=True,
    )  # fmt: skip
    committed = ROOT / "src/yellowjacket/web/static/web/app.css"
    assert committed.read_text() == built.read_text(), "run `make css` and commit the result"


def test_every_requirement_is_pinned_with_a_hash():
    pins: dict[str, set[str]] = {}
    for name, least in (("build", 2), ("base", 20), ("test", 40)):
        text = (ROOT / f"requirements/{name}.txt").read_text()
        assert unhashed(text) == []
        assert len(requirements(text)) >= least
        for line in requirements(text):
            package, version = line.split()[0].split("==")
            pins.setdefault(package, set()).add(version)
    # They are installed together: pip refuses two versions of one package.
    assert {package: versions for package, versions in pins.items() if len(versions) > 1} == {}
    # A check that cannot fail is none.
    assert unhashed("a==1 \\\n    --hash=sha256:0\nb==2\nc==3 \\\n    --hash=sha256:0\n    # via a\n") == ["b==2"]
    assert unhashed("a>=1 \\\n    --hash=sha256:0\n") == ["a>=1  --hash=sha256:0"]


def requirements(text: str) -> list[str]:
    """Requirements of a lock file, each with its hashes as one line."""
    joined = re.sub(r"\\\n\s*", " ", text)
    return [line for line in joined.splitlines() if line.strip() and not line.lstrip().startswith("#")]


def unhashed(text: str) -> list[str]:
    """Those that are not pinned to one version by a hash."""
    pinned = re.compile(r"[\w.\-]+(?:\[[\w,\-]+\])?==[\w.!+\-]+(?:\s*;[^#]*?)?\s+--hash=sha256:")
    return [line for line in requirements(text) if not pinned.match(line)]


def test_every_module_of_the_core_is_held_by_a_test_of_its_own():
    texts = "\n".join(path.read_text() for path in (ROOT / "tests").rglob("*.py"))
    modules = {path.stem for path in (ROOT / "src/yellowjacket/core").glob("*.py")} - {"__init__"}
    direct = r"yellowjacket\.core\.(\w+)\b|from yellowjacket\.core import ([\w, ]+)"
    named = {word for pair in re.findall(direct, texts) for part in pair for word in re.split(r"[ ,]+", part)}
    assert modules - named == set()


def test_shipped_front_end_files_carry_licence_and_version():
    static = ROOT / "src/yellowjacket/web/static/web"
    versions = (static / "vendor/VERSIONS.txt").read_text()
    for package in ("htmx.org", "archivo", "spline-sans-mono"):
        assert package in versions
    for name in ("vendor/htmx", "fonts/archivo", "fonts/spline-sans-mono"):
        assert (static / f"{name}.LICENSE.txt").stat().st_size > 100


def test_no_line_of_a_template_is_longer_than_a_screen():
    templates = (ROOT / "src/yellowjacket/web/templates").rglob("*.html")
    long = [
        f"{path.name}:{n}"
        for path in templates
        for n, line in enumerate(path.read_text().splitlines(), 1)
        if len(line) > 160
    ]
    assert long == []


def test_everything_that_ships_or_is_installed_is_named_with_its_licence():
    assert third_party.FILE.read_text() == third_party.text(), "run tools/third_party.py"
    assert (ROOT / "LICENSE").read_text().lstrip().startswith("GNU GENERAL PUBLIC LICENSE")
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    assert project["license"] == "GPL-3.0-or-later"


@pytest.mark.parametrize("floor", ["core", "bench"])
def test_every_room_names_entry_points_that_are_there(floor):
    rooms = [one.parent for one in (ROOT / "src/yellowjacket" / floor).glob("*/__init__.py")]
    rooms = [one for one in rooms if one.name not in ("migrations", "models", "management")]
    assert len(rooms) > 15
    for room in rooms:
        package = f"yellowjacket.{floor}.{room.name}"
        named = re.findall(
            r"``(\w+)(?:\.(\w+))?``", (import_module(package).__doc__ or "").partition("Entry points:")[2]
        )
        assert named, f"{package} names no entry point"
        for module, name in named:
            assert not name or hasattr(import_module(f"{package}.{module}"), name), f"{package}.{module}.{name}"


_SHAPES = re.compile(r"(?i)shape|2-D|3 ?× ?3|\(…|plane|mosaic|histogram|array|RGB|Lab\b")


def test_functions_of_the_core_say_the_shapes_of_arrays_and_what_they_raise():
    guilty = []
    for path in (ROOT / "src/yellowjacket/core").rglob("*.py"):
        functions = [node for node in ast.parse(path.read_text()).body if isinstance(node, ast.FunctionDef)]
        for one in (node for node in functions if not node.name.startswith("_")):
            types = [ast.unparse(a.annotation) for a in (*one.args.args, *one.args.kwonlyargs) if a.annotation]
            doc = ast.get_docstring(one) or ""
            arrays = any("NDArray" in text for text in (*types, ast.unparse(one.returns) if one.returns else ""))
            raises = any(isinstance(node, ast.Raise) and node.exc is not None for node in ast.walk(one))
            if (arrays and not _SHAPES.search(doc)) or (raises and "aise" not in doc):
                guilty.append(f"{path.name}: {one.name}")
    assert guilty == []


def test_every_quantity_is_documented_with_its_unit():
    text = (ROOT / "docs/exports.md").read_text()
    assert set(REGISTRY) == set(Measurand)
    for quantity in Measurand:
        assert f"| {quantity} | {quantity.described.unit} |" in text


def test_the_schemas_are_those_of_the_types_that_read():
    for name, schema in SCHEMAS.items():
        assert json.loads((ROOT / "docs" / name).read_text()) == schema, "write them anew: python tools/schemas.py"


def test_the_schema_of_a_sitting_names_every_choice_that_is_stored():
    """The document is a contract of its own; what may be stored must be allowed in it, and nothing else."""
    from yellowjacket.bench.models import Grade, Lane, Patch, Shot

    parts = SCHEMAS["sitting.schema.json"]["$defs"]
    stored = {
        ("PatchPart", "role"): Patch.Role, ("FramePart", "kind"): Shot.Kind, ("LanePart", "kind"): Lane.Kind,
        ("GradePart", "seen"): Grade.Seen,
    }  # fmt: skip
    for (part, field), choices in stored.items():
        assert parts[part]["properties"][field]["enum"] == choices.values


def test_every_field_of_a_plan_and_column_of_a_shot_list_is_documented():
    text = (ROOT / "docs/plans.md").read_text()
    schema = json.loads((ROOT / "docs/plan.schema.json").read_text())
    ladder = schema["$defs"]["_Ladder"]["properties"]
    assert set(ladder) == {field.name for field in dataclasses.fields(LadderSpec)}
    for name in (*ladder, *CSV_COLUMNS):
        assert re.search(rf"\b{name}\b", text), name


def test_the_readme_names_every_command_and_every_picture_exists():
    text = (ROOT / "README.md").read_text()
    for command in ("make demo", "make test", "make demo-reset", "make bench", "YELLOWJACKET_HOME"):
        assert command in text
    pictures = set(re.findall(r"\((docs/screenshots/[\w-]+\.png)\)", text))
    assert 5 <= len(pictures) < 20
    for name in pictures:
        assert (ROOT / name).is_file(), name
    assert {Path(name).name for name in pictures} == {path.name for path in (ROOT / "docs/screenshots").glob("*.png")}


def test_every_command_has_help(capsys):
    """Every one that the parser knows, with its parts, so that a command added later is asked for, too."""
    readme = (ROOT / "README.md").read_text()
    commands = commands_of(_parser())
    assert len(commands) >= 12
    for words in commands:
        with pytest.raises(SystemExit) as ended:
            main([*words, "--help"])
        assert ended.value.code == 0
        assert words[-1] in capsys.readouterr().out
        assert f"yellowjacket {words[0]}" in readme, words


def commands_of(parser, before=()):
    """All commands of the command line, as the words that are typed."""
    found = []
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, part in action.choices.items():
                found += commands_of(part, (*before, name)) or [(*before, name)]
    return found


def test_the_package_needs_the_python_it_says():
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    assert project["requires-python"] == ">=3.11,<3.14"
    assert all(f"Programming Language :: Python :: 3.{minor}" in project["classifiers"] for minor in (11, 12, 13))


@pytest.mark.parametrize("container", ["core", "bench", "web"])
def test_the_map_of_the_house_is_true(container):
    """The drawing in CONTRIBUTING.md, the floors the linter holds, and the rooms on the disk are the same."""
    text = (ROOT / "CONTRIBUTING.md").read_text()
    drawn = re.search(rf"<!-- floors: {container} -->\n```\n(.*?)```", text, re.S)[1].splitlines()[1:]
    floors = [set(line.split()[1:]) for line in drawn]
    contracts = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["importlinter"]["contracts"]
    held = next(one for one in contracts if one.get("containers") == [f"yellowjacket.{container}"])
    assert held["exhaustive"]
    assert floors == [set(layer.split(" | ")) for layer in held["layers"]]
    folder = ROOT / "src/yellowjacket" / container
    rooms = {path.stem for path in folder.iterdir() if (path / "__init__.py").exists() or path.suffix == ".py"}
    assert set().union(*floors) == rooms - {"__init__"}


def test_every_room_says_what_is_in_it():
    for init in (ROOT / "src/yellowjacket").glob("*/*/__init__.py"):
        if "migrations" not in init.parts and "templatetags" not in init.parts:
            assert init.read_text().startswith('"""'), init


def test_no_room_holds_more_than_a_newcomer_can_oversee():
    """About a dozen modules: rooms that hold more are named, so that they do not grow."""
    large = {"darks": 14, "planning": 13, "models": 13}
    for container in ("core", "bench", "web"):
        for room in (ROOT / "src/yellowjacket" / container).iterdir():
            if room.is_dir() and room.name not in ("migrations", "__pycache__"):
                modules = [path for path in room.glob("*.py") if path.name != "__init__.py"]
                assert len(modules) <= large.get(room.name, 12), room
