#include "cli/dry_run.h"

#include "cli/table.h"
#include "collect/runtime/clock.h"
#include "store/archive/keeper.h"
#include "store/disk/inventory.h"
#include "store/write/store.h"

#include <fcntl.h>
#include <string.h>
#include <unistd.h>

/* Where nothing was compressed yet that could tell: what plain lines come to. */
#define USUAL_RATIO 8.0

struct shown {
    struct ind_table *table;
    size_t count;
    uint64_t removed, to_compress; /* bytes */
};

static void show_action(void *context, const struct ind_action *action)
{
    static const char *const names[] = {"repair", "rotate", "compress", "remove", "copy"};
    struct shown *shown = context;
    ind_table_text(shown->table, names[action->kind]);
    ind_table_text(shown->table, action->path);
    ind_table_size(shown->table, action->size);
    ind_table_text(shown->table, action->rule);
    ind_table_text(shown->table, action->policy ? action->policy : "none");
    shown->count++;
    shown->removed += action->kind == IND_ACTION_REMOVE ? action->size : 0;
    shown->to_compress += action->kind == IND_ACTION_COMPRESS ? action->size : 0;
}

/* Text for a byte of the archives that are there. */
static double ratio(const struct ind_config *config)
{
    struct ind_inventory inventory = {0};
    uint64_t text = 0, packed = 0;
    const int folder = open(config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    const bool known = folder >= 0 && ind_inventory(config, folder, &inventory);
    for (const struct ind_archive_entry *entry = inventory.entries; known && entry; entry = entry->hh.next) {
        const bool counts = entry->compression && entry->text && !entry->known_removed;
        text += counts ? entry->text : 0;
        packed += counts ? entry->compressed_size : 0;
    }
    ind_inventory_free(&inventory);
    if (folder >= 0)
        close(folder);
    return packed ? (double)text / (double)packed : USUAL_RATIO;
}

static void tell_room(const struct ind_config *config, const struct shown *shown)
{
    char size[2][32];
    const uint64_t freed =
        (uint64_t)((double)shown->to_compress * (1 - 1 / ratio(config))); /* nobody knows before it is done */
    if (shown->removed)
        printf("removing frees %s\n", ind_size_text(shown->removed, size[0]));
    if (shown->to_compress)
        printf("compressing %s frees some %s: an estimate\n", ind_size_text(shown->to_compress, size[0]),
               ind_size_text(freed, size[1]));
}

struct ind_rotated ind_rotate_and_keep(struct ind_store *store, bool only_due, bool clock_is_right)
{
    struct ind_keeper *keeper = ind_store_keeper(store);
    struct ind_rotated done = {0};
    done.rotated = ind_store_rotate(store, only_due, ind_clocks_now(), &done.failed);
    if (clock_is_right)
        ind_keeper_retain(keeper, ind_clocks_now(), true);
    done.kept = ind_keeper_run(keeper, ind_clocks_now(), NULL);
    return done;
}

/* On a store that changes nothing: what the calls of a rotation would do is what they do. */
int ind_dry_run(const struct ind_config *config, bool only_due, bool clock_is_right, bool json)
{
    static const struct ind_column columns[] = {
        {"action", false}, {"file", false}, {"size", false}, {"rule", false}, {"policy", false}};
    char reason[1400];
    struct ind_store *store;
    struct shown shown = {.table = ind_table_new(columns, sizeof columns / sizeof *columns)};
    const struct ind_store_settings settings = {.config = config,
                                                .fs = &ind_fs_posix,
                                                .now = ind_now(),
                                                .dry_run = true,
                                                .report = ind_complain_of,
                                                .act = show_action,
                                                .context = &shown};
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK) {
        ind_complain("%s", reason);
        ind_table_free(shown.table);
        return IND_EXIT_FAILED;
    }
    (void)ind_rotate_and_keep(store, only_due, clock_is_right);
    ind_store_close(store);
    if (shown.count)
        ind_table_print(shown.table, json, stdout);
    else if (!json)
        printf("nothing to do\n");
    if (!json)
        tell_room(config, &shown);
    ind_table_free(shown.table);
    return IND_EXIT_DONE;
}
