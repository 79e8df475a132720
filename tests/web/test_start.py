"""What the application loads before its first page."""

import os
import subprocess
import sys

from yellowjacket.web.http import server


def test_the_start_waits_for_no_compiler_and_no_large_package():
    """They are loaded by whoever computes or prints with them; every process of the application starts with this."""
    script = (
        "import sys; from yellowjacket import data_folder; data_folder.set_up_django(); import yellowjacket.web.urls;"
        "print(*sorted({name.partition('.')[0] for name in sys.modules}))"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    loaded = set(done.stdout.split())
    assert {"django", "numpy"} <= loaded
    assert not loaded & {"numba", "astropy", "scipy", "skimage", "reportlab"}


def test_a_busy_machine_gets_ready_for_pictures_later(monkeypatch):
    """Others are at work: it is looked again after a while, and then everything is loaded."""
    loads, later, ready = iter([(64.0 * (os.cpu_count() or 1), 0.0, 0.0), (0.1, 0.0, 0.0)]), [], []
    monkeypatch.setattr(server.os, "getloadavg", lambda: next(loads))
    monkeypatch.setattr(server, "_soon", lambda what, seconds: later.append((what, seconds)))
    monkeypatch.setattr(server, "get_ready", lambda: ready.append(True))
    server.get_ready_when_idle()
    ((again, seconds),) = later
    assert seconds > 0
    assert not ready
    again()
    assert ready == [True]
    assert len(later) == 1
