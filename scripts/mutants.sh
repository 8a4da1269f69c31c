#!/bin/sh
# Change the code of settings, measures and studies at random, one change at a time, and list the changes that no test notices.
# About an hour; `make mutants ONLY="swift_sample.core.study.answers.results*"` looks at one module.
set -eu
python=$1
shift
"$python" -m pip install -q --disable-pip-version-check 'mutmut>=3.2'
"$python" -m mutmut run "$@" || true
"$python" -m mutmut results
