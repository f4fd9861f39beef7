/* The fields that conditions ask for: what each is, and where a message has it. */
#include "core/condition/condition_private.h"
#include "core/message/header.h"

/* What is asked of which field; a row is all that a new field needs here. */
#define OPS_WORDS (OP_IS | OP_CONTAINS | OP_MENTIONS | OP_STARTS | OP_ENDS | OP_MATCHES | OP_PRESENT)
#define OPS_NUMBERS (OP_AT_LEAST | OP_AT_MOST)
#define OPS_TEXT (OPS_WORDS | OPS_NUMBERS)
static const char of_severity[] = "is, is not, in, not in, at least or at most";
static const char of_facility[] = "is, is not, in or not in";
static const char of_text[] =
    "is, in, contains, mentions, starts with, ends with, matches, at least, at most, "
    "is present or is absent";
static const char of_address[] = "is, in, contains, mentions, starts with, ends with, matches, within, is "
                                 "present or is absent";
static const char of_value[] =
    "is, in, contains, mentions, starts with, ends with, matches, at least, at most, "
    "within, is present or is absent";
static const char of_pattern[] = "is, in, contains, starts with, ends with, is present or is absent";
static const char of_lag[] = "at least, at most, is present or is absent";
static const char of_time[] = "within, as in: time within 22:00-06:00";

const struct field_row ind_field_rows[IND_FIELDS] = {
    [IND_FIELD_FACILITY] = {"facility", of_facility, OP_IS, KIND_FACILITY, false},
    [IND_FIELD_SEVERITY] = {"severity", of_severity, OP_IS | OPS_NUMBERS, KIND_SEVERITY, false},
    [IND_FIELD_HOST] = {"host", of_address, OPS_WORDS | OP_WITHIN, KIND_NAME, false},
    [IND_FIELD_DEVICE] = {"device", of_address, OPS_WORDS | OP_WITHIN, KIND_NAME, false},
    [IND_FIELD_SENDER] = {"sender", of_address, OPS_WORDS | OP_WITHIN, KIND_TEXT, false},
    [IND_FIELD_LISTENER] = {"listener", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_TRANSPORT] = {"transport", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_APP] = {"app", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_PROCID] = {"procid", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_MSGID] = {"msgid", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_TEXT] = {"text", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_ORIGINAL] = {"original", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_PATTERN] = {"pattern", of_pattern, OP_IS | OP_STARTS | OP_ENDS | OP_CONTAINS | OP_PRESENT,
                           KIND_TEXT, false},
    [IND_FIELD_LAG] = {"lag", of_lag, OPS_NUMBERS | OP_PRESENT, KIND_NUMBER, false},
    [IND_FIELD_LABEL] = {"label", of_value, OPS_TEXT | OP_WITHIN, KIND_TEXT, false},
    [IND_FIELD_DATA] = {"data", of_value, OPS_TEXT | OP_WITHIN, KIND_TEXT, true},
    [IND_FIELD_FIELD] = {"field", of_value, OPS_TEXT | OP_WITHIN, KIND_TEXT, true},
    [IND_FIELD_TIME] = {"time", of_time, OP_DURING, KIND_TIME, false},
    [IND_FIELD_DAY] = {"day", of_facility, OP_IS, KIND_DAY, false},
};

const size_t ind_place_of_field[IND_FIELDS] = {
    [IND_FIELD_HOST] = offsetof(struct ind_message, host),
    [IND_FIELD_DEVICE] = offsetof(struct ind_message, device),
    [IND_FIELD_SENDER] = offsetof(struct ind_message, sender),
    [IND_FIELD_LISTENER] = offsetof(struct ind_message, listener),
    [IND_FIELD_APP] = offsetof(struct ind_message, app),
    [IND_FIELD_PROCID] = offsetof(struct ind_message, procid),
    [IND_FIELD_MSGID] = offsetof(struct ind_message, msgid),
    [IND_FIELD_TEXT] = offsetof(struct ind_message, text),
    [IND_FIELD_ORIGINAL] = offsetof(struct ind_message, original),
};

struct ind_slice ind_field_name(enum ind_field field)
{
    return ind_slice_of(ind_field_rows[field].name);
}

int ind_field_read(struct ind_slice name)
{
    for (int i = 0; i < IND_FIELDS; i++)
        if (ind_slice_equal(name, ind_slice_of(ind_field_rows[i].name)))
            return i;
    return -1;
}

bool ind_field_is_text(enum ind_field field)
{
    return field >= IND_FIELD_HOST && field <= IND_FIELD_ORIGINAL;
}

struct ind_slice ind_field_text(const struct ind_message *message, enum ind_field field)
{
    switch (field) {
    case IND_FIELD_HOST:
        return message->host;
    case IND_FIELD_DEVICE:
        return message->device;
    case IND_FIELD_SENDER:
        return message->sender;
    case IND_FIELD_LISTENER:
        return message->listener;
    case IND_FIELD_TRANSPORT:
        return ind_transport_name(message->transport);
    case IND_FIELD_APP:
        return message->app;
    case IND_FIELD_PROCID:
        return message->procid;
    case IND_FIELD_MSGID:
        return message->msgid;
    case IND_FIELD_TEXT:
        return message->text;
    case IND_FIELD_ORIGINAL:
        return message->original;
    default:
        return IND_NOTHING;
    }
}
