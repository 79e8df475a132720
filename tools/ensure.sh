#!/bin/sh
# Makes sure that tools from outside Python are there: `ensure.sh venv|tests|npm`.
# Missing ones are installed from Debian's packages by root; anybody else gets one line that says which.
set -eu

install_packages() {
    if ! command -v apt-get >/dev/null 2>&1; then
        echo "yellowjacket: please install $* with your system's package manager, then run make again" >&2
        exit 1
    fi
    if [ "$(id -u)" -ne 0 ]; then
        echo "yellowjacket: please run once as root: apt-get install $*" >&2
        exit 1
    fi
    echo "Installing $* ..."
    log=$(mktemp)
    # Another part of the set-up may be installing something at the same time.
    if ! (
        flock 9
        apt-get update && DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends "$@"
    ) 9>"${TMPDIR:-/tmp}/yellowjacket-packages.lock" >"$log" 2>&1; then
        tail -n 5 "$log" >&2
        rm -f "$log"
        echo "yellowjacket: apt-get could not install $*; its last words stand above" >&2
        exit 1
    fi
    rm -f "$log"
}

case "$1" in
venv)
    # Debian splits the module that makes environments from Python itself.
    "$2" -c 'import ensurepip, venv' 2>/dev/null || install_packages python3-venv
    ;;
tests)
    # A browser, and the library's own command line to hold metadata against.
    missing=""
    command -v chromium >/dev/null 2>&1 || missing="chromium"
    command -v chromedriver >/dev/null 2>&1 || missing="$missing chromium-driver"
    command -v exiv2 >/dev/null 2>&1 || missing="$missing exiv2"
    # shellcheck disable=SC2086 - one word per package
    [ -z "$missing" ] || install_packages $missing
    ;;
npm)
    command -v npm >/dev/null 2>&1 || install_packages nodejs npm
    ;;
*)
    echo "usage: ensure.sh venv PYTHON | tests | npm" >&2
    exit 2
    ;;
esac
