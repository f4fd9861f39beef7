/* cli/follow_show.h: messages as they arrive, shown: as lines, each in the colour of the first of several
 * conditions that holds, or counted in groups. */
#ifndef IND_CLI_FOLLOW_SHOW_H
#define IND_CLI_FOLLOW_SHOW_H

#include "cli/screen_line.h"
#include "cli/search_call.h"
#include "core/line/template.h"
#include "core/time/steady.h"
#include "store/disk/line_reader.h"
#include "store/search/groups.h"

enum { IND_FOLLOW_CONDITIONS = 16 };

struct ind_follow_show {
    const struct ind_config *config;
    struct ind_search_settings settings; /* layout, template, times, and what groups are by */
    bool parses;                         /* it is given messages in JSON; otherwise lines to be shown */
    bool for_people;
    uint64_t shown, skipped;
    bool failed; /* standard output takes no more */
    struct ind_screen screen;

    /* Of messages that are parsed. */
    struct {
        struct ind_conditions *set;
        ind_condition when;
        struct ind_answers answers;
    } conditions[IND_FOLLOW_CONDITIONS];
    size_t condition_count;
    struct ind_line_reader *reader;
    struct ind_by_reader by_reader;
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;
    struct ind_groups groups;
    ind_time began;
    struct ind_steady drawn;
    bool changed; /* since then */
    char *room;

    /* Lines that were shown out of the store, by hashes: one of these that arrives, too, is not shown again.
     */
    uint64_t *earlier;
    size_t earlier_count;
};

/* Once its conditions are there. False where memory is out. The settings are copied; what they borrow from
 * must live on. */
bool ind_follow_show_begin(struct ind_follow_show *show, const struct ind_search_settings *settings,
                           bool parses);
void ind_follow_show_end(struct ind_follow_show *show);

/* Another condition by which what is shown is coloured, into one that is all zero before the first: takes
 * over the set. */
bool ind_follow_show_condition(struct ind_follow_show *show, struct ind_conditions *set, ind_condition when);

/* A line without its end, as it came. */
void ind_follow_show_line(struct ind_follow_show *show, struct ind_slice line);
/* One that the store had: shown, and known again. */
void ind_follow_show_earlier(struct ind_follow_show *show, struct ind_slice line);
void ind_follow_show_skipped(struct ind_follow_show *show, const char *number);
/* Counts are drawn anew on a terminal, where they have changed; at the end everywhere. */
void ind_follow_show_counts(struct ind_follow_show *show, bool end);

#endif
