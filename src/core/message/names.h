/* core/message/names.h: the names of facilities and severities (RFC 5424 section 6.2.1), the one place where
 * they live. */
#ifndef IND_CORE_MESSAGE_NAMES_H
#define IND_CORE_MESSAGE_NAMES_H

#include "core/base/slice.h"

enum { IND_FACILITIES = 24, IND_SEVERITIES = 8, IND_PRIS = IND_FACILITIES * IND_SEVERITIES };

/* What has no PRI is of this facility and severity (RFC 3164 section 4.3.3). */
enum { IND_FACILITY_USER = 1, IND_FACILITY_SYSLOG = 5 };
enum {
    IND_SEVERITY_CRITICAL = 2,
    IND_SEVERITY_ERROR,
    IND_SEVERITY_WARNING,
    IND_SEVERITY_NOTICE,
    IND_SEVERITY_INFO,
    IND_SEVERITY_DEBUG
};

/* The printed name; `facility` below IND_FACILITIES, `severity` below IND_SEVERITIES. The slice lives
 * forever. */
struct ind_slice ind_facility_name(unsigned facility);
struct ind_slice ind_severity_name(unsigned severity);

/* Writes " FACILITY SEVERITY ", as columns of a line, to `at`, where IND_PRI_ROOM bytes are free; returns
 * where it ends. */
enum { IND_PRI_ROOM = 35 };
char *ind_pri_put(char *at, unsigned facility, unsigned severity);

/* Adds the same. */
void ind_pri_write(struct ind_buffer *buffer, unsigned facility, unsigned severity);

/* A name in any common form or a number, case ignored; -1 where it is none. */
int ind_facility_read(struct ind_slice text);
int ind_severity_read(struct ind_slice text);

/* The known name nearest to `word`, for "did you mean"; an empty slice where none is near. */
struct ind_slice ind_facility_near(struct ind_slice word);
struct ind_slice ind_severity_near(struct ind_slice word);

/* The nearest to `word` of `count` terminated texts by edit distance (a swap of neighbours is one edit), NULL
 * where all are more than a third of the word's length away. Works on words of up to 63 bytes. */
const char *ind_near(struct ind_slice word, const char *const *candidates, size_t count);

#endif
