/* cli/doctor_heard.h: what arrives, counted by sender, listener and form. */
#ifndef IND_CLI_DOCTOR_HEARD_H
#define IND_CLI_DOCTOR_HEARD_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

struct ind_heard {
    json_t *rows; /* an object for each, by these three; begins as json_object() */
    uint64_t messages, skipped;
};

/* One more message. Of rows beyond a thousand only the sum is known. */
void ind_heard_add(struct ind_heard *heard, const char *sender, const char *device, const char *listener,
                   const char *form);
void ind_heard_print(const struct ind_heard *heard, long seconds, bool json);

#endif
