/* core/condition/condition.h: conditions, the yes/no questions about a message (docs/conditions.md).
 *
 *     condition := all { "or" all }
 *     all       := term { "and" term }
 *     term      := ["not"] ( "(" condition ")" | test | NAME )
 *     test      := FIELD OPERATOR [VALUE]
 *
 * A set holds many conditions. Tests that say the same are kept once, and a message is put to each at most
 * once: the answers are remembered in a struct ind_answers until the next message. A set is filled by one
 * thread, then only read, and may be shared; answers belong to one thread. */
#ifndef IND_CORE_CONDITION_CONDITION_H
#define IND_CORE_CONDITION_CONDITION_H

#include "core/base/address.h"
#include "core/base/mistake.h"
#include "core/find/regex.h"
#include "core/message/message.h"
#include "core/message/names.h"
#include "core/message/pris.h"
#include "core/pattern/fields.h"
#include "core/time/zone.h"

struct ind_devices;

enum ind_field {
    IND_FIELD_FACILITY,
    IND_FIELD_SEVERITY,
    IND_FIELD_HOST,
    IND_FIELD_DEVICE,
    IND_FIELD_SENDER,
    IND_FIELD_LISTENER,
    IND_FIELD_TRANSPORT,
    IND_FIELD_CERTIFICATE,
    IND_FIELD_APP,
    IND_FIELD_PROCID,
    IND_FIELD_MSGID,
    IND_FIELD_TEXT,
    IND_FIELD_ORIGINAL,
    IND_FIELD_PATTERN,
    IND_FIELD_LAG,   /* seconds */
    IND_FIELD_LABEL, /* these three: with a name behind it */
    IND_FIELD_DATA,
    IND_FIELD_FIELD,
    IND_FIELD_TIME, /* of day, on the collector's clock */
    IND_FIELD_DAY,
    IND_FIELDS
};

struct ind_conditions;
typedef uint32_t ind_condition; /* belongs to the set that read it */

/* A condition that holds for every message; good in every set. */
#define IND_CONDITION_ALWAYS ((ind_condition)0)

/* The named conditions that a text may use. `resolve` gives the condition of name `index`. */
enum ind_resolved { IND_RESOLVED, IND_RESOLVED_CIRCLE, IND_RESOLVED_BROKEN };
struct ind_named {
    const char *const *names;
    size_t count;
    enum ind_resolved (*resolve)(void *context, size_t index, ind_condition *condition);
    void *context;
};

/* New; names of hosts within `domain` (copied, may be empty) are compared without it; `zone` (borrowed; NULL:
 * UTC) tells the time of day; `patterns` (borrowed, compiled; may be NULL) give fields. NULL where memory is
 * out. */
struct ind_conditions *ind_conditions_new(struct ind_slice domain, const struct ind_zone *zone,
                                          const struct ind_patterns *patterns);
void ind_conditions_free(struct ind_conditions *set);

/* Reads a condition into the set. `named` may be NULL. False, with *mistake made, where the text is no
 * condition. Where a named condition used here is itself broken, *mistake stays unmade: it has been reported
 * at its own place. */
bool ind_condition_read(struct ind_conditions *set, struct ind_slice text, const struct ind_named *named,
                        ind_condition *condition, struct ind_mistake *mistake);

/* Whether something well-formed is most likely not what was meant: it always holds ("host is not "a" or host
 * is not "b""), it never can, a field is given by nothing. `in_route`: "severity is warning" alone leaves out
 * what is worse. False with *mistake unmade where there is no warning. */
bool ind_condition_warn(const struct ind_conditions *set, ind_condition condition, bool in_route,
                        struct ind_mistake *mistake);

/* What is known of the world in which conditions will be asked. All borrowed. */
struct ind_surroundings {
    const struct ind_devices *devices;
    const struct ind_known_label {
        struct ind_slice name, value; /* terminated */
        bool any_value;               /* it may be any */
    } * labels;                       /* that edits give, beside those of devices */
    size_t label_count;
    const char *const *listeners; /* as the field `listener` names them */
    size_t listener_count;
    const struct ind_slice
        *examples; /* of the layouts of patterns, in their order; empty where there is none */
    size_t example_count;
    bool allow_given;
    const struct ind_network *allow;
    size_t allow_count;
};

