#!/bin/sh
# Makes the Debian package into BUILD, and has it looked at. Usage: packaging/deb.sh BUILD [JOBS]
set -eu
build=$1
here=$(cd "$(dirname "$0")/.." && pwd)
cmake -S "$here" -B "$build" -DCMAKE_BUILD_TYPE=RelWithDebInfo -DCMAKE_INSTALL_PREFIX=/usr -DIND_DEB=ON >/dev/null
cmake --build "$build" -j "${2:-2}" >/dev/null
rm -f "$build"/*.deb
(umask 022 && cd "$build" && cpack -G DEB >/dev/null)
package=$(ls "$build"/*.deb)
"$here/packaging/unit.sh" "$build"
lintian --fail-on error,warning "$package"
echo "$package"
