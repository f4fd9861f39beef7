/* Any bytes may stand in a journal: it is read to its end, the quick way and the other give the same, and a
 * survey and a snapshot make something of it. */
#include "store/disk/inventory.h"
#include "store/disk/journal.h"
#include "store/read/snapshot.h"
#include "temporary.h"

#include <fcntl.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

struct sum {
    uint64_t hash;
    size_t count;
};

static void add(struct sum *sum, struct ind_slice text)
{
    sum->hash = sum->hash * 31 + XXH3_64bits(text.at ? text.at : "", text.length);
}

static void take(struct sum *sum, struct ind_slice archive, struct ind_slice live, struct ind_slice layout,
                 uint64_t version)
{
    add(sum, archive);
    add(sum, live);
    add(sum, layout);
    sum->hash += version;
    sum->count++;
}

static void take_record(void *context, const struct ind_journal_record *record)
{
    if (record->event == IND_EVENT_OPENED)
        take(context, ind_slice_of(record->archive), ind_slice_of(record->live), ind_slice_of(record->layout),
             record->version);
}

static void take_opened(void *context, const struct ind_opened *opened)
{
    take(context, opened->archive, opened->live, opened->layout, opened->version);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static char path[100];
    static struct ind_loaded loaded;
    const char *store = ind_fuzz_folder("journal");
    if (!path[0]) {
        snprintf(path, sizeof path, "%s/" IND_STORE_OWN, store);
        (void)mkdir(path, 0700);
        snprintf(path, sizeof path, "%s/" IND_JOURNAL_PATH, store);
        ind_config_defaults(&loaded);
    }
    FILE *file = fopen(path, "w");
    if (!file || fwrite(bytes, 1, size, file) != size || fclose(file) != 0)
        abort();
    int folder = open(store, O_RDONLY | O_DIRECTORY);
    struct sum slow = {0}, quick = {0};
    (void)ind_journal_read(folder, 0, NULL, take_record, &slow);
    ind_journal_read_opened(folder, take_opened, &quick);
    if (slow.count != quick.count || slow.hash != quick.hash)
        abort();
    struct ind_inventory survey;
    if (!ind_inventory(loaded.config, folder, &survey))
        abort();
    ind_inventory_free(&survey);
    struct ind_snapshot snapshot;
    if (!ind_snapshot_take(store, NULL, NULL, &snapshot))
        abort();
    ind_snapshot_free(&snapshot);
    close(folder);
    return 0;
}
