/* A store that somebody removes while it is written to. */
#include "store/write/write_private.h"

enum ind_disk_presence ind_store_look_after(struct ind_store *store, struct ind_clocks now)
{
    enum ind_disk_presence presence = IND_DISK_PRESENT;
    if (store->file_system == 0)
        presence = ind_disk_look_after(store->disk, now.steady);
    unsigned made_again = atomic_load(&store->disk->made_again);
    if (made_again != store->made_again) {
        presence = IND_DISK_MADE_AGAIN;
        for (struct ind_live *live = store->lives; live; live = live->hh.next)
            live->journaled = false; /* the new journal does not know it */
    }
    store->made_again = made_again;
    return presence;
}
