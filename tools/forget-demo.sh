#!/bin/sh
# Removes a data folder, and only a data folder: it must hold the database or the secret that the application made.
set -eu
folder=$1
[ -e "$folder" ] || exit 0
if [ ! -f "$folder/secret-key" ]; then
    echo "yellowjacket: $folder does not look like a data folder; nothing was removed" >&2
    exit 1
fi
rm -rf "$folder"
