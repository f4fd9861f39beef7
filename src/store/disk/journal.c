#include "store/disk/journal.h"

#include "core/base/escape.h"
#include "core/base/slice.h"
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <jansson.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

static const char *const event_names[IND_EVENTS] = {"opened", "rotated", "compressed", "removed"};

static void set_text(json_t *object, const char *name, const char *text)
{
    if (text)
        json_object_set_new(object, name, json_string(text));
}

static void set_time(json_t *object, const char *name, ind_time time)
{
    char text[IND_TIME_WIDTH + 1] = "";
    struct ind_buffer buffer = ind_buffer_on(text, IND_TIME_WIDTH);
    if (time == IND_TIME_NONE)
        return;
    ind_time_write(&buffer, time);
    set_text(object, name, text);
}

static void set_number(json_t *object, const char *name, uint64_t number)
{
    json_object_set_new(object, name, json_integer((json_int_t)number));
}

static json_t *to_json(const struct ind_journal_record *record)
{
    json_t *object = json_object();
    set_time(object, "at", record->at);
    set_text(object, "event", event_names[record->event]);
    set_text(object, "series", record->series);
    set_number(object, "number", record->number);
    set_text(object, "archive", record->archive);
    if (record->event == IND_EVENT_OPENED) {
        set_text(object, "live", record->live);
        set_text(object, "route", record->route);
        set_text(object, "policy", record->policy);
        set_text(object, "layout", record->layout);
        set_number(object, "version", record->version);
        set_time(object, "first", record->first);
        if (record->made_up)
            json_object_set_new(object, "made_up", json_true());
    } else if (record->event == IND_EVENT_ROTATED) {
        set_text(object, "reason", record->reason);
        set_number(object, "bytes", record->bytes);
        if (record->messages != UINT64_MAX)
            set_number(object, "messages", record->messages);
        set_number(object, "inode", record->inode);
        set_time(object, "first", record->first);
        set_time(object, "last", record->last);
    } else if (record->event == IND_EVENT_COMPRESSED) {
        set_text(object, "file", record->file);
        set_number(object, "bytes", record->bytes);
    } else {
        set_text(object, "reason", record->reason);
    }
    return object;
}

bool ind_journal_add(const struct ind_fs *fs, int journal, const struct ind_journal_record *record)
{
    json_t *object = to_json(record);
    char *text = object ? json_dumps(object, JSON_COMPACT | JSON_PRESERVE_ORDER) : NULL;
    json_decref(object);
    if (!text) {
        errno = ENOMEM;
        return false;
    }
    size_t length = strlen(text);
    struct iovec pieces[] = {{text, length}, {(char[]){'\n'}, 1}};
    ssize_t written = fs->write(fs->context, journal, pieces, 2);
    int error = written < 0 ? errno : ENOSPC;
    free(text);
    if (written == (ssize_t)length + 1)
        return true;
    if (written > 0) /* end the torn line, so that the next record stands alone */
        (void)ind_fs_write_all(fs, journal, "\n", 1);
    errno = error;
    return false;
}

int ind_journal_open(const struct ind_fs *fs, int folder)
{
    int file = fs->open(fs->context, folder, IND_JOURNAL_PATH, O_RDWR | O_CREAT | O_APPEND, 0640);
    if (file < 0)
        return -1;
    struct stat facts;
    char last = '\n';
    if (fstat(file, &facts) == 0 && facts.st_size > 0 && pread(file, &last, 1, facts.st_size - 1) == 1 &&
        last != '\n')
        (void)ind_fs_write_all(fs, file, "\n", 1);
    return file;
}

static ind_time get_time(const json_t *object, const char *name)
{
    const char *text = json_string_value(json_object_get(object, name));
    ind_time time;
    enum ind_time_style style;
    return text && ind_time_read(ind_slice_of(text), &time, &style) ? time : IND_TIME_NONE;
}

