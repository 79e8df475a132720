"""What may be asked of the commands that work on files. What they do is loaded when one is run: it takes two seconds."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yellowjacket.simcam.bodies import BODIES


def add_to(commands: Any) -> None:
    """Add the commands that work on files to the parser's list."""
    inspect = commands.add_parser("inspect", help="what the program sees in files, and what stands in the way")
    inspect.add_argument("files", nargs="+", type=Path, metavar="FILE")
    inspect.add_argument("--json", action="store_true", help="print a JSON document (docs/inspection.schema.json)")
    inspect.set_defaults(run=_later("inspect"))
    measure = commands.add_parser("measure", help="readings of files, patch by patch")
    measure.add_argument("files", nargs="+", type=Path, metavar="FILE")
    measure.add_argument("--patch", action="append", default=[], metavar="NAME=x,y,w,h", help="in the full raw frame")
    measure.add_argument("--json", action="store_true", help="print a JSON document (docs/measurement.schema.json)")
    measure.set_defaults(run=_later("measure"))
    characterise = commands.add_parser(
        "characterise", help="gain, noise, range and habits of bodies, from folders of frames"
    )
    characterise.add_argument("folders", nargs="+", type=Path, metavar="FOLDER")
    characterise.add_argument(
        "--json", action="store_true", help="print a JSON document (docs/characterisation.schema.json)"
    )
    characterise.add_argument(
        "--use", action="append", default=[], metavar="NAME=pixels", help="range and limits at an output size"
    )
    characterise.add_argument(
        "--profile",
        type=Path,
        metavar="FILE.json",
        help="tolerance by which limits are found (docs/tolerance.schema.json)",
    )
    characterise.add_argument(
        "--temperatures", type=Path, metavar="FILE.csv", help="sensor temperature by file: columns file, temperature_c"
    )
    characterise.add_argument(
        "--hot-pixels", type=Path, metavar="FILE.csv", help="write the hot pixels of long darks here"
    )
    characterise.set_defaults(run=_later("characterise"))
    predict = commands.add_parser(
        "predict", help="a clean frame as another ISO, exposure, time or body would have given it, as DNG"
    )
    predict.add_argument("clean", type=Path, metavar="CLEAN.dng", help="raw, correctly exposed at a low ISO")
    predict.add_argument(
        "--body", type=Path, required=True, metavar="FILE.json",
        help="what `characterise --json` printed of the body that took it",
    )  # fmt: skip
    predict.add_argument("--iso", type=int, required=True, help="at which the predicted frame is correctly exposed")
    predict.add_argument("--as", dest="model", metavar="MODEL", help="as another body in FILE.json would have taken it")
    predict.add_argument("--stops-less", type=float, default=0.0, metavar="D", help="under-exposed by so many stops")
    predict.add_argument(
        "--push", type=float, default=0.0, metavar="P", help="stops by which a converter is to brighten it"
    )
    predict.add_argument("--seconds", type=float, metavar="T", help="of a long exposure in the same light")
    predict.add_argument("--celsius", type=float, metavar="C", help="of the sensor during it")
    predict.add_argument(
        "--hot-pixels",
        type=Path,
        metavar="FILE.csv",
        help="with --seconds: those of the body, as characterise writes them",
    )
    predict.add_argument("--out", type=Path, required=True, metavar="FILE.dng")
    predict.set_defaults(run=_later("predict"))
    simulate = commands.add_parser("simulate", help="frames of the simulated camera, with a truth file")
    simulate.add_argument("body", choices=sorted(BODIES), metavar="BODY", help=", ".join(sorted(BODIES)))
    what = simulate.add_mutually_exclusive_group(required=True)
    what.add_argument("--plan", type=Path, metavar="plan.json", help="the first ladder of a plan file")
    what.add_argument("--iso-ladder", metavar="ISO,ISO…|all", help="pairs of light frames and darks at these marks")
    simulate.add_argument("--out", type=Path, required=True, metavar="FOLDER")
    simulate.add_argument(
        "--raw-mode", choices=("full", "half", "linear"), default="full", help="reduced ones of bodies with 2×2 filters"
    )
    simulate.add_argument("--seed", type=int, default=1)
    simulate.set_defaults(run=_later("simulate"))


def _later(name: str) -> Callable[[argparse.Namespace], int]:
    def run(arguments: argparse.Namespace) -> int:
        from yellowjacket.cli import files

        return files.command(name)(arguments)

    return run
