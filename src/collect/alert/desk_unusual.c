/* Volumes of the catalog, against those of the same hours of past weeks. */
#include "collect/alert/desk_private.h"

#include "core/alert/unusual.h"
#include "core/base/escape.h"
#include "store/archive/catalog_hours.h"

#include <stdlib.h>
#include <uthash.h>

#define HOUR (3600 * IND_SECOND)
#define SETTLED (10 * 60 * IND_SECOND) /* the catalog has counted live files until then */
#define TRY_AGAIN (60 * IND_SECOND)
enum { HOURS = 1 + IND_UNUSUAL_WEEKS, WEEK = 7 * 24, MOST_DEVICES = 100000 };

struct device {
    UT_hash_handle hh;
    uint64_t volumes[HOURS]; /* of the hour, and of the same one so many weeks before */
    size_t length;
    char name[];
};

struct volumes {
    struct device *devices;
    size_t count;
    uint64_t all[HOURS];
};

static bool add_volume(void *context, struct ind_slice name, size_t place, uint64_t messages)
{
    struct volumes *volumes = context;
    struct device *device = NULL;
    volumes->all[place] += messages;
    if (name.length == 0)
        return true;
    HASH_FIND(hh, volumes->devices, name.at, (unsigned)name.length, device);
    if (!device && volumes->count < MOST_DEVICES && (device = calloc(1, sizeof *device + name.length + 1))) {
        memcpy(device->name, name.at, name.length);
        device->length = name.length;
        HASH_ADD_KEYPTR(hh, volumes->devices, device->name, device->length, device);
        if (!device->hh.tbl) {
            free(device);
            return true;
        }
        volumes->count++;
    }
    if (device)
        device->volumes[place] += messages;
    return true;
}

static void free_volumes(struct volumes *volumes)
{
    struct device *device, *next;
    HASH_ITER(hh, volumes->devices, device, next)
    {
        HASH_DEL(volumes->devices, device);
        free(device);
    }
}

/* Weeks of which nothing at all is known are none. */
static void judge(struct ind_desk *desk, const char *rule, struct ind_slice key,
                  const uint64_t volumes[HOURS], const uint64_t all[HOURS], struct ind_clocks now)
{
    uint64_t past[IND_UNUSUAL_WEEKS];
    char text[300], name[IND_ALERT_KEY];
    size_t count = 0;
    struct ind_buffer line = ind_buffer_on(text, sizeof text), shown = ind_buffer_on(name, sizeof name);
    for (size_t i = 1; i < HOURS; i++)
        if (all[i])
            past[count++] = volumes[i];
    const struct ind_usual usual = ind_usual_of(volumes[0], past, count);
    if (!usual.known)
        return;
    ind_usual_write(&usual, volumes[0], (unsigned)(desk->looked_at % 24), count, &line);
    ind_escape_shown(&shown, key);
    const struct ind_alert_cause cause = {.alert = ind_slice_of(rule),
                                          .key = ind_buffer_view(&shown),
                                          .ends = !usual.unusual,
                                          .count = volumes[0],
                                          .time = desk->looked_at * HOUR,
                                          .last = (desk->looked_at + 1) * HOUR,
                                          .line = ind_buffer_view(&line)};
    ind_mutex_lock(&desk->mutex);
    ind_alerts_hear(desk->alerts, &cause, now);
    ind_mutex_unlock(&desk->mutex);
}

static void judge_all(struct ind_desk *desk, const struct ind_desk_rule *rule, const struct volumes *volumes,
                      struct ind_clocks now)
{
    struct device *device, *next;
    if (!rule->by_device) {
        judge(desk, rule->name, IND_NOTHING, volumes->all, volumes->all, now);
        return;
    }
    HASH_ITER(hh, volumes->devices, device, next)
    {
        judge(desk, rule->name, (struct ind_slice){device->name, device->length}, device->volumes,
              volumes->all, now);
    }
}

static bool wants_volumes(const struct ind_desk *desk)
{
    for (size_t i = 0; desk->rules && i < desk->rules->count; i++)
        if (desk->rules->list[i].unusual)
            return true;
    return false;
}

static void look_at_hour(struct ind_desk *desk, int64_t hour, struct ind_clocks now)
{
    struct volumes volumes = {0};
    int64_t hours[HOURS];
    for (size_t i = 0; i < HOURS; i++)
        hours[i] = hour - (int64_t)i * WEEK;
    if (ind_catalog_each_hour(desk->settings.state, desk->settings.store, hours, HOURS, add_volume,
                              &volumes)) {
        desk->looked_at = hour;
        for (size_t i = 0; i < desk->rules->count; i++)
            if (desk->rules->list[i].unusual)
                judge_all(desk, &desk->rules->list[i], &volumes, now);
    } else if (!ind_steady_reported_lately(&desk->volumes_told, now.steady, HOUR)) {
        ind_report(
            desk->settings.reporter, IND_OWN_ALERTS_FAILED, NULL,
            "there is no catalog that can be read: whether the last hour was unusual is not known; it is "
            "tried again");
    }
    free_volumes(&volumes);
}

/* An hour in which the collector did not run from its beginning says nothing. */
void ind_desk_look_at_volumes(struct ind_desk *desk, struct ind_clocks now)
{
    const int64_t hour = now.wall / HOUR - 1;
    if (now.wall % HOUR < SETTLED || hour <= desk->looked_at || desk->begun > hour * HOUR ||
        ind_steady_lately(desk->volumes_tried, now.steady, TRY_AGAIN) || !wants_volumes(desk))
        return;
    desk->volumes_tried = now.steady;
    look_at_hour(desk, hour, now);
}
