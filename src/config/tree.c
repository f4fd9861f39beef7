#include "config/tree.h"

#include <stdint.h>
#include <stdlib.h>
#include <yaml.h>

enum { DEEPEST = 32 };

struct builder {
    yaml_parser_t parser;
    const struct ind_source *source;
    struct ind_diagnostics *diagnostics;
    size_t index, offset; /* the same place as libyaml counts (characters) and in bytes */
    bool failed;
};

const char *ind_node_kind_name(const struct ind_node *node)
{
    return node->kind == IND_NODE_MAP ? "a map" : node->kind == IND_NODE_LIST ? "a list" : "text";
}

void ind_tree_free(struct ind_node *node)
{
    if (!node)
        return;
    for (size_t i = 0; i < node->part_count; i++)
        ind_tree_free(node->parts[i]);
    free(node->parts);
    free((char *)(uintptr_t)node->text.at);
    free(node);
}

/* libyaml counts characters; marks come in order, so that one walk through the file serves them all. */
static size_t byte_of(struct builder *builder, size_t index)
{
    const struct ind_source *source = builder->source;
    if (index < builder->index)
        builder->index = builder->offset = 0;
    if (builder->offset == 0 && source->length >= 3 && memcmp(source->bytes, "\xEF\xBB\xBF", 3) == 0)
        builder->offset = 3;
    while (builder->index < index && builder->offset < source->length) {
        do
            builder->offset++;
        while (builder->offset < source->length &&
               ((unsigned char)source->bytes[builder->offset] & 0xC0) == 0x80);
        builder->index++;
    }
    return builder->offset;
}

/* What kind of value a key takes, for "quote the whole condition". */
static const char *kind_of_value(struct ind_slice key)
{
    if (ind_slice_equal(key, IND_SLICE("when")))
        return "condition";
    if (ind_slice_equal(key, IND_SLICE("file")) || ind_slice_equal(key, IND_SLICE("store")) ||
        ind_slice_equal(key, IND_SLICE("state")) || ind_slice_equal(key, IND_SLICE("include")))
        return "path";
    if (ind_slice_equal(key, IND_SLICE("address")) || ind_slice_equal(key, IND_SLICE("udp")) ||
        ind_slice_equal(key, IND_SLICE("traps")) || ind_slice_equal(key, IND_SLICE("allow")))
        return "address";
    return "value";
}

static void fail_memory(struct builder *builder)
{
    builder->failed = true;
    ind_diagnostic_add(builder->diagnostics, false, NULL, 0, 0,
                       "out of memory while reading the configuration");
}

struct line {
    size_t start, end;
    struct ind_slice key;
    size_t value; /* where the value starts; `end` where there is none */
};

/* The line around `offset`, split at its first "key:"; a "- " before the key is passed over. */
static struct line line_at(const struct ind_source *source, size_t offset)
{
    struct line line = {offset < source->length ? offset : source->length, 0, IND_NOTHING, 0};
    while (line.start > 0 && source->bytes[line.start - 1] != '\n')
        line.start--;
    line.end = line.start;
    while (line.end < source->length && source->bytes[line.end] != '\n')
        line.end++;
    size_t key = line.start;
    while (key < line.end &&
           (source->bytes[key] == ' ' || source->bytes[key] == '-' || source->bytes[key] == '{'))
        key++;
    size_t colon = key;
    while (colon < line.end && source->bytes[colon] != ':')
        colon++;
    line.value = colon < line.end ? colon + 1 : line.end;
    if (colon < line.end)
        line.key = (struct ind_slice){source->bytes + key, colon - key};
    while (line.value < line.end && source->bytes[line.value] == ' ')
        line.value++;
    return line;
}

/* The place of what YAML takes for its own in an unquoted value; `end` where there is nothing of the kind. */
static size_t trap_in(const struct ind_source *source, const struct line *line)
{
    if (line->value == line->end)
        return line->end;
    char first = source->bytes[line->value];
    if (strchr("%*@!{[&`|>,", first))
        return line->value;
    if (first == '"' || first == '\'') {
        size_t close = line->value + 1;
        while (close < line->end && source->bytes[close] != first)
            close++;
        for (size_t at = close + 1; at < line->end; at++)
            if (source->bytes[at] != ' ')
                return source->bytes[at] == '#' ? line->end : line->value;
        return line->end;
    }
    for (size_t at = line->value; at < line->end; at++)
        if (source->bytes[at] == ':' && (at + 1 == line->end || source->bytes[at + 1] == ' '))
            return at;
    return line->end;
}

