#include "core/pattern/fields.h"

#include "core/payload/parts.h"

static void add_pattern_field(const struct ind_matcher *matcher, const struct ind_pattern_field *field,
                              struct ind_payload *payload)
{
    struct ind_slice value = ind_match_field(matcher, field);
    size_t before = payload->count + (field->name.length > 0);
    if (field->name.length)
        (void)ind_payload_add(payload, field->name, value);
    if (field->type == IND_TYPE_PAIRS)
        ind_payload_read_pairs(value, field->name, payload);
    else if (field->type == IND_TYPE_JSON && !ind_payload_read_json(value, field->name, payload))
        payload->count = before; /* braces, but no JSON in them */
}

/* Of names that the pattern gives, the payload's are left out. */
static void hide(struct ind_payload *payload, size_t given)
{
    size_t kept = given;
    for (size_t i = given; i < payload->count; i++) {
        bool hidden = false;
        for (size_t j = 0; j < given && !hidden; j++)
            hidden = ind_slice_equal(payload->fields[i].name, payload->fields[j].name);
        if (!hidden)
            payload->fields[kept++] = payload->fields[i];
    }
    payload->count = kept;
}

/* Fields that edits gave or took: nobody else's of that name is left. */
static void edit_fields(const struct ind_additions *additions, struct ind_payload *payload)
{
    for (size_t i = 0; i < additions->count; i++) {
        const struct ind_addition *addition = &additions->list[i];
        size_t kept = 0, from_pattern = payload->from_pattern;
        if (addition->kind == IND_ADDED_LABEL)
            continue;
        for (size_t k = 0; k < payload->count; k++)
            if (!ind_slice_equal(payload->fields[k].name, addition->name))
                payload->fields[kept++] = payload->fields[k];
            else
                payload->from_pattern -= k < from_pattern;
        payload->count = kept;
        if (addition->kind == IND_ADDED_FIELD)
            (void)ind_payload_add(payload, addition->name, addition->value);
    }
}

void ind_fields_read(const struct ind_message *message, const struct ind_matcher *matcher,
                     const struct ind_pattern_syntax *layout, struct ind_slice pattern, char *scratch,
                     size_t room, struct ind_payload *payload)
{
    ind_payload_begin(payload, scratch, room);
    for (size_t i = 0; layout && i < layout->field_count; i++)
        add_pattern_field(matcher, &layout->fields[i], payload);
    size_t given = payload->count;
    payload->kinds = 0;
    payload->pattern = pattern;
    payload->from_pattern = given;
    ind_payload_add_known(message, payload);
    if (given)
        hide(payload, given);
    if (message->additions)
        edit_fields(message->additions, payload);
}
