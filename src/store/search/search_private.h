/* store/search/search_private.h: a search under way, for the files that do it.
 *
 * Each file is cut into parts (parts.c): ranges of a plain one, frames of an archive with an index, or all of
 * it. Threads take the part of which the lines may be the earliest (work.c), read it (reading.c), ask each
 * line (line.c), and hand over what is found in sorted runs. The thread that called merges these (order.c),
 * and gives away what is earlier than all that is not read yet. */
#ifndef IND_STORE_SEARCH_SEARCH_PRIVATE_H
#define IND_STORE_SEARCH_SEARCH_PRIVATE_H

#include "core/find/find.h"
#include "core/find/literals.h"
#include "core/line/line.h"
#include "core/line/template.h"
#include "store/disk/frame.h"
#include "store/disk/index_file.h"
#include "store/disk/line_reader.h"
#include "store/search/around.h"
#include "store/search/groups.h"
#include "store/search/once.h"
#include "store/search/quick.h"
#include "store/search/runs.h"
#include "store/search/search.h"
#include "thread/mutex.h"
#include <stdatomic.h>
#include <sys/stat.h>

enum { IND_SEARCH_LITERALS = 256 };

/* Before all keys, and behind them. */
#define IND_KEY_LEAST INT64_MIN
#define IND_KEY_MOST INT64_MAX

struct ind_search_part {
    uint64_t from;           /* bytes of the file: where it begins, or its frame */
    uint64_t text, text_end; /* lines that begin in here, counted in bytes of the text */
    uint32_t packed;         /* of a frame */
    ind_time low;            /* no key of its lines is less */
};

enum ind_search_cut { IND_NOT_CUT, IND_CUT_IN_RANGES, IND_CUT_IN_FRAMES, IND_CUT_NOT_AT_ALL };

/* A file, or a share of a large plain one, cut into parts once it has been looked into. Of one thread from
 * when it is taken out of the queue until it is put back. */
struct ind_search_unit {
    size_t file;
    uint64_t from, to; /* bytes of a plain file that are its share */
    enum ind_search_cut cut;
    bool scouted; /* of ranges: the times of the lines are known, as far as they can be */
    struct ind_search_part *parts;
    size_t part_count, next;
    ind_time low; /* of what is left of it */
    ino_t inode;  /* which file was looked into */
    dev_t device;
};

struct ind_search_keys {
    uint64_t *list;
    size_t count, room;
    bool failed;
};

/* What an index is asked for one test: whether it has all keys of one of its values, or any of them. */
struct ind_search_test {
    bool known, any;
    size_t from, *ends; /* in the list of keys, of each value */
};

struct ind_search {
    const struct ind_search_settings *settings;
    bool ordered; /* lines are wanted in order, or counted once */
    unsigned fields;
    bool measures;         /* of each message more is wanted than its group */
    bool labels;           /* something asks for labels: they come from the present configuration */
    bool header_only;      /* the condition asks for no more of a line than its quick reading tells */
    bool who_decides;      /* it asks for no more than who has sent the line, facility and severity */
    bool time_only;        /* nothing asks for more than the time, and lines are given as they stand */
    bool header_is_enough; /* nor does what is made of those that are found */
    struct ind_slice list[IND_SEARCH_LITERALS]; /* every answer holds one of these */
    size_t literal_count, shortest_literal;
    struct ind_finder finder;                /* where there is one */
    struct ind_literals *literals;           /* where there are several */
    bool literals_in_json, literals_in_text; /* they stand there as they are */
    uint8_t may_be[24]; /* of each facility the severities that an answer may have, a bit for each */
    struct ind_search_test *tests;
    size_t test_count;
    struct ind_search_keys keys;
    unsigned lost_in_edits; /* fields that edits may have given */
    size_t range;           /* bytes of a part of a plain file */

    atomic_uint_fast64_t bytes, archives, frames, left_out[IND_LEFT_OUT_KINDS], bytes_left_out;
    atomic_uint_fast64_t all,
        uncut; /* bytes of text that are to be read, and units of which that is not known */
    atomic_bool stopped;

    struct ind_mutex mutex;
    struct ind_condition_variable work_there, room_there, found_there;
    struct ind_search_unit *units;
    size_t unit_count;
    struct ind_search_unit **queue; /* a heap, the least `low` first */
    size_t queue_count IND_GUARDED_BY(mutex);
    size_t looking IND_GUARDED_BY(mutex);   /* workers that may yet put a unit back */
    size_t waiting IND_GUARDED_BY(mutex);   /* workers that wait for room */
    size_t unscouted IND_GUARDED_BY(mutex); /* units in ranges */
    size_t working IND_GUARDED_BY(mutex);   /* workers that have not ended */
    bool scout IND_GUARDED_BY(mutex);
    size_t pending IND_GUARDED_BY(mutex); /* bytes of runs that have not been given away */
    struct ind_run **inbox IND_GUARDED_BY(mutex);
    size_t inbox_count IND_GUARDED_BY(mutex), inbox_room IND_GUARDED_BY(mutex);

