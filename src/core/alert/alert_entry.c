/* core/alert/alert_entry.c: the table of keys, its room, and the lines that are kept. */
#include "core/alert/alerts_private.h"

#include <stdlib.h>
#include <utlist.h>

struct ind_watch *ind_watch_find(const struct ind_alerts *alerts, struct ind_slice name)
{
    struct ind_watch *watch = NULL;
    HASH_FIND(hh, alerts->watches, name.at, (unsigned)name.length, watch);
    return watch;
}

struct ind_alert_entry *ind_alert_entry_find(const struct ind_watch *watch, struct ind_slice key)
{
    struct ind_alert_entry *entry = NULL;
    HASH_FIND(hh, watch->table, key.at, (unsigned)key.length, entry);
    return entry;
}

char *ind_alert_text(struct ind_slice text)
{
    char *copy = text.length ? malloc(text.length + 1) : NULL;
    if (copy) {
        memcpy(copy, text.at, text.length);
        copy[text.length] = '\0';
    }
    return copy;
}

/* ---- Lines ---- */

static void set_line(struct ind_alerts *alerts, struct ind_alert_entry *entry, size_t place, char *line)
{
    char **at = &entry->alert.lines[place];
    if (*at) {
        alerts->bytes -= strlen(*at) + 1;
        entry->bytes -= strlen(*at) + 1;
        free(*at);
    }
    *at = line;
    if (line) {
        alerts->bytes += strlen(line) + 1;
        entry->bytes += strlen(line) + 1;
    }
}

void ind_alert_entry_drop_lines(struct ind_alerts *alerts, struct ind_alert_entry *entry)
{
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        set_line(alerts, entry, i, NULL);
    entry->lines = 0;
}

/* The last stands behind all others. Of those between, there are three as soon as there were three; later one
 * of them changes when there are twice as many as at the last change: so they are from all of the time. */
void ind_alert_entry_add_line(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_slice line)
{
    enum { LAST = IND_ALERT_LINES - 1 };
    char **lines = entry->alert.lines, *copy = ind_alert_text(ind_slice_begin(line, IND_ALERT_LINE));
    const uint64_t before = entry->lines;
    if (!copy)
        return;
    entry->lines++;
    if (!lines[0]) {
        set_line(alerts, entry, 0, copy);
        return;
    }
    if (lines[LAST]) {
        size_t place = 1;
        while (place < LAST && lines[place])
            place++;
        char *passed = lines[LAST];
        alerts->bytes -= strlen(passed) + 1;
        entry->bytes -= strlen(passed) + 1;
        lines[LAST] = NULL;
        if (place == LAST && (before & (before - 1)) == 0) { /* the oldest between makes room */
            set_line(alerts, entry, 1, NULL);
            memmove(&lines[1], &lines[2], (LAST - 2) * sizeof *lines);
            lines[LAST - 1] = NULL;
            place = LAST - 1;
        }
        if (place < LAST)
            set_line(alerts, entry, place, passed);
        else
            free(passed);
    }
    set_line(alerts, entry, LAST, copy);
}

/* ---- Entries ---- */

static struct ind_alert_entry **list_of(struct ind_alert_entry *entry)
{
    return entry->alert.state == IND_ALERT_WATCHED ? &entry->watch->idle : &entry->watch->open;
}

static void leave_list(struct ind_alerts *alerts, struct ind_alert_entry *entry)
{
    struct ind_alert_entry **list = list_of(entry);
    DL_DELETE(*list, entry);
    if (entry->alert.state == IND_ALERT_WATCHED) {
        entry->watch->idle_count--;
    } else {
        entry->watch->open_count--;
        alerts->open--;
    }
}

void ind_alert_entry_move(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                          enum ind_alert_state state)
{
    leave_list(alerts, entry);
    entry->alert.state = state;
    struct ind_alert_entry **list = list_of(entry);
    DL_APPEND(*list, entry);
    if (state == IND_ALERT_WATCHED) {
        entry->watch->idle_count++;
    } else {
        entry->watch->open_count++;
        alerts->open++;
    }
}

void ind_alert_entry_free(struct ind_alerts *alerts, struct ind_alert_entry *entry)
{
    ind_alert_entry_drop_lines(alerts, entry);
    leave_list(alerts, entry);
    HASH_DEL(entry->watch->table, entry);
    alerts->bytes -= entry->bytes;
    free(entry->alert.note);
    free(entry);
}

/* The rule with most keys gives those up that it has not heard for longest. */
void ind_alerts_make_room(struct ind_alerts *alerts)
{
    while (alerts->bytes > alerts->settings.memory) {
        struct ind_watch *most = NULL, *watch, *next;
        HASH_ITER(hh, alerts->watches, watch, next)
        {
            if (watch->idle && (!most || watch->idle_count > most->idle_count))
                most = watch;
        }
        if (!most)
            return;
        ind_alert_entry_free(alerts, most->idle);
        alerts->counts.forgotten++;
    }
}

struct ind_alert_entry *ind_alert_entry_for(struct ind_alerts *alerts, struct ind_watch *watch,
                                            struct ind_slice key, struct ind_clocks now)
{
    struct ind_alert_entry *entry = ind_alert_entry_find(watch, key);
    if (entry)
        return entry;
    entry = calloc(1, sizeof *entry + key.length + 1);
    if (!entry) {
        alerts->counts.out_of_memory++;
        return NULL;
    }
    memcpy(entry->key, key.at ? key.at : "", key.length);
    entry->watch = watch;
    entry->alert = (struct ind_alert){.rule = &watch->rule,
                                      .key = entry->key,
                                      .opened = IND_TIME_NONE,
                                      .ended = IND_TIME_NONE,
                                      .first = IND_TIME_NONE,
                                      .last = IND_TIME_NONE,
                                      .acknowledged = IND_TIME_NONE};
    entry->heard = entry->begun = now.steady;
    entry->changed = true;
    entry->bytes = sizeof *entry + key.length + 1;
    HASH_ADD(hh, watch->table, key, key.length, entry);
    if (!entry->hh.tbl) {
        free(entry);
        alerts->counts.out_of_memory++;
        return NULL;
    }
    alerts->bytes += entry->bytes;
    DL_APPEND(watch->idle, entry);
    watch->idle_count++;
    return entry;
}
