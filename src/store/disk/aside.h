/* store/disk/aside.h: a database that is damaged is kept under another name, so that the next can begin anew.
 */
#ifndef IND_STORE_DISK_ASIDE_H
#define IND_STORE_DISK_ASIDE_H

#include <stdbool.h>

/* The database `name` of a folder gets the name `aside`, in place of one that had it before; what SQLite
 * keeps beside it goes, as it would be taken for that of the next. True also where there is none. */
bool ind_database_set_aside(const char *folder, const char *name, const char *aside);

#endif
