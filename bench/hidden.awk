# Something to hide at the end of every other message of bench/messages.awk, of each kind in turn.
{
    n = NR % 14; r = (NR * 7919) % 10007
    if (n == 0) $0 = $0 ", caller +1 202 555 01" sprintf("%02d", r % 100)
    else if (n == 2) $0 = $0 ", from crew" r "@skerry.example"
    else if (n == 4) $0 = $0 ", peer 203.0.113." r % 256 " port 4022"
    else if (n == 6) $0 = $0 ", neighbour 2001:db8::" r % 1000 " up"
    else if (n == 8) $0 = $0 ", station 02:00:5e:10:" sprintf("%02x:%02x", r % 256, int(r / 50) % 256) " left"
    else if (n == 10) $0 = $0 ", paid with 4111 1111 1111 1111"
    else if (n == 12) $0 = $0 ", password=tern" r " accepted"
    print
}
