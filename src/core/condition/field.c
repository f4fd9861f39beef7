/* The fields that conditions ask for: what each is, and where a message has it. */
#include "core/condition/condition_private.h"
#include "core/message/header.h"

/* What is asked of which field; a row is all that a new field needs here. */
#define OPS_WORDS                                                                                            \
    (IND_OP_IS | IND_OP_CONTAINS | IND_OP_MENTIONS | IND_OP_STARTS | IND_OP_ENDS | IND_OP_MATCHES |          \
     IND_OP_PRESENT)
#define OPS_NUMBERS (IND_OP_AT_LEAST | IND_OP_AT_MOST)
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

const struct ind_field_row ind_field_rows[IND_FIELDS] = {
    [IND_FIELD_FACILITY] = {"facility", of_facility, IND_OP_IS, IND_KIND_FACILITY, false},
    [IND_FIELD_SEVERITY] = {"severity", of_severity, IND_OP_IS | OPS_NUMBERS, IND_KIND_SEVERITY, false},
    [IND_FIELD_HOST] = {"host", of_address, OPS_WORDS | IND_OP_WITHIN, IND_KIND_NAME, false},
    [IND_FIELD_DEVICE] = {"device", of_address, OPS_WORDS | IND_OP_WITHIN, IND_KIND_NAME, false},
    [IND_FIELD_SENDER] = {"sender", of_address, OPS_WORDS | IND_OP_WITHIN, IND_KIND_TEXT, false},
    [IND_FIELD_LISTENER] = {"listener", of_text, OPS_TEXT, IND_KIND_TEXT, false},
    [IND_FIELD_TRANSPORT] = {"transport", of_text, OPS_TEXT, IND_KIND_TEXT, false},
    [IND_FIELD_CERTIFICATE] = {"certificate", of_address, OPS_WORDS | IND_OP_WITHIN, IND_KIND_NAME, false},
    [IND_FIELD_APP] = {"app", of_text, OPS_TEXT, IND_KIND_TEXT, false},
    [IND_FIELD_PROCID] = {"procid", of_text, OPS_TEXT, IND_KIND_TEXT, false},
    [IND_FIELD_MSGID] = {"msgid", of_text, OPS_TEXT, IND_KIND_TEXT, false},
    [IND_FIELD_TEXT] = {"text", of_text, OPS_TEXT, IND_KIND_TEXT, false},
    [IND_FIELD_ORIGINAL] = {"original", of_text, OPS_TEXT, IND_KIND_TEXT, false},
    [IND_FIELD_PATTERN] = {"pattern", of_pattern,
                           IND_OP_IS | IND_OP_STARTS | IND_OP_ENDS | IND_OP_CONTAINS | IND_OP_PRESENT,
                           IND_KIND_TEXT, false},
    [IND_FIELD_LAG] = {"lag", of_lag, OPS_NUMBERS | IND_OP_PRESENT, IND_KIND_NUMBER, false},
    [IND_FIELD_LABEL] = {"label", of_value, OPS_TEXT | IND_OP_WITHIN, IND_KIND_TEXT, false},
    [IND_FIELD_DATA] = {"data", of_value, OPS_TEXT | IND_OP_WITHIN, IND_KIND_TEXT, true},
    [IND_FIELD_FIELD] = {"field", of_value, OPS_TEXT | IND_OP_WITHIN, IND_KIND_TEXT, true},
    [IND_FIELD_TIME] = {"time", of_time, IND_OP_DURING, IND_KIND_TIME, false},
    [IND_FIELD_DAY] = {"day", of_facility, IND_OP_IS, IND_KIND_DAY, false},
};

const size_t ind_place_of_field[IND_FIELDS] = {
    [IND_FIELD_HOST] = offsetof(struct ind_message, host),
    [IND_FIELD_DEVICE] = offsetof(struct ind_message, device),
    [IND_FIELD_SENDER] = offsetof(struct ind_message, sender),
    [IND_FIELD_LISTENER] = offsetof(struct ind_message, listener),
    [IND_FIELD_CERTIFICATE] = offsetof(struct ind_message, certificate),
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
    case IND_FIELD_CERTIFICATE:
        return message->certificate;
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
