#!/bin/sh
# Build the wheel, install it into an empty environment, and use it there: nothing of it may lean on the sources beside it.
set -eu
python=$1
place=build/wheel
rm -rf "$place"
mkdir -p "$place"
"$python" -m pip wheel -q --disable-pip-version-check --no-deps -w "$place" .
"$python" -m venv "$place/environment"
bin=$PWD/$place/environment/bin
# The same packages as in requirements.lock, without those of the tests.
sed -e 's/ *\\$//' -e '/^ *--hash/d' -e '/^ *#/d' requirements.lock > "$place/constraints.txt"
"$bin/python" -m pip install -q --disable-pip-version-check -c "$place/constraints.txt" "$place"/*.whl
cd "$place/environment"
"$bin/swift-sample" settings > settings.txt
grep -q '^  samples.max ' settings.txt
"$bin/swift-sample" render honey-stall-small -o picture.exr --size 32x18 --set samples.max=4
test -s picture.exr
"$bin/python" -c 'import swift_sample, sys; assert sys.prefix in swift_sample.__file__, swift_sample.__file__'
echo "The wheel works by itself."
