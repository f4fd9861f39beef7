/* cli/lines.h: what is said of the lines of files that stand for messages. */
#ifndef IND_CLI_LINES_H
#define IND_CLI_LINES_H

#include "cli/cli.h"
#include "collect/intake/intake.h"

struct ind_line_options {
    char *received, *sender, *as;
};

/* Rows of a popt table, for a structure of static lifetime. */
#define IND_LINE_OPTIONS(given)                                                                              \
    {"received",                                                                                             \
     '\0',                                                                                                   \
     POPT_ARG_STRING,                                                                                        \
     &(given).received,                                                                                      \
     0,                                                                                                      \
     "when the messages of the files were received: settles the year, and stands in where they "             \
     "tell no time",                                                                                         \
     "TIME"},                                                                                                \
        {"sender",        '\0', POPT_ARG_STRING,                                                             \
         &(given).sender, 0,    "the address that the messages of the files came from",                      \
         "ADDRESS"},                                                                                         \
    {                                                                                                        \
        "as", '\0', POPT_ARG_STRING, &(given).as, 0,                                                         \
            "what the lines are: raw (messages as they were sent; the default), or stored lines in plain, "  \
            "json or rfc5424",                                                                               \
            "LAYOUT"                                                                                         \
    }

/* False, reported, where one of them is wrong. *sender borrows from the options. */
bool ind_line_options_read(const struct ind_line_options *given, const struct ind_config *config,
                           enum ind_line_form *form, struct ind_slice *sender, ind_time *received);

#endif
