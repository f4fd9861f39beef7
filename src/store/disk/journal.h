/* store/disk/journal.h: the append-only record of what became of each file, STORE/.indagator/journal.jsonl.
 *
 * One JSON object per line (docs/formats.md). With it a gap is told apart from an expiry, and a start after a
 * crash knows what was under way. A record is one write; a torn last line is passed over. */
#ifndef IND_STORE_DISK_JOURNAL_H
#define IND_STORE_DISK_JOURNAL_H

#include "core/time/civil.h"
#include "store/disk/fs.h"

#define IND_STORE_OWN ".indagator"
#define IND_JOURNAL_PATH IND_STORE_OWN "/journal.jsonl"

enum ind_event { IND_EVENT_OPENED, IND_EVENT_ROTATED, IND_EVENT_COMPRESSED, IND_EVENT_REMOVED, IND_EVENTS };

struct ind_journal_record {
    enum ind_event event;
    ind_time at;
    uint64_t number; /* within the series */
    const char *series;
    const char *archive;  /* path of the plain archive: known from the opening on */
    const char *live;     /* opened */
    const char *route;    /* opened */
    const char *policy;   /* opened */
    const char *layout;   /* opened */
    uint64_t version;     /* opened: of the rules by which lines are written; 0: those before there was one */
    bool made_up;         /* opened: a message made up this path */
    const char *reason;   /* rotated, removed */
    const char *file;     /* compressed: what the archive is now */
    uint64_t bytes;       /* rotated, compressed */
    uint64_t messages;    /* rotated; UINT64_MAX: not known */
    uint64_t inode;       /* rotated: of the file while it was live */
    ind_time first, last; /* opened: first; rotated: both */
};

/* Appends a record; false with errno set. */
bool ind_journal_add(const struct ind_fs *fs, int journal, const struct ind_journal_record *record);

/* Opens for appending, ending a torn last line first. -1 with errno set. */
int ind_journal_open(const struct ind_fs *fs, int folder);

/* Calls `visit` for each record from byte `from` on whose line holds the text `holding` (NULL: any); what it
 * is given lives for the call only. Returns where it stopped. A journal that is not there holds no records.
 */
uint64_t ind_journal_read(int folder, uint64_t from, const char *holding,
                          void (*visit)(void *context, const struct ind_journal_record *record),
                          void *context);

/* Calls `visit` for each "opened", in their order; borrowed for the call. Quicker than ind_journal_read. */
struct ind_opened {
    struct ind_slice archive, live, route, layout;
    uint64_t version;
};
void ind_journal_read_opened(int folder, void (*visit)(void *context, const struct ind_opened *opened),
                             void *context);

uint64_t ind_journal_size(int folder);

#endif
