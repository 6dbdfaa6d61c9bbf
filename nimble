#!/usr/bin/env bash
# Sets up all that Nimble Load needs, then runs it:  ./nimble demo | test | setup | COMMAND…
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
venv="$here/.venv"

runtime_packages="python3-venv libegl1 libgl1 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libglib2.0-0
  libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0
  libxcb-xinerama0 libxcb-xkb1 libx11-6 fonts-dejavu-core liblilv-0-0"
test_packages="gcc libc6-dev zam-plugins jackd2 jalv pipewire pipewire-jack xvfb libgl1-mesa-dri"

apt() { # what else installs something (a fresh system does, by itself) is waited for, ten minutes at most
  local said tries
  for ((tries = 0; tries < 120; tries++)); do
    if said=$(LC_ALL=C DEBIAN_FRONTEND=noninteractive apt-get "$@" 2>&1 >/dev/null); then return 0; fi
    case "$said" in *"Could not get lock"*) ;; *) break ;; esac
    [ $tries -gt 0 ] || echo "Waiting for another program that installs packages to end."
    sleep 5
  done
  echo "$said"
  return 1
}

need() { # installs the Debian packages that are missing, or says how to
  command -v dpkg-query >/dev/null || return 0
  local missing=() package
  for package in "$@"; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
  done
  # A Python that did not come from Debian brings its own venv module.
  if python3 -c 'import ensurepip' 2>/dev/null; then
    local kept=()
    for package in "${missing[@]}"; do [ "$package" = python3-venv ] || kept+=("$package"); done
    missing=("${kept[@]}")
  fi
  [ ${#missing[@]} -eq 0 ] && return 0
  if [ "$(id -u)" = 0 ]; then
    echo "Installing ${#missing[@]} system packages: ${missing[*]}"
    apt update -qq && apt install -y -qq --no-install-recommends "${missing[@]}"
  else
    echo "These system packages are missing. Install them with:"
    echo "  sudo apt-get install ${missing[*]}"
    return 1
  fi
}

setup() {
  need $runtime_packages || exit 1
  local stamp="$venv/.locked"
  if ! cmp -s "$here/requirements.lock" "$stamp" 2>/dev/null; then
    echo "Setting up $venv (once, a minute or two)"
    python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Nimble Load needs Python 3.11 or newer."; exit 1; }
    python3 -m venv "$venv"
    "$venv/bin/python" -m pip install -q --disable-pip-version-check --require-hashes -r "$here/requirements.lock"
    "$venv/bin/python" -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e "$here"
    cp "$here/requirements.lock" "$stamp"
  fi
  # What is compiled belongs to setting up: no first click waits for it.
  local compiled="$venv/.compiled"
  if [ ! -e "$compiled" ] || [ -n "$(find "$here/src" -name '*.py' -newer "$compiled" -print -quit)" ]; then
    echo "Compiling (a minute, when the program is new)"
    # Python keeps what it compiles by itself, but not where it may not write at the first start, or was told not to.
    "$venv/bin/python" -m compileall -q "$here/src"
    "$venv/bin/nimble-load" prepare && touch "$compiled"
  fi
}

case "${1:-help}" in
  setup) setup ;;
  demo)
    setup
    if [ -n "${DISPLAY:-}${WAYLAND_DISPLAY:-}" ]; then
      exec "$venv/bin/nimble-load" demo "${@:2}"
    fi
    echo "No display here: running the full example without a window."
    exec "$venv/bin/nimble-load" demo --without-window "${@:2}"
    ;;
  test)
    setup
    need $test_packages || echo "Going on without them: the tests that need them are skipped, each with its reason."
    cd "$here"
    export QT_QPA_PLATFORM="${QT_QPA_PLATFORM:-offscreen}"
    "$venv/bin/ruff" check src tests bench distribution
    # Making assertions tell what they compared takes half a minute for all files, looking for all plugins ten seconds:
    # once, beside the types, and not again in each process. (Some systems have Python keep nothing.)
    unset PYTHONDONTWRITEBYTECODE
    trap 'kill $(jobs -p) 2>/dev/null || true' EXIT
    { "$venv/bin/python" -m pytest --collect-only -q; "$venv/bin/python" -m tests.helpers.look_up; } >/dev/null 2>&1 &
    "$venv/bin/mypy" --no-error-summary
    wait # what is wrong is told by the run itself
    if [ $# -gt 1 ]; then exec "$venv/bin/python" -m pytest "${@:2}"; fi
    # What goes by real time mostly waits: one of those tests at a time, beside all others. Many of these wait for a
    # process or a window, too: one more of them at a time than there are cores.
    workers=$(($(nproc) < 4 ? $(nproc) + 1 : 4))
    by_the_clock() { "$venv/bin/python" -m pytest -m clock -o cache_dir=.pytest_cache/clock "$@"; }
    told=.pytest_cache/by-the-clock.txt
    mkdir -p .pytest_cache
    by_the_clock >$told 2>&1 &
    beside=$!
    status=0 alone=0 others=.pytest_cache/others.txt colour=no
    [ ! -t 1 ] || colour=yes
    "$venv/bin/python" -m pytest -m "not clock" -n "$workers" --dist worksteal --color=$colour | tee $others || status=$?
    wait $beside || alone=$?
    echo "By the clock:"
    cat $told
    # Others' work on this machine, and that of the tests beside it: what failed has one more try when all is done.
    if [ $alone = 1 ]; then alone=0; by_the_clock --lf --lfnf none || alone=$?; fi
    [ $alone = 0 ] || status=$alone
    echo "All others:"
    tail -n 1 $others
    exit $status
    ;;
  package)
    setup
    cd "$here"
    exec "$venv/bin/python" -m distribution.build "${@:2}"
    ;;
  help|-h|--help)
    echo "./nimble demo   sets up and opens the example session"
    echo "./nimble test   sets up and runs the tests"
    echo "./nimble setup  only sets up"
    echo "./nimble package  builds a wheel, a source archive and a Debian package into dist/"
    echo "./nimble …      any other command goes to nimble-load (try ./nimble load --help)"
    ;;
  *) setup; exec "$venv/bin/nimble-load" "$@" ;;
esac
