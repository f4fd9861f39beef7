/* What became of messages, a day each, as the collector has written it down. */
#include "report/sections_private.h"

#include "store/disk/days.h"

#include <stdlib.h>
#include <string.h>

static void write_date(ind_time time, const struct ind_zone *zone, char date[11])
{
    char text[64];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_report_moment_write(time, zone, &out);
    memcpy(date, text, 10);
    date[10] = '\0';
}

/* Days of the span: dates are those of the collector's zone. */
static void sum_up(const struct ind_report_asked *asked, const struct ind_days *days,
                   struct ind_report_page *page, struct ind_report_section *section, struct ind_day *sum)
{
    char first[11], last[11];
    write_date(asked->span.since, asked->config->zone, first);
    write_date(asked->span.until - 1, asked->config->zone, last);
    for (size_t i = 0; i < days->count; i++) {
        const struct ind_day *day = &days->list[i];
        if (strcmp(day->date, first) < 0 || strcmp(day->date, last) > 0)
            continue;
        ind_section_text(page, section, day->date);
        for (int c = 0; c < IND_DAY_COUNTS; c++) {
            ind_section_number(page, section, day->counts[c]);
            sum->counts[c] += day->counts[c];
        }
        for (size_t e = 0; e < day->edit_count; e++)
            ind_day_add_edit(sum, day->edits[e].name, day->edits[e].dropped);
    }
}

static void say(struct ind_report_page *page, struct ind_report_section *section, const struct ind_day *sum)
{
    char number[4][IND_AMOUNT_WIDTH];
    const uint64_t lost = sum->counts[IND_DAY_LOST] + sum->counts[IND_DAY_DROPPED_BY_KERNEL];
    if (section->row_count == 0)
        ind_section_say(page, section, false, "Of these days it is not known what became of messages.");
    else
        ind_section_say(page, section, lost > 0,
                        "%s message%s received, %s lost, %s dropped by edits, %s refused.",
                        ind_report_grouped(sum->counts[IND_DAY_RECEIVED], number[0]),
                        sum->counts[IND_DAY_RECEIVED] == 1 ? "" : "s", ind_report_grouped(lost, number[1]),
                        ind_report_grouped(sum->counts[IND_DAY_DROPPED], number[2]),
                        ind_report_grouped(sum->counts[IND_DAY_REFUSED], number[3]));
}

static int by_dropped(const void *a, const void *b)
{
    const struct ind_day_edit *x = a, *y = b;
    return x->dropped < y->dropped ? 1 : x->dropped > y->dropped ? -1 : strcmp(x->name, y->name);
}

static void add_edits(struct ind_report_page *page, struct ind_day *sum)
{
    static const struct ind_report_column columns[] = {
        {"edit", "edit", IND_REPORT_TEXT, false, false},
        {"dropped", "dropped", IND_REPORT_NUMBER, true, false}};
    if (sum->edit_count == 0)
        return;
    struct ind_report_section *section = ind_section_new(page, "edits", "Dropped by edits", columns, 2);
    qsort(sum->edits, sum->edit_count, sizeof *sum->edits, by_dropped);
    for (size_t i = 0; i < sum->edit_count; i++) {
        ind_section_text(page, section, sum->edits[i].name);
        ind_section_number(page, section, sum->edits[i].dropped);
    }
    ind_section_say(page, section, false, "%zu edit%s dropped messages, \"%s\" most of them.",
                    sum->edit_count, ind_report_plural(sum->edit_count), sum->edits[0].name);
}

void ind_section_ledger(struct ind_report_page *page)
{
    static const struct ind_report_column columns[] = {
        {"day", "day", IND_REPORT_TEXT, false, false},
        {"received", "received", IND_REPORT_NUMBER, false, false},
        {"stored", "stored", IND_REPORT_NUMBER, false, false},
        {"handed_on", "handed on", IND_REPORT_NUMBER, false, false},
        {"dropped", "dropped", IND_REPORT_NUMBER, false, false},
        {"unrouted", "unrouted", IND_REPORT_NUMBER, false, false},
        {"refused", "refused", IND_REPORT_NUMBER, false, false},
        {"lost", "lost", IND_REPORT_NUMBER, false, false},
        {"dropped_by_kernel", "by kernel", IND_REPORT_NUMBER, false, false}};
    const struct ind_report_asked *asked = &page->report->asked;
    struct ind_report_section *section =
        ind_section_new(page, "ledger", "What became of messages", columns, 9);
    struct ind_days days;
    struct ind_day sum = {0};
    section->in_order = true;
    const enum ind_days_status status = ind_days_read(asked->config->state, &days);
    sum_up(asked, &days, page, section, &sum);
    if (status == IND_DAYS_DAMAGED || status == IND_DAYS_FAILED)
        ind_section_say(page, section, true,
                        "%s/" IND_DAYS_NAME " cannot be read: what became of messages by days is not known.",
                        asked->config->state);
    else
        say(page, section, &sum);
    add_edits(page, &sum);
    for (size_t i = 0; i < sum.edit_count; i++)
        free(sum.edits[i].name);
    free(sum.edits);
    ind_days_free(&days);
}
