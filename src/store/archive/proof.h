/* store/archive/proof.h: whether the archives of a store, and its journal, are what they were: what the chain
 * proves (docs/proof.md). Reads only, also while a collector writes; needs no configuration. */
#ifndef IND_STORE_ARCHIVE_PROOF_H
#define IND_STORE_ARCHIVE_PROOF_H

#include "store/disk/chain.h"

enum ind_finding_kind {
    /* of archives */
    IND_FOUND_CHANGED,   /* its text is not the one that was hashed */
    IND_FOUND_TRUNCATED, /* the same, and it is shorter */
    IND_FOUND_DAMAGED,   /* it cannot be unpacked */
    IND_FOUND_MISSING,   /* it is not there, and no removal is written down */
    IND_FOUND_RENAMED,   /* it is there under another name */
    IND_FOUND_SWAPPED,   /* it holds the text of another archive */
    IND_FOUND_ADDED,     /* no record knows it, or it was removed */
    /* of the journal */
    IND_FOUND_LINE_CHANGED,
    IND_FOUND_LINES_MISSING,
    IND_FOUND_LINE_ADDED,
    IND_FOUND_LINE_MOVED,
    IND_FOUND_CUT,      /* it ends before a link that is known */
    IND_FOUND_UNSIGNED, /* links that the key has not signed */
    IND_FINDINGS
};

/* "changed", "truncated", …; in the JSON that is printed. */
const char *ind_finding_name(enum ind_finding_kind kind);

struct ind_finding {
    enum ind_finding_kind kind;
    char *series;  /* NULL: not known */
    char *archive; /* path of the file; NULL: it is about the journal */
    uint64_t line; /* of the journal, from 1 on; 0: it is about a file */
    char *text;    /* what is wrong, without the names above */
};

/* What is known of a series. */
struct ind_proof_series {
    const char *name;
    uint64_t links;     /* 0: it is not chained */
    uint64_t signed_to; /* the last link that is signed and whose signature is right; 0: none */
    /* Archives: whose text is the hashed one; that are not hashed (yet, or were there before the chain
     * began); that were removed, as is written down; that are outside the span that was asked for. */
    uint64_t verified, unhashed, removed, unlooked;
    uint64_t bytes; /* of text that was looked at */
};

struct ind_proof_settings {
    const char *store;                        /* folder */
    struct ind_slice heads;                   /* text of a file such as STATE/chain-heads; empty: none */
    const struct ind_public_key *const *keys; /* any of which may have signed */
    size_t key_count;
    bool signatures_wanted; /* a link that is not signed is a finding, from the first one on */
    const char **names;     /* what the names of series or archives begin with; ends with NULL; NULL: all */
    ind_time since, until;  /* archives with messages in between; IND_TIME_NONE: any */
    unsigned threads;
    void (*progress)(void *context, uint64_t bytes); /* of text; any thread; may be NULL */
    void *context;
};

struct ind_proof {
    struct ind_proof_series *series; /* by name; those that were asked for */
    size_t series_count;
    struct ind_finding *findings; /* those of the journal first, by line; then by archive */
    size_t finding_count;
    uint64_t torn;     /* lines of the journal that a crash left unfinished: no finding */
    uint64_t unknown;  /* files with the name of an archive that no chained series can miss, nor has */
    size_t unreadable; /* files and folders that could not be looked into: the answer is in part only */
    bool signatures_unlooked;        /* there are signatures, and no key was given */
    struct ind_proof_ledger *ledger; /* what the above borrow from */
};

/* False where the store, or its journal, cannot be read: `reason` tells why. Free it in any case. */
bool ind_proof_make(const struct ind_proof_settings *settings, struct ind_proof *proof, char *reason,
                    size_t room);
void ind_proof_free(struct ind_proof *proof);

#endif
