#!/bin/sh
# Write requirements.lock anew from pyproject.toml: every package that the program and its tests need, with the hashes of all
# files that may be installed, for all versions of Python that are supported.
set -eu
python=$1
place=build/lock
[ -x "$place/bin/uv" ] || { "$python" -m venv "$place" && "$place/bin/python" -m pip install -q --disable-pip-version-check uv; }
"$place/bin/uv" pip compile -q --universal --python-version 3.11 --generate-hashes --no-annotate \
    --custom-compile-command "make lock" --extra dev --extra cluster pyproject.toml -o requirements.lock
