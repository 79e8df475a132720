#!/bin/sh
# Makes the virtual environment $1 if it is not there and installs the locked requirements $2 into it.
set -eu
venv=$1
requirements=$2

fit() {
    command -v "$1" >/dev/null 2>&1 && "$1" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null
}

if [ ! -x "$venv/bin/python" ]; then
    python=""
    for candidate in ${PYTHON:-} python3 python3.11 python3.12 python3.13; do
        if fit "$candidate"; then python=$candidate; break; fi
    done
    if [ -z "$python" ]; then
        found=$(python3 --version 2>/dev/null || echo "no python3")
        echo "yellowjacket: Python 3.11 or newer is needed, this machine has $found; install it or name one with PYTHON=/path/to/python" >&2
        exit 1
    fi
    sh tools/ensure.sh venv "$python"
    echo "Making the virtual environment ..."
    "$python" -m venv "$venv"
fi
echo "Installing $requirements ..."
# Compiling every module of every package takes a third of the time; what is used is compiled when it is first used.
"$venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-compile --no-deps --require-hashes \
    -r requirements/build.txt -r "$requirements"
"$venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
