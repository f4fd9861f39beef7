/* Any bytes may stand in a journal: it is read to its end, the quick way and the other give the same, and a
 * survey and a snapshot make something of it. */
#include "store/archive/proof.h"
#include "store/disk/inventory.h"
#include "store/read/snapshot.h"
#include "temporary.h"

#include <fcntl.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

struct sum {
    uint64_t hash;
    bool visited;
};

static void add(struct sum *sum, const char *text)
{
    sum->hash = sum->hash * 31 + (text ? XXH3_64bits(text, strlen(text)) : 7);
}

static void take(void *context, const struct ind_journal_record *record)
{
    struct sum *sum = context;
    const char *texts[] = {record->series, record->archive, record->live, record->route,    record->policy,
                           record->layout, record->reason,  record->file, record->text_hash};
    const uint64_t numbers[] = {record->event,          (uint64_t)record->at, record->number,
                                record->version,        record->made_up,      record->bytes,
                                record->messages,       record->inode,        (uint64_t)record->first,
                                (uint64_t)record->last, record->linked};
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++)
        add(sum, texts[i]);
    for (size_t i = 0; i < sizeof numbers / sizeof *numbers; i++)
        sum->hash = sum->hash * 31 + numbers[i];
    sum->visited = true;
}

/* What is read quickly is what any reader makes of it, and what is not is left as it was. */
static void compare(void *context, char *line, size_t length)
{
    struct ind_link link;
    struct sum quick = {0}, slow = {0};
    char *copy = malloc(length + 1);
    (void)context;
    if (!copy)
        abort();
    memcpy(copy, line, length + 1);
    (void)ind_link_read((struct ind_slice){line, length}, &link);
    if (ind_record_read_by(true, line, length, take, &quick)) {
        if (!ind_record_read_by(false, copy, length, take, &slow) || slow.hash != quick.hash)
            abort();
    } else if (memcmp(line, copy, length + 1) != 0) {
        abort();
    }
    free(copy);
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
    (void)ind_journal_lines(folder, 0, compare, NULL);
    struct ind_inventory survey;
    if (!ind_inventory(loaded.config, folder, &survey))
        abort();
    ind_inventory_free(&survey);
    struct ind_snapshot snapshot;
    if (!ind_snapshot_take(store, NULL, NULL, &snapshot))
        abort();
    ind_snapshot_free(&snapshot);
    char reason[1400];
    struct ind_proof proof;
    const struct ind_proof_settings settings = {
        .store = store,
        .heads = IND_SLICE("1 00112233445566778899aabbccddeeff00112233445566778899aabbc"
                           "cddeeff a.log\n"),
        .since = IND_TIME_NONE,
        .until = IND_TIME_NONE};
    (void)ind_proof_make(&settings, &proof, reason, sizeof reason);
    ind_proof_free(&proof);
    close(folder);
    return 0;
}
