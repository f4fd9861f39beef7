/* The catalog as the keeping half looks after it: last of all, and whatever becomes of it, the rest goes
 * on. */
#include "store/archive/keeper_private.h"

#include "store/archive/catalog.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

/* Seconds. ANEW: a damaged one is set aside and begun anew, but not more often. */
enum { COUNT_EVERY = 60, AGAIN = 60, ANEW = 3600, TOLD = 3600 };
/* Bytes of text in one go: where much is to be counted all else has its turn in between. */
#define IN_ONE_GO (UINT64_C(256) << 20)

struct ind_cataloguing {
    struct ind_catalog *catalog; /* NULL: not open */
    struct ind_steady counted, failed, told, begun_anew;
    uint64_t journal; /* its size when it was last followed */
    bool in_trouble;  /* which was told */
};

struct ind_cataloguing *ind_cataloguing_new(void)
{
    return calloc(1, sizeof(struct ind_cataloguing));
}

void ind_cataloguing_free(struct ind_cataloguing *cataloguing)
{
    if (!cataloguing)
        return;
    ind_catalog_close(cataloguing->catalog);
    free(cataloguing);
}

/* ---- What goes wrong ---- */

static void tell(struct ind_keeper *keeper, const char *what, const char *reason, struct ind_steady now)
{
    struct ind_cataloguing *cataloguing = keeper->cataloguing;
    cataloguing->in_trouble = true;
    if (!ind_steady_reported_lately(&cataloguing->told, now, TOLD * IND_SECOND))
        ind_disk_report(keeper->disk, IND_OWN_CATALOG_FAILED, NULL,
                        "the catalog %s/" IND_CATALOG_NAME " %s: %s; nothing else waits for it",
                        keeper->disk->state_path, what, reason);
}

static void set_aside(struct ind_keeper *keeper, const char *reason, struct ind_steady now)
{
    struct ind_cataloguing *cataloguing = keeper->cataloguing;
    if (ind_steady_reported_lately(&cataloguing->begun_anew, now, ANEW * IND_SECOND)) {
        tell(keeper, "is damaged again", reason, now);
    } else if (ind_catalog_set_aside(keeper->disk->state_path)) {
        ind_disk_report(keeper->disk, IND_OWN_CATALOG_FAILED, NULL,
                        "the catalog %s/" IND_CATALOG_NAME " is damaged: %s; it is now " IND_CATALOG_ASIDE
                        ", and another one is made from the journal and the files",
                        keeper->disk->state_path, reason);
        cataloguing->failed = IND_STEADY_NEVER; /* at once */
    } else {
        tell(keeper, "is damaged, and cannot be renamed", strerror(errno), now);
    }
}

static void fail(struct ind_keeper *keeper, enum ind_catalog_status status, const char *reason,
                 struct ind_steady now)
{
    struct ind_cataloguing *cataloguing = keeper->cataloguing;
    ind_catalog_close(cataloguing->catalog);
    cataloguing->catalog = NULL;
    cataloguing->journal = 0;
    cataloguing->failed = now;
    if (status == IND_CATALOG_DAMAGED)
        set_aside(keeper, reason, now);
    else if (status == IND_CATALOG_FOREIGN)
        tell(keeper, "is left alone, and \"indagator archives rebuild\" sets it aside", reason, now);
    else if (status == IND_CATALOG_LOCKED)
        tell(keeper, "is locked by somebody", reason, now);
    else
        tell(keeper, "cannot be written", reason, now);
}

/* ---- What is to be done ---- */

