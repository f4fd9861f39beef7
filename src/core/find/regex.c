#include "core/find/regex.h"

#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdlib.h>

/* A call of ours is as much as CALL steps. PLACES: how often even a short text may
 * be gone back in, beside its length. */
enum { CALL = 16, PLACES = 64, MOST_BACK = 1 << 24 };

struct ind_regex {
    pcre2_code *quick, *counted;
};

struct ind_regex_scratch {
    pcre2_match_data *match;
    pcre2_match_context *effort;
};

static pcre2_code *compile(struct ind_slice text, uint32_t options, struct ind_regex_error *error)
{
    int number;
    PCRE2_SIZE offset;
    pcre2_code *code = pcre2_compile((PCRE2_SPTR)text.at, text.length, options, &number, &offset, NULL);
    if (code) {
        (void)pcre2_jit_compile(code, PCRE2_JIT_COMPLETE); /* without it, it is slower, no more */
        return code;
    }
    *error = (struct ind_regex_error){.offset = offset};
    pcre2_get_error_message(number, (PCRE2_UCHAR *)error->reason, sizeof error->reason);
    return NULL;
}

struct ind_regex *ind_regex_new(struct ind_slice text, uint32_t options, struct ind_regex_error *error)
{
    struct ind_regex *regex = calloc(1, sizeof *regex);
    *error = (struct ind_regex_error){.reason = "out of memory"};
    if (!regex)
        return NULL;
    regex->quick = compile(text, options, error);
    regex->counted = regex->quick ? compile(text, options | PCRE2_AUTO_CALLOUT, error) : NULL;
    if (regex->counted)
        return regex;
    ind_regex_free(regex);
    return NULL;
}

void ind_regex_free(struct ind_regex *regex)
{
    if (!regex)
        return;
    pcre2_code_free(regex->quick);
    pcre2_code_free(regex->counted);
    free(regex);
}

bool ind_regex_matches_empty(const struct ind_regex *regex)
{
    uint32_t empty = 0;
    return pcre2_pattern_info(regex->quick, PCRE2_INFO_MATCHEMPTY, &empty) == 0 && empty;
}

bool ind_regex_room_begin(struct ind_regex_room *room)
{
    ind_regex_room_next(room);
    room->scratch = calloc(1, sizeof *room->scratch);
    if (!room->scratch)
        return false;
    room->scratch->match = pcre2_match_data_create(1, NULL);
    room->scratch->effort = pcre2_match_context_create(NULL);
    return room->scratch->match && room->scratch->effort;
}

void ind_regex_room_end(struct ind_regex_room *room)
{
    if (!room->scratch)
        return;
    pcre2_match_data_free(room->scratch->match);
    pcre2_match_context_free(room->scratch->effort);
    free(room->scratch);
    room->scratch = NULL;
}

/* Before each part of the expression: what it has looked at since the last time. */
static int count(pcre2_callout_block *block, void *context)
{
    struct ind_regex_room *room = context;
    size_t now = block->current_position;
    room->counted -= (int64_t)(now > room->at ? now - room->at : room->at - now) + CALL;
    room->at = now;
    return room->counted < 0 ? PCRE2_ERROR_CALLOUT : 0;
}

/* The worst: from each of its places, and as often again as it may go back, all of the text. */
static int64_t worst(size_t length)
{
    return (int64_t)(2 * length + PLACES) * (int64_t)(length + 1);
}

static int run(const pcre2_code *code, struct ind_regex_room *room, struct ind_slice text, size_t from,
               uint32_t options)
{
    return pcre2_match(code, (PCRE2_SPTR)(text.at ? text.at : ""), text.length, from, options,
                       room->scratch->match, room->scratch->effort);
}

static int match(const struct ind_regex *regex, struct ind_regex_room *room, struct ind_slice text,
                 size_t from, uint32_t options)
{
    const size_t length = text.length - from;
    if (length < 1024 && worst(length) <= room->quick) {
        pcre2_set_match_limit(room->scratch->effort, (uint32_t)(length + PLACES));
        int found = run(regex->quick, room, text, from, options);
        if (found >= PCRE2_ERROR_PARTIAL) { /* it came to an end, and most come to it soon */
            room->quick -= (int64_t)length + PLACES;
            return found;
        }
        room->quick -= worst(length);
    }
    if (room->counted < 0)
        return PCRE2_ERROR_CALLOUT;
    room->at = from;
    pcre2_set_match_limit(room->scratch->effort, MOST_BACK);
    pcre2_set_callout(room->scratch->effort, count, room);
    return run(regex->counted, room, text, from, options);
}

enum ind_regex_found ind_regex_match(const struct ind_regex *regex, struct ind_regex_room *room,
                                     struct ind_slice text, size_t from, uint32_t options, size_t *start,
                                     size_t *end)
{
    int found = match(regex, room, text, from, options);
    if (found < 0)
        return found == PCRE2_ERROR_NOMATCH ? IND_REGEX_NONE : IND_REGEX_GAVE_UP;
    const PCRE2_SIZE *at = pcre2_get_ovector_pointer(room->scratch->match);
    if (start)
        *start = at[0];
    if (end)
        *end = at[1];
    return IND_REGEX_FOUND;
}
