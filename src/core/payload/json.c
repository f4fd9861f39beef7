/* JSON objects (RFC 8259), flattened: a member of a member is `outer.inner`, each element of an array a field
 * of the array's name. null is absent. One pass, no recursion, nothing allocated. */
#include "core/base/escape.h"
#include "core/base/scan.h"
#include "core/payload/payload_private.h"

enum { DEEPEST = 32, LONGEST_NAME = 512 };

struct json {
    const char *at, *end;
    struct ind_payload *payload;
    char name[LONGEST_NAME]; /* of the member being read, its outer ones before it */
    size_t name_length;
    struct {
        size_t name_length; /* of the object's or array's own name */
        bool array;
    } open[DEEPEST];
    size_t depth;
};

static void skip_blank(struct json *json)
{
    while (json->at < json->end &&
           (*json->at == ' ' || *json->at == '\t' || *json->at == '\n' || *json->at == '\r'))
        json->at++;
}

static bool accept_byte(struct json *json, char c)
{
    skip_blank(json);
    if (json->at == json->end || *json->at != c)
        return false;
    json->at++;
    return true;
}

static bool read_hex(const char *at, const char *end, unsigned *code)
{
    int number = end - at < 4 ? -1 : ind_hex_four(at);
    *code = (unsigned)number;
    return number >= 0;
}

/* Behind the `\`: what it stands for. Half a surrogate pair is U+FFFD. */
static bool undo_escape(const char **at, const char *end, struct ind_buffer *out)
{
    static const char names[] = "\"\\/bfnrt", values[] = "\"\\/\b\f\n\r\t";
    if (*at == end)
        return false;
    const char *found = **at ? strchr(names, **at) : NULL;
    if (found) {
        ind_buffer_byte(out, values[found - names]);
        (*at)++;
        return true;
    }
    unsigned code, low;
    if (**at != 'u' || !read_hex(*at + 1, end, &code))
        return false;
    *at += 5;
    if (code >= 0xD800 && code < 0xDC00 && end - *at >= 6 && (*at)[0] == '\\' && (*at)[1] == 'u' &&
        read_hex(*at + 2, end, &low) && low >= 0xDC00 && low < 0xE000) {
        code = 0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00);
        *at += 6;
    } else if (code >= 0xD800 && code < 0xE000) {
        code = 0xFFFD;
    }
    ind_utf8_put(out, code);
    return true;
}

/* Behind the opening quote. Borrowed from the text where nothing is escaped in it. */
static bool read_string(struct json *json, struct ind_slice *value)
{
    const char *start = json->at, *stop = ind_scan_either(start, json->end, '"', '\\');
    struct ind_buffer *scratch = &json->payload->scratch;
    if (stop == json->end)
        return false;
    if (*stop == '"') {
        *value = (struct ind_slice){start, (size_t)(stop - start)};
        json->at = stop + 1;
        return true;
    }
    size_t from = scratch->length;
    for (;;) {
        ind_buffer_add(scratch, start, (size_t)(stop - start));
        if (stop == json->end)
            return false;
        start = stop + 1;
        if (*stop == '"')
            break;
        if (!undo_escape(&start, json->end, scratch))
            return false;
        stop = ind_scan_either(start, json->end, '"', '\\');
    }
    json->at = start;
    *value = (struct ind_slice){scratch->at + from, scratch->length - from};
    return !scratch->full;
}

/* true, false, null, or a number. */
static bool read_word(struct json *json, struct ind_slice *value)
{
    const char *start = json->at;
    while (json->at < json->end &&
           (ind_is_digit(*json->at) || ind_is_alpha(*json->at) || (*json->at && strchr("+-.", *json->at))))
        json->at++;
    *value = (struct ind_slice){start, (size_t)(json->at - start)};
    if (value->length == 0)
        return false;
    return ind_is_digit(*start) || *start == '-' || ind_slice_equal(*value, IND_SLICE("true")) ||
           ind_slice_equal(*value, IND_SLICE("false")) || ind_slice_equal(*value, IND_SLICE("null"));
}

