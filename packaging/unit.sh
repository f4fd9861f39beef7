#!/bin/sh
# The unit as the service manager reads it: it must find nothing to say, and how exposed the service is must not be
# more than 1.5. Usage: packaging/unit.sh BUILD. Where there is no service manager's own check it says so, and is good.
set -eu
here=$(cd "$(dirname "$0")/.." && pwd)
command -v systemd-analyze >/dev/null 2>&1 || { echo 'unit.sh: not tried: there is no systemd-analyze here'; exit 0; }
folder=$(mktemp -d "${TMPDIR:-/tmp}/indagator-unit-XXXXXX")
trap 'rm -rf "$folder"' EXIT
mkdir -p "$folder/man/man1" "$folder/man/man5"
cp "$1"/manual/*.1 "$folder/man/man1"
cp "$1"/manual/*.5 "$folder/man/man5"
sed "s|@CMAKE_INSTALL_FULL_BINDIR@/indagator|$(realpath "$1/indagator")|g" "$here/packaging/indagator.service.in" >"$folder/indagator.service"
MANPATH="$folder/man" systemd-analyze verify "$folder/indagator.service" >"$folder/said" 2>&1 || true
if grep . "$folder/said"; then
    echo 'unit.sh: the unit is not as it should be' >&2
    exit 1
fi
level=$(systemd-analyze security --offline=yes "$folder/indagator.service" | sed -n 's/.*level for indagator.service: \([0-9.]*\).*/\1/p')
echo "unit.sh: nothing to say; exposure $level"
awk -v level="$level" 'BEGIN { exit !(level != "" && level <= 1.5) }' || { echo 'unit.sh: that is more than 1.5' >&2; exit 1; }
