/* What of the collector's state: alerts, archives and the disk. */
#include "report/sections_private.h"

#include "store/alert/alert_file.h"
#include "store/archive/catalog.h"
#include "store/archive/outlook.h"

#include <fcntl.h>
#include <stdlib.h>
#include <sys/statvfs.h>
#include <unistd.h>

/* ---- Alerts ---- */

enum { MOST_ALERTS = 10000 };

struct listing {
    struct ind_report_page *page;
    struct ind_report_section *section;
    size_t open;
};

static void add_text(struct listing *listing, const char *text)
{
    if (text && *text)
        ind_section_text(listing->page, listing->section, text);
    else
        ind_section_time(listing->page, listing->section, IND_TIME_NONE);
}

static void add_alert(void *context, const struct ind_saved_alert *saved)
{
    struct listing *listing = context;
    const struct ind_report_span *span = &listing->page->report->asked.span;
    const struct ind_alert *alert = &saved->alert;
    if (alert->opened >= span->until || (alert->ended != IND_TIME_NONE && alert->ended < span->since))
        return;
    listing->open += alert->ended == IND_TIME_NONE && alert->state == IND_ALERT_IS_OPEN;
    ind_section_number(listing->page, listing->section, alert->number);
    ind_section_text(listing->page, listing->section, saved->name);
    add_text(listing, alert->key);
    ind_section_time(listing->page, listing->section, alert->opened);
    ind_section_time(listing->page, listing->section, alert->ended);
    ind_section_number(listing->page, listing->section, alert->count);
    add_text(listing, alert->who);
}

void ind_section_alerts(struct ind_report_page *page)
{
    static const struct ind_report_column columns[] = {
        {"number", "number", IND_REPORT_NUMBER, false, false},
        {"alert", "alert", IND_REPORT_TEXT, false, false},
        {"key", "key", IND_REPORT_TEXT, false, false},
        {"opened", "opened", IND_REPORT_TIME, false, false},
        {"over", "over", IND_REPORT_TIME, false, false},
        {"messages", "messages", IND_REPORT_NUMBER, false, false},
        {"acknowledged_by", "seen to by", IND_REPORT_TEXT, false, false}};
    struct listing listing = {.page = page};
    struct ind_alert_file *file;
    char reason[300];
    const enum ind_alert_file_status status =
        ind_alert_file_open(page->report->asked.config->state, true, &file, reason, sizeof reason);
    if (status == IND_ALERT_FILE_NONE && page->report->asked.config->alerts.count == 0)
        return;
    listing.section = ind_section_new(page, "alerts", "Alerts", columns, 7);
    const bool good = status == IND_ALERT_FILE_NONE ||
                      (status == IND_ALERT_FILE_GOOD &&
                       ind_alert_file_list(file, false, NULL, NULL, MOST_ALERTS, add_alert, &listing) &&
                       ind_alert_file_list(file, true, NULL, NULL, MOST_ALERTS, add_alert, &listing));
    const size_t count = listing.section->row_count;
    if (!good)
        ind_section_say(page, listing.section, true, "What is known of alerts cannot be read: %s.",
                        file ? ind_alert_file_reason(file) : reason);
    else if (count == 0)
        ind_section_say(page, listing.section, false, "No alert was open.");
    else
        ind_section_say(page, listing.section, true, "%zu alert%s opened or went on; %zu %s still open.",
                        count, ind_report_plural(count), listing.open, listing.open == 1 ? "is" : "are");
    ind_alert_file_close(file);
}

/* ---- Archives ---- */

#define DAY (IND_DAY_SECONDS * (ind_time)IND_SECOND)
enum { RATE_DAYS = 7, HORIZON = 3650 }; /* days */

struct lying {
    uint64_t count, bytes, of_span, bytes_of_span;
    double a_day;         /* bytes that come, by the last days */
    double stay;          /* days that what came then stays; HORIZON: for ever */
    double goes[HORIZON]; /* bytes of what is there now, by the day on which its rules let it go */
};

static void look_at_archive(const struct ind_report_asked *asked, const struct ind_outlook_archive *archive,
                            struct lying *lying, double *stays)
{
    const ind_time rotated = archive->entry->rotated;
    if (archive->state == IND_ARCHIVE_MISSING)
        return;
    lying->count++;
    lying->bytes += archive->size;
    if (rotated != IND_TIME_NONE && rotated >= asked->span.since && rotated < asked->span.until) {
        lying->of_span++;
        lying->bytes_of_span += archive->size;
    }
    if (archive->goes != IND_TIME_NONE && archive->goes > asked->now) {
        const ind_time days = (archive->goes - asked->now) / DAY;
        if (days < HORIZON)
            lying->goes[days] += (double)archive->size;
    }
    if (rotated == IND_TIME_NONE || rotated < asked->now - RATE_DAYS * DAY || rotated >= asked->now)
        return;
    const double days =
        archive->goes == IND_TIME_NONE ? HORIZON : (double)(archive->goes - rotated) / (double)DAY;
    lying->a_day += (double)archive->size / RATE_DAYS;
    *stays += days * (double)archive->size / RATE_DAYS;
}

