/* collect/runtime/reporter.h: what an administrator must hear of: to whoever called the collector, and, from
 * notices on, as an internal message that goes through the rules like any other.
 *
 * Below all other parts of a collector, so that each can report. One thread files internal messages; until
 * it is known nobody does, and they are only passed to the caller. */
#ifndef IND_COLLECT_RUNTIME_REPORTER_H
#define IND_COLLECT_RUNTIME_REPORTER_H

#include "core/edit/edit_state.h"
#include "core/message/own.h"
#include "net/waker.h"
#include "thread/mutex.h"

enum { IND_INTERNAL_MESSAGES = 1024 }; /* that wait to be filed; what comes beyond is lost, and counted */

struct ind_reporter {
    void (*report)(void *context, const char *text); /* called from several threads at once */
    void *context;
    const struct ind_waker *filer; /* of the thread that files; NULL: none. Set before threads are started */
    struct ind_mutex mutex;
    char *messages[IND_INTERNAL_MESSAGES] IND_GUARDED_BY(mutex);
    size_t count IND_GUARDED_BY(mutex), lost IND_GUARDED_BY(mutex);
};

void ind_reporter_begin(struct ind_reporter *reporter, void (*report)(void *context, const char *text),
                        void *context);
void ind_reporter_end(struct ind_reporter *reporter);

/* Any thread. `data`: see IND_WITH in core/message/own.h; NULL where there is none. */
void ind_report(struct ind_reporter *reporter, enum ind_own own, const struct ind_own_data *data,
                const char *format, ...) __attribute__((format(printf, 4, 5)));
/* The same, as an internal message only: whoever called knows it. */
void ind_file_own(struct ind_reporter *reporter, enum ind_own own, const struct ind_own_data *data,
                  const char *format, ...) __attribute__((format(printf, 4, 5)));
/* What an edit that remembers has dropped, as an internal message only. */
void ind_report_edit(struct ind_reporter *reporter, const struct ind_edit_report *report);

/* The filing thread: the messages that wait, each to be freed. Returns how many; adds to *lost those for
 * which there was no room. */
size_t ind_reporter_drain(struct ind_reporter *reporter, char *messages[IND_INTERNAL_MESSAGES], size_t *lost);

#endif
