/* collect/intake/file_source.h: lines of files submitted to an intake, one after the other; and between them
 * the internal messages that edits which remember call for, at the time that the lines have come to. */
#ifndef IND_COLLECT_INTAKE_FILE_SOURCE_H
#define IND_COLLECT_INTAKE_FILE_SOURCE_H

#include "collect/intake/intake.h"

struct ind_file_source {
    struct ind_intake *intake;
    enum ind_line_form form;
    struct ind_origin origin; /* of the lines */
    /* Takes a full batch (NULL at first) and gives an empty one. */
    struct ind_batch *(*pass_on)(void *context, struct ind_batch *full);
    void *context;
    struct ind_batch *batch;
    /* For edits that remember; NULL: there are none. ind_file_source_report is to be their `report`, the
     * source its context. */
    struct ind_edit_states *states;
    struct ind_edit_report *reports; /* still to be filed */
    size_t report_count, report_room;
    ind_time looked;   /* for reports, by the time of the lines */
    uint64_t internal; /* messages */
};

/* One line without its end; `batch` has been given. */
void ind_file_source_line(struct ind_file_source *source, struct ind_slice line);
/* Whole lines (the last may have no end). */
void ind_file_source_lines(struct ind_file_source *source, struct ind_slice lines);
/* All reports that are left. */
void ind_file_source_end(struct ind_file_source *source);
/* As ind_edit_states_new's `report`; `source` as context. */
void ind_file_source_report(void *source, const struct ind_edit_report *report);
void ind_file_source_free(struct ind_file_source *source);

/* Where messages from files come from. `received` may be IND_TIME_NONE, `sender` empty. */
struct ind_origin ind_file_source_origin(struct ind_intake *intake, struct ind_slice sender,
                                         ind_time received);

/* The threads that should take files apart: edits that remember see all messages in their order, on one. */
unsigned ind_file_source_threads(const struct ind_config *config);

#endif
