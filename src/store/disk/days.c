#include "store/disk/days.h"

#include "store/disk/state_file.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { MOST_BYTES = 16 << 20, NAME = 128 };
static const char others[] = "(others)";

const char *ind_day_count_name(enum ind_day_count count)
{
    static const char *const names[IND_DAY_COUNTS] = {
        "received", "stored", "handed_on", "dropped", "unrouted", "refused", "lost", "dropped_by_kernel"};
    return names[count];
}

static void free_day(struct ind_day *day)
{
    for (size_t i = 0; i < day->edit_count; i++)
        free(day->edits[i].name);
    free(day->edits);
}

void ind_days_free(struct ind_days *days)
{
    for (size_t i = 0; i < days->count; i++)
        free_day(&days->list[i]);
    free(days->list);
    *days = (struct ind_days){0};
}

/* ---- Days ---- */

static struct ind_day *insert(struct ind_days *days, size_t place, const char *date)
{
    if (days->count == IND_DAYS_MOST) {
        if (place == 0)
            return NULL;
        free_day(&days->list[0]);
        memmove(days->list, days->list + 1, --days->count * sizeof *days->list);
        place--;
    }
    struct ind_day *grown = realloc(days->list, (days->count + 1) * sizeof *grown);
    if (!grown)
        return NULL;
    days->list = grown;
    memmove(grown + place + 1, grown + place, (days->count++ - place) * sizeof *grown);
    grown[place] = (struct ind_day){0};
    memcpy(grown[place].date, date, sizeof grown[place].date - 1);
    return &grown[place];
}

struct ind_day *ind_days_at(struct ind_days *days, const char *date)
{
    size_t place = days->count; /* mostly the last */
    while (place > 0 && strcmp(days->list[place - 1].date, date) > 0)
        place--;
    if (place > 0 && strcmp(days->list[place - 1].date, date) == 0)
        return &days->list[place - 1];
    return insert(days, place, date);
}

static struct ind_day_edit *edit_of(struct ind_day *day, const char *name)
{
    for (size_t i = 0; i < day->edit_count; i++)
        if (strcmp(day->edits[i].name, name) == 0)
            return &day->edits[i];
    if (day->edit_count >= IND_DAY_EDITS && strcmp(name, others) != 0)
        return edit_of(day, others);
    struct ind_day_edit *grown = realloc(day->edits, (day->edit_count + 1) * sizeof *grown);
    if (!grown)
        return NULL;
    day->edits = grown;
    grown[day->edit_count] = (struct ind_day_edit){.name = strdup(name)};
    return grown[day->edit_count].name ? &grown[day->edit_count++] : NULL;
}

void ind_day_add_edit(struct ind_day *day, const char *name, uint64_t dropped)
{
    struct ind_day_edit *edit = dropped ? edit_of(day, name) : NULL;
    if (edit)
        edit->dropped += dropped;
}

/* ---- As text ---- */

static uint64_t number_of(const json_t *value)
{
    const json_int_t number = json_integer_value(value);
    return number > 0 ? (uint64_t)number : 0;
}

static bool is_date(const char *text)
{
    static const char form[] = "0000-00-00";
    if (strlen(text) != sizeof form - 1)
        return false;
    for (size_t i = 0; form[i]; i++)
        if (form[i] == '0' ? text[i] < '0' || text[i] > '9' : text[i] != form[i])
            return false;
    return true;
}

static bool take_day(struct ind_days *days, const char *date, json_t *object)
{
    const char *name;
    json_t *value;
    if (!is_date(date) || !json_is_object(object))
        return false;
    struct ind_day *day = ind_days_at(days, date);
    for (int i = 0; day && i < IND_DAY_COUNTS; i++)
        day->counts[i] = number_of(json_object_get(object, ind_day_count_name((enum ind_day_count)i)));
    json_object_foreach(json_object_get(object, "dropped_by"), name, value)
    {
        if (day && strlen(name) < NAME)
            ind_day_add_edit(day, name, number_of(value));
    }
    return true;
}

static json_t *day_json(const struct ind_day *day)
{
    json_t *object = json_object(), *edits = json_object();
    for (int i = 0; i < IND_DAY_COUNTS; i++)
        json_object_set_new(object, ind_day_count_name((enum ind_day_count)i),
                            json_integer((json_int_t)day->counts[i]));
    for (size_t i = 0; i < day->edit_count; i++)
        json_object_set_new(edits, day->edits[i].name, json_integer((json_int_t)day->edits[i].dropped));
    json_object_set_new(object, "dropped_by", edits);
    return object;
}

char *ind_days_text(const struct ind_days *days)
{
    json_t *object = json_object();
    for (size_t i = 0; i < days->count; i++)
        json_object_set_new(object, days->list[i].date, day_json(&days->list[i]));
    char *text = json_dumps(object, JSON_INDENT(1));
    json_decref(object);
    return text;
}

/* ---- The file ---- */

static json_t *load(const char *path, enum ind_days_status *status)
{
    struct stat facts;
    json_error_t error;
    const int file = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    *status = file < 0 && errno == ENOENT ? IND_DAYS_NONE : IND_DAYS_FAILED;
    if (file < 0)
        return NULL;
    json_t *object = NULL;
    if (fstat(file, &facts) == 0 && S_ISREG(facts.st_mode) && facts.st_size <= MOST_BYTES) {
        object = json_loadfd(file, JSON_REJECT_DUPLICATES, &error);
        *status = json_is_object(object) ? IND_DAYS_GOOD : IND_DAYS_DAMAGED;
    }
    close(file);
    return object;
}

enum ind_days_status ind_days_read(const char *state, struct ind_days *days)
{
    char path[4400];
    enum ind_days_status status;
    const char *date;
    json_t *day;
    *days = (struct ind_days){0};
    snprintf(path, sizeof path, "%s/" IND_DAYS_NAME, state);
    json_t *object = load(path, &status);
    if (status == IND_DAYS_GOOD)
        json_object_foreach(object, date, day)
        {
            if (!take_day(days, date, day))
                status = IND_DAYS_DAMAGED;
        }
    if (status != IND_DAYS_GOOD)
        ind_days_free(days);
    json_decref(object);
    return status;
}

bool ind_days_write(const char *state, const char *text)
{
    return ind_state_file_write(state, IND_DAYS_NAME, text);
}