    struct ind_search_worker *workers;
    size_t worker_count;
    struct ind_groups groups;
};

struct ind_search_worker {
    struct ind_search *search;
    pthread_t thread;
    ind_time low; /* of what it reads; guarded by the mutex */
    struct ind_run *run;
    struct ind_slice block; /* at hand; nothing: lines of it are to be copied */
    char *buffer;           /* of a whole part */
    size_t buffer_room;
    struct ind_answers answers;
    struct ind_line_reader *reader;
    struct ind_quick quick;
    struct ind_path_clock clock;
    struct ind_by_reader by_reader;
    struct ind_line_clock line_clock;
    struct ind_around_mark mark; /* of the line at hand, where others may be given with it */
    char *line;                  /* room to write one into */
    size_t line_room;
    char device[IND_DEVICE_SCRATCH];
    struct ind_groups groups;
    bool failed;
    uint64_t found;
    uint64_t unread;
    bool *unread_file; /* per file */
    uint32_t *lacks;   /* per file: fields it does not hold */
    struct ind_frame_reader *frame;
    /* The file at hand. */
    size_t file;
    int opened; /* -1: none */
    enum ind_compression compression;
    uint64_t limit;
    struct stat facts;
    int stored; /* its layout: store/disk/stored.h */
    ind_time modified, last_time;
};

/* The key of a time in the order that is wanted. */
static inline ind_time ind_search_key(const struct ind_search *search, ind_time time)
{
    return search->settings->reverse ? ~time : time;
}

/* How the lines of a file are read (store/disk/stored.h). */
static inline int ind_search_stored(const struct ind_search_file *file)
{
    return file->stored ? file->stored->stored : file->as;
}

/* Lines of these files are read one by one: each tells its own time. */
static inline bool ind_search_is_self_timed(int stored)
{
    return stored == IND_LAYOUT_PLAIN || stored == IND_LAYOUT_PLAIN + IND_STORED_OLD ||
           stored == IND_LAYOUT_JSON || stored == IND_LAYOUT_RFC5424;
}

/* ---- frames.c ---- */

/* Once, before any frame is asked. False where memory is out. */
bool ind_search_frames_begin(struct ind_search *search);
void ind_search_frames_end(struct ind_search *search);
/* Whether a frame is read, or why it need not be: IND_READ_IT, … */
enum ind_left_out ind_search_frame(const struct ind_search *search, const struct ind_index *index,
                                   const struct ind_index_frame *frame);
/* Whether a message with a time between these two, and these, may be within the span that is asked for. */
bool ind_search_span_meets(const struct ind_search_settings *settings, ind_time first, ind_time last);

/* ---- parts.c ---- */

/* Looks into the file that the worker has opened: cuts it into parts. False where memory is out. */
bool ind_search_cut(struct ind_search_worker *worker, struct ind_search_unit *unit);
/* Finds out the times of the lines in each range that is left. */
void ind_search_scout(struct ind_search_worker *worker, struct ind_search_unit *unit);

/* ---- reading.c ---- */

/* Opens the file of the unit as the one at hand; false, reported, where that cannot be. */
bool ind_search_open(struct ind_search_worker *worker, const struct ind_search_unit *unit);
void ind_search_close(struct ind_search_worker *worker);
void ind_search_read_part(struct ind_search_worker *worker, const struct ind_search_unit *unit,
                          const struct ind_search_part *part);

/* ---- handing.c ---- */

/* Hands over what was found so far, where that is much or `all`. */
void ind_search_hand_over(struct ind_search_worker *worker, bool all);
/* Adds the groups that the worker has counted to those of all. */
void ind_search_join_groups(struct ind_search_worker *worker);
void ind_search_stop(struct ind_search *search);

/* ---- work.c ---- */

/* A thread of a search, until all is read. */
void *ind_search_work(void *worker);
/* Makes a unit of each file, or several of a large one, and puts them into the queue, before any thread is
 * there. False where memory is out. */
bool ind_search_queue(struct ind_search *search);
/* No key that is not handed over yet is less. */
ind_time ind_search_watermark(const struct ind_search *search) IND_REQUIRES(search->mutex);

/* ---- order.c ---- */

/* Gives away what the workers find in order, until all is given, or nobody wants more. */
void ind_search_give(struct ind_search *search, struct ind_search_result *result);

/* ---- among.c ---- */

uint64_t ind_among_hash(struct ind_slice name);
bool ind_among_has(const struct ind_among *among, uint64_t hash);
/* Whether a frame may hold a line of one of them. */
bool ind_among_meets(const struct ind_among *among, const struct ind_index *index,
                     const struct ind_index_frame *frame);

/* ---- line.c ---- */

/* A line of the file at hand, and its place there: read, asked, and kept or counted where it is an answer. */
void ind_search_read_line(struct ind_search_worker *worker, struct ind_slice line, uint64_t at);

/* Notes which of the fields that are asked for the lines of the file at hand do not hold: `fields`, and those
 * that its layout lacks. */
void ind_search_note_lacking(struct ind_search_worker *worker, unsigned fields);

#endif