/* Reports what the condition's own text compares with and nothing around it bears: labels, values of labels,
 * devices, listeners, transports, senders that are not allowed; and stars. None is a mistake. */
void ind_condition_find_unknown(const struct ind_conditions *set, ind_condition condition,
                                const struct ind_surroundings *around,
                                void (*report)(void *context, const struct ind_mistake *mistake),
                                void *context);

/* Makes *mistake, at that place, where no device has the label and no edit gives it. */
void ind_label_find_unknown(struct ind_slice name, const struct ind_surroundings *around, size_t at,
                            size_t length, struct ind_mistake *mistake);

/* Whether a sender in the network may be allowed. */
bool ind_is_allowed_in_part(const struct ind_surroundings *around, const struct ind_network *network);

size_t ind_conditions_tests(const struct ind_conditions *set);

/* Once all conditions are read: many tests of one field are from now on answered together. May be called
 * again after more have been read. False where memory is out; then every test is asked by itself. */
bool ind_conditions_compile(struct ind_conditions *set);

/* What one thread needs to put messages to a set, and what it found out about the message at hand. */
struct ind_answers {
    uint32_t *of_test; /* one for each test of the set, then one for each name, then one for each index */
    uint32_t *of_name, *looked; /* in it */
    size_t count;               /* of all of them */
    uint32_t *hits;             /* tests that an index has found to hold */
    size_t hit_count;
    uint64_t *marks; /* the routers', see ind_router_prepare; NULL: none */
    size_t mark_words;
    uint32_t round; /* of the message */
    uint32_t payload_round, pattern_round;
    struct ind_payload *payload;
    struct ind_matcher *matcher; /* NULL where there are no patterns */
    const struct ind_patterns *patterns;
    const struct ind_pattern_syntax *layout; /* that fits the message's text */
    uint64_t gave_up;                        /* how often a regular expression took too long */
    char *scratch;                           /* for fields whose escapes have to be undone */
    struct ind_regex_room regex;             /* where some test has an expression */
};

/* Fills *answers for a set that is complete. False where memory is out; then, too, it is to be freed. */
bool ind_answers_begin(struct ind_answers *answers, const struct ind_conditions *set);
void ind_answers_free(struct ind_answers *answers);

/* What was found out about the message is forgotten: it has been changed. What it may cost is still counted.
 */
static inline void ind_answers_forget(struct ind_answers *answers)
{
    answers->round += 2;
    answers->hit_count = 0;
    if (answers->round == 0) {
        memset(answers->of_test, 0, answers->count * sizeof *answers->of_test);
        answers->payload_round = answers->pattern_round = 0;
        answers->round = 2;
    }
}

/* Before each message. */
static inline void ind_answers_next(struct ind_answers *answers)
{
    ind_answers_forget(answers);
    ind_regex_room_next(&answers->regex);
    if (answers->matcher)
        ind_matcher_next(answers->matcher);
}

/* The message's fields, read at most once a message. */
const struct ind_payload *ind_answers_payload(struct ind_answers *answers, const struct ind_message *message);

/* The name of the pattern that fits the message's text; empty where none does. Looked for at most once a
 * message. */
struct ind_slice ind_answers_pattern(struct ind_answers *answers, const struct ind_message *message);

/* How often so far a regular expression or a pattern took too long, and was taken not to match. */
static inline uint64_t ind_answers_gave_up(const struct ind_answers *answers)
{
    return answers->gave_up + (answers->matcher ? ind_matcher_gave_up(answers->matcher) : 0);
}

bool ind_condition_holds(const struct ind_conditions *set, ind_condition condition,
                         const struct ind_message *message, struct ind_answers *answers);

/* What is known of a condition from facility and severity alone. */
enum ind_verdict { IND_NO, IND_YES, IND_OPEN };
enum ind_verdict ind_condition_by_pri(const struct ind_conditions *set, ind_condition condition,
                                      unsigned facility, unsigned severity);

