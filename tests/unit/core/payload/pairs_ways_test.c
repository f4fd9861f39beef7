/* key=value taken apart by masks gives what a look at each byte gives, on texts made of the bytes that
 * matter. IND_TEXTS says how many. */
#include "support/random.h"
#include "support/support.h"

#include "core/payload/parts.h"

enum { MOST = 300, FIELDS = IND_PAYLOAD_FIELDS };

static uint64_t state = IND_RANDOM_START;
static char text[MOST], scratch[IND_PAYLOAD_SCRATCH];

/* ---- The plain way ---- */

static bool in_key(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || c == '_' || c == '.' || c == '-';
}

static bool begins_key(char c)
{
    return ind_is_alpha(c) || c == '_';
}

static bool one_of(char c, const char *some)
{
    return c != '\0' && strchr(some, c) != NULL;
}

static bool key_at(size_t at, size_t length)
{
    size_t stop = at;
    while (stop < length && in_key(text[stop]))
        stop++;
    return stop > at && stop < length && text[stop] == '=' && begins_key(text[at]);
}

static size_t end_of_quoted(size_t at, size_t length)
{
    const char quote = text[at++];
    for (; at < length; at++) {
        if (text[at] == '\\' && at + 1 < length)
            at++;
        else if (text[at] == quote)
            return at + 1 == length || one_of(text[at + 1], " \t,;([|{)]}") ? at + 1 : 0;
    }
    return 0;
}

static size_t end_of_bare(size_t at, size_t length)
{
    size_t stop = at;
    for (; stop < length && text[stop] != ' ' && text[stop] != '\t'; stop++)
        if ((text[stop] == ',' || text[stop] == ';') && (stop + 1 == length || text[stop + 1] == ' ' ||
                                                         text[stop + 1] == '\t' || key_at(stop + 1, length)))
            break;
    if (stop == at || in_key(text[stop - 1]))
        return stop;
    static const char closing[] = ")]}", opening[] = "([{";
    const char *bracket = text[stop - 1] ? strchr(closing, text[stop - 1]) : NULL;
    return bracket && !memchr(text + at, opening[bracket - closing], stop - at) ? stop - 1 : stop;
}

/* Names and values, as places in the text. */
static size_t read_plainly(size_t length, struct ind_pair fields[FIELDS])
{
    size_t count = 0, floor = 0;
    for (size_t at = 0; at < length && count < FIELDS; at++) {
        size_t key = at;
        if (text[at] != '=')
            continue;
        while (key > floor && in_key(text[key - 1]))
            key--;
        if (key == at || !begins_key(text[key]) || (key > floor && !one_of(text[key - 1], " \t,;([|{")))
            continue;
        const size_t value = at + 1;
        const bool quoted = value < length && (text[value] == '"' || text[value] == '\'');
        size_t stop = quoted ? end_of_quoted(value, length) : 0;
        fields[count].name = (struct ind_slice){text + key, at - key};
        if (stop) {
            fields[count++].value = (struct ind_slice){text + value + 1, stop - value - 2};
        } else {
            stop = end_of_bare(value, length);
            fields[count++].value = (struct ind_slice){text + value, stop - value};
        }
        floor = stop;
        at = stop - 1;
    }
    return count;
}

/* ---- ---- */

static size_t make_text(void)
{
    static const char bytes[] = "abZ09_.-==== ,;\t\"'()[]{}|&/:\\\0\xC3";
    const size_t length = ind_random(&state, MOST);
    for (size_t i = 0; i < length;) {
        if (ind_random(&state, 3)) { /* a pair as it should be */
            char pair[32];
            const int size = snprintf(pair, sizeof pair, "%s=%u ", ind_random(&state, 2) ? "SRC" : "a.b-c",
                                      ind_random(&state, 99999));
            for (int k = 0; k < size && i < length; k++)
                text[i++] = pair[k];
        } else {
            text[i++] = bytes[ind_random(&state, sizeof bytes - 1)];
        }
    }
    return length;
}

static bool has_quoted_colon(size_t length)
{
    for (size_t i = 1; i < length; i++)
        if (text[i - 1] == ':' && text[i] == '"')
            return true;
    return false;
}

static void masks_find_the_pairs_that_bytes_have(void **unused)
{
    (void)unused;
    const char *wanted = getenv("IND_TEXTS");
    static struct ind_payload payload;
    static struct ind_pair fields[FIELDS];
    for (long left = wanted ? atol(wanted) : 200000; left > 0; left--) {
        const size_t length = make_text();
        if (has_quoted_colon(length)) /* these are taken apart in another way */
            continue;
        /* at the end of its memory, where a look too far is seen by sanitizers */
        char *own = malloc(length + 1);
        memcpy(own, text, length);
        ind_payload_begin(&payload, scratch, sizeof scratch);
        ind_payload_read_pairs((struct ind_slice){own, length}, IND_NOTHING, &payload);
        const size_t count = read_plainly(length, fields);
        assert_int_equal(payload.count, count);
        for (size_t i = 0; i < count; i++) {
            const struct ind_slice name = payload.fields[i].name, value = payload.fields[i].value;
            const bool undone = value.at >= scratch && value.at < scratch + sizeof scratch;
            if (!ind_slice_equal(name, fields[i].name) ||
                (!undone && !ind_slice_equal(value, fields[i].value)))
                fail_msg("\"%.*s\" is \"%.*s\", not \"%.*s\", in: %.*s", IND_ARG(name), IND_ARG(value),
                         IND_ARG(fields[i].value), (int)length, text);
        }
        free(own);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(masks_find_the_pairs_that_bytes_have),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
