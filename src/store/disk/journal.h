/* store/disk/journal.h: the append-only record of what became of each file, STORE/.indagator/journal.jsonl.
 *
 * One JSON object per line (docs/formats.md). With it a gap is told apart from an expiry, and a start after a
 * crash knows what was under way. A record is one write; a torn last line is passed over. */
#ifndef IND_STORE_DISK_JOURNAL_H
#define IND_STORE_DISK_JOURNAL_H

#include "store/disk/fs.h"
#include "store/disk/record.h"

#define IND_STORE_OWN ".indagator"
#define IND_JOURNAL_PATH IND_STORE_OWN "/journal.jsonl"

/* Appends a line, which is given without its end, in one write; false with errno set, and then it is as it
 * was. One thread at a time, and one process. */
bool ind_journal_append(const struct ind_fs *fs, int journal, const char *line, size_t length);

/* Opens for appending, ending a torn last line first. -1 with errno set. */
int ind_journal_open(const struct ind_fs *fs, int folder);

/* Calls `visit` for each whole line from byte `from` on, without its end but with a NUL there; it may be
 * changed, and lives for the call only. Returns where it stopped. A journal that is not there has no lines.
 */
uint64_t ind_journal_lines(int folder, uint64_t from, void (*visit)(void *context, char *line, size_t length),
                           void *context);

/* The same for each record; `holding`: of those only that hold this text in their line as it is written
 * (NULL: all), and of any other only some. */
uint64_t ind_journal_read(int folder, uint64_t from, const char *holding,
                          void (*visit)(void *context, const struct ind_journal_record *record),
                          void *context);

uint64_t ind_journal_size(int folder);

#endif
