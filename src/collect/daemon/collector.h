/* collect/daemon/collector.h: the collector whole: receivers, writer, housekeeping, and the control of them.
 */
#ifndef IND_COLLECT_DAEMON_COLLECTOR_H
#define IND_COLLECT_DAEMON_COLLECTOR_H

#include "collect/account/book.h"
#include "collect/intake/origin.h"
#include "net/inherited.h"
#include "net/service_manager.h"
#include "store/archive/keeper.h"
#include "store/write/store.h"

struct ind_collect_settings {
    const struct ind_config *config;      /* borrowed */
    const struct ind_diagnostics *doubts; /* what the configuration is warned of; borrowed; NULL: nothing */
    const char *version;                  /* of the program */
    const char *config_path;              /* read again at a reload; NULL: there is none */
    const struct ind_fs *fs;              /* of the store; borrowed; NULL: the system's */
    const struct ind_service_manager *manager; /* who wants to know how we are; borrowed; NULL: nobody */
    const struct ind_inherited *inherited;     /* sockets of the service manager; borrowed; NULL: none */
    /* What an administrator must hear of; called from several threads at once. */
    void (*report)(void *context, const char *text);
    void *context;

    /* Messages from files instead of sockets; "-" is standard input. */
    const char *const *files;
    size_t file_count;
    enum ind_line_form form;
    ind_time received;       /* IND_TIME_NONE: not known */
    struct ind_slice sender; /* an address, or empty */
    void (*progress)(void *context,
                     uint64_t bytes); /* may be NULL; called now and then from the intake thread */
};

struct ind_collect_result {
    struct ind_ledger ledger; /* nothing waits any more */
    bool adds_up;             /* what was received is what has ended */
    struct ind_store_counts store;
    struct ind_keeper_counts keeper;
    uint64_t kernel_dropped, longest_pause; /* datagrams; ns */
    uint64_t unread_files;                  /* of --from */
    uint64_t lines_cut;                     /* too long to be written whole */
    struct ind_edit_count *edits;           /* of all intakes; ind_collect_result_free */
};

enum ind_collect_status {
    IND_COLLECT_DONE,
    IND_COLLECT_CALL,   /* the configuration gives nothing to do, or an address cannot be used */
    IND_COLLECT_FAILED, /* the store cannot be used */
    IND_COLLECT_PART    /* done, but some messages were lost or some files not read */
};

/* Runs until a SIGTERM or SIGINT, or until the files are read; at a SIGHUP it reads its configuration again.
 * What went wrong has been reported. */
enum ind_collect_status ind_collect(const struct ind_collect_settings *settings,
                                    struct ind_collect_result *result);
void ind_collect_result_free(struct ind_collect_result *result);

#endif
