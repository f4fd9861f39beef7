#include "core/structured_data.h"

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

void ind_data_unescape(struct ind_slice value, struct ind_buffer *buffer)
{
    for (size_t i = 0; i < value.length; i++) {
        if (ind_data_is_escape(value, i))
            i++;
        ind_buffer_byte(buffer, value.at[i]);
    }
}
