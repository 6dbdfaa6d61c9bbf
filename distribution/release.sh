#!/usr/bin/env bash
# Everything that is looked at before a version is given out; stops at the first thing that is wrong. Needs root for the
# trial of the package in a clean Debian.
set -euo pipefail
cd "$(dirname "$0")/.."
[ -z "$(git status --porcelain)" ] || { echo "There are changes that are not committed."; exit 1; }
version=$(sed -n 's/^__version__ = "\(.*\)"/\1/p' src/nimbleload/__init__.py)
grep -q "^version = \"$version\"" pyproject.toml || { echo "pyproject.toml has another version than the program."; exit 1; }
grep -q "^## $version" CHANGELOG.md || { echo "CHANGELOG.md says nothing of $version."; exit 1; }
NIMBLE_THOROUGH=1 ./nimble test
.venv/bin/python -m distribution.audit
.venv/bin/python -m bench.schema
.venv/bin/nimble-load screenshots >/dev/null
[ -z "$(git status --porcelain docs/screenshots)" ] || echo "Pictures have changed: look at them, and commit them."
./nimble package
distribution/check.sh "dist/nimble-load_${version}_$(dpkg --print-architecture).deb"
echo "Nimble Load $version can be given out."
