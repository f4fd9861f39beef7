#include "cli/archives_select.h"
#include "cli/dry_run.h"
#include "cli/table.h"
#include "collect/runtime/clock.h"
#include "store/archive/catalog.h"
#include "store/archive/outlook.h"
#include "json/members.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* ---- What is said of an archive ---- */

static const char *state_of(const struct ind_outlook_archive *archive)
{
    return archive->state == IND_ARCHIVE_MISSING              ? "missing"
           : archive->state == IND_ARCHIVE_PLAIN              ? "plain"
           : archive->entry->compression == IND_COMPRESS_ZSTD ? "zstd"
                                                              : "gzip";
}

/* The last digits of a number, with zeros in front. */
static void put_number(char *at, int digits, int number)
{
    for (; digits-- > 0; number /= 10)
        at[digits] = (char)('0' + number % 10);
}

/* "2026-11-23 04:45", on the collector's clock; "-" where it is not known. */
static void write_minute(const struct ind_config *config, ind_time time, char text[32])
{
    struct ind_civil local;
    memcpy(text, "-", 2);
    if (time == IND_TIME_NONE)
        return;
    ind_zone_civil(config->zone, time, &local);
    memcpy(text, "0000-00-00 00:00", 17);
    put_number(text, 4, local.year);
    put_number(text + 5, 2, local.month);
    put_number(text + 8, 2, local.day);
    put_number(text + 11, 2, local.hour);
    put_number(text + 14, 2, local.minute);
}

/* "2026-12-23", "2026-12-23 or after 3 more", "after 3 more", "now: age", "never". */
static void write_end(const struct ind_config *config, const struct ind_outlook_archive *archive,
                      char text[80])
{
    char minute[32];
    struct ind_buffer out = ind_buffer_on(text, 79);
    if (archive->state == IND_ARCHIVE_MISSING) {
        ind_buffer_text(&out, "-");
    } else if (archive->entry->is_protected) {
        char why[60];
        ind_buffer_text(&out, "protected: ");
        ind_buffer_text(&out, ind_escaped(ind_slice_of(archive->entry->why), why, sizeof why));
    } else if (archive->waits_for_copy) {
        ind_buffer_text(&out, "not before it is copied");
    } else if (archive->due != IND_KEPT) {
        ind_buffer_text(&out, "now: ");
        ind_buffer_slice(&out, ind_retention_reason_name(archive->due));
    } else {
        if (archive->goes != IND_TIME_NONE) {
            write_minute(config, archive->goes, minute);
            ind_buffer_add(&out, minute, 10);
        }
        if (archive->after != UINT64_MAX) {
            ind_buffer_text(&out, archive->goes != IND_TIME_NONE ? " or after " : "after ");
            ind_buffer_number(&out, archive->after);
            ind_buffer_text(&out, " more");
        }
        if (out.length == 0)
            ind_buffer_text(&out, archive->policy ? "for want of room only" : "never: no policy");
    }
    text[out.length] = '\0';
}

/* ---- As text ---- */

static void add_number(struct ind_table *table, bool known, uint64_t number)
{
    if (known)
        ind_table_number(table, number);
    else
        ind_table_text(table, "-");
}

static void add_size(struct ind_table *table, bool known, uint64_t bytes)
{
    if (known)
        ind_table_size(table, bytes);
    else
        ind_table_text(table, "-");
}

/* As in the names of archives. */
static void add_padded(struct ind_table *table, uint64_t number)
{
    char text[32] = "000000";
    if (number < 1000000)
        put_number(text, 6, (int)number);
    else
        (void)ind_number_text(number, false, text);
    ind_table_text(table, text);
}

static void add_ratio(struct ind_table *table, uint64_t tenths)
{
    char text[32];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    ind_buffer_number(&out, tenths / 10);
    ind_buffer_byte(&out, '.');
    ind_buffer_number(&out, tenths % 10);
    text[out.length] = '\0';
    ind_table_text(table, text);
}