static bool look_at_archives(const struct ind_report *report, struct lying *lying)
{
    const struct ind_report_asked *asked = &report->asked;
    struct ind_inventory inventory = {0};
    struct ind_outlook outlook = {0};
    double stays = 0;
    const int folder = open(asked->config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    const bool good = folder >= 0 && ind_catalog_inventory(asked->config, folder, &inventory) &&
                      ind_outlook_make(asked->config, &inventory, asked->now, &outlook);
    for (size_t i = 0; good && i < outlook.count; i++)
        look_at_archive(asked, &outlook.list[i], lying, &stays);
    lying->stay = lying->a_day > 0 ? stays / lying->a_day : 0;
    ind_outlook_free(&outlook);
    ind_inventory_free(&inventory);
    if (folder >= 0)
        close(folder);
    return good;
}

/* In how many days the disk is full, if as much comes as in the last days and all goes by its age; -1: not
 * within ten years. */
static int days_until_full(const struct lying *lying, uint64_t free)
{
    double left = (double)free;
    for (int day = 0; day < HORIZON && lying->a_day > 0; day++) {
        left += lying->goes[day] - lying->a_day + (day >= lying->stay ? lying->a_day : 0);
        if (left <= 0)
            return day;
    }
    return -1;
}

static void say_archives(struct ind_report_page *page, struct ind_report_section *section,
                         const struct lying *lying, uint64_t free, int days)
{
    char date[64] = "", number[2][IND_AMOUNT_WIDTH];
    if (days >= 0) {
        const struct ind_report_span day = {.since = page->report->asked.now + days * DAY,
                                            .unit = IND_REPORT_SPAN_DAY};
        struct ind_buffer out = ind_buffer_on(date, sizeof date - 1);
        ind_report_span_write(&day, page->report->asked.zone, &out);
        date[out.length] = '\0';
    }
    if (days >= 0)
        ind_section_say(
            page, section, days < 90,
            "%s came a day in the last week, and %s are free: the disk is full on %s, as it goes on.",
            ind_size_text((uint64_t)lying->a_day, number[0]), ind_size_text(free, number[1]), date);
    else
        ind_section_say(page, section, false,
                        "%s are free; the disk will not be full within ten years, as it goes on.",
                        ind_size_text(free, number[1]));
}

void ind_section_archives(struct ind_report_page *page)
{
    static const struct ind_report_column columns[] = {
        {"archives", "archives", IND_REPORT_NUMBER, false, false},
        {"bytes", "on the disk", IND_REPORT_SIZE, false, false},
        {"of_span", "rotated in this span", IND_REPORT_NUMBER, false, false},
        {"bytes_of_span", "of that on the disk", IND_REPORT_SIZE, false, false},
        {"free", "free", IND_REPORT_SIZE, false, false},
        {"days_until_full", "days until full", IND_REPORT_NUMBER, false, false}};
    struct ind_report_section *section =
        ind_section_new(page, "archives", "Archives and the disk", columns, 6);
    struct statvfs facts;
    struct lying *lying = calloc(1, sizeof *lying);
    if (!lying) {
        page->failed = true;
        return;
    }
    const bool has_room = statvfs(page->report->asked.config->store, &facts) == 0;
    const uint64_t free_bytes = has_room ? (uint64_t)facts.f_bavail * facts.f_frsize : 0;
    if (!has_room || !look_at_archives(page->report, lying)) {
        ind_section_say(page, section, true, "There is no catalog that tells of the archives.");
    } else {
        const int days = days_until_full(lying, free_bytes);
        ind_section_number(page, section, lying->count);
        ind_section_size(page, section, lying->bytes);
        ind_section_number(page, section, lying->of_span);
        ind_section_size(page, section, lying->bytes_of_span);
        ind_section_size(page, section, free_bytes);
        if (days >= 0)
            ind_section_number(page, section, (uint64_t)days);
        else
            ind_section_time(page, section, IND_TIME_NONE);
        say_archives(page, section, lying, free_bytes, days);
    }
    free(lying);
}
