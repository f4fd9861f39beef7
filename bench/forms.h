/* bench/forms.h: made-up lines of each form of header. The same ones in each run. */
#ifndef IND_BENCH_FORMS_H
#define IND_BENCH_FORMS_H

#include "core/base/slice.h"

#include <stdio.h>
#include <stdlib.h>

enum { LINES = 4000 };

struct lines {
    char *text;
    size_t length;
    struct ind_slice line[LINES];
};

static unsigned long seed = 42;

static unsigned roll(unsigned sides)
{
    seed = seed * 6364136223846793005ul + 1442695040888963407ul;
    return (unsigned)(seed >> 33) % sides;
}

static const char *const hosts[] = {"harbour-fw", "pier1-rtr", "pier3-sw2.skerry.example", "mv-tern-ap1",
                                    "192.0.2.9"};
static const char *const apps[] = {"kernel", "sshd", "dhcpd", "ospf", "wland", "smtpd"};
static const char *const texts[] = {
    "DENY IN=ge0 OUT= SRC=203.0.113.7 DST=192.0.2.9 LEN=44 TOS=0x00 PREC=0x00 TTL=241 ID=54321 PROTO=TCP "
    "SPT=40112 DPT=23",
    "Failed password for invalid user deckhand from 203.0.113.77 port 41007 ssh2",
    "DHCPREQUEST for 198.51.100.77 from 02:00:5e:10:00:7f via ge0.20",
    "neighbour 192.0.2.131 on ge0/1 is down: dead timer expired",
    "station 02:00:5e:20:00:11 associated, ssid crew, channel 36, signal -61 dBm"};
static const char *const months[] = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                     "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};

static int make_5424(char *at, size_t room)
{
    static const char *const data[] = {"-", "-", "[port@32473 name=\"ge0/24\" speed=\"1000\"]",
                                       "[origin ip=\"192.0.2.9\"][load@32473 cpu=\"31\"]"};
    char procid[12] = "-", zone[8] = "Z";
    if (roll(3))
        snprintf(procid, sizeof procid, "%u", roll(30000));
    if (roll(4) == 0)
        snprintf(zone, sizeof zone, "+%02u:00", roll(12));
    return snprintf(at, room, "<%u>1 2026-%02u-%02uT%02u:%02u:%02u.%0*u%s %s %s %s %s %s %s", roll(192),
                    1 + roll(12), 1 + roll(28), roll(24), roll(60), roll(60), roll(2) ? 3 : 6, roll(1000),
                    zone, hosts[roll(5)], apps[roll(6)], procid, roll(2) ? "-" : "LINK", data[roll(4)],
                    texts[roll(5)]);
}

static int make_3164(char *at, size_t room)
{
    char procid[16] = "";
    if (roll(2))
        snprintf(procid, sizeof procid, "[%u]", roll(30000));
    return snprintf(at, room, "<%u>%s %2u %02u:%02u:%02u %s %s%s: %s", roll(192), months[roll(12)],
                    1 + roll(28), roll(24), roll(60), roll(60), hosts[roll(5)], apps[roll(6)], procid,
                    texts[roll(5)]);
}

static const char *code(void)
{
    static const char *const codes[] = {"%LINK-3-CHANGE: Interface ge0/1, changed state to down",
                                        "%OSPF-5-ADJCHG: Process 1, neighbour 192.0.2.131 from FULL to DOWN",
                                        "%PKT-LINK-3-CHANGE : Interface ge0/24, changed state to up"};
    return codes[roll(3)];
}

/* "Nov 23 04:45:00" */
static const char *old_time(void)
{
    static char text[4][32];
    static unsigned next;
    char *at = text[next++ % 4];
    snprintf(at, 32, "%s %2u %02u:%02u:%02u", months[roll(12)], 1 + roll(28), roll(24), roll(60), roll(60));
    return at;
}

static int make_no_host(char *at, size_t room)
{
    return snprintf(at, room, "<%u>%s %s[%u]: %s", roll(192), old_time(), apps[roll(6)], roll(30000),
                    texts[roll(5)]);
}

static int make_year(char *at, size_t room)
{
    return snprintf(at, room, "<%u>%s %2u 2026 %02u:%02u:%02u.%03u %s %s: %s", roll(192), months[roll(12)],
                    1 + roll(28), roll(24), roll(60), roll(60), roll(1000), hosts[roll(5)], apps[roll(6)],
                    texts[roll(5)]);
}

static int make_iso(char *at, size_t room)
{
    return snprintf(at, room, "<%u>2026-%02u-%02uT%02u:%02u:%02u.%03uZ %s %s[%u]: %s", roll(192),
                    1 + roll(12), 1 + roll(28), roll(24), roll(60), roll(60), roll(1000), hosts[roll(5)],
                    apps[roll(6)], roll(30000), texts[roll(5)]);
}

static int make_sequence(char *at, size_t room)
{
    return snprintf(at, room, "<%u>%u: pier%u-rtr: %s.%03u UTC: %s", roll(192), roll(100000), roll(5),
                    old_time(), roll(1000), code());
}

static int make_location(char *at, size_t room)
{
    return snprintf(at, room, "<%u>RP/0/RP%u/CPU0:%s.%03u UTC: ports[%u]: %s", roll(192), roll(2), old_time(),
                    roll(1000), roll(30000), code());
}

static int make_relayed(char *at, size_t room)
{
    const char *outer = old_time(), *inner = old_time();
    return snprintf(at, room, "<%u>%s pier%u-rtr %u: %s.%03u UTC: %s", roll(192), outer, roll(5),
                    roll(100000), inner, roll(1000), code());
}

static int make_tag(char *at, size_t room)
{
    return snprintf(at, room, "<%u>%s[%u]: %s", roll(192), apps[roll(6)], roll(30000), texts[roll(5)]);
}

static int make_bare(char *at, size_t room)
{
    return snprintf(at, room, "<%u>%s %u", roll(192), "mains has returned after minutes:", roll(100));
}

enum { FORMS = 10 };
static const struct {
    const char *name;
    int (*make)(char *at, size_t room);
} made[FORMS] = {{"RFC 5424", make_5424},
                 {"RFC 3164", make_3164},
                 {"RFC 3164 without a host", make_no_host},
                 {"year and milliseconds", make_year},
                 {"time of RFC 3339", make_iso},
                 {"number, host, time, code", make_sequence},
                 {"location, time, process, code", make_location},
                 {"relayed: header, number, time, code", make_relayed},
                 {"PRI and tag", make_tag},
                 {"PRI and text", make_bare}};

/* The lines of each form, and behind them as many of all forms mixed. */
enum { MIXED = FORMS };

static inline const char *name_of(int form)
{
    return form == MIXED ? "all forms mixed" : made[form].name;
}

static inline void add_line(struct lines *to, size_t i, const char *text, size_t length)
{
    char *at = to->text + to->length;
    memcpy(at, text, length);
    to->line[i] = (struct ind_slice){at, length};
    to->length += length;
}

/* Those of all forms lie one behind the other too, as they would in what was received. */
static inline void make_lines(struct lines lines[FORMS + 1])
{
    char line[400];
    for (int form = 0; form <= FORMS; form++)
        lines[form].text = malloc(LINES * sizeof line);
    for (int form = 0; form < FORMS; form++)
        for (size_t i = 0; i < LINES; i++)
            add_line(&lines[form], i, line, (size_t)made[form].make(line, sizeof line));
    for (size_t i = 0; i < LINES; i++) {
        const struct ind_slice some = lines[roll(FORMS)].line[i];
        add_line(&lines[MIXED], i, some.at, some.length);
    }
}

#endif