static void add_row(struct ind_table *table, const struct ind_config *config,
                    const struct ind_outlook_archive *archive)
{
    const struct ind_archive_entry *entry = archive->entry;
    const uint64_t text_size = entry->text ? entry->text : entry->has_plain ? entry->plain_size : 0;
    char text[80], minute[32];
    add_padded(table, entry->number);
    write_minute(config, entry->first, minute);
    ind_table_text(table, minute);
    write_minute(config, entry->last, minute);
    ind_table_text(table, minute);
    add_number(table, entry->messages != UINT64_MAX, entry->messages);
    add_size(table, text_size > 0, text_size);
    add_size(table, archive->state != IND_ARCHIVE_MISSING, archive->size);
    if (archive->state == IND_ARCHIVE_COMPRESSED && text_size && archive->size)
        add_ratio(table, (10 * text_size + archive->size / 2) / archive->size);
    else
        ind_table_text(table, "-");
    ind_table_text(table, state_of(archive));
    write_end(config, archive, text);
    ind_table_text(table, text);
}

static void print_heading(const struct ind_config *config, const struct ind_outlook_archive *archive)
{
    const size_t route = archive->entry->route;
    if (route == IND_NO_POLICY)
        printf("%s, which no route writes any more", archive->entry->series);
    else
        printf("%s, by the route %s", archive->entry->series, config->routes[route].name);
    printf(archive->policy ? ", policy %s\n" : "%s\n", archive->policy ? archive->policy->name : "");
}

/* Those by which some archive of the list is kept. */
static void print_policies(const struct ind_config *config, const struct ind_outlook *shown)
{
    for (size_t p = 0; p < config->policy_count; p++) {
        size_t i = 0;
        while (i < shown->count && shown->list[i].policy != &config->policies[p])
            i++;
        char text[400];
        struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
        if (i == shown->count)
            continue;
        ind_policy_describe(&config->policies[p], &out);
        text[out.length] = '\0';
        printf("policy %s: %s\n", config->policies[p].name, text);
    }
}

/* A heading and a table for each series: these lie together. */
static void print_series(const struct ind_config *config, const struct ind_outlook *shown)
{
    static const struct ind_column columns[] = {{"number", false},  {"from", false},  {"until", false},
                                                {"messages", true}, {"text", true},   {"on disk", true},
                                                {"ratio", true},    {"state", false}, {"goes", false}};
    for (size_t i = 0; i < shown->count;) {
        const char *series = shown->list[i].entry->series;
        struct ind_table *table = ind_table_new(columns, sizeof columns / sizeof *columns);
        print_heading(config, &shown->list[i]);
        for (; i < shown->count && strcmp(shown->list[i].entry->series, series) == 0; i++)
            add_row(table, config, &shown->list[i]);
        ind_table_print(table, false, stdout);
        ind_table_free(table);
        printf("\n");
    }
}

static void print_sums(const struct ind_outlook *shown, const struct ind_archives_call *given, size_t missing,
                       size_t gone)
{
    char number[32], size[2][32];
    uint64_t bytes = 0, text = 0;
    for (size_t i = 0; i < shown->count; i++) {
        bytes += shown->list[i].size;
        text += shown->list[i].entry->text;
    }
    printf("%s archive%s, %s on disk, of %s of text", ind_grouped(shown->count, number),
           shown->count == 1 ? "" : "s", ind_size_text(bytes, size[0]), ind_size_text(text, size[1]));
    if (missing)
        printf("; %zu missing, though nobody has written down that they were removed", missing);
    if (given->on)
        printf("; %s of today will be gone by then", ind_grouped(gone, number));
    printf("\n");
}

/* ---- As JSON ---- */

static void set_number(json_t *object, const char *key, bool known, uint64_t number)
{
    if (known)
        json_object_set_new(object, key, json_integer((json_int_t)number));
}

