/* core/edit/edit.h: edits, the changes to a message before it is filed (docs/edits.md).
 *
 * Edits act in their order, each on the messages for which its condition holds as the edits above left them.
 * The edits of a configuration never change once made and may be shared by threads; an editor belongs to one
 * thread and holds the bytes that edits wrote. What outlives a message (how many there were, what was said
 * before) is kept by whoever calls: struct ind_edit_call. */
#ifndef IND_CORE_EDIT_EDIT_H
#define IND_CORE_EDIT_EDIT_H

#include "core/condition/condition.h"
#include "core/edit/mask.h"
#include "core/line/template.h"
#include "core/route/route.h"

enum ind_edit_kind {
    IND_EDIT_MASK,
    IND_EDIT_LABEL,
    IND_EDIT_DROP,
    IND_EDIT_SET,
    IND_EDIT_FORGET,
    IND_EDIT_TIME,
    IND_EDIT_THIN,   /* one in `number` */
    IND_EDIT_REPEAT, /* a text that was there within `span` is dropped */
    IND_EDIT_LIMIT,  /* beyond `number` within `span` they are dropped */
    IND_EDIT_KINDS
};

/* What an edit can change. The first ones are where masks look: bits 1 << of them. */
enum ind_place_in_message {
    IND_IN_TEXT,
    IND_IN_DATA, /* structured data: the values of its parameters */
    IND_IN_APP,
    IND_IN_PROCID,
    IND_IN_MSGID,
    IND_IN_HOST,
    IND_IN_TEXTS, /* how many of those there are */
    IND_IN_FACILITY = IND_IN_TEXTS,
    IND_IN_SEVERITY,
    IND_IN_LABEL,
    IND_IN_FIELD,
    IND_IN_TIME,
    IND_IN_PLACES
};

/* "text", "data", … "time"; never freed. */
const char *ind_place_name(enum ind_place_in_message place);

/* One thing that `label`, `set` and `forget` do. */
struct ind_change_text {
    enum ind_place_in_message in;
    struct ind_slice name;               /* of a label or a field; of an element of the structured data */
    struct ind_slice param;              /* of that element; empty: all of it */
    const struct ind_template *template; /* what is put there; NULL: nothing */
};

struct ind_edit {
    const char *name;
    const char *when_text; /* as written; NULL: every message */
    enum ind_edit_kind kind;
    /* IND_EDIT_MASK */
    unsigned kinds,
        places; /* bits: enum ind_mask_kind; 1 << enum ind_place_in_message, 0: those for the kind */
    struct ind_regex **regexes; /* PCRE2's, compiled; ended by NULL */
    struct ind_slice with;      /* what is put there; `stars`: as many stars instead */
    bool stars;
    /* IND_EDIT_LABEL, IND_EDIT_SET, IND_EDIT_FORGET */
    const struct ind_change_text *changes;
    size_t change_count;
    /* IND_EDIT_TIME */
    const struct ind_zone *zone; /* NULL: the one it had */
    struct ind_slice field;      /* empty: the message's own timestamp */
    /* Those that remember */
    uint64_t number;
    ind_time span;
};

enum { IND_MOST_EDITS = 1000 }; /* of one configuration */

struct ind_edits {
    struct ind_edit *list;
    struct ind_route *rules; /* their conditions, for the router */
    size_t count;
    const struct ind_conditions *set;
    const struct ind_zone *default_zone; /* of messages whose device has none of its own */
    struct ind_router *router;           /* over `rules`; NULL: there are none */
    bool remember;                       /* some remember what was before */
    bool wants_original; /* something asks for the message's bytes as received: they are edited too */
};

/* "30 s", "2 min": as people write a span of whole seconds. */
static inline void ind_span_write_short(struct ind_buffer *buffer, int64_t seconds)
{
    bool minutes = seconds % 60 == 0;
    ind_buffer_number(buffer, (unsigned long long)(minutes ? seconds / 60 : seconds));
    ind_buffer_text(buffer, minutes ? " min" : " s");
}

/* " a second", " a minute", …: of a limit. */
static inline const char *ind_limit_unit(ind_time span)
{
    return span <= IND_SECOND          ? " a second"
           : span <= 60 * IND_SECOND   ? " a minute"
           : span <= 3600 * IND_SECOND ? " an hour"
                                       : " a day";
}

