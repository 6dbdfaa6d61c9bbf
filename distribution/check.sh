#!/usr/bin/env bash
# Installs the Debian package in a clean Debian 12, runs it, and removes it again. Needs root, debootstrap and a network.
#   distribution/check.sh dist/nimble-load_0.1.0_amd64.deb [/tmp/clean]
set -euo pipefail
package=$(realpath "$1")
root=${2:-/tmp/nimble-load-clean}
if [ ! -e "$root/etc/debian_version" ]; then
  debootstrap --variant=minbase bookworm "$root" >/dev/null
fi
mkdir -p "$root/proc" "$root/dev/shm"
mountpoint -q "$root/proc" || mount -t proc proc "$root/proc"
mountpoint -q "$root/dev/shm" || mount -t tmpfs tmpfs "$root/dev/shm"
trap 'umount -l "$root/proc" "$root/dev/shm" 2>/dev/null || true' EXIT
cp "$package" "$root/tmp/nimble-load.deb"
inside() { chroot "$root" /usr/bin/env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/home/somebody DEBIAN_FRONTEND=noninteractive "$@"; }
inside apt-get update -qq
inside apt-get install -y -qq --no-install-recommends /tmp/nimble-load.deb xvfb xauth >/dev/null 2>&1
echo "installed: $(inside dpkg-query -W -f='${Version}' nimble-load)"
inside id somebody >/dev/null 2>&1 || inside useradd -m somebody
as() { inside su somebody -s /bin/sh -c "cd; $*"; }
as "nimble-load --version"
sources=$(inside find /usr/lib/nimble-load/nimbleload -name '*.py' | wc -l)
compiled=$(inside find /usr/lib/nimble-load/nimbleload -name '*.pyc' | wc -l)
[ "$sources" = "$compiled" ] && echo "compiled: $compiled files" || { echo "$compiled of $sources compiled"; exit 1; }
time as "nimble-load prepare" >/dev/null
as "nimble-load demo --without-window" > /tmp/demo-said && sed -n 1,5p /tmp/demo-said
# The window on a screen of its own: it is ended, still running, after forty seconds.
code=0
as "QT_QPA_PLATFORM=xcb timeout 40 xvfb-run -a nimble-load demo" >/dev/null 2>&1 || code=$?
[ "$code" = 124 ] && echo "the window runs" || { echo "the window ended with code $code"; exit 1; }
inside apt-get purge -y -qq nimble-load >/dev/null 2>&1
left=$(find "$root/usr" "$root/etc" "$root/opt" -xdev -iname '*nimble*' 2>/dev/null || true)
[ -z "$left" ] && echo "removed without a trace" || { echo "left behind: $left"; exit 1; }
