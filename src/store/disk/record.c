#include "store/disk/record.h"

#include "core/base/escape.h"
#include <jansson.h>
#include <stddef.h>
#include <stdlib.h>

static const char *const event_names[IND_EVENTS] = {
    "opened",    "rotated",   "hashed",      "compressed",    "copied",       "removed",
    "compacted", "protected", "unprotected", "clock_doubted", "clock_trusted"};

const char *ind_event_name(enum ind_event event)
{
    return event_names[event];
}

enum kind { TEXT, NUMBER, TIME, FLAG };

/* The members besides "event", in the order in which they are written. */
static const struct member {
    const char *name;
    enum kind kind;
    size_t at;       /* of it in a record */
    uint32_t events; /* that have it */
    bool may_lack;   /* a number: UINT64_MAX is not written */
} members[] = {
#define IN(event) (UINT32_C(1) << IND_EVENT_##event)
#define OF_ARCHIVES (~(IN(CLOCK_DOUBTED) | IN(CLOCK_TRUSTED)))
#define PLACE(member) offsetof(struct ind_journal_record, member)
    {"at", TIME, PLACE(at), UINT32_MAX, false},
    {"series", TEXT, PLACE(series), UINT32_MAX, false},
    {"number", NUMBER, PLACE(number), OF_ARCHIVES, false},
    {"archive", TEXT, PLACE(archive), OF_ARCHIVES, false},
    {"live", TEXT, PLACE(live), IN(OPENED), false},
    {"route", TEXT, PLACE(route), IN(OPENED) | IN(COMPACTED), false},
    {"policy", TEXT, PLACE(policy), IN(OPENED), false},
    {"layout", TEXT, PLACE(layout), IN(OPENED), false},
    {"version", NUMBER, PLACE(version), IN(OPENED), false},
    {"reason", TEXT, PLACE(reason), IN(ROTATED) | IN(REMOVED) | IN(PROTECTED) | IN(UNPROTECTED), false},
    {"file", TEXT, PLACE(file), IN(COMPRESSED) | IN(COPIED), false},
    {"bytes", NUMBER, PLACE(bytes), IN(ROTATED) | IN(HASHED) | IN(COMPRESSED) | IN(COPIED) | IN(COMPACTED),
     false},
    {"level", NUMBER, PLACE(level), IN(COMPRESSED), false},
    {"messages", NUMBER, PLACE(messages), IN(ROTATED) | IN(COMPACTED), true},
    {"inode", NUMBER, PLACE(inode), IN(ROTATED), false},
    {"sha256", TEXT, PLACE(text_hash), IN(HASHED), false},
    {"first", TIME, PLACE(first), IN(OPENED) | IN(ROTATED) | IN(COMPACTED), false},
    {"last", TIME, PLACE(last), IN(ROTATED) | IN(COMPACTED), false},
    {"archives", NUMBER, PLACE(archives), IN(COMPACTED), false},
    {"volumes", TEXT, PLACE(volumes), IN(REMOVED) | IN(COMPACTED), false},
    {"of_chain", TEXT, PLACE(link_hash), IN(COMPACTED), false},
    {"of_signature", TEXT, PLACE(link_signature), IN(COMPACTED), false},
    {"made_up", FLAG, PLACE(made_up), IN(OPENED), false},
};
enum { MEMBERS = sizeof members / sizeof *members };

static void *place_of(struct ind_journal_record *record, const struct member *member)
{
    return (char *)record + member->at;
}

/* ---- Writing ---- */

static json_t *value_of(const struct ind_journal_record *record, const struct member *member)
{
    const char *at = (const char *)record + member->at;
    char text[IND_TIME_WIDTH + 1] = "";
    struct ind_buffer buffer = ind_buffer_on(text, IND_TIME_WIDTH);
    switch (member->kind) {
    case TEXT:
        return *(const char *const *)at ? json_string(*(const char *const *)at) : NULL;
    case NUMBER:
        return member->may_lack && *(const uint64_t *)at == UINT64_MAX
                   ? NULL
                   : json_integer((json_int_t) * (const uint64_t *)at);
    case TIME:
        if (*(const ind_time *)at == IND_TIME_NONE)
            return NULL;
        ind_time_write(&buffer, *(const ind_time *)at);
        return json_string(text);
    default:
        return *(const bool *)at ? json_true() : NULL;
    }
}

char *ind_record_write(const struct ind_journal_record *record, size_t *length)
{
    json_t *object = json_object();
    for (size_t i = 0; i < MEMBERS; i++) {
        json_t *value =
            members[i].events & (UINT32_C(1) << record->event) ? value_of(record, &members[i]) : NULL;
        if (value)
            json_object_set_new(object, members[i].name, value);
        if (i == 0) /* the eye looks for it behind the time */
            json_object_set_new(object, "event", json_string(event_names[record->event]));
    }
    char *text = object ? json_dumps(object, JSON_COMPACT | JSON_PRESERVE_ORDER) : NULL;
    json_decref(object);
    *length = text ? strlen(text) : 0;
    return text;
}

/* ---- Reading ---- */

static int event_of(const char *name)
{
    int event = IND_EVENTS - 1;
    while (event >= 0 && strcmp(name, event_names[event]) != 0)
        event--;
    return event;
}

static ind_time time_of(const char *text)
{
    ind_time time;
    enum ind_time_style style;
    return ind_time_read(ind_slice_of(text), &time, &style) ? time : IND_TIME_NONE;
}

/* What a line holds that holds nothing. */
static struct ind_journal_record blank(void)
{
    return (struct ind_journal_record){.event = IND_EVENTS,
                                       .at = IND_TIME_NONE,
                                       .messages = UINT64_MAX,
                                       .first = IND_TIME_NONE,
                                       .last = IND_TIME_NONE};
}

