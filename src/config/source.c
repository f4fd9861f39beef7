#include "config/source.h"

#include "core/base/escape.h"
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

enum { LARGEST = 64 << 20 };

/* Only what lies in a file has an end: a pipe, a terminal or a device would hold up whoever reads it. */
FILE *ind_open_file(const char *path)
{
    struct stat facts;
    int error = 0, file = open(path, O_RDONLY | O_NONBLOCK | O_CLOEXEC);
    if (file < 0 || fstat(file, &facts) != 0)
        error = errno ? errno : EIO;
    else if (!S_ISREG(facts.st_mode))
        error = S_ISDIR(facts.st_mode) ? EISDIR : ENXIO;
    FILE *stream = error ? NULL : fdopen(file, "rb");
    if (!stream && file >= 0)
        close(file);
    if (error)
        errno = error;
    return stream;
}

const char *ind_open_file_reason(int error)
{
    return error == ENXIO
               ? "it is not a file, but a pipe, a socket, a terminal or a device; put its text into a file"
           : error == EFBIG ? "it is larger than 64 MiB"
                            : strerror(error);
}

static int read_all(FILE *file, struct ind_source *source)
{
    for (size_t room = 0;;) {
        if (source->length == room) {
            room = room ? room * 2 : 4096;
            if (room > LARGEST)
                return EFBIG;
            char *bytes = realloc(source->bytes, room);
            if (!bytes)
                return ENOMEM;
            source->bytes = bytes;
        }
        size_t got = fread(source->bytes + source->length, 1, room - source->length, file);
        source->length += got;
        if (got == 0)
            return ferror(file) ? errno : 0;
    }
}

struct ind_source *ind_source_read(const char *path)
{
    FILE *file = ind_open_file(path);
    if (!file)
        return NULL;
    struct ind_source *source = calloc(1, sizeof *source);
    int error = !source || !(source->path = strdup(path)) ? ENOMEM : read_all(file, source);
    fclose(file);
    if (!error)
        return source;
    ind_source_free(source);
    errno = error;
    return NULL;
}

void ind_source_free(struct ind_source *source)
{
    if (!source)
        return;
    free(source->path);
    free(source->bytes);
    free(source);
}

void ind_place_find(struct ind_place *place, const struct ind_source *source, size_t offset)
{
    if (place->source != source || place->offset > offset)
        *place = (struct ind_place){source, 0, 1, 1};
    for (; place->offset < offset && place->offset < source->length; place->offset++) {
        if (source->bytes[place->offset] == '\n') {
            place->line++;
            place->column = 1;
        } else if (((unsigned char)source->bytes[place->offset] & 0xC0) != 0x80) {
            place->column++;
        }
    }
}

void ind_diagnostic_add(struct ind_diagnostics *diagnostics, bool warning, const struct ind_source *source,
                        size_t offset, size_t length, const char *format, ...)
{
    char text[1024];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    if (diagnostics->count == diagnostics->room) {
        size_t room = diagnostics->room ? diagnostics->room * 2 : 16;
        struct ind_diagnostic *list = realloc(diagnostics->list, room * sizeof *list);
        if (!list) {
            diagnostics->mistakes += !warning;
            return;
        }
        diagnostics->list = list;
        diagnostics->room = room;
    }
    struct ind_diagnostic *diagnostic = &diagnostics->list[diagnostics->count++];
    *diagnostic = (struct ind_diagnostic){source, offset, length, 0, 0, warning, strdup(text)};
    if (source) {
        ind_place_find(&diagnostics->last, source, offset);
        diagnostic->line = diagnostics->last.line;
        diagnostic->column = diagnostics->last.column;
    }
    diagnostics->mistakes += !warning;
}

static int by_place(const void *left, const void *right)
{
    const struct ind_diagnostic *a = left, *b = right;
    size_t x = a->source ? a->source->order + 1 : 0, y = b->source ? b->source->order + 1 : 0;
    if (x != y)
        return x < y ? -1 : 1;
    if (a->offset != b->offset)
        return a->offset < b->offset ? -1 : 1;
    return strcmp(a->text ? a->text : "", b->text ? b->text : "");
}

void ind_diagnostics_sort(struct ind_diagnostics *diagnostics)
{
    if (diagnostics->count == 0)
        return;
    qsort(diagnostics->list, diagnostics->count, sizeof *diagnostics->list, by_place);
    size_t kept = 1;
    for (size_t i = 1; i < diagnostics->count; i++) {
        if (by_place(&diagnostics->list[i], &diagnostics->list[kept - 1]) == 0) {
            diagnostics->mistakes -= !diagnostics->list[i].warning;
            free(diagnostics->list[i].text);
        } else {
            diagnostics->list[kept++] = diagnostics->list[i];
        }
    }
    diagnostics->count = kept;
}

void ind_diagnostics_free(struct ind_diagnostics *diagnostics)
{
    for (size_t i = 0; i < diagnostics->count; i++)
        free(diagnostics->list[i].text);
    free(diagnostics->list);
    *diagnostics = (struct ind_diagnostics){0};
}

static void print_line(const struct ind_diagnostic *diagnostic, FILE *out)
{
    const struct ind_source *source = diagnostic->source;
    size_t start = diagnostic->offset < source->length ? diagnostic->offset : source->length, end = start;
    while (start > 0 && source->bytes[start - 1] != '\n')
        start--;
    while (end < source->length && source->bytes[end] != '\n')
        end++;
    if (end == start || end - start > 400)
        return;
    for (size_t i = start; i < end;) {
        bool control;
        size_t length = ind_utf8_character(source->bytes + i, end - i, &control);
        if (length == 0 || control)
            fputc(source->bytes[i] == '\t' ? ' ' : '?', out);
        else
            fwrite(source->bytes + i, 1, length, out);
        i += length ? length : 1;
    }
    fputc('\n', out);
    for (size_t i = 1; i < diagnostic->column; i++)
        fputc(' ', out);
    size_t carets = 0;
    for (size_t i = diagnostic->offset; i < diagnostic->offset + diagnostic->length && i < end; i++)
        carets += ((unsigned char)source->bytes[i] & 0xC0) != 0x80;
    for (carets = carets ? carets : 1; carets > 0; carets--)
        fputc('^', out);
    fputc('\n', out);
}

void ind_diagnostic_print(const struct ind_diagnostic *diagnostic, FILE *out)
{
    if (diagnostic->source)
        fprintf(out, "%s:%zu:%zu: ", diagnostic->source->path, diagnostic->line, diagnostic->column);
    fprintf(out, "%s%s\n", diagnostic->warning ? "warning: " : "",
            diagnostic->text ? diagnostic->text : "out of memory");
    if (diagnostic->source)
        print_line(diagnostic, out);
}
