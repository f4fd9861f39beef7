/* store/search/search_private.h: a search under way, for the files that do it: search.c cuts the work into
 * pieces and has threads do them, line.c reads one line and keeps it. */
#ifndef IND_STORE_SEARCH_SEARCH_PRIVATE_H
#define IND_STORE_SEARCH_SEARCH_PRIVATE_H

#include "core/find/find.h"
#include "core/find/literals.h"
#include "core/line/line.h"
#include "store/disk/index_file.h"
#include "store/disk/line_reader.h"
#include "store/search/groups.h"
#include "store/search/once.h"
#include "store/search/search.h"
#include "store/search/sorter.h"
#include <pthread.h>
#include <stdatomic.h>

enum { IND_SEARCH_LITERALS = 256 };

struct ind_search_piece {
    size_t file;
    uint64_t from, to; /* lines that begin in here; `to` UINT64_MAX: up to the end */
};

struct ind_search {
    const struct ind_search_settings *settings;
    struct ind_search_piece *pieces;
    size_t piece_count;
    atomic_size_t next;
    atomic_uint_fast64_t bytes;
    unsigned fields;
    bool labels; /* something asks for labels: they come from the present configuration */
    struct ind_slice list[IND_SEARCH_LITERALS]; /* every answer holds one of these */
    size_t literal_count, shortest_literal;
    struct ind_finder finder;                /* where there is one */
    struct ind_literals *literals;           /* where there are several */
    bool literals_in_json, literals_in_text; /* they stand there as they are */
    uint8_t may_be[24];    /* of each facility the severities that an answer may have, a bit for each */
    bool some_pri_is_none; /* it may not have all of them */
    uint64_t *keys;        /* of the index, of all literals; NULL: these tell nothing */
    size_t key_ends[IND_SEARCH_LITERALS];
    atomic_uint_fast64_t archives, frames, left_out[IND_LEFT_OUT_KINDS], bytes_left_out;
    unsigned lost_in_edits; /* fields that edits may have given */
    struct ind_sorter **sorters;
    size_t worker_count;
    struct ind_groups groups;
};

struct ind_search_worker {
    struct ind_search *search;
    pthread_t thread;
    struct ind_sorter *sorter;
    struct ind_answers answers;
    struct ind_line_reader *reader;
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;
    char *line; /* room to write one into */
    size_t line_room;
    char device[IND_DEVICE_SCRATCH];
    struct ind_groups groups;
    bool failed;
    uint64_t found, lines, bytes;
    uint64_t unread;
    bool *unread_file; /* per file */
    uint32_t *lacks;   /* per file: fields it does not hold */
    /* The file at hand. */
    size_t file;
    int stored; /* its layout: store/disk/stored.h */
    ind_time modified, last_time;
};

/* ---- frames.c ---- */

/* Once the literals are found. */
void ind_search_frames_begin(struct ind_search *search);
/* Whether an index may leave anything out. */
bool ind_search_frames_help(const struct ind_search *search);
/* Whether a frame is read, or why it need not be: IND_READ_IT, … */
enum ind_left_out ind_search_frame(const struct ind_search *search, const struct ind_index_frame *frame);

/* ---- line.c ---- */

/* A line of the file at hand, and its place there: read, asked, and kept or counted where it is an answer. */
void ind_search_read_line(struct ind_search_worker *worker, struct ind_slice line, uint64_t at);

/* Notes which of the fields that are asked for the lines of the file at hand do not hold: `fields`, and those
 * that its layout lacks. */
void ind_search_note_lacking(struct ind_search_worker *worker, unsigned fields);

#endif