/* A lock of somebody else is not waited for: it is tried again later. */
static enum ind_catalog_status open_it(struct ind_keeper *keeper, char *reason, size_t room)
{
    struct ind_cataloguing *cataloguing = keeper->cataloguing;
    const struct ind_disk *disk = keeper->disk;
    if (cataloguing->catalog && ind_catalog_is_there(cataloguing->catalog))
        return IND_CATALOG_GOOD;
    ind_catalog_close(cataloguing->catalog);
    cataloguing->journal = 0;
    enum ind_catalog_status status =
        ind_catalog_open(disk->state_path, disk->store, disk->folder, 0, &cataloguing->catalog, reason, room);
    if (status != IND_CATALOG_GOOD)
        return status;
    status = ind_catalog_check(cataloguing->catalog);
    if (status == IND_CATALOG_GOOD)
        status = ind_catalog_look(cataloguing->catalog);
    snprintf(reason, room, "%s", ind_catalog_reason(cataloguing->catalog));
    cataloguing->counted = IND_STEADY_NEVER;
    return status;
}

/* What is written down, and at intervals what is in the files. */
static enum ind_catalog_status follow(struct ind_keeper *keeper, struct ind_clocks now,
                                      const struct ind_interrupt *interrupt)
{
    struct ind_cataloguing *cataloguing = keeper->cataloguing;
    struct ind_catalog *catalog = cataloguing->catalog;
    struct ind_catalog_progress progress = {0};
    const uint64_t most = keeper->at_the_end ? UINT64_MAX : IN_ONE_GO;
    const uint64_t journal = ind_journal_size(keeper->disk->folder);
    const bool is_new = journal != cataloguing->journal;
    if (!is_new && !keeper->at_the_end &&
        ind_steady_lately(cataloguing->counted, now.steady, COUNT_EVERY * IND_SECOND))
        return IND_CATALOG_GOOD;
    enum ind_catalog_status status = ind_catalog_follow(catalog, interrupt);
    if (status == IND_CATALOG_GOOD)
        status = ind_catalog_count(
            catalog,
            &(struct ind_counting_call){
                .now = now.steady.ns, .most = most, .at_once = keeper->at_the_end, .interrupt = interrupt},
            &progress);
    if (status != IND_CATALOG_GOOD || ind_interrupted(interrupt))
        return status;
    keeper->counts.to_count = progress.to_count;
    if (progress.bytes < most) { /* else there may be more */
        cataloguing->journal = journal;
        cataloguing->counted = now.steady;
    }
    return status;
}

void ind_keeper_catalog(struct ind_keeper *keeper, struct ind_clocks now,
                        const struct ind_interrupt *interrupt)
{
    struct ind_cataloguing *cataloguing = keeper->cataloguing;
    const struct ind_disk *disk = keeper->disk;
    char reason[256] = "";
    if (disk->dry_run || disk->no_catalog || disk->state < 0 ||
        ind_steady_lately(cataloguing->failed, now.steady, AGAIN * IND_SECOND))
        return;
    enum ind_catalog_status status = open_it(keeper, reason, sizeof reason);
    if (status == IND_CATALOG_GOOD) {
        status = follow(keeper, now, interrupt);
        snprintf(reason, sizeof reason, "%s", ind_catalog_reason(cataloguing->catalog));
    }
    keeper->counts.catalog_failed = status != IND_CATALOG_GOOD;
    if (status != IND_CATALOG_GOOD && !ind_interrupted(interrupt)) {
        fail(keeper, status, reason, now.steady);
    } else if (status == IND_CATALOG_GOOD && cataloguing->in_trouble) {
        cataloguing->in_trouble = false;
        cataloguing->told = cataloguing->failed = IND_STEADY_NEVER;
        ind_disk_report(disk, IND_OWN_CATALOG_WORKS, NULL, "the catalog is written again");
    }
}

char *ind_keeper_closing(struct ind_keeper *keeper, const struct ind_archive *archive, bool in_a_hurry)
{
    struct ind_catalog *catalog = keeper->cataloguing->catalog;
    const struct ind_disk *disk = keeper->disk;
    char *text = catalog ? ind_catalog_closing(catalog, archive->path) : NULL;
    if (text || disk->dry_run || disk->no_catalog || in_a_hurry)
        return text;
    return ind_catalog_closing_of(disk->folder, archive->path, archive->stored, NULL);
}