static bool is_record(const struct ind_journal_record *record)
{
    const bool of_archive = record->event < IND_EVENT_CLOCK_DOUBTED;
    return record->event != IND_EVENTS && record->series && (record->archive || !of_archive) &&
           (record->event != IND_EVENT_OPENED || record->live);
}

static bool from_json(const json_t *object, struct ind_journal_record *record)
{
    *record = blank();
    const char *event = json_string_value(json_object_get(object, "event"));
    const int number = event ? event_of(event) : -1;
    if (number < 0)
        return false;
    record->event = (enum ind_event)number;
    for (size_t i = 0; i < MEMBERS; i++) {
        const json_t *value = json_object_get(object, members[i].name);
        void *place = place_of(record, &members[i]);
        if (members[i].kind == TEXT)
            *(const char **)place = json_string_value(value);
        else if (members[i].kind == FLAG)
            *(bool *)place = json_is_true(value);
        else if (members[i].kind == TIME && json_is_string(value))
            *(ind_time *)place = time_of(json_string_value(value));
        else if (members[i].kind == NUMBER && json_is_integer(value) && json_integer_value(value) >= 0)
            *(uint64_t *)place = (uint64_t)json_integer_value(value);
    }
    record->linked = json_is_string(json_object_get(object, "chain"));
    return is_record(record);
}

/* A member's value, behind its colon; `place` is NULL for a name that is none of ours. Returns what stands
 * behind it; NULL: not as ind_record_write has it. */
static char *read_text(char *at, char **text)
{
    char *end = *at == '"' ? strchr(at + 1, '"') : NULL;
    if (!end)
        return NULL;
    *end = '\0';
    *text = at + 1;
    return end + 1;
}

static char *read_number(char *at, uint64_t *number)
{
    int digits = 0;
    const bool leads_with_zero = *at == '0';
    for (*number = 0; ind_is_digit(*at) && digits < 18; digits++)
        *number = *number * 10 + (uint64_t)(*at++ - '0');
    return digits > 0 && (digits == 1 || !leads_with_zero) && !ind_is_digit(*at) ? at : NULL;
}

static char *read_value(char *at, const struct member *member, struct ind_journal_record *record)
{
    char *text;
    void *place = place_of(record, member);
    if (member->kind == NUMBER)
        return read_number(at, place);
    if (member->kind == FLAG) {
        *(bool *)place = true;
        return strncmp(at, "true", 4) == 0 ? at + 4 : NULL;
    }
    at = read_text(at, &text);
    if (at && member->kind == TIME)
        *(ind_time *)place = time_of(text);
    else if (at)
        *(const char **)place = text;
    return at;
}

/* Those of the link are passed over, and so is a name that later versions have. */
static char *read_other(char *at, const char *name, struct ind_journal_record *record)
{
    char *text;
    uint64_t number;
    if (*at != '"')
        return strcmp(name, "chain") == 0 || strcmp(name, "event") == 0 ? NULL : read_number(at, &number);
    at = read_text(at, &text);
    if (at && strcmp(name, "event") == 0) {
        const int event = event_of(text);
        record->event = event < 0 ? IND_EVENTS : (enum ind_event)event;
    }
    record->linked |= strcmp(name, "chain") == 0;
    return at;
}

/* Members come in the order of the table, nearly always. */
static const struct member *member_of(const char *name, size_t *next)
{
    for (size_t i = 0; i < MEMBERS; i++, *next = (*next + 1) % MEMBERS)
        if (strcmp(members[*next].name, name) == 0)
            return &members[*next];
    return NULL;
}

static bool read_members(char *line, const char *end, struct ind_journal_record *record)
{
    size_t next = 0;
    char *at = line, *name;
    do {
        at = read_text(at + 1, &name);
        if (!at || *at != ':')
            return false;
        const struct member *member = member_of(name, &next);
        at = member ? read_value(at + 1, member, record) : read_other(at + 1, name, record);
    } while (at && *at == ',');
    return at && at[0] == '}' && at + 1 == end && is_record(record);
}

/* No byte of such a line is escaped, and each of its texts ends where the next quote stands. */
static bool read_quickly(char *line, size_t length, struct ind_journal_record *record)
{
    *record = blank();
    if (length < 2 || line[0] != '{' || memchr(line, '\\', length) ||
        ind_printable_run(line, length) != length)
        return false;
    if (read_members(line, line + length, record))
        return true;
    for (char *at = line; (at = memchr(at, '\0', length - (size_t)(at - line))) != NULL;)
        *at = '"'; /* as it was: somebody else may read it */
    return false;
}

static bool read_any(const char *line, size_t length,
                     void (*visit)(void *, const struct ind_journal_record *), void *context)
{
    struct ind_journal_record record;
    json_t *object = json_loadb(line, length, 0, NULL);
    const bool good = object && from_json(object, &record);
    if (good)
        visit(context, &record);
    json_decref(object);
    return good;
}

bool ind_record_read_by(bool quickly, char *line, size_t length,
                        void (*visit)(void *, const struct ind_journal_record *), void *context)
{
    struct ind_journal_record record;
    if (!quickly)
        return read_any(line, length, visit, context);
    if (!read_quickly(line, length, &record))
        return false;
    visit(context, &record);
    return true;
}

bool ind_record_read(char *line, size_t length, void (*visit)(void *, const struct ind_journal_record *),
                     void *context)
{
    return ind_record_read_by(true, line, length, visit, context) ||
           ind_record_read_by(false, line, length, visit, context);
}