static bool report_trap(struct builder *builder, size_t offset)
{
    const struct ind_source *source = builder->source;
    struct line line = line_at(source, offset);
    size_t trap = trap_in(source, &line);
    if (trap == line.end || line.key.length == 0 || line.key.length > 40)
        return false;
    char first = source->bytes[line.value];
    if (first == '"' || first == '\'')
        ind_diagnostic_add(
            builder->diagnostics, false, source, trap, 1,
            "YAML ends this value at its closing quote and cannot read the rest; quote the whole "
            "%s: %.*s: %s…%s",
            kind_of_value(line.key), IND_ARG(line.key), first == '"' ? "'" : "\"", first == '"' ? "'" : "\"");
    else
        ind_diagnostic_add(builder->diagnostics, false, source, trap, 1,
                           "YAML takes this \"%c\" for its own; quote the whole %s: %.*s: '…'",
                           source->bytes[trap], kind_of_value(line.key), IND_ARG(line.key));
    return true;
}

static void report_parser_error(struct builder *builder)
{
    const yaml_parser_t *parser = &builder->parser;
    builder->failed = true;
    if (parser->error == YAML_MEMORY_ERROR) {
        fail_memory(builder);
        return;
    }
    if (parser->error == YAML_READER_ERROR) {
        size_t offset = parser->problem_offset < builder->source->length ? parser->problem_offset : 0;
        ind_diagnostic_add(builder->diagnostics, false, builder->source, offset, 1,
                           "not UTF-8, or a control character; save the file as UTF-8 text");
        return;
    }
    size_t problem = byte_of(builder, parser->problem_mark.index);
    if (report_trap(builder, problem))
        return;
    size_t context = parser->context ? byte_of(builder, parser->context_mark.index) : problem;
    if (context != problem && report_trap(builder, context))
        return;
    struct line line = line_at(builder->source, problem);
    if (memchr(builder->source->bytes + line.start, '\t', line.end - line.start)) {
        ind_diagnostic_add(builder->diagnostics, false, builder->source, problem, 1,
                           "YAML does not take a tab here; indent with spaces");
        return;
    }
    ind_diagnostic_add(
        builder->diagnostics, false, builder->source, problem, 1,
        "YAML cannot read on here (%s); check the quotes and the indentation of this line and the one above",
        parser->problem ? parser->problem : "unknown reason");
}

static struct ind_node *node_new(struct builder *builder, const yaml_event_t *event, enum ind_node_kind kind)
{
    struct ind_node *node = calloc(1, sizeof *node);
    if (!node) {
        fail_memory(builder);
        return NULL;
    }
    node->kind = kind;
    node->source = builder->source;
    node->offset = byte_of(builder, event->start_mark.index);
    size_t end = byte_of(builder, event->end_mark.index);
    node->length = end > node->offset ? end - node->offset : 0;
    return node;
}

static void report_event(struct builder *builder, const yaml_event_t *event, const char *what)
{
    size_t start = byte_of(builder, event->start_mark.index);
    struct line line = line_at(builder->source, start);
    builder->failed = true;
    ind_diagnostic_add(builder->diagnostics, false, builder->source, start, 1,
                       "%s; if it belongs to the text, quote the whole %s: %.*s: '…'", what,
                       kind_of_value(line.key), IND_ARG(line.key));
}

static bool plain_data(struct builder *builder, const yaml_event_t *event)
{
    const yaml_char_t *anchor = NULL, *tag = NULL;
    if (event->type == YAML_SCALAR_EVENT) {
        anchor = event->data.scalar.anchor;
        tag = event->data.scalar.tag;
    } else if (event->type == YAML_SEQUENCE_START_EVENT) {
        anchor = event->data.sequence_start.anchor;
        tag = event->data.sequence_start.tag;
    } else if (event->type == YAML_MAPPING_START_EVENT) {
        anchor = event->data.mapping_start.anchor;
        tag = event->data.mapping_start.tag;
    }
    if (anchor)
        report_event(builder, event, "\"&\" begins a YAML anchor, which is not taken here");
    else if (tag)
        report_event(builder, event, "\"!\" begins a YAML tag, which is not taken here");
    return !anchor && !tag;
}

static struct ind_node *build(struct builder *builder, yaml_event_t *event, int depth);

