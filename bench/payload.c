/* bench/payload.c: the fields of event codes and of key=value runs against PCRE2-JIT on the same texts. Every
 * field of every text is compared first; then both run in turn, and the ratio of the best rounds is printed:
 * form  texts/s (ours)  texts/s (PCRE2-JIT)  ratio. Usage: bench_payload [SECONDS] */
#include "measure.h"
#include "regex.h"

#include "core/payload/payload.h"

#include <stdio.h>
#include <stdlib.h>

enum { TEXTS = 4000, FORMS = 2, MOST = 64 };

static char text[FORMS * TEXTS * 300];
static struct ind_slice texts[FORMS][TEXTS];
static size_t used;
static unsigned long seed = 42;

static unsigned roll(unsigned sides)
{
    seed = seed * 6364136223846793005ul + 1442695040888963407ul;
    return (unsigned)(seed >> 33) % sides;
}

static int make_code(char *at, size_t room)
{
    static const char *const groups[] = {"LINK", "LINEPROTO", "SYS", "OSPF", "PKT-LINK", "SPANTREE"};
    static const char *const names[] = {"CHANGE", "CONFIG_I", "ADJCHG", "OPENED", "BLOCK_BPDUGUARD"};
    return snprintf(at, room, "%%%s-%u-%s%s: Interface ge0/%u, changed state to %s", groups[roll(6)], roll(8),
                    names[roll(5)], roll(8) ? "" : " ", roll(48), roll(2) ? "up" : "down");
}

static int make_pairs(char *at, size_t room)
{
    if (roll(2))
        return snprintf(at, room,
                        "DENY IN=ge%u OUT= SRC=203.0.113.%u DST=192.0.2.%u LEN=%u TOS=0x00 PREC=0x00 TTL=241 "
                        "ID=%u PROTO=TCP SPT=%u DPT=%u WINDOW=1024 RES=0x00 SYN URGP=0",
                        roll(4), roll(256), roll(256), 40 + roll(1460), roll(65536), roll(65536), roll(1024));
    return snprintf(at, room,
                    "devname=\"harbour-fw\" action=%s user=\"tern %u\" srcip=203.0.113.%u srcport=%u "
                    "dstip=192.0.2.%u service=\"HTTPS\" msg=\"session closed by peer\" sent=%u rcvd=%u",
                    roll(2) ? "accept" : "deny", roll(100), roll(256), roll(65536), roll(256), roll(100000),
                    roll(100000));
}

static const char *const patterns[FORMS] = {
    "^[%#]([A-Za-z0-9_]+)-(?:([A-Za-z0-9_-]+)-)?([0-7])-([A-Za-z0-9_-]+) *:",
    "(?<![^ ,;(\\[])([A-Za-z_][A-Za-z0-9_.-]*)=(?:\"((?:[^\"\\\\]|\\\\.)*+)\"|([^ ]*))"};

static pcre2_code *codes[FORMS];
static pcre2_match_data *match;

static size_t theirs(int form, struct ind_slice line, struct ind_pair *fields)
{
    size_t count = 0, at = 0;
    while (pcre2_jit_match(codes[form], (PCRE2_SPTR)line.at, line.length, at, 0, match, NULL) > 0) {
        const PCRE2_SIZE *ends = pcre2_get_ovector_pointer(match);
        if (form == 0) {
            for (int i = 1; i <= 4; i++)
                if (ends[2 * i] != PCRE2_UNSET)
                    fields[count++].value = group(line, ends, i);
            return count;
        }
        fields[count].name = group(line, ends, 1);
        fields[count++].value = ends[4] != PCRE2_UNSET ? group(line, ends, 2) : group(line, ends, 3);
        at = ends[1];
    }
    return count;
}

static struct ind_payload payload;
static char scratch[IND_PAYLOAD_SCRATCH];

static void ours(struct ind_slice line)
{
    struct ind_message message;
    message.text = line;
    message.sequence = IND_NOTHING;
    ind_payload_read(&message, scratch, sizeof scratch, &payload);
}

static void compare(int form)
{
    for (size_t i = 0; i < TEXTS; i++) {
        struct ind_pair fields[MOST];
        size_t count = theirs(form, texts[form][i], fields);
        ours(texts[form][i]);
        bool same = count == payload.count;
        for (size_t f = 0; same && f < count; f++)
            same = ind_slice_equal(fields[f].value, payload.fields[f].value) &&
                   (form == 0 || ind_slice_equal(fields[f].name, payload.fields[f].name));
        if (!same) {
            fprintf(stderr, "the two differ: %.*s\n", IND_ARG(texts[form][i]));
            exit(1);
        }
    }
}

static volatile size_t sink;

static double measure(int form, bool our)
{
    struct ind_pair fields[MOST];
    double start = now();
    size_t sum = 0;
    for (size_t i = 0; i < TEXTS; i++) {
        if (our)
            ours(texts[form][i]);
        sum += our ? payload.count : theirs(form, texts[form][i], fields);
    }
    sink = sum;
    return TEXTS / (now() - start);
}

int main(int argc, char **argv)
{
    static const char *const names[FORMS] = {"event codes", "key=value"};
    double seconds = argc > 1 ? atof(argv[1]) : 3, best[FORMS][2] = {{0}};
    for (int form = 0; form < FORMS; form++) {
        for (size_t i = 0; i < TEXTS; i++) {
            int length = form == 0 ? make_code(text + used, 300) : make_pairs(text + used, 300);
            texts[form][i] = (struct ind_slice){text + used, (size_t)length};
            used += (size_t)length;
        }
        codes[form] = compiled(patterns[form]);
        match = pcre2_match_data_create(20, NULL);
        compare(form);
    }
    for (double end = now() + seconds; now() < end;)
        for (int form = 0; form < FORMS; form++) {
            double a = measure(form, true), b = measure(form, false);
            best[form][0] = a > best[form][0] ? a : best[form][0];
            best[form][1] = b > best[form][1] ? b : best[form][1];
        }
    for (int form = 0; form < FORMS; form++)
        printf("%s\t%.2f\t%.2f\t%.2f\n", names[form], best[form][0] / 1e6, best[form][1] / 1e6,
               best[form][0] / best[form][1]);
    return 0;
}