static void print_json(const struct ind_config *config, const struct ind_outlook_archive *archive)
{
    const struct ind_archive_entry *entry = archive->entry;
    char path[IND_PATH + 160];
    json_t *object = json_object();
    ind_archive_entry_path(entry, path, sizeof path);
    json_object_set_new(object, "archive", json_string(path));
    json_object_set_new(object, "series", json_string(entry->series));
    set_number(object, "number", true, entry->number);
    json_object_set_new(object, "state", json_string(state_of(archive)));
    if (entry->route != IND_NO_POLICY)
        json_object_set_new(object, "route", json_string(config->routes[entry->route].name));
    if (archive->policy)
        json_object_set_new(object, "policy", json_string(archive->policy->name));
    ind_json_set_time(object, "first", entry->first);
    ind_json_set_time(object, "last", entry->last);
    ind_json_set_time(object, "rotated", entry->rotated);
    set_number(object, "messages", entry->messages != UINT64_MAX, entry->messages);
    set_number(object, "text_bytes", entry->text > 0, entry->text);
    set_number(object, "bytes", archive->state != IND_ARCHIVE_MISSING, archive->size);
    ind_json_set_time(object, "goes", archive->goes);
    set_number(object, "goes_after", archive->after != UINT64_MAX, archive->after);
    if (entry->is_protected)
        json_object_set_new(object, "protected", json_string(entry->why ? entry->why : ""));
    if (archive->policy && archive->policy->second_place)
        json_object_set_new(object, "copied", json_boolean(!archive->waits_for_copy));
    if (entry->hashed)
        json_object_set_new(object, "hashed", json_true());
    if (archive->due != IND_KEPT)
        json_object_set_new(object, "due", json_string(ind_retention_reason_name(archive->due).at));
    ind_print_json(object, stdout);
    printf("\n");
    json_decref(object);
}

/* ---- Together ---- */

/* Leaves in the list those that were asked for; returns how many of these will be gone. */
static size_t select_wanted(struct ind_outlook *outlook, const struct ind_archives_call *given)
{
    size_t kept = 0, gone = 0;
    for (size_t i = 0; i < outlook->count; i++) {
        const struct ind_outlook_archive *archive = &outlook->list[i];
        const bool wanted = ind_archives_is_named(archive->entry, given->names),
                   goes = given->on && archive->due != IND_KEPT;
        gone += wanted && goes;
        if (wanted && !goes)
            outlook->list[kept++] = *archive;
    }
    outlook->count = kept;
    return gone;
}

/* Returns the exit code. */
static int show(const struct ind_config *config, struct ind_outlook *outlook,
                const struct ind_archives_call *given)
{
    const size_t gone = select_wanted(outlook, given);
    size_t missing = 0;
    for (size_t i = 0; i < outlook->count; i++) {
        missing += outlook->list[i].state == IND_ARCHIVE_MISSING;
        if (given->json)
            print_json(config, &outlook->list[i]);
    }
    if (!given->json) {
        print_series(config, outlook);
        print_policies(config, outlook);
        print_sums(outlook, given, missing, gone);
    }
    return outlook->count == 0 || missing > 0 ? IND_EXIT_NO : IND_EXIT_DONE;
}

int ind_archives_list(const struct ind_config *config, const struct ind_archives_call *given)
{
    struct ind_inventory inventory = {0};
    struct ind_outlook outlook = {0};
    ind_time at;
    if (given->due && (given->on || *given->names)) {
        ind_complain("--due is of all archives, and of now: leave --on and names out");
        return IND_EXIT_CALL;
    }
    if (given->due)
        return ind_has_store(config) ? ind_dry_run(config, true, false, given->json) : IND_EXIT_FAILED;
    if (!ind_moment_option("on", given->on, config->zone, true, &at))
        return IND_EXIT_CALL;
    if (!ind_has_store(config))
        return IND_EXIT_FAILED;
    int folder = open(config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) {
        ind_complain("%s: %s", config->store, strerror(errno));
        return IND_EXIT_FAILED;
    }
    int code = IND_EXIT_FAILED;
    if ((ind_catalog_inventory(config, folder, &inventory) || ind_inventory(config, folder, &inventory)) &&
        ind_outlook_make(config, &inventory, at == IND_TIME_NONE ? ind_now() : at, &outlook))
        code = show(config, &outlook, given);
    else
        ind_complain("out of memory");
    ind_outlook_free(&outlook);
    ind_inventory_free(&inventory);
    close(folder);
    return code;
}
