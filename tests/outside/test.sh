#!/bin/sh
# The core as others get it: installed, found with pkg-config, linked by a program outside the tree that reads a message.
# Usage: tests/outside/test.sh BUILD
set -eu
build=$1
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d "${TMPDIR:-/tmp}/indagator-outside-XXXXXX")
trap 'rm -rf "$work"' EXIT
cmake --install "$build" --prefix "$work/usr" >/dev/null
config=$(find "$work/usr" -name indagator-core.pc)
# The prefix in it is the one that the build was configured with.
sed -i "s|^prefix=.*|prefix=$work/usr|" "$config"
cp "$here/parse.c" "$work/"
cd "$work"
PKG_CONFIG_PATH=$(dirname "$config")
export PKG_CONFIG_PATH
# shellcheck disable=SC2046
${CC:-cc} -std=c11 -Wall -Wextra -Wpedantic -Werror parse.c $(pkg-config --cflags --libs --static indagator-core) -o parse
found=$(./parse)
[ "$found" = 'warning harbour-fw kernel 203.0.113.7' ] || {
    echo "unexpected: $found"
    exit 1
}
"$work/usr/bin/indagator" --version >/dev/null
