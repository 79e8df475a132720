#!/bin/sh
# Every check in the order of their cost: style, scripts, unused names, types, import rules, then all tests.
set -eu
bin=.venv/bin
say() { printf '\n== %s\n' "$*"; }

say "Style"
$bin/ruff check src tests tools
$bin/ruff format --check src tests tools >/dev/null || { echo "run .venv/bin/ruff format src tests tools" >&2; exit 1; }
say "Scripts"
npm run --silent lint
say "Nothing unused"
$bin/python tools/unused.py
say "Types"
$bin/mypy
say "Import rules"
$bin/lint-imports
say "Tests"
# In the order of the folders: by their number of tests the few long ways in the browser would come last, on one worker.
exec $bin/python -m pytest -n "${TEST_WORKERS:-2}" --dist loadfile --no-loadscope-reorder "$@"
