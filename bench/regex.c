/* What one message may cost in regular expressions, and what a bound costs where nobody is hostile.
 *
 * Prints: ns of an ordinary text  of PCRE2-JIT without a bound  ratio  ms of the worst text in all of the
 * hostile expressions together  of PCRE2-JIT  which expression that is. */
#include "core/find/regex.h"
#include "measure.h"

#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { LONG = 65536, ROUNDS = 200000 };

static const char *const ordinary[] = {"link (down|up)$", "port \\d+ ssh2",
                                       "[Ff]ailed password for (invalid user )?\\w+ from",
                                       "temperature [0-9]+ degrees"};
static const char *const texts[] = {"ge0/24 (uplink to pier3-rtr) link down",
                                    "Failed password for invalid user tern from 203.0.113.7 port 4022 ssh2",
                                    "temperature 71 degrees, limit 70"};
static const char *const hostile[] = {"(?=.*z)(?=.*y)a", "(a+)+b",        "(x+x+)+y",
                                      "(a|aa)*c",        "(.*)(.*)(.*)q", "a.*a.*a!"};
#define COUNT(list) (sizeof(list) / sizeof *(list))

struct plain {
    pcre2_code *code;
    pcre2_match_data *match;
};

static struct plain compile(const char *text)
{
    int number;
    PCRE2_SIZE offset;
    struct plain plain = {pcre2_compile((PCRE2_SPTR)text, strlen(text), 0, &number, &offset, NULL),
                          pcre2_match_data_create(1, NULL)};
    if (!plain.code || !plain.match)
        exit(1);
    (void)pcre2_jit_compile(plain.code, PCRE2_JIT_COMPLETE);
    return plain;
}

static int match(const struct plain *plain, const char *text, size_t length)
{
    return pcre2_match(plain->code, (PCRE2_SPTR)text, length, 0, 0, plain->match, NULL);
}

static void *compile_ours(const char *text)
{
    struct ind_regex_error error;
    struct ind_regex *regex = ind_regex_new(ind_slice_of(text), 0, &error);
    if (!regex)
        exit(1);
    return regex;
}

/* ns for each expression and text. */
static double of_ordinary(bool ours, struct ind_regex_room *room)
{
    struct plain plain[COUNT(ordinary)];
    void *bounded[COUNT(ordinary)];
    unsigned long found = 0;
    for (size_t i = 0; i < COUNT(ordinary); i++) {
        plain[i] = compile(ordinary[i]);
        bounded[i] = compile_ours(ordinary[i]);
    }
    double from = now();
    for (size_t round = 0; round < ROUNDS; round++) {
        const char *text = texts[round % COUNT(texts)];
        struct ind_slice slice = ind_slice_of(text);
        ind_regex_room_next(room);
        for (size_t i = 0; i < COUNT(ordinary); i++)
            found += ours ? ind_regex_match(bounded[i], room, slice, 0, 0, NULL, NULL) == IND_REGEX_FOUND
                          : match(&plain[i], slice.at, slice.length) >= 0;
    }
    double spent = now() - from;
    if (found == 0)
        exit(1);
    return spent * 1e9 / (double)(ROUNDS * COUNT(ordinary));
}

/* ms for one message that all of them are asked of. */
static double of_hostile(struct ind_regex_room *room)
{
    static char text[LONG];
    double most = 0;
    void *bounded[COUNT(hostile)];
    for (size_t i = 0; i < COUNT(hostile); i++)
        bounded[i] = compile_ours(hostile[i]);
    for (const char *fill = "ax"; *fill; fill++)
        for (size_t length = 512; length <= LONG; length *= 2) {
            memset(text, *fill, length);
            memcpy(text + length - 2, "zw", 2);
            ind_regex_room_next(room);
            double from = now();
            for (size_t i = 0; i < COUNT(hostile); i++)
                (void)ind_regex_match(bounded[i], room, (struct ind_slice){text, length}, 0, 0, NULL, NULL);
            most = now() - from > most ? now() - from : most;
        }
    return most * 1e3;
}

static double of_hostile_plain(const char **which)
{
    static char text[LONG];
    double most = 0;
    for (size_t i = 0; i < COUNT(hostile); i++) {
        struct plain plain = compile(hostile[i]);
        for (const char *fill = "ax"; *fill; fill++) {
            memset(text, *fill, LONG);
            memcpy(text + LONG - 2, "zw", 2);
            double from = now();
            (void)match(&plain, text, LONG);
            if (now() - from > most) {
                most = now() - from;
                *which = hostile[i];
            }
        }
    }
    return most * 1e3;
}

int main(void)
{
    struct ind_regex_room room;
    const char *which = "";
    if (!ind_regex_room_begin(&room))
        return 1;
    double ours = 1e9, plain = 1e9, hostile_ours = 1e9;
    for (int round = 0; round < 5; round++) {
        double a = of_ordinary(true, &room), b = of_ordinary(false, &room), c = of_hostile(&room);
        ours = a < ours ? a : ours;
        plain = b < plain ? b : plain;
        hostile_ours = c < hostile_ours ? c : hostile_ours;
    }
    double hostile_plain = of_hostile_plain(&which);
    printf("%.0f %.0f %.2f %.2f %.0f %s\n", ours, plain, ours / plain, hostile_ours, hostile_plain, which);
    ind_regex_room_end(&room);
    return 0;
}