static uint64_t get_number(const json_t *object, const char *name, uint64_t otherwise)
{
    const json_t *value = json_object_get(object, name);
    return json_is_integer(value) && json_integer_value(value) >= 0 ? (uint64_t)json_integer_value(value)
                                                                    : otherwise;
}

static const char *get_text(const json_t *object, const char *name)
{
    return json_string_value(json_object_get(object, name));
}

static bool from_json(const json_t *object, struct ind_journal_record *record)
{
    const char *event = get_text(object, "event");
    int kind = 0;
    while (event && kind < IND_EVENTS && strcmp(event, event_names[kind]) != 0)
        kind++;
    if (!event || kind == IND_EVENTS)
        return false;
    *record = (struct ind_journal_record){
        .event = (enum ind_event)kind,
        .at = get_time(object, "at"),
        .number = get_number(object, "number", 0),
        .series = get_text(object, "series"),
        .archive = get_text(object, "archive"),
        .live = get_text(object, "live"),
        .route = get_text(object, "route"),
        .policy = get_text(object, "policy"),
        .layout = get_text(object, "layout"),
        .version = get_number(object, "version", 0),
        .made_up = json_is_true(json_object_get(object, "made_up")),
        .reason = get_text(object, "reason"),
        .file = get_text(object, "file"),
        .bytes = get_number(object, "bytes", 0),
        .messages = get_number(object, "messages", UINT64_MAX),
        .inode = get_number(object, "inode", 0),
        .first = get_time(object, "first"),
        .last = get_time(object, "last"),
    };
    return record->series && record->archive && (kind != IND_EVENT_OPENED || record->live);
}

static void parse_line(const char *line, size_t length,
                       void (*visit)(void *, const struct ind_journal_record *), void *context)
{
    json_t *object = json_loadb(line, length, 0, NULL);
    struct ind_journal_record record;
    if (object && from_json(object, &record))
        visit(context, &record);
    json_decref(object);
}

uint64_t ind_journal_size(int folder)
{
    struct stat facts;
    return fstatat(folder, IND_JOURNAL_PATH, &facts, 0) == 0 ? (uint64_t)facts.st_size : 0;
}

