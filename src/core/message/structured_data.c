#include "core/message/structured_data.h"

#include "core/base/scan.h"

bool ind_data_element(struct ind_slice data, size_t at, struct ind_slice *id, size_t *params)
{
    if (at >= data.length || data.at[at] != '[')
        return false;
    size_t start = ++at;
    while (at < data.length && data.at[at] != ' ' && data.at[at] != ']')
        at++;
    *id = (struct ind_slice){data.at + start, at - start};
    *params = at;
    return true;
}

static size_t skip_value(struct ind_slice data, size_t at)
{
    while (at < data.length && data.at[at] != '"')
        at += data.at[at] == '\\' ? 2 : 1;
    return at < data.length ? at : data.length;
}

bool ind_data_param(struct ind_slice data, size_t at, struct ind_param *param, size_t *after)
{
    if (at >= data.length || data.at[at] != ' ') {
        *after = at < data.length ? at + 1 : data.length;
        return false;
    }
    size_t start = ++at;
    while (at < data.length && data.at[at] != '=')
        at++;
    param->name = (struct ind_slice){data.at + start, at - start};
    size_t value = at + 2 <= data.length ? at + 2 : data.length, stop = skip_value(data, value);
    param->value = (struct ind_slice){data.at + value, stop - value};
    param->next = stop < data.length ? stop + 1 : data.length;
    return true;
}

bool ind_data_next(struct ind_slice data, size_t at, struct ind_element *element)
{
    struct ind_param param;
    if (!ind_data_element(data, at, &element->id, &element->params))
        return false;
    size_t next = element->params;
    while (ind_data_param(data, next, &param, &element->after))
        next = param.next;
    return true;
}

void ind_data_unescape(struct ind_slice value, struct ind_buffer *buffer)
{
    for (size_t i = 0; i < value.length; i++) {
        if (ind_data_is_escape(value, i))
            i++;
        ind_buffer_byte(buffer, value.at[i]);
    }
}

static const char *skip_data_name(const char *at, const char *end)
{
    const char *stop = ind_scan_data_name(at, end);
    return stop == at ? NULL : stop;
}

/* From behind the opening quote to behind the closing one. */
static const char *skip_data_value(const char *at, const char *end)
{
    /* An unescaped "]" is against section 6.3.3, but common, and the quotes leave no warning. */
    for (;;) {
        at = ind_scan_either(at, end, '"', '\\');
        if (at == end)
            return NULL;
        if (*at == '"')
            return at + 1;
        at += end - at > 1 ? 2 : 1;
    }
}

/* One or more elements (RFC 5424 section 6.3); the byte behind them, or NULL where they are broken. */
static const char *skip_structured_data(const char *at, const char *end)
{
    while (at < end && *at == '[') {
        at = skip_data_name(at + 1, end);
        while (at && at < end && *at == ' ') {
            at = skip_data_name(at + 1, end);
            if (!at || end - at < 2 || at[0] != '=' || at[1] != '"')
                return NULL;
            at = skip_data_value(at + 2, end);
        }
        if (!at || at == end || *at != ']')
            return NULL;
        at++;
    }
    return at;
}

size_t ind_data_length(struct ind_slice text)
{
    const char *after = text.length ? skip_structured_data(text.at, text.at + text.length) : NULL;
    return after ? (size_t)(after - text.at) : 0;
}