/* Whether what it decides depends on messages before. */
static inline bool ind_edit_remembers(const struct ind_edit *edit)
{
    return edit->kind >= IND_EDIT_THIN;
}

/* Compiles a regular expression for `regexes`. False with *mistake made; one that could hide nothing at all
 * is a mistake too. Free it with ind_regex_free, also then. */
bool ind_mask_regex_read(struct ind_slice text, struct ind_regex **regex, struct ind_mistake *mistake);

/* Makes the router, once the set is compiled. False where memory is out. */
bool ind_edits_compile(struct ind_edits *edits, const struct ind_conditions *set);

/* One change that was made, for whoever wants to show it. Borrowed for the call. What a mask hid is in none
 * of it. */
struct ind_change {
    uint32_t edit;
    enum ind_place_in_message in;
    struct ind_slice name;          /* of a label or field */
    struct ind_slice before, after; /* before: empty for masks */
    const struct ind_span *marks;   /* of masks: what was put there, in `after` */
    size_t mark_count;
};

/* How edits are called. */
struct ind_edit_call {
    /* Answers whether an edit that remembers lets the message go on. NULL: all do. */
    bool (*remember)(void *context, const struct ind_edit *edit, const struct ind_message *message);
    /* Told of each change; NULL: nobody wants to know. */
    void (*changed)(void *context, const struct ind_change *change);
    /* Told of each edit before it acts, whether its condition holds: for showing why. NULL: nobody wants to
     * know, which is quicker. */
    void (*asked)(void *context, uint32_t edit, bool holds, const struct ind_message *message,
                  struct ind_answers *answers);
    void *context;
    bool go_on;         /* past a drop, so that what masks below it hide is hidden: for showing a message */
    bool keep_original; /* edit message->original too, and let the parts of the header point into it */
};

/* Adds to *pris those with which a message may come to another facility or severity. */
void ind_edits_pris(const struct ind_edits *edits, struct ind_pris *pris);

struct ind_editor;
/* New; borrows the edits. NULL where memory is out. */
struct ind_editor *ind_editor_new(const struct ind_edits *edits);
void ind_editor_free(struct ind_editor *editor);

/* Applies all edits to the message, whose slices then point to where they did before, or into the editor
 * until the next call. `reference` settles the year of dates without one. The answers, of the edits' set and
 * prepared for their router, are begun anew and then those for the message as it came out. Returns the edit
 * that dropped it (with `go_on`: the first that would have), or NULL. */
const struct ind_edit *ind_edits_apply(const struct ind_edits *edits, struct ind_editor *editor,
                                       struct ind_message *message, struct ind_answers *answers,
                                       ind_time reference, const struct ind_edit_call *call);

/* Hides in the name of a device that is not configured what any mask would hide in the host that it is called
 * by: for a message that was dropped before it came to them, and is counted all the same. */
void ind_edits_hide_device(const struct ind_edits *edits, struct ind_editor *editor,
                           struct ind_message *message);

/* The edits that changed the last message, by number, each once. */
const uint32_t *ind_editor_changed(const struct ind_editor *editor, size_t *count);

/* How often a regular expression of a mask took too long; then all of that text was hidden. */
uint64_t ind_editor_gave_up(const struct ind_editor *editor);

/* ---- apply_mask.c: for edit.c only ---- */

struct ind_masker {
    struct ind_spans spans; /* of the text looked at last */
    struct ind_span *put;   /* what was put there, in the new text */
    struct ind_regex_room regex;
    uint64_t gave_up;
    char *plain;      /* a text with its escapes undone */
    uint32_t *places; /* where each of its bytes, and its end, stands in the text */
};

bool ind_masker_begin(struct ind_masker *masker);
void ind_masker_end(struct ind_masker *masker);
/* Writes the text with what the mask hides; false where there is nothing to hide, or it does not look there.
 */
bool ind_mask_write(const struct ind_edit *edit, enum ind_place_in_message in, struct ind_slice text,
                    struct ind_masker *masker, struct ind_buffer *out);

#endif