/* Calls `visit` for each whole line. Returns where it stopped. */
static uint64_t each_line(int folder, uint64_t from, void (*visit)(void *, const char *line, size_t length),
                          void *context)
{
    int file = openat(folder, IND_JOURNAL_PATH, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    FILE *stream = file >= 0 ? fdopen(file, "r") : NULL;
    if (!stream) {
        if (file >= 0)
            close(file);
        return 0;
    }
    char *line = NULL;
    size_t room = 0;
    ssize_t length;
    uint64_t at = from;
    if (fseeko(stream, (off_t)from, SEEK_SET) == 0)
        while ((length = getline(&line, &room, stream)) > 0) {
            if (line[length - 1] != '\n')
                break; /* still being written, or torn */
            visit(context, line, (size_t)length);
            at += (uint64_t)length;
        }
    free(line);
    fclose(stream);
    return at;
}

struct reading {
    const char *holding;
    void (*visit)(void *, const struct ind_journal_record *);
    void *context;
};

static void visit_holding(void *context, const char *line, size_t length)
{
    const struct reading *reading = context;
    if (!reading->holding || strstr(line, reading->holding))
        parse_line(line, length, reading->visit, reading->context);
}

uint64_t ind_journal_read(int folder, uint64_t from, const char *holding,
                          void (*visit)(void *, const struct ind_journal_record *), void *context)
{
    struct reading reading = {holding, visit, context};
    return each_line(folder, from, visit_holding, &reading);
}

struct reading_opened {
    void (*visit)(void *, const struct ind_opened *);
    void *context;
};

static void visit_opened(void *context, const struct ind_journal_record *record)
{
    const struct reading_opened *reading = context;
    const struct ind_opened opened = {ind_slice_of(record->archive), ind_slice_of(record->live),
                                      ind_slice_of(record->route), ind_slice_of(record->layout),
                                      record->version};
    if (record->event == IND_EVENT_OPENED)
        reading->visit(reading->context, &opened);
}

/* A line as we write it, read from its start to its end; *at goes along. */
struct cursor {
    const char *at;
    bool good;
};

/* What must stand next: false, and the line is no such one, where it does not. */
static void pass(struct cursor *cursor, const char *text)
{
    size_t length = strlen(text);
    cursor->good = cursor->good && strncmp(cursor->at, text, length) == 0;
    cursor->at += cursor->good ? length : 0;
}

/* A text behind `key`, which holds its opening quote; one that need not be there is then empty. */
static struct ind_slice pass_text(struct cursor *cursor, const char *key, bool needed)
{
    if (!needed && cursor->good && strncmp(cursor->at, key, strlen(key)) != 0)
        return IND_NOTHING;
    pass(cursor, key);
    const char *end = cursor->good ? strchr(cursor->at, '"') : NULL;
    cursor->good = end != NULL;
    struct ind_slice value = {cursor->at, end ? (size_t)(end - cursor->at) : 0};
    cursor->at = end ? end + 1 : cursor->at;
    return value;
}

static uint64_t pass_number(struct cursor *cursor)
{
    uint64_t number = 0;
    int digits = 0;
    const bool leads_with_zero = cursor->good && *cursor->at == '0';
    for (; cursor->good && ind_is_digit(*cursor->at) && digits < 18; digits++)
        number = number * 10 + (uint64_t)(*cursor->at++ - '0');
    cursor->good =
        cursor->good && digits > 0 && (digits == 1 || !leads_with_zero) && !ind_is_digit(*cursor->at);
    return number;
}

/* The members in the order in which to_json has them, with nothing to be undone in them; or false. */
static bool read_opened(const char *line, size_t length, struct ind_opened *opened)
{
    struct cursor cursor = {line, memchr(line, '\\', length) == NULL &&
                                      ind_printable_run(line, length) == length - 1};
    *opened = (struct ind_opened){.version = 0};
    (void)pass_text(&cursor, "{\"at\":\"", true);
    (void)pass_text(&cursor, ",\"event\":\"opened\",\"series\":\"", true);
    pass(&cursor, ",\"number\":");
    (void)pass_number(&cursor);
    opened->archive = pass_text(&cursor, ",\"archive\":\"", true);
    opened->live = pass_text(&cursor, ",\"live\":\"", true);
    opened->route = pass_text(&cursor, ",\"route\":\"", false);
    (void)pass_text(&cursor, ",\"policy\":\"", false);
    opened->layout = pass_text(&cursor, ",\"layout\":\"", false);
    if (cursor.good && strncmp(cursor.at, ",\"version\":", 11) == 0) {
        pass(&cursor, ",\"version\":");
        opened->version = pass_number(&cursor);
    }
    (void)pass_text(&cursor, ",\"first\":\"", false);
    if (cursor.good && strncmp(cursor.at, ",\"made_up\":true", 15) == 0)
        cursor.at += 15;
    pass(&cursor, "}\n");
    return cursor.good && cursor.at == line + length;
}

/* Any other line is read as whatever object it is. */
static void parse_opened_line(void *context, const char *line, size_t length)
{
    struct reading_opened *reading = context;
    struct ind_opened opened;
    if (!strstr(line, "opened") && !memchr(line, '\\', length))
        return;
    if (read_opened(line, length, &opened))
        reading->visit(reading->context, &opened);
    else
        parse_line(line, length, visit_opened, reading);
}

void ind_journal_read_opened(int folder, void (*visit)(void *, const struct ind_opened *), void *context)
{
    struct reading_opened reading = {visit, context};
    (void)each_line(folder, 0, parse_opened_line, &reading);
}
