#include "collect/output/people.h"

#include "collect/output/terminals.h"

#include <stdio.h>
#include <stdlib.h>

#define MINUTE (60 * IND_SECOND)
enum { LINES = 10, /* a minute */ LINE = 1000 };

struct ind_people {
    char *users; /* NULL: all */
    bool quiet;
    struct ind_reporter *reporter;
    struct ind_steady minute, troubled; /* minute: since when lines are counted */
    unsigned shown;
    uint64_t left_out;
};

struct ind_people *ind_people_new(const char *users, bool quiet, struct ind_reporter *reporter)
{
    struct ind_people *people = calloc(1, sizeof *people);
    if (!people)
        return NULL;
    people->users = users ? strdup(users) : NULL;
    people->quiet = quiet;
    people->reporter = reporter;
    if (!users || people->users)
        return people;
    ind_people_free(people);
    return NULL;
}

void ind_people_free(struct ind_people *people)
{
    if (people)
        free(people->users);
    free(people);
}

bool ind_people_are(const struct ind_people *people, bool wanted, const char *users)
{
    if (!people || !wanted)
        return !people == !wanted;
    return users && people->users ? strcmp(users, people->users) == 0 : !users == !people->users;
}

static void write_line(struct ind_people *people, struct ind_slice line, struct ind_steady now)
{
    char reason[200], text[LINE + 40];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_buffer_text(&out, "indagator: ");
    ind_buffer_slice(&out, ind_slice_begin(line, LINE));
    if (ind_terminals_write(NULL, people->users, ind_buffer_view(&out), reason, sizeof reason) ||
        ind_steady_reported_lately(&people->troubled, now, MINUTE))
        return;
    ind_report(people->reporter, IND_OWN_PROGRAM_FAILED, IND_WITH({"program", IND_SLICE("terminals")}), "%s",
               reason);
}

void ind_people_look(struct ind_people *people, struct ind_steady now)
{
    char text[80];
    if (!ind_steady_is_set(people->minute) || ind_steady_lately(people->minute, now, MINUTE))
        return;
    if (people->left_out) {
        snprintf(text, sizeof text, "and %llu more", (unsigned long long)people->left_out);
        write_line(people, ind_slice_of(text), now);
    }
    people->left_out = 0;
    people->shown = 0;
    people->minute = IND_STEADY_NEVER;
}

void ind_people_show(struct ind_people *people, struct ind_slice line, struct ind_steady now)
{
    if (people->quiet)
        return;
    line.length -= line.length > 0; /* its end */
    ind_people_look(people, now);
    if (!ind_steady_is_set(people->minute))
        people->minute = now;
    if (people->shown < LINES) {
        people->shown++;
        write_line(people, line, now);
    } else {
        people->left_out++;
    }
}