static bool add_part(struct ind_node *node, struct ind_node *part)
{
    if ((node->part_count & (node->part_count - 1)) == 0) {
        size_t room = node->part_count ? node->part_count * 2 : 1;
        struct ind_node **parts = realloc(node->parts, room * sizeof *parts);
        if (!parts)
            return false;
        node->parts = parts;
    }
    node->parts[node->part_count++] = part;
    return true;
}

static int by_text(const void *left, const void *right)
{
    const struct ind_node *a = *(struct ind_node *const *)left, *b = *(struct ind_node *const *)right;
    size_t shared = a->text.length < b->text.length ? a->text.length : b->text.length;
    int order = shared ? memcmp(a->text.at, b->text.at, shared) : 0;
    if (order == 0 && a->text.length != b->text.length)
        order = a->text.length < b->text.length ? -1 : 1;
    return order ? order : (a->offset > b->offset) - (a->offset < b->offset);
}

static void check_keys(struct builder *builder, const struct ind_node *map)
{
    size_t count = map->part_count / 2;
    struct ind_node **keys = calloc(count ? count : 1, sizeof *keys);
    if (!keys) {
        fail_memory(builder);
        return;
    }
    for (size_t i = 0; i < count; i++)
        keys[i] = map->parts[2 * i];
    qsort(keys, count, sizeof *keys, by_text);
    for (size_t i = 0; i < count; i++) {
        if (keys[i]->kind != IND_NODE_SCALAR)
            ind_diagnostic_add(builder->diagnostics, false, builder->source, keys[i]->offset, keys[i]->length,
                               "a key must be a word");
        else if (i > 0 && keys[i - 1]->kind == IND_NODE_SCALAR &&
                 ind_slice_equal(keys[i]->text, keys[i - 1]->text))
            ind_diagnostic_add(builder->diagnostics, false, builder->source, keys[i]->offset, keys[i]->length,
                               "the key \"%.*s\" appears twice; leave one out or join them",
                               IND_ARG(keys[i]->text));
    }
    free(keys);
}

static struct ind_node *build_parts(struct builder *builder, struct ind_node *node, yaml_event_type_t last,
                                    int depth)
{
    for (;;) {
        yaml_event_t event;
        if (!yaml_parser_parse(&builder->parser, &event)) {
            report_parser_error(builder);
            break;
        }
        if (event.type == last) {
            size_t end = byte_of(builder, event.end_mark.index);
            node->length = end > node->offset ? end - node->offset : node->length;
            yaml_event_delete(&event);
            break;
        }
        struct ind_node *part = build(builder, &event, depth + 1);
        if (part && !add_part(node, part)) {
            ind_tree_free(part);
            fail_memory(builder);
        }
        builder->failed |= !part;
        if (builder->failed)
            break; /* the parser must not be asked again */
    }
    if (node->kind == IND_NODE_MAP && !builder->failed)
        check_keys(builder, node);
    return node;
}

/* Consumes the event. */
static struct ind_node *build(struct builder *builder, yaml_event_t *event, int depth)
{
    struct ind_node *node = NULL;
    yaml_event_type_t type = event->type;
    if (type == YAML_ALIAS_EVENT) {
        report_event(builder, event, "\"*\" begins a YAML alias, which is not taken here");
    } else if (depth > DEEPEST) {
        report_event(builder, event, "nested more than 32 deep");
    } else if (plain_data(builder, event)) {
        node = node_new(builder, event,
                        type == YAML_SCALAR_EVENT           ? IND_NODE_SCALAR
                        : type == YAML_SEQUENCE_START_EVENT ? IND_NODE_LIST
                                                            : IND_NODE_MAP);
    }
    if (node && type == YAML_SCALAR_EVENT) {
        char *text = malloc(event->data.scalar.length + 1);
        if (text)
            memcpy(text, event->data.scalar.value, event->data.scalar.length + 1);
        else
            fail_memory(builder);
        node->text = (struct ind_slice){text, text ? event->data.scalar.length : 0};
        node->quoted = event->data.scalar.style != YAML_PLAIN_SCALAR_STYLE;
    } else if (node && type == YAML_SEQUENCE_START_EVENT) {
        node->flow = event->data.sequence_start.style == YAML_FLOW_SEQUENCE_STYLE;
    } else if (node) {
        node->flow = event->data.mapping_start.style == YAML_FLOW_MAPPING_STYLE;
    }
    yaml_event_delete(event);
    if (node && type != YAML_SCALAR_EVENT)
        build_parts(builder, node,
                    type == YAML_SEQUENCE_START_EVENT ? YAML_SEQUENCE_END_EVENT : YAML_MAPPING_END_EVENT,
                    depth);
    return node;
}

