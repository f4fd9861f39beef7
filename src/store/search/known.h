/* store/search/known.h: what of a search is known without reading a file: from how many messages of which
 * hour, device, facility and severity it holds (core/archive/volumes.h). */
#ifndef IND_STORE_SEARCH_KNOWN_H
#define IND_STORE_SEARCH_KNOWN_H

#include "core/archive/volumes.h"
#include "store/search/groups.h"

struct ind_known;

/* For those settings, which must outlive it. NULL where memory is out. */
struct ind_known *ind_known_new(const struct ind_search_settings *settings);
void ind_known_free(struct ind_known *known);

/* Why a search of this kind is not answered by such counts, but by reading; NULL where it is. */
const char *ind_known_why_not(const struct ind_known *known);

enum ind_known_file {
    IND_KNOWN_NOT,         /* it has to be read */
    IND_KNOWN_OUT_BY_TIME, /* it holds no answer */
    IND_KNOWN_OUT_BY_PRI,
    IND_KNOWN_OUT_BY_DEVICE,
    IND_KNOWN_COUNTED /* its messages have been counted */
};

/* The counts of one file, as they were packed; `name` gives the names of devices. */
enum ind_known_file ind_known_ask(struct ind_known *known, struct ind_slice packed,
                                  struct ind_slice (*name)(const void *context, uint32_t device),
                                  const void *context);

/* Of one row of such counts, for whoever adds up himself what `settings` only tell apart; nothing of it is
 * counted here, and its time is not looked at. IND_OPEN: the file has to be read. */
enum ind_verdict ind_known_row(struct ind_known *known, const struct ind_volume *volume,
                               struct ind_slice device);

/* The archive of that path below the store among files in the order of store/read/snapshot.h, in which
 * archives stand in front, by their paths; NULL where it is not there. */
struct ind_search_file *ind_search_archive(struct ind_search_file *files, size_t count, const char *archive);

/* What was counted so far. */
uint64_t ind_known_found(const struct ind_known *known);
struct ind_groups *ind_known_groups(struct ind_known *known);

#endif
