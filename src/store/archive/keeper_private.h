/* store/archive/keeper_private.h: the inside of the keeping half: what it knows, and what it has decided. */
#ifndef IND_STORE_ARCHIVE_KEEPER_PRIVATE_H
#define IND_STORE_ARCHIVE_KEEPER_PRIVATE_H

#include "core/line/template.h"
#include "store/archive/keeper.h"
#include "store/disk/chain.h"
#include <stdio.h>

struct ind_keeper {
    struct ind_disk *disk;
    const struct ind_policy *policies[IND_POLICY_PLACES]; /* NULL: not in the present configuration */
    struct ind_archive *archives;
    size_t archive_count, archive_room;
    ind_time last_run; /* of the retention, by the wall; IND_TIME_NONE: never */
    uint64_t reserve;  /* bytes that are to be free */
    struct ind_steady retained, kept_last_run, failed_at, reserve_told, reserve_tried;
    bool clock_distrusted;
    bool at_the_end;  /* nobody else needs the processors any more */
    bool heads_moved; /* there are links that STATE/chain-heads does not know */
    struct ind_keeper_counts counts;
    struct ind_copies *copies;
    struct ind_cataloguing *cataloguing;

    struct ind_mutex asking;
    struct ind_protection *asked IND_GUARDED_BY(asking); /* oldest first */
    atomic_bool asked_for;                               /* there are some, or they are being done */
};

/* What somebody wants of an archive. */
struct ind_protection {
    struct ind_protection *next;
    char *archive, *why;
    bool on;
};

/* What has been decided: a step each, in the order in which they are carried out. */
struct ind_step {
    size_t archive;
    enum ind_action_kind kind;
    const char *rule; /* of a removal */
};

struct ind_steps {
    struct ind_step *list;
    size_t count, room;
};

/* What a file system is short of its reserve though nothing more may go; 0 bytes: nothing. */
struct ind_shortage {
    unsigned file_system;
    uint64_t bytes;
};

static inline const struct ind_policy *ind_keeper_policy(const struct ind_keeper *keeper,
                                                         const struct ind_archive *archive)
{
    return archive->policy == IND_NO_POLICY ? NULL : keeper->policies[archive->policy];
}

/* An archive's path with what compression adds to it. */
enum { IND_ARCHIVE_PATH = IND_PATH + 64 };
static inline void ind_keeper_path(const struct ind_archive *archive, char path[IND_ARCHIVE_PATH])
{
    snprintf(path, IND_ARCHIVE_PATH, "%s%s", archive->path, ind_compression_suffix(archive->compression).at);
}

/* Whether it is as old as archives are that the policy (which may be NULL) has packed once more. */
static inline bool ind_keeper_is_old(const struct ind_policy *policy, const struct ind_archive *archive,
                                     ind_time now)
{
    return policy && policy->recompress_after &&
           archive->rotated <= now - policy->recompress_after * IND_SECOND;
}

/* ---- carry.c ---- */

bool ind_keeper_is_chained(const struct ind_keeper *keeper, const struct ind_archive *archive);
/* Compresses with an index; fills in what is missing in *packing. 0, or the error. */
int ind_keeper_pack(struct ind_keeper *keeper, const struct ind_archive *archive, struct ind_packing *packing,
                    uint64_t *size);
void ind_keeper_forget(struct ind_archive *archive); /* frees what it points to */
bool ind_keeper_sync_journal(const struct ind_keeper *keeper);

/* Flushes, digests and compresses an archive. False where something failed, or it was interrupted. */
bool ind_keeper_finish(struct ind_keeper *keeper, struct ind_archive *archive, ind_time now,
                       const struct ind_interrupt *interrupt);
/* Removes archives, also from the keeper's list. */
void ind_keeper_remove(struct ind_keeper *keeper, const struct ind_steps *steps, ind_time now);

/* ---- recompress.c ---- */

/* Packs an archive once more, as its policy says for those that are old enough. False where it failed, or was
 * interrupted. */
bool ind_keeper_recompress(struct ind_keeper *keeper, struct ind_archive *archive, ind_time now,
                           const struct ind_interrupt *interrupt);

/* ---- second_place.c ---- */

struct ind_copies *ind_copies_new(struct ind_disk *disk); /* NULL where memory is out */
void ind_copies_free(struct ind_copies *copies);
/* Whether its policy names a second place that does not have it yet: then it does not go here. */
bool ind_keeper_waits_for_copy(const struct ind_keeper *keeper, const struct ind_archive *archive);
/* Takes note of what was copied, and goes on with it. */
void ind_keeper_copy(struct ind_keeper *keeper, struct ind_clocks now);

/* ---- cataloguing.c ---- */

struct ind_cataloguing *ind_cataloguing_new(void); /* NULL where memory is out */
void ind_cataloguing_free(struct ind_cataloguing *cataloguing);
/* Brings the catalog up to date. What fails is told, and done later. */
void ind_keeper_catalog(struct ind_keeper *keeper, struct ind_clocks now,
                        const struct ind_interrupt *interrupt);
/* What the journal is to keep of the volumes of an archive that goes: new; NULL where nothing is known. Where
 * the catalog does not know it the archive is read, unless `in_a_hurry`. */
char *ind_keeper_closing(struct ind_keeper *keeper, const struct ind_archive *archive, bool in_a_hurry);

/* ---- protect.c ---- */

void ind_protection_free(struct ind_protection *list);

/* ---- heads.c ---- */

/* Writes how far each chain goes to STATE/chain-heads, after the journal is on disk, where there is anything
 * new: a journal that is cut short later does not go that far. What fails is done at the next run. */
void ind_keeper_keep_heads(struct ind_keeper *keeper);

/* A link in every chained series: the clock is doubted, or trusted again. */
void ind_keeper_link_clock(struct ind_keeper *keeper, enum ind_event event, ind_time now);

/* ---- decide.c ---- */

/* Of rules that are gone, or that this half has not adopted yet, nothing is known: such an archive waits. */
bool ind_keeper_knows_rules(const struct ind_keeper *keeper, const struct ind_archive *archive);

/* Bytes of a file system that should be free: the reserve, and the room in which the largest archive is
 * packed next. 0: any do. */
uint64_t ind_keeper_room_wanted(const struct ind_keeper *keeper, unsigned file_system);

/* Add steps, whose list is to be freed. Where memory is out what is not decided now is decided at the next
 * run. */
void ind_keeper_decide_removals(const struct ind_keeper *keeper, ind_time now, struct ind_steps *steps,
                                struct ind_shortage *shortage);
void ind_keeper_decide_compressions(const struct ind_keeper *keeper, struct ind_steps *steps);
void ind_keeper_decide_recompressions(const struct ind_keeper *keeper, ind_time now, struct ind_steps *steps);

#endif
