"""The command line and the server as a tester starts them: a process of its own, stopped by Ctrl-C."""

import contextlib
import gzip
import os
import re
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest

from tests import homes
from yellowjacket import data_folder, serving
from yellowjacket.cli.main import main


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


@pytest.fixture
def served(tmp_path):
    """A running application on a data folder that holds no data: address and process."""
    with started(homes.ready(tmp_path / "home")) as running:
        yield running


@pytest.fixture
def served_anew(tmp_path):
    """The same where there was no data folder."""
    with started(tmp_path / "home") as running:
        yield running


@contextlib.contextmanager
def started(folder):
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-m", "yellowjacket.cli", "serve", "--port", str(port)], env=homes.environment(folder),
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    line = process.stdout.readline()
    assert f"http://127.0.0.1:{port}/" in line, process.stderr.read()
    yield f"http://127.0.0.1:{port}", process
    process.kill()


def get(address: str) -> tuple[bytes, object]:
    request = urllib.request.Request(address, headers={"Accept-Encoding": "gzip"})
    with urllib.request.urlopen(request, timeout=10) as response:
        body = response.read()
        packed = response.headers.get("Content-Encoding") == "gzip"
        return (gzip.decompress(body) if packed else body), response.headers


def test_pages_and_hashed_static_files_are_served_to_this_machine_only_until_ctrl_c(served_anew):
    address, process = served_anew
    assert listening_on(address, process) == ["0100007F"]
    page, headers = get(f"{address}/")
    text = page.decode()
    assert "Yellowjacket" in text
    assert headers["Content-Encoding"] == "gzip"
    links = re.findall(r'(?:href|src)="(/static/[^"]+)"', text)
    assert len(links) >= 4
    for link in links:
        body, headers = get(address + link)
        assert body
        assert re.search(r"\.[0-9a-f]{12}\.", link)
        assert "immutable" in headers["Cache-Control"]
        imports = re.findall(r'from"?\s*"(\./[^"]+)"', body.decode()) if link.endswith(".js") else []
        for imported in imports:
            assert re.search(r"\.[0-9a-f]{12}\.js$", imported)
    process.send_signal(signal.SIGINT)
    assert process.wait(timeout=15) == 0
    assert "Stopped." in process.stdout.read()


def listening_on(address, process) -> list[str]:
    """The addresses on which the port is open, as the kernel writes them: 0100007F is loopback."""
    port = int(address.rsplit(":", 1)[1])
    sockets = [line.split() for line in Path(f"/proc/{process.pid}/net/tcp").read_text().splitlines()[1:]]
    places = [place.split(":") for _, place, _, state, *_ in sockets if state == "0A"]
    return [host for host, number in places if number == f"{port:04X}"]


def test_others_come_in_only_once_there_is_an_account_and_then_by_signing_in(tmp_path):
    environment = homes.environment(homes.ready(tmp_path / "home"))
    port = free_port()
    command = [sys.executable, "-m", "yellowjacket.cli"]
    open_door = [*command, "serve", "--host", "0.0.0.0", "--name", "bench.example", "--port", str(port)]
    refused = subprocess.run(open_door, env=environment, capture_output=True, text=True, check=False)
    assert refused.returncode == 1
    assert refused.stderr.strip().splitlines() == [refused.stderr.strip()]
    assert "yellowjacket account add NAME" in refused.stderr
    weak = subprocess.run(
        [*command, "account", "add", "wren"],
        input="drawer\n",
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert weak.returncode == 1
    assert "too short" in weak.stderr
    made = subprocess.run(
        [*command, "account", "add", "wren"], input="felt-and-pins-9\n", env=environment, capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    assert made.stdout == "wren may sign in as tester.\n", made.stderr
    process = subprocess.Popen(open_door, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    try:
        assert process.stdout.readline() == f"Yellowjacket is up: http://bench.example:{port}/   (Ctrl-C stops it)\n"
        assert "can be read along the way" in process.stdout.readline()
        address = f"http://127.0.0.1:{port}"
        assert listening_on(address, process) == ["00000000"]
        page, _ = get(f"{address}/bodies/")
        assert b'<h1 class="tab">Sign in</h1>' in page
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(timeout=15)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["--host", "bench.example"], "bench.example is not an address"),
        (["--host", "203.0.113.7"], "203.0.113.7 is not an address of this machine"),
        (["--host", "0.0.0.0", "--certificate", "x.pem"], "--certificate and --key belong together"),
        (["--host", "0.0.0.0", "--certificate", "x.pem", "--key", "y.pem"], "x.pem is not a file"),
        (["--host", "0.0.0.0", "--name", "http://bench/"], "a name is a host name"),
    ],
)
def test_where_to_listen_is_checked_first(arguments, words, tmp_path, monkeypatch, capsys):
    """203.0.113.0/24 is for documentation (RFC 5737) and no machine's address."""
    monkeypatch.setenv(data_folder.HOME_VARIABLE, str(tmp_path))
    before = dict(os.environ)
    assert main(["serve", "--port", str(free_port()), *arguments]) == 1
    assert words in capsys.readouterr().err
    assert dict(os.environ) == before


