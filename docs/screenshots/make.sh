#!/bin/bash
# Takes the pictures of this folder from the demo data: a terminal of 1280x800 under Xvfb. Usage: make.sh BUILD
set -eu
here=$(cd "$(dirname "$0")" && pwd)
build=$(realpath "$1")
work=$(mktemp -d)
server='' collector='' mailer=''
end() {
    [ -z "$collector" ] || kill "$collector" 2>/dev/null || true
    [ -z "$mailer" ] || kill "$mailer" 2>/dev/null || true
    [ -z "$server" ] || kill "$server" 2>/dev/null || true
    rm -rf "$work"
}
trap end EXIT
export PATH=$build:$PATH NO_COLOR=1 LC_ALL=C.UTF-8

Xvfb -displayfd 3 -screen 0 1280x800x24 3>"$work/display" 2>/dev/null &
server=$!
until [ -s "$work/display" ]; do sleep 0.05; done
DISPLAY=:$(cat "$work/display")
export DISPLAY

# shoot NAME 'command' …: each command is shown as typed ("SHOWN#!COMMAND": as SHOWN), then what it prints; the picture is taken when all have ended.
shoot() {
    local name=$1 script=$work/$1.sh
    shift
    rm -f "$work/done"
    {
        echo 'cd "'"$work"'/demo"; PS1=; clear'
        for command in "$@"; do
            shown=${command%%'#!'*}
            printf 'printf "$ %%s\\n" %q\n' "$shown"
            echo "${command##*'#!'}"
            echo 'echo'
        done
        echo "touch $work/done; sleep 60"
    } >"$script"
    xterm -geometry 156x50+0+0 -fa 'DejaVu Sans Mono' -fs 9.7 -bg '#10151c' -fg '#dde3ea' -b 12 +sb \
        -e bash --norc "$script" &
    local terminal=$!
    until [ -e "$work/done" ]; do sleep 0.05; done
    sleep 0.5 # the terminal draws what it has read
    import -window root "$here/$name.png"
    kill "$terminal" 2>/dev/null || true
    wait "$terminal" 2>/dev/null || true
}

# live NAME: the live view of the collector that runs, after some seconds.
live() {
    xterm -geometry 124x40+0+0 -fa 'DejaVu Sans Mono' -fs 11.6 -bg '#10151c' -fg '#dde3ea' -b 12 +sb -e env -u NO_COLOR indagator watch &
    local terminal=$!
    sleep 8
    import -window root "$here/$1.png"
    kill "$terminal" 2>/dev/null || true
    wait "$terminal" 2>/dev/null || true
}

indagator demo --folder "$work/demo" >"$work/demo.txt"
cp "$work/demo.txt" "$here/../../demo/messages.log" "$work/demo/"
cat >"$work/demo/broken.yaml" <<'EOF'
store: log
state: state
zone: Europe/Lissabon
listen:
  - udp: 0.0.0.0:514
routes:
  - name: firewall
    when: facility is local4 or local5
    file: "firewall/{devise}/{date}.log"
    archive: audti
  - name: trouble
    when: severity >= warnign
    file: trouble.log
archives:
  audit: {rotate: every hour, keep: {for: 1 year, space: 40 GiB}, compress: zstd 19}
EOF
shoot demo "indagator demo#!sed -n '/^2\\./,/^5\\./p' demo.txt | sed '\$d'"
# An authority, a collector and a device, as docs/configuration.md makes them.
mkdir "$work/demo/tls"
(
    cd "$work/demo/tls"
    new='-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes'
    openssl req -x509 $new -days 3650 -subj '/CN=Skerry Line devices' -keyout authority.key -out authority.pem
    for name in collector pier1-rtr stranger; do
        openssl req $new -subj "/CN=$name" -addext "subjectAltName=DNS:$name.skerry.example,IP:127.0.0.1" -keyout $name.key -out $name.csr
        openssl x509 -req -in $name.csr -CA authority.pem -CAkey authority.key -CAcreateserial -copy_extensions copy -days 20 -out $name.pem
    done
    openssl req -x509 $new -days 90 -subj '/CN=stranger' -keyout stranger.key -out stranger.pem
) >/dev/null 2>&1
cat >"$work/demo/certificate.yaml" <<'EOF'
store: log
state: state
allow: [127.0.0.0/8]
listen:
  - tls: 0.0.0.0:6514
    certificate: tls/collector.pem
    key: tls/pier1-rtr.key
    clients: tls/authority.pem
    names: [pier1-rtr.skerry.example]
