"""Kills at random: whatever dies or is held while frames are adopted and measured, nothing is lost and everything ends well.

``python -m tests.chaos --kills 100 --seed 1`` runs as long as it takes, about three seconds a kill; a few of them run among
the tests. What is killed: the supervisor, the worker, a web process, a decoder; or the database is held by another program.
"""

from __future__ import annotations

import argparse
import collections
import contextlib
import hashlib
import http.cookiejar
import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path
from urllib.parse import urlencode

import psutil

from tests import homes, making
from tests.cli.test_backup import run
from tests.homes import environment
from tests.test_serving import free_port
from yellowjacket import data_folder

DEEDS = ("supervisor", "worker", "web", "decoder", "decoder", "lock", "lock")
_PATIENCE_S = 120.0
_MANY = 20


class Bench:
    """A served data folder, started again whenever its supervisor was killed."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.port, self.log = folder, free_port(), folder.parent / "serve.log"
        self.process: subprocess.Popen[str] | None = None
        self.start()

    def start(self) -> None:
        """Serve."""
        command = [sys.executable, "-m", "yellowjacket.cli", "serve", "--port", str(self.port)]
        self.process = subprocess.Popen(
            command, env=environment(self.folder), stdout=subprocess.PIPE, stderr=self.log.open("a"), text=True
        )
        assert self.process.stdout is not None
        said = self.process.stdout.readline()
        assert "is up" in said, f"{said!r}: {self.log.read_text()[-2000:]}"

    def parts(self, what: str) -> list[psutil.Process]:
        """The processes of a kind that are alive."""
        assert self.process is not None
        found = []
        with contextlib.suppress(psutil.NoSuchProcess):
            for one in psutil.Process(self.process.pid).children(recursive=True):
                with contextlib.suppress(psutil.NoSuchProcess):
                    kind = {"yj-worker": "worker", "yj-web": "web"}.get(one.name(), "decoder")
                    if kind == what and "resource_tracker" not in " ".join(one.cmdline()):
                        found.append(one)
        return found

    def kill(self, what: str, rng: random.Random) -> bool:
        """Kill one; False when there is none of the kind just now."""
        assert self.process is not None
        if what == "supervisor":
            self.process.send_signal(signal.SIGKILL)
            self.process.wait()
            return True
        alive = self.parts(what)
        if not alive:
            return False
        with contextlib.suppress(psutil.NoSuchProcess):
            rng.choice(alive).kill()
        return True

    def hold(self, seconds: float) -> None:
        """Another program holds the database for a while."""
        with contextlib.closing(sqlite3.connect(self.folder / "yellowjacket.sqlite3", isolation_level=None)) as other:
            other.execute("PRAGMA busy_timeout = 30000")
            other.execute("BEGIN IMMEDIATE")
            time.sleep(seconds)
            other.execute("ROLLBACK")

    def ensure(self) -> None:
        """Start again when the supervisor is gone."""
        if self.process is None or self.process.poll() is not None:
            self.start()

    def post(self, path: str, **fields: str) -> int:
        """Send a form as a browser does; again while the application is busy or coming up."""
        deadline = time.monotonic() + _PATIENCE_S
        while time.monotonic() < deadline:
            self.ensure()
            jar = http.cookiejar.CookieJar()
            opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
            base = f"http://127.0.0.1:{self.port}"
            try:
                page = opener.open(f"{base}/", timeout=60).read().decode()
                token = page.split('name="csrfmiddlewaretoken" value="')[1].split('"')[0]
                data = urlencode({"csrfmiddlewaretoken": token} | fields).encode()
                return opener.open(urllib.request.Request(f"{base}{path}", data), timeout=60).status
            except urllib.error.HTTPError as error:
                if error.code != 503:
                    raise
            except OSError:
                pass
            time.sleep(0.3)
        raise AssertionError(f"{path} was not answered")

    def rows(self, query: str, *values: object) -> list[tuple[object, ...]]:
        """What the database says."""
        address = f"file:{self.folder / 'yellowjacket.sqlite3'}?mode=ro"
        with contextlib.closing(sqlite3.connect(address, uri=True, timeout=60)) as database:
            return database.execute(query, values).fetchall()

    def settled(self) -> None:
        """Wait until no job is open any more."""
        deadline = time.monotonic() + _PATIENCE_S
        while time.monotonic() < deadline:
            self.ensure()
            if not self.rows("SELECT id FROM bench_job WHERE state IN ('waiting', 'running')"):
                return
            time.sleep(0.1)
        raise AssertionError(f"jobs stay open: {self.rows('SELECT kind, state, done, total FROM bench_job')[-3:]}")

    def stop(self) -> None:
        """As Ctrl-C does."""
        assert self.process is not None
        self.process.send_signal(signal.SIGINT)
        self.process.wait(timeout=30)


def run_chaos(place: Path, kills: int, seed: int) -> dict[str, int]:
    """Adopt and measure over and over while things are killed; how often what was. Raises AssertionError for any loss."""
    rng, longest_s = random.Random(seed), 25.0 if kills >= _MANY else 2.0
    folder, card = place / "home", place / "card"
    card.mkdir()
    making.write_ladder(card)
    originals = {path: hashlib.sha256(path.read_bytes()).hexdigest() for path in card.iterdir()}
    data_folder.allow_folder(homes.ready(folder), card)
    bench = Bench(folder)
    done: collections.Counter[str] = collections.Counter()
    try:
        while sum(done.values()) < kills:
            before = len(bench.rows("SELECT id FROM bench_sitting"))
            bench.post("/adopt/", folder=str(card))
            for _ in range(rng.randint(1, 3)):
                do(bench, rng, done, longest_s)
            bench.settled()
            sittings = bench.rows("SELECT id FROM bench_sitting ORDER BY id")
            # An answer that was lost in a kill is sent again: a second sitting is then what was asked for.
            assert len(sittings) > before
            for (sitting,) in sittings[before:]:
                check_adopted(bench, sitting)
            sitting = sittings[-1][0]
            bench.post(f"/sittings/{sitting}/measure/start/")
            for _ in range(rng.randint(1, 3)):
                do(bench, rng, done, longest_s)
            bench.settled()
            check_measured(bench, sitting)
        bench.ensure()
        everybody = [p for kind in ("worker", "web", "decoder") for p in bench.parts(kind)]
        bench.stop()
        _, alive = psutil.wait_procs(everybody, timeout=15)
        assert not alive
    finally:
        if bench.process is not None and bench.process.poll() is None:
            bench.process.kill()
    assert {path: hashlib.sha256(path.read_bytes()).hexdigest() for path in card.iterdir()} == originals
    assert bench.rows("PRAGMA integrity_check") == [("ok",)]
    assert bench.rows("PRAGMA foreign_key_check") == []
    assert not bench.rows("SELECT id, message FROM bench_job WHERE state != 'done'")
    looked = run(folder, "doctor", "--thorough")
    assert "BAD" not in looked.stdout.upper().replace("BADLY", ""), looked.stdout
    return dict(done)


def do(bench: Bench, rng: random.Random, done: collections.Counter[str], longest_s: float) -> None:
    """One deed at a random moment. ``longest_s``: for how long the database is held now and then."""
    time.sleep(rng.uniform(0.0, 1.2))
    what = rng.choice(DEEDS)
    if what == "lock":
        bench.hold(rng.choice((0.5, 2.0, longest_s if rng.random() < 0.1 else 1.0)))
    elif not bench.kill(what, rng):
        return
    done[what] += 1
    bench.ensure()


def check_adopted(bench: Bench, sitting: object) -> None:
    """All frames are in, on shots of their own, once."""
    frames = bench.rows(
        "SELECT count(*), count(shot_id), count(DISTINCT sha256) FROM bench_frame WHERE sitting_id = ?", sitting
    )
    assert frames == [(12, 12, 12)], (sitting, frames)
    assert not bench.rows("SELECT file_name, reason FROM bench_problem WHERE sitting_id = ?", sitting)


def check_measured(bench: Bench, sitting: object) -> None:
    """Every rung has its readings, each once."""
    found = bench.rows(
        "SELECT rung.key, count(*), sum(reading.value IS NOT NULL AND quantity = 'gain_e_per_dn') FROM bench_rung rung "
        "JOIN bench_ladder ladder ON ladder.id = rung.ladder_id JOIN bench_reading reading ON reading.rung_id = rung.id "
        "WHERE ladder.sitting_id = ? GROUP BY rung.id", sitting,
    )  # fmt: skip
    told = bench.rows("SELECT kind, state, done, total, message FROM bench_job WHERE sitting_id = ?", sitting)
    assert [key for key, _, _ in found] == ["100", "200", "400"], (found, told)
    assert all(gains == 5 for _, _, gains in found), found


def main() -> None:
    """From the command line."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    begin = time.monotonic()
    with tempfile.TemporaryDirectory() as place:
        done = run_chaos(Path(place), arguments.kills, arguments.seed)
    print(json.dumps({"kills": done, "seconds": round(time.monotonic() - begin)}), os.linesep, end="")


if __name__ == "__main__":
    main()
