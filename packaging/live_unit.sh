#!/bin/sh
# Within a system that was booted for it: the installed service under its service manager. The last word of what it
# prints is "good", or the step that failed. For packaging/test_package.sh.
exec >/result 2>&1
step() {
    what=$1
    shift
    "$@" || { echo "failed: $what"; systemctl status --no-pager -l indagator; systemctl poweroff; exit 1; }
}
refused() { ! systemctl reload indagator; }
until_true() {
    for _ in $(seq 100); do "$@" && return 0; sleep 0.1; done
    return 1
}
main() { systemctl show -p MainPID --value indagator; }
restarted() { [ "$(main)" != "$1" ] && [ "$(main)" != 0 ] && indagator status >/dev/null 2>&1; }
stored() { indagator search --count pier2 2>/dev/null | grep -q "^$1\$"; }

configuration=/etc/indagator/indagator.yaml
sed -i 's/^allow:.*/allow: [127.0.0.0\/8]/' $configuration
step 'ready' systemctl start indagator
step 'no rights but one' grep -q '^CapPrm:.*0000000000000400$' "/proc/$(main)/status"
step 'no new rights' grep -q '^NoNewPrivs:.*1$' "/proc/$(main)/status"
step 'sent' indagator emit --to udp:127.0.0.1:514 --app pier2 'over the port of root'
step 'stored' until_true stored 1
step 'rotated' indagator rotate
step 'reloaded' systemctl reload indagator
cp $configuration /tmp/good.yaml
echo 'nonsense: yes' >>$configuration
step 'a mistake is refused' refused
step 'and it goes on' systemctl is-active indagator
cp /tmp/good.yaml $configuration
process=$(main)
step 'killed' kill -SEGV "$process"
step 'started again' until_true restarted "$process"
step 'what was stored is there' stored 1
step 'stopped' systemctl stop indagator
echo good
systemctl poweroff
