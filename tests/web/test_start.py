"""What the application loads before its first page."""

import subprocess
import sys


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
