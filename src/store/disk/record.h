/* store/disk/record.h: a record of the journal, as one JSON object on a line, and back (docs/formats.md). */
#ifndef IND_STORE_DISK_RECORD_H
#define IND_STORE_DISK_RECORD_H

#include "core/base/slice.h"
#include "core/time/civil.h"

enum ind_event {
    IND_EVENT_OPENED,
    IND_EVENT_ROTATED,
    IND_EVENT_HASHED,
    IND_EVENT_COMPRESSED,
    IND_EVENT_COPIED,
    IND_EVENT_REMOVED,
    IND_EVENT_COMPACTED, /* of a series: what stood there is left out (store/disk/compact.h) */
    IND_EVENT_PROTECTED,
    IND_EVENT_UNPROTECTED,
    IND_EVENT_CLOCK_DOUBTED, /* of a series, of no archive */
    IND_EVENT_CLOCK_TRUSTED, /* likewise */
    IND_EVENTS
};

const char *ind_event_name(enum ind_event event); /* as it stands in the journal */

struct ind_journal_record {
    enum ind_event event;
    ind_time at;
    uint64_t number; /* within the series */
    const char *series;
    const char *archive; /* path of the plain archive: known from the opening on */
    const char *live;    /* opened */
    const char *route;   /* opened; compacted: the last one */
    const char *policy;  /* opened */
    const char *layout;  /* opened */
    uint64_t version;    /* opened: of the rules by which lines are written; 0: those before there was one */
    bool made_up;        /* opened: a message made up this path */
    const char *reason;  /* rotated, removed, protected, unprotected */
    const char *file;    /* compressed: what the archive is now */
    uint64_t bytes;      /* rotated, compressed; hashed: of the text */
    uint64_t level;      /* compressed: of the compression; 0: not known */
    uint64_t messages;   /* rotated; UINT64_MAX: not known */
    uint64_t inode;      /* rotated: of the file while it was live */
    const char *text_hash; /* hashed: SHA-256 of the text, in hexadecimal digits */
    ind_time first, last;  /* opened: first; rotated, compacted: both */
    uint64_t archives;     /* compacted: whose removal is left out */
    const char *link_hash,
        *link_signature; /* compacted, of chained series: of the last link that is left out */
    const char *volumes; /* removed, compacted: core/archive/volumes.h; NULL: not known */
    bool linked;         /* it ends with a link of the chain (store/disk/chain.h); read only */
};

/* The line without its end; the caller's. NULL where memory is out. */
char *ind_record_write(const struct ind_journal_record *record, size_t *length);

/* Reads a line, without its end; false where it is no record. What the record points to lives for the call of
 * `visit` only. The line is changed. */
bool ind_record_read(char *line, size_t length,
                     void (*visit)(void *context, const struct ind_journal_record *record), void *context);

/* The same by one reader only. `quickly`: lines as ind_record_write writes them, but of any other it only
 * says false, whatever they are; else: any JSON object. */
bool ind_record_read_by(bool quickly, char *line, size_t length,
                        void (*visit)(void *context, const struct ind_journal_record *record), void *context);

#endif