EOF
shoot check "indagator check -c broken.yaml" "indagator check -c certificate.yaml"
shoot rehearse "indagator rehearse messages.log | head -n 43#!indagator rehearse --received 2026-11-24T00:00:00Z messages.log | head -n 43"
unset NO_COLOR
shoot search "indagator search --when 'text contains \"Failed password\"' --last 8" \
    "indagator search --when 'severity at least alert' --context 2 --fold messages.log" \
    "indagator search --columns time,device,severity,text --when 'severity at least error' --last 5 --reverse" \
    "indagator search --when 'facility is local6 and severity at least error' --json"
export NO_COLOR=1
cat >"$work/demo/overlap.yaml" <<'EOF'
store: log
state: state
listen: [{udp: 127.0.0.1:0}]
patterns:
  - name: link-state
    text:
      - layout: "{interface:interface} link {state:word}"
        example: "ge0/24 link down"
        gives: {interface: ge0/24, state: down}
  - name: any-link
    text: "{what:text} link down"
  - name: login-failed
    app: sshd
    text:
      - layout: "Failed password for {user:word} from {peer:ip} port {port:int} {:remainder}"
        example: "Failed password for tern from 203.0.113.7 port 4022 ssh2"
EOF
failed='Failed password for {user:word} from {peer:ip} port {port:int} {:remainder}'
cat >"$work/demo/none.yaml" <<'EOF'
store: log
state: state
listen: [{udp: "127.0.0.1:0"}]
routes: [{name: all, file: all.log}]
EOF
shoot patterns "indagator fit --pattern '$failed' 'Failed password for tern from 203.0.113.7 port 40x22 ssh2'" \
    "indagator fit '<84>Nov 23 04:45:00 harbour-fw sshd[811]: Failed password for invalid user oper from 203.0.113.66 port 4022 ssh2'" \
    "indagator learn messages.log | head -n 28#!indagator learn -c none.yaml messages.log | head -n 28"
cat >"$work/demo/traps.yaml" <<'EOF'
store: log
state: state
zone: UTC
listen: [{traps: "0.0.0.0:162", communities: [skerry], names: oids.csv}]
allow: [192.0.2.0/24]
devices:
  - {name: hq-relay, address: 192.0.2.200, relay: yes}
  - {name: pier3-ups, address: 192.0.2.7, labels: {site: pier3}}
conditions: {doors: 'field skerryDoorState is "open"'}
routes:
  - {name: doors, when: doors and severity at least critical, file: doors.log}
  - {name: everything, file: "{device}.log"}
EOF
printf 'oid,name,severity,values\n1.3.6.1.4.1.32473.1.0.7,skerryDoorOpen,critical,\n1.3.6.1.4.1.32473.1.2.1,skerryDoorState,,1=open;2=closed\n1.3.6.1.4.1.32473.1.2.9,skerryDoorNote,,\n' >"$work/demo/oids.csv"
cp "$here/../../tests/fuzz/corpus/trap/v1" "$work/demo/door.bin"
shoot explain "indagator explain --sender 192.0.2.200 --trap --from door.bin#!indagator explain -c traps.yaml --sender 192.0.2.200 --received 2026-11-23T04:45:02Z --trap --from door.bin"

# Four Mondays: of all but the last some is missing.
mkdir "$work/weeks"
(
    cd "$work/weeks"
    cat >indagator.yaml <<'EOF'
store: log
state: state
zone: UTC
domain: skerry.example
devices: [{name: pier9-sw1, address: 192.0.2.99}]
patterns:
  - name: login-failed
    app: sshd
    text: ["Failed password for {user:word} from {peer:ip} port {port:int} {:remainder}", "Failed password for invalid user {user:word} from {peer:ip} port {port:int} {:remainder}"]
routes: [{name: all, file: "{facility}.log", layout: json}]
EOF
    for day in 02 09 16; do
        sed "s/Nov 23/Nov $day/; s/2026-11-23/2026-11-$day/g" "$here/../../demo/messages.log" | grep -v -E 'mv-auk|neighbour' | awk -v day="$day" '(NR + day) % 4 && !(/harbour-fw/ && NR % 2)' >day.log
        indagator collect --from day.log >/dev/null
    done
    indagator collect --from "$here/../../demo/messages.log" >/dev/null
    indagator report --for 2026-11-23 --html page.html
)
shoot report "cd weeks; indagator report --for 2026-11-23 | sed -n '1,47p'#!cd ../weeks; indagator report --for 2026-11-23 | sed '/^More/,\$!{/ 0   *0$/d}' | sed -n '1,47p'"
page() { # page NAME OPTION…
    local name=$1
    shift
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1100 "$@" --screenshot="$here/$name.png" "$work/weeks/page.html" >/dev/null 2>&1
}
page report-page
page report-page-dark --blink-settings=preferredColorScheme=0

