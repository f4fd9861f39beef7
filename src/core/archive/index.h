/* core/archive/index.h: the index of an archive: for each of its frames, what it may hold
 * (docs/archive-format.md).
 *
 * It answers "may this frame hold a line that …?" with no only where that is certain. What of a frame is not
 * known, it may hold. */
#ifndef IND_CORE_ARCHIVE_INDEX_H
#define IND_CORE_ARCHIVE_INDEX_H

#include "core/time/civil.h"

/* ---- Keys: what is looked for in a frame, as a hash ---- */

enum ind_index_kind { IND_INDEX_TOKEN, IND_INDEX_APP, IND_INDEX_HOST, IND_INDEX_MSGID, IND_INDEX_DEVICE };

/* Calls `add` for each key of a text: its tokens (runs of letters, digits and bytes beyond ASCII), and runs
 * of two and of four tokens with one or two of ".-:_/@" between each, all in lower case. Left out are those
 * of which a text has too many to tell frames apart: tokens of one or two bytes, numbers of up to three
 * digits, runs of two numbers, and of four numbers unless points join them. `scratch`: room for as many
 * bytes. */
void ind_index_keys(struct ind_slice text, char *scratch, void (*add)(void *context, uint64_t key),
                    void *context);
/* The key of a whole value, of its first 256 bytes, in lower case. */
uint64_t ind_index_key(enum ind_index_kind kind, struct ind_slice value);

/* The part of a text that holds whole tokens only, wherever it is found: at an open end a token may go on in
 * the text that is looked through. */
struct ind_slice ind_index_inside(struct ind_slice text, bool open_before, bool open_behind);

/* ---- Writing ---- */

/* What is known of all lines of a file. */
enum {
    IND_INDEX_TIMES = 1,   /* first and last */
    IND_INDEX_PRI = 2,     /* facilities and severities */
    IND_INDEX_DEVICES = 4, /* devices */
    IND_INDEX_KEYS = 8     /* tokens, and values of app, host and msgid */
};

struct ind_index_line {
    ind_time time; /* IND_TIME_NONE: not known, so the frame may hold any */
    uint8_t facility, severity;
    struct ind_slice device, host, app, msgid, text; /* IND_NOTHING where absent */
};

struct ind_index_writer;

/* `known`: of the above; `frame`: bytes of text of one at most. NULL where memory is out. */
struct ind_index_writer *ind_index_writer_new(unsigned known, size_t frame);
void ind_index_writer_free(struct ind_index_writer *writer);

/* A line of the present frame; NULL: one of which nothing is known. */
void ind_index_add_line(struct ind_index_writer *writer, const struct ind_index_line *line);
/* Ends the present frame, which takes `packed` bytes of the file and holds `text` bytes. False where memory
 * is out. */
bool ind_index_end_frame(struct ind_index_writer *writer, uint32_t packed, uint32_t text);
/* The index of all frames; the caller's. NULL where memory is out, or it would be too long. */
char *ind_index_finish(struct ind_index_writer *writer, size_t *length);

/* ---- Reading ---- */

/* The last bytes of an index: so many tell how long it is. */
enum { IND_INDEX_TAIL = 16, IND_INDEX_LONGEST = 256 << 20 };

/* The length of the index that ends with these; 0: there is none. */
size_t ind_index_length(const char tail[IND_INDEX_TAIL]);

struct ind_index_frame {
    uint64_t offset; /* in the file */
    uint32_t packed, text, lines;
    bool times_known, pri_known, devices_known, keys_known;
    bool devices_as_keys; /* those that are not listed */
    ind_time first, last;
    uint32_t facilities; /* bit sets */
    uint8_t severities;
    const char *devices; /* their numbers, two bytes each */
    uint32_t device_count;
    const uint8_t *filter;
    uint32_t filter_size; /* bytes */
    uint32_t probes;
};

struct ind_index {
    uint32_t frame_count;
    uint64_t text, lines; /* of all frames */
    struct ind_index_frame *frames;
    struct ind_slice *devices;
    uint32_t device_count;
};

/* Reads an index whole, which must outlive it. `before`: bytes of the file in front of it, which its frames
 * must fill. False where anything is not as it must be, and then it is as if there were none. */
bool ind_index_read(struct ind_slice bytes, uint64_t before, struct ind_index *index);
void ind_index_free(struct ind_index *index);

/* A device of the frame's list. */
struct ind_slice ind_index_device(const struct ind_index *index, const struct ind_index_frame *frame,
                                  uint32_t number);
bool ind_index_has_key(const struct ind_index_frame *frame, uint64_t key);
bool ind_index_has_device(const struct ind_index *index, const struct ind_index_frame *frame,
                          struct ind_slice device);

#endif
