/* config/subject.c: the names that a message system goes by. */
#include "config/load.h"

#include <string.h>

/* What subjects and streams are made of: words with points between them. */
static bool is_subject(struct ind_slice text, bool points)
{
    bool good = text.length > 0 && text.length <= 64;
    for (size_t i = 0; i < text.length && good; i++) {
        const char c = text.at[i];
        const bool word = ind_is_alpha(c) || ind_is_digit(c) || c == '-' || c == '_';
        good = word || (points && c == '.' && i > 0 && i + 1 < text.length && text.at[i + 1] != '.');
    }
    return good;
}

const char *ind_load_subject(struct ind_loader *loader, const struct ind_node *value)
{
    if (!ind_expect_text(loader, value, "a subject such as syslog"))
        return NULL;
    if (is_subject(value->text, true))
        return ind_keep(loader, value->text);
    ind_wrong(
        loader, value,
        "a subject is made of words of letters, digits, \"-\" and \"_\" with points between them, such as "
        "skerry.syslog");
    return NULL;
}

const char *ind_load_stream(struct ind_loader *loader, const struct ind_node *value)
{
    if (!ind_expect_text(loader, value, "a name such as syslog"))
        return NULL;
    if (is_subject(value->text, false))
        return ind_keep(loader, value->text);
    ind_wrong(loader, value, "such a name is made of letters, digits, \"-\" and \"_\"");
    return NULL;
}

const char *ind_stream_of(struct ind_loader *loader, const char *subject)
{
    char *name = ind_keep(loader, ind_slice_of(subject));
    for (char *at = name; at && (at = strchr(at, '.'));)
        *at = '_';
    return name;
}
