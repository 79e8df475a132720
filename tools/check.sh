#!/bin/sh
# Every check: style, scripts, unused names and import rules first; then all tests, with the types beside them, which tests
# leave half a core to.
set -eu
bin=.venv/bin
say() { printf '\n== %s\n' "$*"; }

# Compiled code first, where there is none yet: each process of the tests would compile it for itself.
compiling=
if ! find src -name '*.nbc' | grep -q .; then
    $bin/python -m tests.compiled >/dev/null &
    compiling=$!
fi

say "Style"
$bin/ruff check src tests tools
$bin/ruff format --check src tests tools >/dev/null || { echo "run .venv/bin/ruff format src tests tools" >&2; exit 1; }
say "Scripts"
npm run --silent lint
say "Nothing unused"
$bin/python tools/unused.py
say "Import rules"
$bin/lint-imports
[ -z "$compiling" ] || wait "$compiling"
types=$(mktemp)
trap 'rm -f "$types"' EXIT
$bin/mypy >"$types" 2>&1 &
typing=$!
say "Tests"
# Two workers fill two cores: threads of linear algebra would only wait for each other, and cost a third more; a third worker
# makes the others wait.
export OPENBLAS_NUM_THREADS=1 OMP_NUM_THREADS=1 MKL_NUM_THREADS=1
# Long ways first, so that no worker is left with one at the end: browsers, servers, command lines; then folder by folder.
failed=0
$bin/python -m pytest -n "${TEST_WORKERS:-2}" --dist loadfile --no-loadscope-reorder \
    tests/browser tests/test_package.py tests/test_running.py tests/test_serving.py tests/test_hard_times.py tests/cli tests src/yellowjacket/core \
    src/yellowjacket/web/graphics "$@" || failed=$?
say "Types"
wait "$typing" || failed=1
cat "$types"
exit "$failed"