def test_a_killed_supervisor_leaves_no_server_on_the_port(served):
    address, process = served
    process.kill()
    process.wait()
    deadline = time.monotonic() + 20
    while time.monotonic() < deadline:
        try:
            get(f"{address}/")
        except OSError:
            return
        time.sleep(0.1)
    pytest.fail("the web server outlived its supervisor")


def test_a_taken_port_is_one_clear_line(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv(data_folder.HOME_VARIABLE, str(tmp_path))
    with socket.socket() as holder:
        holder.bind(("127.0.0.1", 0))
        holder.listen()
        port = holder.getsockname()[1]
        assert main(["serve", "--port", str(port)]) == 1
    lines = capsys.readouterr().err.strip().splitlines()
    assert len(lines) == 1
    assert f"port {port} is taken" in lines[0]
    assert f"PORT={port + 1}" in lines[0]


def test_an_answer_does_not_wait_for_the_receipt_of_its_head():
    """RFC 896 holds a second small segment back until the first is acknowledged, which RFC 1122 may delay."""
    with serving.listen(serving.Door(0)) as listening, socket.create_connection(listening.getsockname()):
        accepted, _ = listening.accept()
        with accepted:
            assert accepted.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY)


def test_requests_share_a_few_threads_that_keep_their_connections(served):
    """Django by itself makes a thread for every request, and closes its connection to the database with it."""
    address, process = served

    def connections() -> int:
        children = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
        web = [child for child in children if Path(f"/proc/{child}/comm").read_text().strip() == "yj-web"]
        files = [one for child in web for one in Path(f"/proc/{child}/fd").iterdir()]
        return sum(one.is_symlink() and str(one.readlink()).endswith("yellowjacket.sqlite3") for one in files)

    for _ in range(120):
        urllib.request.urlopen(f"{address}/").read()
    # Kept between requests, by no more than the twelve threads of each of two processes.
    assert 0 < connections() <= 24


def test_allowing_a_folder(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv(data_folder.HOME_VARIABLE, str(tmp_path / "home"))
    frames = tmp_path / "frames"
    assert main(["allow", str(frames)]) == 1
    assert "is not a folder" in capsys.readouterr().err
    frames.mkdir()
    assert main(["allow", str(frames)]) == 0
    assert data_folder.inside_allowed(tmp_path / "home", frames / "a.dng")
    assert not data_folder.inside_allowed(tmp_path / "home", tmp_path / "elsewhere")
    assert not data_folder.inside_allowed(tmp_path / "home", frames / ".." / "elsewhere")


def run(script: str, *arguments: str, path: str, **environment: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        ["/bin/sh", f"tools/{script}", *arguments], capture_output=True, text=True, check=False,
        env={"PATH": path, **environment}, cwd=Path(__file__).parent.parent,
    )  # fmt: skip


def command(folder: Path, name: str, script: str) -> None:
    folder.mkdir(exist_ok=True)
    path = folder / name
    path.write_text(f"#!/bin/sh\n{script}\n")
    path.chmod(0o755)


def test_too_old_a_python_is_one_clear_line(tmp_path):
    tools = tmp_path / "bin"
    for name in ("python3", "python3.11", "python3.12", "python3.13"):
        command(tools, name, '[ "$1" = --version ] && echo Python 3.9.2 && exit 0; exit 1')
    result = run("environment.sh", str(tmp_path / "venv"), "x.txt", path=str(tools))
    assert result.returncode == 1
    assert result.stderr.count("\n") == 1
    assert "Python 3.11 or newer is needed, this machine has Python 3.9.2" in result.stderr


def test_a_missing_tool_without_root_is_one_line_naming_the_packages(tmp_path):
    tools = tmp_path / "bin"
    command(tools, "id", "echo 1000")
    command(tools, "apt-get", "exit 1")
    result = run("ensure.sh", "tests", path=str(tools))
    assert result.returncode == 1
    packages = "chromium chromium-driver exiv2"
    assert result.stderr == f"yellowjacket: please run once as root: apt-get install {packages}\n"


def test_tools_that_are_there_are_left_alone(tmp_path):
    tools = tmp_path / "bin"
    for name in ("chromium", "chromedriver", "exiv2"):
        command(tools, name, "exit 0")
    assert run("ensure.sh", "tests", path=str(tools)).returncode == 0


def test_only_a_data_folder_is_ever_removed(tmp_path):
    folder = tmp_path / "pictures"
    folder.mkdir()
    (folder / "holiday.jpg").write_text("dear")
    result = run("forget-demo.sh", str(folder), path="/usr/bin:/bin")
    assert result.returncode == 1
    assert (folder / "holiday.jpg").exists()
    data_folder.prepare(folder)
    assert run("forget-demo.sh", str(folder), path="/usr/bin:/bin").returncode == 0
    assert not folder.exists()
