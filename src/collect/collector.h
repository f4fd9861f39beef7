/* collect/collector.h: the collector whole: intake thread, ring, writer thread, housekeeping thread. */
#ifndef IND_COLLECT_COLLECTOR_H
#define IND_COLLECT_COLLECTOR_H

#include "collect/intake.h"

struct ind_collect_settings {
    const struct ind_config *config; /* borrowed */
    /* What an administrator must hear of; called from several threads at once. */
    void (*tell)(void *context, const char *text);
    void *context;

    /* Messages from files instead of sockets; "-" is standard input. */
    const char *const *files;
    size_t file_count;
    enum ind_line_form form;
    ind_time received;       /* IND_TIME_NONE: not told */
    struct ind_slice sender; /* an address, or empty */
    void (*progress)(void *context,
                     uint64_t bytes); /* may be NULL; called now and then from the intake thread */
};

struct ind_collect_result {
    struct ind_ledger ledger;
    struct ind_store_counts store;
    struct ind_keeper_counts keeper;
    uint64_t lost_in_queues; /* messages given up at the end, because the disk took nothing */
    uint64_t kernel_dropped;
    uint64_t unread_files; /* of --from */
};

enum ind_collect_status {
    IND_COLLECT_DONE,
    IND_COLLECT_CALL,   /* the configuration gives nothing to do, or an address cannot be used */
    IND_COLLECT_FAILED, /* the store cannot be used */
    IND_COLLECT_PART    /* done, but some messages were lost or some files not read */
};

/* Runs until a SIGTERM, SIGINT or SIGHUP, or until the files are read. What went wrong has been told. */
enum ind_collect_status ind_collect(const struct ind_collect_settings *settings,
                                    struct ind_collect_result *result);

#endif
