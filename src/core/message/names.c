#include "core/message/names.h"

#include <stdint.h>

struct name {
    const char *text;
    int value;
};

/* Padded, so that a name is copied in one fixed move; sixteen bytes hold the longest. */
struct padded {
    char text[16];
    size_t length;
};

static const struct padded facilities[IND_FACILITIES] = {
    {"kern", 4},   {"user", 4},   {"mail", 4},   {"daemon", 6}, {"auth", 4},     {"syslog", 6},
    {"lpr", 3},    {"news", 4},   {"uucp", 4},   {"cron", 4},   {"authpriv", 8}, {"ftp", 3},
    {"ntp", 3},    {"audit", 5},  {"alert", 5},  {"clock", 5},  {"local0", 6},   {"local1", 6},
    {"local2", 6}, {"local3", 6}, {"local4", 6}, {"local5", 6}, {"local6", 6},   {"local7", 6},
};

static const struct padded severities[IND_SEVERITIES] = {
    {"emergency", 9}, {"alert", 5},  {"critical", 8}, {"error", 5},
    {"warning", 7},   {"notice", 6}, {"info", 4},     {"debug", 5},
};

static const struct name facility_aliases[] = {{"kernel", 0}, {"security", 4}};

static const struct name severity_aliases[] = {{"emerg", 0},         {"panic", 0},      {"crit", 2},
                                               {"err", 3},           {"warn", 4},       {"note", 5},
                                               {"informational", 6}, {"information", 6}};

struct ind_slice ind_facility_name(unsigned facility)
{
    return (struct ind_slice){facilities[facility].text, facilities[facility].length};
}

struct ind_slice ind_severity_name(unsigned severity)
{
    return (struct ind_slice){severities[severity].text, severities[severity].length};
}

char *ind_pri_put(char *at, unsigned facility, unsigned severity)
{
    const struct padded *first = &facilities[facility], *second = &severities[severity];
    *at++ = ' ';
    memcpy(at, first->text, sizeof first->text);
    at += first->length;
    *at++ = ' ';
    memcpy(at, second->text, sizeof second->text);
    at += second->length;
    *at++ = ' ';
    return at;
}

void ind_pri_write(struct ind_buffer *buffer, unsigned facility, unsigned severity)
{
    if (ind_buffer_room(buffer, IND_PRI_ROOM))
        buffer->length = (size_t)(ind_pri_put(buffer->at + buffer->length, facility, severity) - buffer->at);
}

static int read_number(struct ind_slice text, int limit)
{
    if (text.length == 0 || text.length > 2)
        return -1;
    int number = 0;
    for (size_t i = 0; i < text.length; i++) {
        if (!ind_is_digit(text.at[i]))
            return -1;
        number = number * 10 + (text.at[i] - '0');
    }
    return number < limit ? number : -1;
}

static int read_name(struct ind_slice text, const struct padded *names, int count, const struct name *aliases,
                     size_t alias_count)
{
    /* As we write it, nearly always; the last byte tells most of them apart. */
    for (int i = 0; i < count && text.length; i++)
        if (names[i].length == text.length && names[i].text[text.length - 1] == text.at[text.length - 1] &&
            memcmp(names[i].text, text.at, text.length) == 0)
            return i;
    for (int i = 0; i < count; i++)
        if (ind_slice_equal_nocase(text, (struct ind_slice){names[i].text, names[i].length}))
            return i;
    for (size_t i = 0; i < alias_count; i++)
        if (ind_slice_equal_nocase(text, ind_slice_of(aliases[i].text)))
            return aliases[i].value;
    return read_number(text, count);
}

int ind_facility_read(struct ind_slice text)
{
    return read_name(text, facilities, IND_FACILITIES, facility_aliases,
                     sizeof facility_aliases / sizeof *facility_aliases);
}

int ind_severity_read(struct ind_slice text)
{
    return read_name(text, severities, IND_SEVERITIES, severity_aliases,
                     sizeof severity_aliases / sizeof *severity_aliases);
}

enum { LONGEST = 63 };

/* Optimal string alignment: three rows of the usual table. */
static size_t distance(struct ind_slice a, struct ind_slice b)
{
    size_t rows[3][LONGEST + 1];
    for (size_t j = 0; j <= b.length; j++)
        rows[0][j] = j;
    for (size_t i = 1; i <= a.length; i++) {
        size_t *now = rows[i % 3], *above = rows[(i + 2) % 3], *before = rows[(i + 1) % 3];
        now[0] = i;
        for (size_t j = 1; j <= b.length; j++) {
            bool same = ind_lower(a.at[i - 1]) == ind_lower(b.at[j - 1]);
            size_t best = above[j - 1] + (same ? 0 : 1);
            if (above[j] + 1 < best)
                best = above[j] + 1;
            if (now[j - 1] + 1 < best)
                best = now[j - 1] + 1;
            if (i > 1 && j > 1 && ind_lower(a.at[i - 1]) == ind_lower(b.at[j - 2]) &&
                ind_lower(a.at[i - 2]) == ind_lower(b.at[j - 1]) && before[j - 2] + 1 < best)
                best = before[j - 2] + 1;
            now[j] = best;
        }
    }
    return rows[a.length % 3][b.length];
}

const char *ind_near(struct ind_slice word, const char *const *candidates, size_t count)
{
    const char *best = NULL;
    size_t least = SIZE_MAX;
    for (size_t i = 0; i < count; i++) {
        struct ind_slice candidate = ind_slice_of(candidates[i]);
        if (word.length == 0 || word.length > LONGEST || candidate.length > LONGEST)
            continue;
        size_t far = distance(word, candidate);
        size_t allowed = (word.length > candidate.length ? word.length : candidate.length) / 3;
        if (far <= (allowed ? allowed : 1) && far < word.length && far < least) {
            least = far;
            best = candidates[i];
        }
    }
    return best;
}

static struct ind_slice near_padded(struct ind_slice word, const struct padded *names, size_t count)
{
    const char *texts[IND_FACILITIES];
    for (size_t i = 0; i < count; i++)
        texts[i] = names[i].text;
    return ind_slice_of(ind_near(word, texts, count));
}

struct ind_slice ind_facility_near(struct ind_slice word)
{
    return near_padded(word, facilities, IND_FACILITIES);
}

struct ind_slice ind_severity_near(struct ind_slice word)
{
    return near_padded(word, severities, IND_SEVERITIES);
}