/* The name so far as one that outlives the reading: the last member's own where it has no outer one. */
static struct ind_slice keep_name(struct json *json, struct ind_slice last)
{
    struct ind_buffer *scratch = &json->payload->scratch;
    if (ind_slice_equal(last, (struct ind_slice){json->name, json->name_length}))
        return last;
    size_t from = scratch->length;
    ind_buffer_add(scratch, json->name, json->name_length);
    return (struct ind_slice){scratch->at + from, scratch->length - from};
}

static bool read_name(struct json *json, struct ind_slice *last)
{
    size_t outer = json->depth ? json->open[json->depth - 1].name_length : 0;
    if (!accept_byte(json, '"') || !read_string(json, last) || !accept_byte(json, ':'))
        return false;
    if (outer + 1 + last->length > LONGEST_NAME)
        return false;
    if (outer)
        json->name[outer++] = '.';
    if (last->length)
        memcpy(json->name + outer, last->at, last->length);
    json->name_length = outer + last->length;
    return true;
}

static bool open_one(struct json *json, bool array)
{
    if (json->depth == DEEPEST)
        return false;
    json->open[json->depth].name_length = json->name_length;
    json->open[json->depth++].array = array;
    json->at++;
    return true;
}

/* Closes what ends here; true in *more where another value follows. */
static bool close_all(struct json *json, bool *more)
{
    *more = false;
    while (json->depth) {
        bool array = json->open[json->depth - 1].array;
        if (accept_byte(json, ',')) {
            *more = true;
            return true;
        }
        if (!accept_byte(json, array ? ']' : '}'))
            return false;
        json->depth--;
    }
    return true;
}

bool ind_payload_read_json(struct ind_slice text, struct ind_slice prefix, struct ind_payload *payload)
{
    struct json json = {.at = text.at, .end = text.at + text.length, .payload = payload};
    struct ind_slice last = IND_NOTHING, value;
    json.name_length = prefix.length < LONGEST_NAME ? prefix.length : LONGEST_NAME;
    if (json.name_length)
        memcpy(json.name, prefix.at, json.name_length);
    bool more = open_one(&json, false);
    while (more) {
        bool array = json.open[json.depth - 1].array;
        if (array)
            json.name_length = json.open[json.depth - 1].name_length;
        skip_blank(&json);
        if (json.at < json.end && *json.at == (array ? ']' : '}')) {
            if (!close_all(&json, &more)) /* an empty one, or a comma too many, which does no harm */
                return false;
            continue;
        }
        if (!array && !read_name(&json, &last))
            return false;
        skip_blank(&json);
        if (json.at == json.end)
            return false;
        if (*json.at == '{' || *json.at == '[') {
            if (!open_one(&json, *json.at == '['))
                return false;
            continue;
        }
        bool string = *json.at == '"';
        json.at += string;
        if (!(string ? read_string(&json, &value) : read_word(&json, &value)))
            return false;
        if (payload->count == IND_PAYLOAD_FIELDS)
            payload->more = true;
        else if (string || !ind_slice_equal(value, IND_SLICE("null")))
            (void)ind_payload_add(payload, keep_name(&json, last), value);
        if (!close_all(&json, &more))
            return false;
    }
    skip_blank(&json);
    return json.at == json.end;
}

const char *ind_json_end(const char *at, const char *end)
{
    size_t depth = 0;
    const char *first = at + 1;
    while (first < end && *first == ' ')
        first++;
    if (at >= end || *at != '{' || first >= end || (*first != '"' && *first != '}'))
        return NULL;
    for (; at < end; at++) {
        if (*at == '"') {
            for (at++; (at = ind_scan_either(at, end, '"', '\\')) < end && *at == '\\'; at += 2)
                if (end - at < 2)
                    return NULL;
            if (at == end)
                return NULL;
        } else if (*at == '{' || *at == '[') {
            depth++;
        } else if ((*at == '}' || *at == ']') && --depth == 0) {
            return at + 1;
        }
    }
    return NULL;
}
