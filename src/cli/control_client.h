/* cli/control_client.h: questions to a running collector, over its control socket. */
#ifndef IND_CLI_CONTROL_CLIENT_H
#define IND_CLI_CONTROL_CLIENT_H

#include "cli/cli.h"

enum ind_control_client_result {
    IND_CONTROL_CLIENT_ANSWERED, /* answered: 200 */
    IND_CONTROL_CLIENT_NOBODY,   /* no collector is there */
    IND_CONTROL_CLIENT_REFUSED   /* answered otherwise, or broken off; reported */
};

/* Asks PATH, with a query already escaped. `receive` gets the answer in pieces and returns false to end it;
 * `accepted` (may be NULL) is called before, once it is known that there will be one. */
enum ind_control_client_result ind_ask(const struct ind_config *config, bool post, const char *path,
                                       void (*accepted)(void *context),
                                       bool (*receive)(void *context, const char *bytes, size_t length),
                                       void *context);

/* The same, of an answer that goes on until somebody ends it: `tick` is called about once a second, and
 * returns false to end it. One that is broken off has not been refused: *broken, and nothing is reported. */
enum ind_control_client_result ind_ask_on(const struct ind_config *config, const char *path,
                                          void (*accepted)(void *context),
                                          bool (*receive)(void *context, const char *bytes, size_t length),
                                          bool (*tick)(void *context), void *context, bool *broken);

/* What follows, for so long: the end of that time is its end. */
enum ind_control_client_result ind_ask_for(const struct ind_config *config, const char *path,
                                           long milliseconds,
                                           bool (*receive)(void *context, const char *bytes, size_t length),
                                           void *context);

/* The whole answer as a text; *text is to be freed, also where it is refused (then it says why, and nothing
 * was reported). */
enum ind_control_client_result ind_control_client_ask(const struct ind_config *config, bool post,
                                                      const char *path, char **text);

/* "no collector is running here …", reported. */
void ind_tell_nobody(const struct ind_config *config);

/* A text for use in a query. New; NULL where memory is out. */
char *ind_query_text(const char *text);

#endif