# A ship's collector whose link is lost, and the demo's second act.
(
    cd "$work/demo"
    indagator collect -c aboard.yaml >ship.out 2>ship.err &
    echo $! >ship.pid
    until grep -q 'tcp 127' ship.err; do sleep 0.05; done
    indagator emit --to "tcp:127.0.0.1:$(sed -n 's/.*tcp 127.0.0.1://p' ship.err)" --host mv-tern-rtr --app linkd --count 4022 'sat0 (uplink) link up' >/dev/null
    sleep 8
)
unset NO_COLOR
shoot relay "indagator demo#!sed -n '/^11\\./,/^To go/p' demo.txt | sed '\$d' | grep -v '^\$ kill'" "indagator status -c aboard.yaml | sed -n '1,/^Devices/p'#!indagator status -c aboard.yaml --color always | sed '/Devices/,\$d'"
export NO_COLOR=1
kill "$(cat "$work/demo/ship.pid")"

# A collector that runs, and the fleet that sends to it.
cd "$work/demo"
sed 's|^listen:.*|&\n  - {tls: "127.0.0.1:0", certificate: tls/collector.pem, key: tls/collector.key, clients: tls/authority.pem}|' indagator.yaml >with-tls.yaml
mv with-tls.yaml indagator.yaml
# Alerts are told by mail, to a server of the tests, which keeps what comes.
mkdir "$work/mail"
python3 "$here/../../tests/support/standin.py" smtp "$work/mail" &
mailer=$!
until [ -s "$work/mail/port" ]; do sleep 0.05; done
sed -i 's|^    by: field peer|&\n    tell: {mail: noc@skerry.example}|' indagator.yaml
echo "mail: {server: \"127.0.0.1:$(cat "$work/mail/port")\", from: indagator@skerry.example}" >>indagator.yaml
indagator collect >collect.out 2>collect.err &
collector=$!
until grep -q 'tcp 127' collect.err; do sleep 0.05; done
to="--to udp:127.0.0.1:$(sed -n 's/.*udp 127.0.0.1://p' collect.err) --to tcp:127.0.0.1:$(sed -n 's/.*tcp 127.0.0.1://p' collect.err)"
# shellcheck disable=SC2086
indagator emit $to --fleet "$here/../../demo/fleet.yaml" >/dev/null
tls="--to tls:127.0.0.1:$(sed -n 's/.*tls 127.0.0.1://p' collect.err) --trust tls/authority.pem"
# shellcheck disable=SC2086
indagator emit $tls --certificate tls/pier1-rtr.pem --key tls/pier1-rtr.key --host pier1-rtr --app linkd --count 40 'ge0/24 link up' >/dev/null
# shellcheck disable=SC2086
indagator emit $tls --certificate tls/stranger.pem --key tls/stranger.key 'x' >/dev/null 2>&1 || true
shoot status "indagator status --top 4 | head -n 46"
indagator pause --after 0s tcp >/dev/null
sleep 1
touch indagator.yaml
unset NO_COLOR
shoot doctor "indagator doctor" "indagator doctor --file trouble/pier4-sw1.log"
until [ -s "$work/mail/mail-1" ]; do sleep 0.1; done
python3 -c 'import email, sys
for part in email.message_from_bytes(open(sys.argv[1], "rb").read().split(b"\n", 1)[1]).walk():
    if part.get_content_maintype() == "text":
        open("mail." + part.get_content_subtype(), "wb").write(part.get_payload(decode=True))' "$work/mail/mail-1"
shoot alerts "indagator alerts list" "indagator alerts show guessing" "indagator alerts ack guessing --note 'blocked at the firewall'" "indagator alerts history" "cat mail    # of guessing#!tr -d '\\r' <mail.plain | head -n 11"
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$here/alert-mail.png" mail.html >/dev/null 2>&1
live watch-trouble
indagator resume >/dev/null
sleep 1
to="--to udp:127.0.0.1:$(sed -n 's/.*udp 127.0.0.1://p' collect.err)"
# shellcheck disable=SC2086
indagator emit $to --fleet "$here/../../demo/fleet.yaml" >/dev/null &
player=$!
live watch
shoot follow "indagator follow --last 4 --when 'severity at least warning' --when 'app is \"dhcpd\"'#!indagator follow --last 4 --when 'severity at least warning' --when 'app is \"dhcpd\"' --count 34"
wait $player
export NO_COLOR=1
indagator rotate >/dev/null
sleep 2
shoot archives-list "indagator archives list guesses/ local5/" "indagator archives protect local5/ --why 'case 2026-14'" "indagator archives list local5/" "indagator archives list --on 2027-06-30 | tail -n 8"
kill $collector
wait $collector || true
