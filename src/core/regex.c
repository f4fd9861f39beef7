#include "core/regex.h"

#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>

void *ind_regex_new(struct ind_slice text, uint32_t options, struct ind_regex_error *error)
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

void ind_regex_free(void *regex)
{
    pcre2_code_free(regex);
}

bool ind_regex_room_begin(struct ind_regex_room *room, uint32_t steps)
{
    room->match = pcre2_match_data_create(1, NULL);
    room->effort = pcre2_match_context_create(NULL);
    if (room->effort)
        pcre2_set_match_limit(room->effort, steps);
    return room->match && room->effort;
}

void ind_regex_room_end(struct ind_regex_room *room)
{
    pcre2_match_data_free(room->match);
    pcre2_match_context_free(room->effort);
}
