#!/bin/sh
# Writes requirements/*.txt anew from *.in, in an environment that is thrown away afterwards.
set -eu
scratch=$(mktemp -d)
trap 'rm -rf "$scratch"' EXIT
.venv/bin/python -m venv "$scratch"
"$scratch/bin/pip" install --quiet --disable-pip-version-check pip-tools
for name in base build test; do
    "$scratch/bin/pip-compile" --quiet --generate-hashes --allow-unsafe --strip-extras --no-header \
        --no-emit-index-url --no-emit-trusted-host --no-emit-find-links \
        --output-file "requirements/$name.txt" "requirements/$name.in"
done
