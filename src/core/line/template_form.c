/* Whether a path is of a template's form: places of the path that can be reached after each part. */
#include "core/archive/archive_name.h"
#include "core/base/scan.h"
#include "core/line/template.h"
#include "core/message/names.h"

#include <string.h>

struct places {
    bool at[IND_PATH + 1]; /* by the number of bytes before it */
};

static void after_word(const struct places *from, struct ind_slice path, struct ind_slice word,
                       struct places *to)
{
    for (size_t i = 0; word.length > 0 && i + word.length <= path.length; i++)
        if (from->at[i] && memcmp(path.at + i, word.at, word.length) == 0)
            to->at[i + word.length] = true;
}

static void after_digits(const struct places *from, struct ind_slice path, const char *form,
                         struct places *to)
{
    const size_t length = strlen(form);
    for (size_t i = 0; i + length <= path.length; i++) {
        size_t same = 0;
        while (same < length &&
               (form[same] == '0' ? ind_is_digit(path.at[i + same]) : path.at[i + same] == form[same]))
            same++;
        if (from->at[i] && same == length)
            to->at[i + length] = true;
    }
}

static bool may_be_in_value(char byte)
{
    return ind_is_alpha(byte) || ind_is_digit(byte) || byte == '.' || byte == '-' || byte == '_';
}

/* Anything that a message may have put there. */
static void after_value(const struct places *from, struct ind_slice path, struct places *to)
{
    size_t left = 0; /* of the longest value that is still under way */
    for (size_t i = 0; i < path.length; i++) {
        left = from->at[i] ? IND_PATH_PART : left;
        if (!may_be_in_value(path.at[i]))
            left = 0;
        if (left == 0)
            continue;
        left--;
        to->at[i + 1] = true;
    }
}

static void after_part(const struct places *from, struct ind_slice path, const struct ind_template_part *part,
                       struct places *to)
{
    switch (part->put) {
    case IND_PUT_LITERAL:
        after_word(from, path, part->text, to);
        break;
    case IND_PUT_FACILITY:
        for (unsigned i = 0; i < IND_FACILITIES; i++)
            after_word(from, path, ind_facility_name(i), to);
        break;
    case IND_PUT_SEVERITY:
        for (unsigned i = 0; i < IND_SEVERITIES; i++)
            after_word(from, path, ind_severity_name(i), to);
        break;
    case IND_PUT_YEAR:
        after_digits(from, path, "0000", to);
        break;
    case IND_PUT_MONTH:
    case IND_PUT_DAY:
    case IND_PUT_HOUR:
        after_digits(from, path, "00", to);
        break;
    case IND_PUT_DATE:
        after_digits(from, path, "0000-00-00", to);
        break;
    default:
        after_value(from, path, to);
    }
}

static bool is_of_form(const struct ind_template *template, struct ind_slice path)
{
    struct places places[2];
    memset(&places[0], 0, sizeof places[0]);
    places[0].at[0] = true;
    for (size_t i = 0; i < template->count; i++) {
        struct places *to = &places[(i + 1) % 2];
        memset(to, 0, sizeof *to);
        after_part(&places[i % 2], path, &template->parts[i], to);
    }
    return places[template->count % 2].at[path.length];
}

bool ind_template_could_make(const struct ind_template *template, struct ind_slice path)
{
    char room[IND_PATH];
    struct ind_archive_name parts;
    if (path.length > IND_PATH)
        return false;
    if (is_of_form(template, path))
        return true;
    /* A name that had the form of an archive's has lost its last "-" (ind_template_path). */
    memcpy(room, path.at, path.length);
    const struct ind_slice other = {room, path.length};
    size_t at = path.length;
    while (at > 0 && room[at - 1] != '_' && room[at - 1] != '/')
        at--;
    if (at == 0 || room[at - 1] != '_')
        return false;
    room[at - 1] = '-';
    return ind_archive_name_read(other, &parts) && is_of_form(template, other);
}
