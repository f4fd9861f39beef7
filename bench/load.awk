# Messages of 180 bytes each (RFC 3164), of 24 facilities and 8 severities and some devices. -v count=N [-v files=N: as many apps]
BEGIN {
    pad = "the same text again and again, so that every message has the length that a message of a router or a switch has, more or less; and more and more of it still"
    for (i = 0; i < count; i++) {
        app = files ? "app" i % files : "linkd"
        line = sprintf("<%d>Nov 23 04:%02d:%02d pier%d-rtr%d %s[%d]: message number %07d: %s", (i * 7) % 192, i / 60 % 60, i % 60, i % 4, i % 7, app, 1000 + i % 50, i, pad)
        print substr(line, 1, 180)
    }
}