struct ind_node *ind_tree_read(const struct ind_source *source, struct ind_diagnostics *diagnostics)
{
    struct builder builder = {.source = source, .diagnostics = diagnostics};
    struct ind_node *root = NULL;
    bool done = false;
    if (!yaml_parser_initialize(&builder.parser)) {
        fail_memory(&builder);
        return NULL;
    }
    yaml_parser_set_input_string(&builder.parser, (const unsigned char *)source->bytes, source->length);
    while (!done && !builder.failed) {
        yaml_event_t event;
        if (!yaml_parser_parse(&builder.parser, &event)) {
            report_parser_error(&builder);
            break;
        }
        if (event.type == YAML_STREAM_END_EVENT)
            done = true;
        if (event.type == YAML_DOCUMENT_START_EVENT && root) {
            ind_diagnostic_add(diagnostics, false, source, byte_of(&builder, event.start_mark.index), 3,
                               "a second document begins here; one file is one document");
            builder.failed = true;
        } else if (event.type == YAML_SCALAR_EVENT || event.type == YAML_SEQUENCE_START_EVENT ||
                   event.type == YAML_MAPPING_START_EVENT || event.type == YAML_ALIAS_EVENT) {
            struct ind_node *whole = build(&builder, &event, 0);
            builder.failed |= whole == NULL;
            root = root ? root : whole;
            continue;
        }
        yaml_event_delete(&event);
    }
    yaml_parser_delete(&builder.parser);
    if (builder.failed) {
        ind_tree_free(root);
        return NULL;
    }
    return root;
}

static bool is_blank(char c)
{
    return c == ' ' || c == '\n' || c == '\t' || c == '\r';
}

static size_t blanks(const char *at, size_t from, size_t end, bool *breaks)
{
    size_t i = from;
    for (; i < end && is_blank(at[i]); i++)
        *breaks |= at[i] == '\n';
    return i - from;
}

/* How many bytes of the source an escape in double quotes takes, and of the value it gives. */
static size_t escape_width(const char *at, size_t left, size_t *gives)
{
    *gives = 1;
    if (left < 2)
        return left;
    size_t digits = at[1] == 'x' ? 2 : at[1] == 'u' ? 4 : at[1] == 'U' ? 8 : 0;
    unsigned long code = 0;
    for (size_t i = 0; i < digits && 2 + i < left; i++) {
        char c = ind_lower(at[2 + i]);
        code = code * 16 + (unsigned long)(ind_is_digit(c) ? c - '0' : c - 'a' + 10);
    }
    if (digits)
        *gives = code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
    return 2 + digits;
}

/* Source and value are walked side by side: equal bytes go together; a run of white space with a line break
 * in the source is one run of white space in the value; what stands for another byte is known by the kind of
 * quotes. */
size_t ind_node_locate(const struct ind_node *scalar, size_t offset)
{
    const char *bytes = scalar->source->bytes;
    size_t at = scalar->offset, end = scalar->offset + scalar->length, value = 0;
    char quote = scalar->quoted && at < end ? bytes[at] : '\0';
    if (quote == '|' || quote == '>') {
        while (at < end && bytes[at] != '\n')
            at++;
        at += at < end;
        while (at < end && bytes[at] == ' ')
            at++;
        quote = '\0';
    } else if (quote == '"' || quote == '\'') {
        at++;
    } else {
        quote = '\0';
    }
    while (value < offset && value < scalar->text.length && at < end) {
        size_t gives = 1, width = 1;
        bool breaks = false;
        if (quote == '"' && bytes[at] == '\\') {
            width = escape_width(bytes + at, end - at, &gives);
            if (width >= 2 && bytes[at + 1] == '\n') { /* an escaped line break gives nothing */
                width = 1 + blanks(bytes, at + 1, end, &breaks);
                gives = 0;
            }
        } else if (quote == '\'' && bytes[at] == '\'') {
            width = 2;
        } else if (is_blank(bytes[at])) {
            size_t run = blanks(bytes, at, end, &breaks);
            if (breaks) {
                width = run;
                gives = 0;
                while (value + gives < scalar->text.length && is_blank(scalar->text.at[value + gives]))
                    gives++;
            }
        }
        if (value + gives > offset && gives > 1)
            break;
        value += gives;
        at += width;
    }
    return at < end ? at : end;
}
