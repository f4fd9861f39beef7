# The four conditions of bench/run.sh's four routes, on lines of RFC 5424: mawk -f four.awk FILE, into the folder out.
{ pri = substr($1, 2) + 0; severity = pri % 8; facility = (pri - severity) / 8 }
facility == 20 && severity <= 4 { print > "out/firewall.log" }
$3 ~ /^mv-/ && /is down/ { print > "out/down.log" }
$4 == "sshd" && /Failed password/ { print > "out/logins.log" }
severity <= 2 { print > "out/grave.log" }
