"""The command line: serve the application, make the demo, allow folders, keep data."""

from __future__ import annotations

import argparse
import io
import os
import sys
from datetime import UTC, datetime
from pathlib import Path

from yellowjacket import __version__, data_folder
from yellowjacket import backup as backup_
from yellowjacket.cli import accounts, file_arguments

DEFAULT_PORT = 8017


def main(argv: list[str] | None = None) -> int:
    """Run a command; returns the exit code (0 fine, 1 failed with a line on stderr, 2 usage)."""
    for stream in (sys.stdout, sys.stderr):
        # Names of files may be no text at all; they are written out, not stumbled over.
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    arguments = _parser().parse_args(argv)
    try:
        result: int = arguments.run(arguments)
    except (OSError, ValueError) as error:
        print(f"yellowjacket: {error}", file=sys.stderr)
        return 1
    except Exception as error:
        if not _told(error):
            raise
        return 1
    return result


def _told(error: Exception) -> bool:
    """Whether it was trouble with database or disk, which has a sentence of its own."""
    from yellowjacket.bench.patience import trouble_of, words_for

    trouble = trouble_of(error)
    if trouble is not None:
        print(f"yellowjacket: {words_for(trouble)}", file=sys.stderr)
    return trouble is not None


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="yellowjacket", description="For people who test stills cameras.")
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    serve = commands.add_parser("serve", help="start the application on this machine")
    _add_port(serve)
    serve.add_argument(
        "--host", default="127.0.0.1", help="address to listen on; others than loopback need an account first"
    )
    serve.add_argument(
        "--name", action="append", default=[], help="host name under which others reach it; may be repeated"
    )
    serve.add_argument("--certificate", type=Path, help="PEM file; with --key everything sent is encrypted")
    serve.add_argument("--key", type=Path, help="PEM file of the certificate's key")
    serve.set_defaults(run=_serve)
    demo = commands.add_parser("demo", help="make the demo sitting if it is not there, then serve")
    _add_port(demo)
    demo.add_argument("--prepare-only", action="store_true", help="make the data and stop; nothing is served")
    demo.set_defaults(run=_demo)
    bench = commands.add_parser("bench", help="measure speed and memory against their goals")
    bench.set_defaults(run=_bench)
    verify = commands.add_parser("verify", help="hold estimators against simulated truth, and print the table")
    verify.add_argument("--short", action="store_true", help="a twentieth of the bodies and graders: a look, no proof")
    verify.set_defaults(run=_verify)
    allow = commands.add_parser("allow", help="let frames be imported from a folder, now and later")
    allow.add_argument("folder", type=Path)
    allow.set_defaults(run=_allow)
    backup = commands.add_parser("backup", help="keep the data folder in one file, also while the application runs")
    backup.add_argument("file", type=Path, nargs="?", help="default: yellowjacket-DATE.zip here")
    backup.set_defaults(run=_backup)
    restore = commands.add_parser("restore", help="put a backup into a data folder that holds nothing yet")
    restore.add_argument("file", type=Path)
    restore.add_argument("--into", type=Path, help="default: the data folder itself")
    restore.set_defaults(run=_restore)
    checkup = commands.add_parser("doctor", help="look at database, originals, space and versions; say the remedy")
    checkup.add_argument("--thorough", action="store_true", help="read every original and compare its contents")
    checkup.add_argument(
        "--clean-up", action="store_true", help="remove half-written files and originals that no record names"
    )
    checkup.set_defaults(run=_doctor)
    accounts.add_to(commands)
    file_arguments.add_to(commands)
    return parser


def _add_port(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--port",
        type=int,
        default=DEFAULT_PORT,
        help=f"port to listen on (default {DEFAULT_PORT}); without --host nobody else can reach it",
    )


def _serve(arguments: argparse.Namespace) -> int:
    from yellowjacket import serving

    door = serving.door(arguments.port, arguments.host, arguments.name, arguments.certificate, arguments.key)
    data_folder.prepare(data_folder.data_folder())
    with data_folder.only_here(data_folder.data_folder()) as lock:
        # Only now: children of a server that was killed a moment ago hold its port as long as its lock.
        listening = serving.listen(door)
        serving.take_over(data_folder.data_folder())
        # Before the settings are read, and not before the door is held: one that is refused leaves no trace.
        os.environ.update(door.environment)
        data_folder.set_up_django()
        return serving.serve(door, listening, lock)


def _demo(arguments: argparse.Namespace) -> int:
    from yellowjacket import serving

    door = serving.Door(arguments.port)
    data_folder.prepare(data_folder.data_folder())
    with data_folder.only_here(data_folder.data_folder()) as lock:
        listening = None if arguments.prepare_only else serving.listen(door)
        serving.take_over(data_folder.data_folder())
        data_folder.set_up_django()
        serving.prepare_database()
        failed = serving.apart(_make_demo)
        return failed if failed or listening is None else serving.serve(door, listening, lock)


def _make_demo() -> None:
    from yellowjacket.bench.demo import make_demo

    try:
        make_demo(report=lambda line: print(line, flush=True))
    except Exception as error:
        if not _told(error):
            raise
        sys.exit(1)


def _bench(_arguments: argparse.Namespace) -> int:
    from yellowjacket.benchmarks import suite

    return suite.run(report=lambda line: print(line, flush=True))


def _verify(arguments: argparse.Namespace) -> int:
    from yellowjacket.benchmarks import verify

    share = 0.05 if arguments.short else 1.0
    return verify.run(share, report=lambda line: print(line, flush=True), folder=data_folder.data_folder())


def _allow(arguments: argparse.Namespace) -> int:
    folder = data_folder.data_folder()
    data_folder.prepare(folder)
    data_folder.allow_folder(folder, arguments.folder)
    print(f"Frames may now be imported from {arguments.folder}.")
    return 0


def _backup(arguments: argparse.Namespace) -> int:
    now = datetime.now(UTC)
    target = arguments.file or Path(f"yellowjacket-{now:%Y%m%d-%H%M%S}.zip")
    kept = backup_.backup(data_folder.data_folder(), target, __version__, now, _say)
    print(f"{target}: {kept.files} files, {kept.total_bytes / 1e6:.0f} MB. Restore it with `yellowjacket restore`.")
    return 0


def _restore(arguments: argparse.Namespace) -> int:
    folder = arguments.into.expanduser().resolve() if arguments.into else data_folder.data_folder()
    kept = backup_.restore(arguments.file, folder, _say)
    print(f"{kept.files} files, {kept.total_bytes / 1e6:.0f} MB are in {folder}, verified.")
    return 0


def _say(line: str) -> None:
    print(line, file=sys.stderr, flush=True)


def _doctor(arguments: argparse.Namespace) -> int:
    if not (data_folder.data_folder() / backup_.DATABASE).is_file():
        raise ValueError(f"{data_folder.data_folder()} holds no data yet: start the application, or restore a backup")
    data_folder.set_up_django()
    from yellowjacket.bench import health

    worst = 0
    if arguments.clean_up:
        # What a running application is just writing must not be taken away.
        with data_folder.only_here(data_folder.data_folder()):
            for line in health.clean_up():
                print(line)
    for found in health.looked(thorough=arguments.thorough):
        print(f"{found.state:4}  {found.what}: {found.words}")
        if found.remedy:
            print(f"      remedy: {found.remedy}")
        worst = max(worst, int(found.state == health.BAD))
    return worst