/* Adds to *pris those with which a message may have it hold. */
void ind_condition_pris(const struct ind_conditions *set, ind_condition condition, struct ind_pris *pris);

/* Whether it is proved that the condition holds for every message. */
bool ind_condition_always(const struct ind_conditions *set, ind_condition condition);
/* Whether it is proved that `b` holds wherever `a` does. */
bool ind_condition_implies(const struct ind_conditions *set, ind_condition a, ind_condition b);

/* Bit 1 << enum ind_field for each field that the condition looks at. */
unsigned ind_condition_fields(const struct ind_conditions *set, ind_condition condition);

/* Literals of which the text or the app of every message holds one for which the condition holds: at most
 * `room`, as few and as long as can be. 0 where there are none such. They live as long as the set. */
size_t ind_condition_literals(const struct ind_conditions *set, ind_condition condition,
                              struct ind_slice *literals, size_t room);

/* ---- Of many messages at once, of which something is known (an index, a catalog) ---- */

enum ind_asked_for {
    IND_ASKED_IS,
    IND_ASKED_CONTAINS,
    IND_ASKED_MENTIONS,
    IND_ASKED_STARTS,
    IND_ASKED_ENDS,
    IND_ASKED_NEEDS, /* it holds for no value in which none of the texts stands */
    IND_ASKED_OTHER
};

/* A test, as it is put to who knows something of them. */
struct ind_asked {
    uint32_t test; /* its number in the set: less than ind_conditions_tests */
    enum ind_field field;
    enum ind_asked_for op;
    bool nocase;
    uint32_t numbers; /* facility, severity, day: a bit for each value that fits */
    const struct ind_slice *texts;
    size_t count;            /* of texts; the test holds where one of them fits */
    struct ind_slice domain; /* names of hosts are compared without it */
};

/* IND_NO: the condition holds for none of the messages; IND_YES: for all. `ask` says the same of a test. */
enum ind_verdict ind_condition_of_many(const struct ind_conditions *set, ind_condition condition,
                                       enum ind_verdict (*ask)(void *context, const struct ind_asked *asked),
                                       void *context);

/* Whether the test holds for a message whose field has that value (nothing: it has none). Not of those that
 * match an expression (IND_ASKED_NEEDS, IND_ASKED_OTHER). */
bool ind_asked_fits(const struct ind_conditions *set, const struct ind_asked *asked, struct ind_slice value);

/* "facility" and so on; the field of that name or -1. */
struct ind_slice ind_field_name(enum ind_field field);
int ind_field_read(struct ind_slice name);

/* The value as text of a field that needs no name and is one (host to original); empty for all others. */
struct ind_slice ind_field_text(const struct ind_message *message, enum ind_field field);
bool ind_field_is_text(enum ind_field field);

/* Why a condition holds, or does not: the tests that decide it. For "a and b" that fails it is the first that
 * fails; for "a or b" that fails, all of them. */
struct ind_reason {
    struct ind_slice test; /* as written, with its "not"; lives as long as the set */
    struct ind_slice name; /* of the named condition in which it stands, or empty */
    bool held;             /* the answer to `test` */
    bool present;          /* the message has the field */
    char seen[200];        /* its value as text, cut where it is long; terminated */
};

/* Fills at most `room` reasons and returns how many there are. The condition has been put to the message with
 * the same answers just before. */
size_t ind_condition_why(const struct ind_conditions *set, ind_condition condition,
                         const struct ind_message *message, struct ind_answers *answers,
                         struct ind_reason *reasons, size_t room);

/* The same, but for "a and b" that fails all that fail: how far a message was from meeting it. */
size_t ind_condition_why_all(const struct ind_conditions *set, ind_condition condition,
                             const struct ind_message *message, struct ind_answers *answers,
                             struct ind_reason *reasons, size_t room);

/* The condition as it was written; lives as long as the set. */
struct ind_slice ind_condition_text(const struct ind_conditions *set, ind_condition condition);

#endif
