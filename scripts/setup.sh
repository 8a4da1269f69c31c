#!/bin/sh
# Install what Swift Sample needs: system libraries for the window through apt where that is allowed (else say which),
# and the Python packages of requirements.lock into a virtual environment. Does nothing when all is there already.
set -eu
python=$1
venv=$2
packages="libegl1 libgl1 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libglib2.0-0 libxcb-cursor0 libxcb-icccm4
libgssapi-krb5-2 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1
fonts-inter xvfb"

if command -v dpkg-query >/dev/null 2>&1; then
    missing=""
    for package in $packages; do
        state=$(dpkg-query -W -f '${Status}' "$package" 2>/dev/null || true)
        [ "$state" = "install ok installed" ] || missing="$missing $package"
    done
    if [ -n "$missing" ]; then
        run=""
        if [ "$(id -u)" != 0 ]; then run="sudo -n"; fi
        if $run true 2>/dev/null; then
            echo "Installing system libraries:$missing"
            $run apt-get update -q >/dev/null
            DEBIAN_FRONTEND=noninteractive $run apt-get install -y -q --no-install-recommends $missing >/dev/null
        else
            echo "The window needs system libraries. Please run: sudo apt-get install$missing"
        fi
    fi
fi

stamp="$venv/.installed"
if [ ! -f "$stamp" ] || [ requirements.lock -nt "$stamp" ] || [ pyproject.toml -nt "$stamp" ]; then
    "$python" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or newer is needed"; exit 1; }
    echo "Installing Python packages into $venv"
    [ -x "$venv/bin/python" ] || "$python" -m venv "$venv"
    "$venv/bin/python" -m pip install -q --disable-pip-version-check -r requirements.lock
    "$venv/bin/python" -m pip install -q --disable-pip-version-check --no-deps -e .
    touch "$stamp"
fi
