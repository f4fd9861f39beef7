# Messages of the made-up network, RFC 5424, every PRI; about SIZE bytes: mawk -v size=SIZE -f bench/messages.awk
BEGIN { srand(7); split("harbour-fw pier1-rtr pier3-sw2 mv-tern-ap1 hq-dhcp", h, " ");
 split("kernel sshd dhcpd ospf wland", a, " ");
 t[1]="DENY IN=ge0 OUT= SRC=203.0.113.7 DST=192.0.2.9 LEN=44 TOS=0x00 TTL=241 ID=54321 PROTO=TCP SPT=40112 DPT=23 WINDOW=1024";
 t[2]="Failed password for invalid user deckhand from 203.0.113.77 port 41007 ssh2, attempt 4 of 6, next in 12 s";
 t[3]="DHCPREQUEST for 198.51.100.77 from 02:00:5e:10:00:7f via ge0.20, lease of 3600 s, pool guests, 41 free";
 t[4]="neighbour 192.0.2.131 on ge0/1 is down: dead timer expired, 14 routes withdrawn, area 0.0.0.0";
 t[5]="station 02:00:5e:20:00:11 associated, ssid crew, channel 36, signal -61 dBm, rate 866 Mbit/s, power save off";
 for (i = 0; bytes < size; i++) { s = int(i / 900); line = sprintf("<%d>1 2026-11-23T%02d:%02d:%02d.%03dZ %s %s %d - - %s", int(rand()*192), int(s/3600)%24, int(s/60)%60, s%60, i%1000, h[1+i%5], a[1+i%5], 100+i%7000, t[1+i%5]); print line; bytes += length(line) + 1; } }
