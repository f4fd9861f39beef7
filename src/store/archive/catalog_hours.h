/* store/archive/catalog_hours.h: what the catalog knows of the messages of some hours, of archives and live
 * files. */
#ifndef IND_STORE_ARCHIVE_CATALOG_HOURS_H
#define IND_STORE_ARCHIVE_CATALOG_HOURS_H

#include "core/base/slice.h"

#include <stdint.h>

/* Messages of a device ("" where it is none, or not known) in hours[place] (UTC, counted from 1970). Often
 * the same device and hour: to be added up. False ends it. */
typedef bool ind_visit_hour(void *context, struct ind_slice device, size_t place, uint64_t messages);

/* Reads the catalog of a store, whose folders are given. What two routes stored counts twice, as lines. False
 * where there is no catalog that serves, or `visit` has ended it. */
bool ind_catalog_each_hour(const char *state, const char *store, const int64_t *hours, size_t count,
                           ind_visit_hour *visit, void *context);

#endif
