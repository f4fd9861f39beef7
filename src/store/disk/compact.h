/* store/disk/compact.h: a journal without what it says of archives that are gone. */
#ifndef IND_STORE_DISK_COMPACT_H
#define IND_STORE_DISK_COMPACT_H

#include "store/disk/chain.h"

/* At a start, before anything is written: where more than half of the journal is about archives that were
 * removed and can be left out, it is written anew, with a record "compacted" for each series in the place of
 * what is left out. Of a chained series that is the beginning of its chain, up to the first archive that is
 * still there: the record hands on the last link that is left out, so that the rest is proven as before. What
 * was copied to a second place is not gone: its lines are what proves it there. What fails is reported and
 * changes nothing. `config`: gives the keys by which chains are signed. */
void ind_journal_compact(struct ind_disk *disk, const struct ind_config *config, ind_time now);

#endif
