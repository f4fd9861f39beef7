#!/bin/bash
# The package in a clean Debian: installed, started by hand with the command line of its unit, upgraded, removed and
# purged; then, where systemd-nspawn is, under a service manager of its own. As root. Usage: packaging/test_package.sh BUILD; SUITE (bookworm), MIRROR (debootstrap's own).
set -eu
package=$(realpath "$(ls "$1"/*.deb)") suite=${SUITE:-bookworm}
[ "$(id -u)" -eq 0 ] || { echo 'test_package.sh: this makes a system of its own, and needs root' >&2; exit 1; }
root=$(mktemp -d "${TMPDIR:-/tmp}/indagator-root-XXXXXX")
chmod 0755 "$root"
collector=''
end() {
    [ -z "$collector" ] || pkill -P "$collector" 2>/dev/null || true
    umount "$root/proc" 2>/dev/null || true
    rm -rf --one-file-system "$root"
}
trap end EXIT
say() { echo "test_package.sh: $*"; }
fail() {
    say "$*"
    exit 1
}
within() { chroot "$root" env DEBIAN_FRONTEND=noninteractive LC_ALL=C.UTF-8 PATH=/usr/sbin:/usr/bin:/sbin:/bin "$@"; }

say "a clean $suite"
# shellcheck disable=SC2086
debootstrap --variant=minbase "$suite" "$root" ${MIRROR:-} >"$root.log" 2>&1 || { tail -5 "$root.log"; exit 1; }
rm -f "$root.log"
mount -t proc proc "$root/proc"
cp /etc/resolv.conf "$root/etc/" 2>/dev/null || true
cp /etc/apt/apt.conf.d/* "$root/etc/apt/apt.conf.d/" 2>/dev/null || true
cp "$package" "$root/tmp/indagator.deb"
within apt-get -qq update >/dev/null
say 'installed'
within apt-get -qq install -y --no-install-recommends /tmp/indagator.deb >"$root/tmp/log" 2>&1 || { tail "$root/tmp/log"; exit 1; }
within indagator --version >/dev/null || fail 'it does not run'
[ "$(within stat -c %U:%a /var/log/indagator)" = indagator:750 ] || fail 'the store is not its own'
within indagator check >/dev/null 2>&1 || fail 'its configuration has mistakes'

say 'started with the command line of its unit, as the user of its unit, with its one right'
command=$(sed -n 's/^ExecStart=//p' "$root/usr/lib/systemd/system/indagator.service")
sed -i 's/0\.0\.0\.0:514/127.0.0.1:514/; s/0\.0\.0\.0:601/127.0.0.1:601/; s/^allow:.*/allow: [127.0.0.0\/8]/' \
    "$root/etc/indagator/indagator.yaml"
# shellcheck disable=SC2086
within setpriv --reuid=indagator --regid=indagator --clear-groups --inh-caps=+net_bind_service \
    --ambient-caps=+net_bind_service --bounding-set=-all,+net_bind_service --no-new-privs $command >"$root/tmp/out" 2>"$root/tmp/err" &
collector=$!
for _ in $(seq 100); do grep -q 'listening on udp 127.0.0.1:514' "$root/tmp/err" && break; sleep 0.1; done
grep -q 'listening on udp 127.0.0.1:514' "$root/tmp/err" || { cat "$root/tmp/err"; fail 'it does not listen'; }
within indagator emit --to udp:127.0.0.1:514 --app pier1 'over the port of root' >/dev/null || fail 'nothing can be sent to it'
for _ in $(seq 100); do within indagator status --json | grep -q '"route":"everything","messages":[2-9]' && break; sleep 0.1; done

say 'upgraded while it runs'
within dpkg -i /tmp/indagator.deb >"$root/tmp/log" 2>&1 || { tail "$root/tmp/log"; exit 1; }
grep -q '127.0.0.1:514' "$root/etc/indagator/indagator.yaml" || fail 'the configuration was written over'
within indagator status >/dev/null || fail 'it did not go on through the upgrade'
kill "$(within indagator status --json | sed 's/.*"process":\([0-9]*\).*/\1/')"
wait "$collector" || true
collector=''
within indagator search --count pier1 | grep -q '^1$' || fail 'the message is not in the store'

say 'removed, then purged: the store stays'
within apt-get -qq remove -y indagator >"$root/tmp/log" 2>&1 || { tail "$root/tmp/log"; exit 1; }
[ -e "$root/etc/indagator/indagator.yaml" ] || fail 'removal took the configuration'
within apt-get -qq purge -y indagator >"$root/tmp/log" 2>&1 || { tail "$root/tmp/log"; exit 1; }
grep -q 'the store /var/log/indagator is left as it is' "$root/tmp/log" || { cat "$root/tmp/log"; fail 'purge does not say that the store stays'; }
[ -d "$root/var/log/indagator" ] || fail 'purge took the store'
[ ! -e "$root/etc/indagator" ] && [ ! -e "$root/var/lib/indagator" ] || fail 'purge left something'

if command -v systemd-nspawn >/dev/null 2>&1; then
    say 'under a service manager of its own'
    within apt-get -qq install -y --no-install-recommends systemd systemd-sysv dbus /tmp/indagator.deb >"$root/tmp/log" 2>&1 ||
        { tail "$root/tmp/log"; exit 1; }
    install -m 0755 "$(dirname "$0")/live_unit.sh" "$root/usr/local/bin/live_unit"
    printf '[Unit]\nAfter=multi-user.target\n[Service]\nType=idle\nExecStart=/usr/local/bin/live_unit\n' \
        >"$root/etc/systemd/system/live_unit.service"
    mkdir -p "$root/etc/systemd/system/multi-user.target.wants"
    ln -s /etc/systemd/system/live_unit.service "$root/etc/systemd/system/multi-user.target.wants/live_unit.service"
    umount "$root/proc"
    timeout 120 systemd-nspawn -q --register=no --keep-unit -D "$root" --boot </dev/null >"$root/tmp/log" 2>&1 || true
    [ "$(tail -n 1 "$root/result")" = good ] || { cat "$root/result" || tail "$root/tmp/log"; fail 'not as it should be there'; }
else
    say 'not tried under a service manager: there is no systemd-nspawn here'
fi
say 'good'
