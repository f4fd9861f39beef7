/* LEEF 1.0 and 2.0: five columns between bars, then attributes, KEY=VALUE, with a tab between them.
 * Version 2.0 may name another delimiter in a column of its own: one byte, or its number in hexadecimal
 * ("x09", "0x5e"). Nothing is escaped: a value ends at the delimiter. */
#include "core/base/escape.h"
#include "core/payload/payload_private.h"

/* The byte that a column names; false where it names none. */
static bool read_delimiter(struct ind_slice column, char *delimiter)
{
    if (column.length == 1) {
        *delimiter = column.at[0];
        return column.at[0] != '=';
    }
    if (column.length > 2 && column.at[0] == '0')
        column = ind_slice_from(column, 1);
    if (column.length < 2 || column.length > 3 || (column.at[0] != 'x' && column.at[0] != 'X'))
        return false;
    int number = 0;
    for (size_t i = 1; i < column.length; i++) {
        int digit = ind_hex_digit(column.at[i]);
        if (digit < 0)
            return false;
        number = number * 16 + digit;
    }
    *delimiter = (char)number;
    return number != 0 && number != '=';
}

static struct ind_slice next_column(const char **at, const char *end)
{
    const char *bar = *at < end ? memchr(*at, '|', (size_t)(end - *at)) : NULL;
    struct ind_slice column = {*at, (size_t)((bar ? bar : end) - *at)};
    *at = bar ? bar + 1 : NULL;
    return column;
}

static void read_attributes(const char *at, const char *end, char delimiter, struct ind_payload *payload)
{
    while (at < end) {
        const char *stop = memchr(at, delimiter, (size_t)(end - at));
        stop = stop ? stop : end;
        while (at < stop && *at == ' ')
            at++;
        const char *equals = at < stop ? memchr(at, '=', (size_t)(stop - at)) : NULL;
        if (equals && equals > at &&
            !ind_payload_add(payload, (struct ind_slice){at, (size_t)(equals - at)},
                             (struct ind_slice){equals + 1, (size_t)(stop - equals - 1)}))
            return;
        at = stop + 1;
    }
}

bool ind_payload_read_leef(struct ind_slice text, struct ind_payload *payload)
{
    static const char *const names[] = {"leef_version", "leef_vendor", "leef_product", "leef_product_version",
                                        "leef_event_id"};
    enum { COLUMNS = sizeof names / sizeof *names };
    const char *at = text.at, *end = at + text.length;
    struct ind_slice columns[COLUMNS];
    char delimiter = '\t';
    for (size_t i = 0; i < COLUMNS; i++) {
        if (!at)
            return false;
        columns[i] = next_column(&at, end);
    }
    bool second = ind_slice_equal(columns[0], IND_SLICE("2.0"));
    if (!second && !ind_slice_equal(columns[0], IND_SLICE("1.0")))
        return false;
    for (size_t i = 0; i < COLUMNS; i++)
        if (columns[i].length)
            (void)ind_payload_add(payload, ind_slice_of(names[i]), columns[i]);
    if (second && at) {
        const char *behind = at;
        struct ind_slice column = next_column(&behind, end);
        if (behind && (column.length == 0 || read_delimiter(column, &delimiter)))
            at = behind;
    }
    if (at)
        read_attributes(at, end, delimiter, payload);
    return true;
}
