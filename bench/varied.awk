# Messages of a made-up network, RFC 5424, as various as real ones, 120 or RATE a second: about SIZE bytes:
# mawk -v size=SIZE [-v rate=RATE] -f bench/varied.awk
function n(most) { return int(rand() * most) }
function address() { return sprintf("203.0.%d.%d", n(16), n(254) + 1) }
function inside() { return sprintf("192.0.2.%d", n(254) + 1) }
function hardware() { return sprintf("02:00:5e:%02x:%02x:%02x", n(4), n(32), n(256)) }
BEGIN {
    srand(7); rate = rate ? rate : 120
    for (i = 0; bytes < size; i++) {
        s = int(i / rate); kind = n(10); device = n(500)
        pier = int(device / 100) + 1
        if (kind < 5) { pri = 164; host = "harbour-fw" device % 20; app = "kernel"; text = sprintf("DENY IN=ge0 OUT= SRC=%s DST=%s LEN=%d TOS=0x00 TTL=%d ID=%d PROTO=TCP SPT=%d DPT=%d WINDOW=1024", address(), inside(), 40 + n(20), 30 + n(90), n(65536), 1024 + n(64000), n(4) ? 23 : n(1024)) }
        else if (kind < 6) { pri = 38; host = "hq-srv" device % 30; app = "sshd"; text = sprintf("Failed password for invalid user u%d from %s port %d ssh2", n(900), address(), 1024 + n(64000)) }
        else if (kind < 8) { pri = 30; host = "hq-dhcp" device % 4; app = "dhcpd"; text = sprintf("DHCPACK on 198.51.100.%d to %s via ge0.%d, lease of %d s", n(254) + 1, hardware(), n(40), 3600 * (1 + n(4))) }
        else if (kind < 9) { pri = 189 - n(4); host = "pier" pier "-rtr" device; app = "ospf"; text = sprintf("neighbour %s on ge0/%d is %s: dead timer %d s, %d routes", inside(), n(48), n(3) ? "up" : "down", n(40), n(400)) }
        else { pri = 190; host = "mv-tern-ap" device; app = "wland"; text = sprintf("station %s associated, ssid crew, channel %d, signal -%d dBm, rate %d Mbit/s", hardware(), 36 + 4 * n(8), 40 + n(50), 6 * n(140)) }
        line = sprintf("<%d>1 2026-11-%02dT%02d:%02d:%02d.%06dZ %s.skerry.example %s %d - - %s", pri, 1 + int(s / 86400), int(s / 3600) % 24, int(s / 60) % 60, s % 60, n(1000000), host, app, 100 + n(30) , text)
        print line; bytes += length(line) + 1
    }
}
