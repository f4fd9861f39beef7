#include "cli/watch_frame.h"

#include "core/base/escape.h"

#include <stdlib.h>
#include <string.h>

enum { TEXT = 1024 };

bool ind_frame_begin(struct ind_frame *frame, size_t width, size_t height, bool wide)
{
    *frame = (struct ind_frame){.width = width, .height = height, .wide = wide};
    frame->cells = calloc(width * height + 1, sizeof *frame->cells);
    for (size_t i = 0; frame->cells && i < width * height; i++)
        frame->cells[i].character = L' ';
    return frame->cells != NULL;
}

void ind_frame_free(struct ind_frame *frame)
{
    free(frame->cells);
    frame->cells = NULL;
}

/* The code point at the beginning of what is UTF-8 by now; *length bytes. */
static uint32_t decode(const char *at, size_t *length)
{
    const unsigned char *bytes = (const unsigned char *)at;
    const size_t count = bytes[0] < 0x80 ? 1 : bytes[0] < 0xe0 ? 2 : bytes[0] < 0xf0 ? 3 : 4;
    uint32_t point = count == 1 ? bytes[0] : bytes[0] & (0xffu >> (count + 1));
    for (size_t i = 1; i < count; i++)
        point = point << 6 | (bytes[i] & 0x3f);
    *length = count;
    return point;
}

static void put_cell(struct ind_frame *frame, size_t row, size_t column, enum ind_look look,
                     wchar_t character)
{
    frame->cells[row * frame->width + column] =
        (struct ind_frame_cell){.character = character, .look = (uint8_t)look};
}

size_t ind_frame_put(struct ind_frame *frame, size_t row, size_t column, size_t end, enum ind_look look,
                     const char *text)
{
    char room[TEXT];
    struct ind_buffer shown = ind_buffer_on(room, sizeof room);
    ind_escape_shown(&shown, ind_slice_begin(ind_slice_of(text), TEXT / 4));
    end = end == 0 || end > frame->width ? frame->width : end;
    if (row >= frame->height)
        return column;
    for (size_t at = 0; at < shown.length && column < end;) {
        size_t length;
        uint32_t point = decode(room + at, &length);
        if (at + length > shown.length)
            break;
        at += length;
        int width = point < 0x80 ? 1 : wcwidth((wchar_t)point);
        if (width == 0) /* it would change the one before it */
            continue;
        if (width < 0 || (point >= 0x80 && !frame->wide)) {
            point = '?';
            width = 1;
        }
        if (column + (size_t)width > end)
            break;
        put_cell(frame, row, column++, look, (wchar_t)point);
        if (width == 2)
            put_cell(frame, row, column++, look, 0);
    }
    return column;
}

void ind_frame_put_right(struct ind_frame *frame, size_t row, size_t end, enum ind_look look,
                         const char *text)
{
    const size_t length = strlen(text); /* numbers: a byte is a column */
    if (length <= end)
        (void)ind_frame_put(frame, row, end - length, end, look, text);
}

void ind_frame_colour_row(struct ind_frame *frame, size_t row, enum ind_look look)
{
    for (size_t i = 0; row < frame->height && i < frame->width; i++)
        frame->cells[row * frame->width + i].look = (uint8_t)look;
}

static void print_character(wchar_t character, FILE *out)
{
    const uint32_t point = (uint32_t)character;
    if (point < 0x80) {
        fputc((int)point, out);
    } else if (point < 0x800) {
        fputc((int)(0xc0 | point >> 6), out);
        fputc((int)(0x80 | (point & 0x3f)), out);
    } else {
        if (point < 0x10000) {
            fputc((int)(0xe0 | point >> 12), out);
        } else {
            fputc((int)(0xf0 | point >> 18), out);
            fputc((int)(0x80 | (point >> 12 & 0x3f)), out);
        }
        fputc((int)(0x80 | (point >> 6 & 0x3f)), out);
        fputc((int)(0x80 | (point & 0x3f)), out);
    }
}

void ind_frame_print(const struct ind_frame *frame, FILE *out)
{
    for (size_t row = 0; row < frame->height; row++) {
        const struct ind_frame_cell *cells = &frame->cells[row * frame->width];
        size_t length = frame->width;
        while (length > 0 && cells[length - 1].character == L' ')
            length--;
        for (size_t i = 0; i < length; i++)
            if (cells[i].character)
                print_character(cells[i].character, out);
        fputc('\n', out);
    }
}
