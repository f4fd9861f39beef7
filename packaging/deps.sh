#!/bin/sh
# Installs what is missing to build (and test, lint, bench, take screenshots of) this project, with the system's package
# manager. Usage: packaging/deps.sh build|test|page|lint-quick|lint|bench|screenshots|package ...
set -eu

build='gcc cmake make pkg-config libyaml-dev libjansson-dev libzstd-dev zlib1g-dev libpopt-dev libxxhash-dev libpcre2-dev libevent-dev libssl-dev libcurl4-openssl-dev libsqlite3-dev libnats-dev uthash-dev tzdata scdoc libjs-chart.js libncurses-dev python3-minimal'
tests='libcmocka-dev snmp sqlite3 bsdutils curl zstd gzip openssl gnutls-bin mandoc python3-prometheus-client iproute2 nftables nats-server python3'
quick='clang clang-format binutils'
lint="$quick clang-tidy cppcheck"
bench='mawk grep ripgrep python3-minimal openssl'
# To compare with; not built for every kind of processor.
case $(uname -m) in x86_64 | i?86) bench="$bench libhyperscan-dev" ;; esac
package='dpkg-dev lintian debootstrap systemd systemd-container man-db'
page='chromium chromium-driver python3'
screenshots='xvfb xterm imagemagick fonts-dejavu-core x11-utils openssl chromium python3'

wanted=''
for group in "${@:-build}"; do
    case $group in
    build) wanted="$wanted $build" ;;
    test) wanted="$wanted $build $tests" ;;
    lint-quick) wanted="$wanted $build $tests $quick" ;;
    lint) wanted="$wanted $build $tests $lint" ;;
    bench) wanted="$wanted $build $bench" ;;
    page) wanted="$wanted $build $page" ;;
    screenshots) wanted="$wanted $build $screenshots" ;;
    package) wanted="$wanted $build $package" ;;
    *) echo "deps.sh: unknown group \"$group\"; known are build, test, page, lint-quick, lint, bench, screenshots, package" >&2; exit 2 ;;
    esac
done

if ! command -v apt-get >/dev/null 2>&1; then
    # No package manager that we know: if the build's own libraries are there, go on; else say what to install.
    if pkg-config --exists yaml-0.1 jansson libzstd zlib popt libxxhash libpcre2-8 libevent openssl libcurl sqlite3 2>/dev/null; then
        exit 0
    fi
    echo "deps.sh: no apt-get here. Please install, under the names your system gives them:" >&2
    echo "  $wanted" >&2
    exit 1
fi

missing=''
for package in $wanted; do
    state=$(dpkg-query -W -f '${Status}' "$package" 2>/dev/null || true)
    case $state in
    *' installed') ;;
    *) case " $missing " in *" $package "*) ;; *) missing="$missing $package" ;; esac ;;
    esac
done
[ -n "$missing" ] || exit 0

root=''
[ "$(id -u)" -eq 0 ] || root='sudo'
echo "installing:$missing"
export DEBIAN_FRONTEND=noninteractive
# A fresh machine has no package lists yet; an old list may name packages that have moved on.
$root apt-get install -y -qq $missing >/dev/null 2>&1 ||
    { $root apt-get update -qq && $root apt-get install -y -qq $missing >/dev/null; }
