#include "cli/underline.h"

#include "core/base/escape.h"
#include <string.h>

enum { WIDEST = 512 };

struct label {
    size_t column;
    const char *name;
    bool done;
};

/* One row: bytes `from` to `to` of the message. */
struct row {
    char text[WIDEST * 4 + 1], marks[WIDEST + 1];
    size_t columns, from, to;
    struct label labels[IND_MOST_UNDERLINED];
    size_t label_count;
};

/* The character at `at` as it is shown: how many bytes it takes, how many columns. */
static size_t show(struct ind_slice bytes, size_t at, char shown[8], size_t *columns)
{
    bool control;
    size_t length = ind_utf8_character(bytes.at + at, bytes.length - at, &control);
    struct ind_buffer out = ind_buffer_on(shown, 8);
    length = length ? length : 1;
    ind_escape_shown(&out, (struct ind_slice){bytes.at + at, length});
    bool as_is = out.length == length && memcmp(shown, bytes.at + at, length) == 0;
    *columns = as_is ? 1 : out.length;
    shown[out.length] = '\0';
    return length;
}

struct marked {
    struct ind_slice bytes;
    const struct ind_underlined_part *parts;
    size_t count;
};

/* The number of the part in which a byte lies, or -1. */
static int part_at(const struct marked *marked, size_t at)
{
    for (size_t i = 0; i < marked->count; i++)
        if (at >= marked->parts[i].offset && at < marked->parts[i].offset + marked->parts[i].length)
            return (int)i;
    return -1;
}

static void fill_row(const struct marked *marked, size_t from, size_t width, struct row *row)
{
    struct ind_slice bytes = marked->bytes;
    struct ind_buffer text = ind_buffer_on(row->text, sizeof row->text - 1);
    char shown[16];
    size_t columns, at = from;
    row->columns = row->label_count = 0;
    row->from = from;
    while (at < bytes.length) {
        size_t length = show(bytes, at, shown, &columns);
        if (row->columns + columns > width)
            break;
        int part = part_at(marked, at);
        if (part >= 0 && (marked->parts[part].offset == at || at == from))
            row->labels[row->label_count++] = (struct label){row->columns, marked->parts[part].name, false};
        memset(row->marks + row->columns, part < 0 ? ' ' : part % 2 ? '~' : '^', columns);
        ind_buffer_text(&text, shown);
        row->columns += columns;
        at += length;
    }
    row->to = at;
    row->text[text.length] = '\0';
    size_t last = row->columns;
    while (last > 0 && row->marks[last - 1] == ' ')
        last--;
    row->marks[last] = '\0';
}

/* Names stand under the beginning of their part; one that would run into the next waits for a line below, and
 * a bar leads down to it. */
static void print_labels(struct row *row, FILE *out)
{
    for (size_t left = row->label_count; left > 0;) {
        size_t column = 0;
        for (size_t i = 0; i < row->label_count; i++) {
            struct label *label = &row->labels[i];
            size_t next = i + 1;
            while (next < row->label_count && row->labels[next].done)
                next++;
            if (label->done)
                continue;
            bool fits =
                next == row->label_count || label->column + strlen(label->name) < row->labels[next].column;
            fprintf(out, "%*s%s", (int)(label->column - column), "", fits ? label->name : "|");
            column = label->column + (fits ? strlen(label->name) : 1);
            label->done = fits;
            left -= fits;
        }
        fputc('\n', out);
    }
}

void ind_print_underlined(struct ind_slice bytes, const struct ind_underlined_part *parts, size_t count,
                          int cut, size_t width, FILE *out)
{
    const struct marked marked = {bytes, parts, count < IND_MOST_UNDERLINED ? count : IND_MOST_UNDERLINED};
    struct row row;
    width = width < WIDEST ? width : WIDEST;
    for (size_t at = 0; at < bytes.length; at = row.to) {
        fill_row(&marked, at, width, &row);
        bool ends = row.to < bytes.length && cut >= 0 && part_at(&marked, row.to) == cut;
        fprintf(out, "%s%s\n", row.text, ends ? "…" : "");
        if (row.label_count) {
            fprintf(out, "%s\n", row.marks);
            print_labels(&row, out);
        }
        if (ends || row.to == at)
            break;
    }
}

void ind_print_indented(struct ind_slice bytes, const struct ind_underlined_part *parts, size_t count,
                        size_t indent, size_t width, FILE *out)
{
    const struct marked marked = {bytes, parts, count < IND_MOST_UNDERLINED ? count : IND_MOST_UNDERLINED};
    struct row row;
    width = width < WIDEST ? width : WIDEST;
    width = width > indent + 20 ? width - indent : 20;
    for (size_t at = 0; at < bytes.length; at = row.to) {
        fill_row(&marked, at, width, &row);
        fprintf(out, "%*s%s\n", (int)indent, "", row.text);
        if (row.marks[0])
            fprintf(out, "%*s%s\n", (int)indent, "", row.marks);
        if (row.to == at)
            break;
    }
}

void ind_print_begun(struct ind_slice bytes, size_t indent, size_t width, FILE *out)
{
    const struct marked marked = {.bytes = bytes};
    struct row row;
    width = width < WIDEST ? width : WIDEST;
    fill_row(&marked, 0, width > indent + 20 ? width - indent - 1 : 20, &row);
    fprintf(out, "%*s%s%s\n", (int)indent, "", row.text, row.to < bytes.length ? "…" : "");
}

static void print_part(struct ind_slice text, size_t same_before, size_t same_behind, size_t width, FILE *out)
{
    const struct ind_underlined_part part = {"", same_before, text.length - same_before - same_behind};
    ind_print_indented(text, &part, part.length > 0, 4, width, out);
}

void ind_print_both(struct ind_slice one, struct ind_slice other, size_t width, FILE *out)
{
    size_t shorter = one.length < other.length ? one.length : other.length, before = 0, behind = 0;
    while (before < shorter && one.at[before] == other.at[before])
        before++;
    while (before > 0 && before < shorter && ((unsigned char)one.at[before] & 0xc0) == 0x80)
        before--; /* characters are marked whole */
    while (behind < shorter - before &&
           one.at[one.length - 1 - behind] == other.at[other.length - 1 - behind])
        behind++;
    print_part(one, before, behind, width, out);
    print_part(other, before, behind, width, out);
}
