/* cli/cli.h: what the commands share. One command is one file with one const entry; main.c lists them. */
#ifndef IND_CLI_CLI_H
#define IND_CLI_CLI_H

#include "cli/terminal.h"
#include "config/config.h"
#include "core/base/amount.h"
#include "core/message/own.h"

#include <popt.h>
#include <stdio.h>

enum ind_exit {
    IND_EXIT_DONE = 0,
    IND_EXIT_NO = 1,    /* a negative answer: nothing found, check failed */
    IND_EXIT_CALL = 2,  /* the call or the configuration is wrong */
    IND_EXIT_FAILED = 3 /* could not be carried out, or only in part */
};

struct ind_call {
    const char *program;     /* as called */
    const char *config_path; /* -c, or NULL */
    int json;
    const char **rest; /* arguments that are no options; ends with NULL */
};

struct ind_command {
    const char *name, *summary;
    const char *arguments; /* for the usage line */
    const char *about;     /* what it does, with an example that runs as printed */
    struct poptOption *(*options)(void);
    int (*run)(struct ind_call *call);
};

extern const struct ind_command ind_command_collect, ind_command_check, ind_command_emit, ind_command_search,
    ind_command_doctor, ind_command_rotate, ind_command_archives, ind_command_pause, ind_command_resume,
    ind_command_status, ind_command_follow, ind_command_demo, ind_command_explain, ind_command_fit,
    ind_command_learn, ind_command_rehearse, ind_command_alerts, ind_command_report, ind_command_watch;

/* To standard error, "indagator: …". The text is printed without control characters. */
void ind_complain(const char *format, ...) __attribute__((format(printf, 1, 2)));

/* For the layers below: ind_complain as a callback. */
void ind_complain_text(void *context, const char *text);
void ind_complain_of(void *context, enum ind_own own, const char *path, const char *text);

/* Loads the configuration that the call names, or the first there is. False, all reported, where it has
 * mistakes or there is none; `or_defaults`: where there is none, what holds without one is good enough. */
bool ind_load(const struct ind_call *call, bool or_defaults, struct ind_loaded *loaded);

/* Whether the store is a folder; reported where it is not: a search of what is not there would find nothing.
 */
bool ind_has_store(const struct ind_config *config);

/* Prints the mistakes, and the warnings where `warnings`, to `out`. */
void ind_print_diagnostics(const struct ind_loaded *loaded, bool warnings, FILE *out);

/* A moment given as an option; reported where it is none. */
bool ind_moment_option(const char *option, const char *text, const struct ind_zone *zone, bool end_of_day,
                       ind_time *time);

/* A zone given as --zone, new; reported where it is none. */
bool ind_zone_option(const char *text, struct ind_zone **zone);

/* A condition given as --when (NULL: every message); reported, with its place, where it is none. */
bool ind_condition_option(const struct ind_config *config, const char *text, struct ind_conditions **set,
                          ind_condition *condition);

/* Gives each line of a file (- is standard input; compressed by its name) without its end. False, reported,
 * where it cannot be read, or not to its end. */
bool ind_each_line(const char *path, void (*visit)(void *context, struct ind_slice line), void *context);

/* Whether standard output may be coloured: a terminal, and no NO_COLOR; or as --color says. */
bool ind_colour(void);
/* The value of --color; NULL: none. False, reported, where it is none of them. */
bool ind_colour_option(const char *text);

/* The text as it can be shown, terminated, in `room` of `size` bytes, which is returned. */
const char *ind_escaped(struct ind_slice text, char *room, size_t size);

/* The fields from number `from` on, before `to`, one per row; names take `least` columns or more. */
void ind_print_fields(const struct ind_payload *fields, size_t from, size_t to, size_t least, char *room,
                      size_t size);

/* Where temporary files go: TMPDIR, or /tmp. */
const char *ind_temporary_folder(void);

/* Columns of the terminal that standard output is; 100 where it is none. */
size_t ind_terminal_width(void);

/* A progress line on standard error, on a terminal only and after two seconds. Any thread. */
void ind_progress(void *context, uint64_t bytes);
/* The same where it is known how many there are; 0: it is not. */
void ind_progress_of(void *context, uint64_t bytes, uint64_t all);
/* From now on there is none: results are shown on the terminal. */
void ind_progress_gives_way(void);
void ind_progress_end(void);

/* For standard output: grouped where that is a terminal, since programs read what goes elsewhere. */
const char *ind_grouped(uint64_t number, char text[32]);

#endif
