/* store/archive/proof_private.h: the journal as a proof reads it, line by line and archive by archive. */
#ifndef IND_STORE_ARCHIVE_PROOF_PRIVATE_H
#define IND_STORE_ARCHIVE_PROOF_PRIVATE_H

#include "store/archive/proof.h"
#include "store/disk/digest.h"
#include <string.h>
#include <uthash.h>

enum ind_line_verdict {
    IND_LINE_GOOD,
    IND_LINE_CHANGED, /* the link is the right one, what stands in the line is not */
    IND_LINE_ADDED    /* no link of the chain */
};

/* A line of a chained series from its first link on, or one that is no record at all. */
struct ind_proof_line {
    const char *text; /* within the ledger's text, without its end */
    size_t length;
    uint64_t number;               /* from 1 on */
    struct ind_proof_chain *chain; /* NULL: it is no record */
    bool linked;
    struct ind_link link;
    struct ind_link passes_on; /* what the link behind it is made over: itself, or what it hands on */
    bool compacted;            /* it hands on another, in the place of those that are left out */
    struct ind_link should;    /* with the hash that it should have behind the one before it */
    bool follows;              /* there is one before it: `should` is known */
    bool fits;                 /* its hash is that */
    bool confirmed;            /* the link behind it is made over it, or over what it should be */
    enum ind_line_verdict verdict;
    bool told; /* there is a finding about it */
};

struct ind_proof_chain {
    UT_hash_handle hh;
    char *series;
    bool wanted;
    bool holes; /* lines are missing, or not to be trusted: what is not written down may have been */
    struct ind_proof_line **lines; /* by their place in the journal */
    size_t line_count, line_room;
    uint64_t last;  /* number of the last link; 0: the series is not chained */
    uint64_t known; /* number of a link of which the heads tell; 0: they do not */
    unsigned char known_hash[IND_HASH];
    struct ind_proof_series result;
};

struct ind_proof_archive {
    UT_hash_handle hh, by_text;
    char *path; /* of the plain archive */
    struct ind_proof_chain *chain;
    uint64_t number;
    ind_time first, last; /* of its messages, where known */
    bool rotated, removed, linked, hashed;
    bool is_there, found; /* a file is; with the right text */
    unsigned char hash[IND_HASH];
    uint64_t bytes;
};

/* Live files by their path, to know the series of a file that no record knows. */
struct ind_proof_live {
    UT_hash_handle hh;
    char *path;
    struct ind_proof_chain *chain;
};

struct ind_proof_ledger {
    char *text; /* the journal */
    size_t length;
    struct ind_proof_line *lines;
    size_t line_count;
    struct ind_proof_chain *chains;
    struct ind_proof_archive *archives;
    struct ind_proof_archive *by_text; /* those that are hashed */
    struct ind_proof_live *lives;
    uint64_t torn;
    bool out_of_memory;
};

/* Whether a name begins with one of those that were asked for. */
static inline bool ind_proof_is_asked_for(const struct ind_proof_settings *settings, const char *name)
{
    for (const char **asked = settings->names; asked && *asked; asked++)
        if (strncmp(name, *asked, strlen(*asked)) == 0)
            return true;
    return !settings->names;
}

/* ---- proof_findings.c ---- */

/* Adds a finding; `series`, `archive` may be NULL. */
void ind_proof_find(struct ind_proof *proof, enum ind_finding_kind kind, const char *series,
                    const char *archive, uint64_t line, const char *format, ...)
    __attribute__((format(printf, 6, 7)));

void ind_proof_free_findings(struct ind_proof *proof);

/* ---- proof_ledger.c ---- */

/* Reads the journal; NULL with errno set. */
struct ind_proof_ledger *ind_proof_ledger_read(int folder);
/* What became of each archive, from the lines that are as they were; after ind_proof_links. */
void ind_proof_ledger_tell(struct ind_proof_ledger *ledger);
void ind_proof_ledger_free(struct ind_proof_ledger *ledger);

/* ---- proof_links.c ---- */

/* Judges every line, and adds what it finds. */
void ind_proof_links(const struct ind_proof_settings *settings, struct ind_proof_ledger *ledger,
                     struct ind_proof *proof);

/* ---- proof_files.c ---- */

/* A file with the name of an archive, and its text's digest once it was read. */
struct ind_proof_file {
    char *path;
    enum ind_compression compression;
    struct ind_proof_archive *archive; /* NULL: no record knows it */
    bool is_link;                      /* a symbolic one, or anything else that is no file */
    bool wanted;
    int error;
    const char *reason;
    struct ind_digest digest;
};

struct ind_proof_files {
    struct ind_proof_file *list; /* by path */
    size_t count, room;
    bool out_of_memory;
    size_t unreadable;
};

/* Lists them, before the journal is read: of a file that is there the record is in it, then. */
void ind_proof_files_list(int folder, struct ind_proof_files *files);
/* Reads those that are to be read. */
void ind_proof_files_read(const struct ind_proof_settings *settings, int folder,
                          struct ind_proof_ledger *ledger, struct ind_proof_files *files);
/* Compares them with what is written down, and adds what it finds. */
void ind_proof_files_judge(const struct ind_proof_settings *settings, int folder,
                           struct ind_proof_ledger *ledger, struct ind_proof_files *files,
                           struct ind_proof *proof);
void ind_proof_files_free(struct ind_proof_files *files);

#endif
