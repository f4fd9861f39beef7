/* core/message/framing.h: where one message of a stream ends and the next begins (RFC 6587).
 *
 * A connection whose first bytes are digits, a space and `<` counts octets (section 3.4.1); any other ends
 * its messages at LF, NUL, or both (section 3.4.2); with `join`, a line that begins with a space or a tab
 * goes on with the message before, the end between them included. This is decided once. Bytes may come in any
 * portions: the same bytes give the same messages. Nothing is copied: what is handed out points into the
 * input, or into the framing itself for the first few bytes of a connection. */
#ifndef IND_CORE_MESSAGE_FRAMING_H
#define IND_CORE_MESSAGE_FRAMING_H

#include "core/base/slice.h"
#include <stdint.h>

/* A message longer than this is cut, marked and counted (docs/headers.md). */
enum { IND_MESSAGE_LIMIT = 65536 };

/* An octet count beyond this is taken for no count. */
enum { IND_OCTETS_MOST = 16 << 20 };

enum ind_framing_mode { IND_FRAMING_UNDECIDED, IND_FRAMING_COUNT, IND_FRAMING_LINES };

/* Begins as {0}. */
struct ind_framing {
    uint8_t mode;      /* enum ind_framing_mode */
    uint8_t head_used; /* bytes of `head` */
    bool counting;     /* within an octet count */
    bool cut;          /* the message under way is over the limit: its rest is skipped */
    bool under_way;    /* some of a message has come */
    bool join;         /* set by the caller: a line that begins with a blank belongs to the message before */
    bool waits;        /* with `join`: a line is whole, and may still be gone on with */
    char ended_by;     /* with `ended`: the byte that ended the last line */
    bool ended;
    uint32_t limit;  /* bytes of a message, set by the caller; 0: IND_MESSAGE_LIMIT, which is the most */
    uint32_t count;  /* octets still to come */
    uint32_t digits; /* of the count so far */
    size_t length;   /* of the message under way, as far as it is handed out */
    char head[12];   /* the first bytes, until the mode is decided */
};

enum ind_frame {
    IND_FRAME_MORE, /* the input is used up */
    IND_FRAME_PART, /* *bytes go on with the message under way */
    IND_FRAME_END,  /* *bytes (maybe none) are the last of the message under way, which is whole */
    IND_FRAME_BAD   /* where an octet count must stand there is none, or one too large: end the connection */
};

/* Takes the next piece from *input, which it moves on. At IND_FRAME_END, *cut tells whether the message was
 * over the limit. The parts of one message and its end together are as many bytes as the limit at most. */
enum ind_frame ind_framing_next(struct ind_framing *framing, struct ind_slice *input, struct ind_slice *bytes,
                                bool *cut);

/* The message that waits for a line that goes on with it is whole without one: where framing->waits, ends it
 * as IND_FRAME_END does, and returns true. */
bool ind_framing_end_wait(struct ind_framing *framing, struct ind_slice *bytes, bool *cut);

/* The stream is over. True where a message was under way: *bytes are its last (others were handed out
 * before), *cut whether more was to come. `broken_off`: the connection did not end in good order, or we end
 * it. */
bool ind_framing_end(struct ind_framing *framing, bool broken_off, struct ind_slice *bytes, bool *cut);

#endif
