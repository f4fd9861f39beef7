/* What stands in every text that a regular expression fits, as far as it is plain to see. */
#include "core/find/regex.h"

/* Within brackets: to behind the one that closes them; SIZE_MAX: there is none. */
static size_t behind_class(struct ind_slice text, size_t at)
{
    at++;
    if (at < text.length && text.at[at] == '^')
        at++;
    if (at < text.length && text.at[at] == ']') /* the first one stands for itself */
        at++;
    for (; at < text.length; at++) {
        if (text.at[at] == '[')
            return SIZE_MAX; /* perhaps "[:alpha:]" */
        if (text.at[at] == '\\')
            at++;
        else if (text.at[at] == ']')
            return at + 1;
    }
    return SIZE_MAX;
}

/* Within parentheses, which may hold anything that ends. */
static size_t behind_group(struct ind_slice text, size_t at)
{
    size_t depth = 0;
    while (at < text.length) {
        const char c = text.at[at];
        if (c == '(' && at + 1 < text.length && (text.at[at + 1] == '?' || text.at[at + 1] == '*'))
            return SIZE_MAX; /* options, comments, verbs: not looked into */
        if (c == '[') {
            at = behind_class(text, at);
            continue;
        }
        depth += c == '(';
        depth -= c == ')';
        at += c == '\\' ? 2 : 1;
        if (depth == 0)
            return at;
    }
    return SIZE_MAX;
}

/* A class of characters or a place: all that a backslash and a letter may stand for here. */
static bool is_class_or_place(char c)
{
    return memchr("dDwWsSbB", c, 8) != NULL;
}

static bool is_special(char c)
{
    return memchr("^$.[]()|?*+{}\\", c, 14) != NULL;
}

struct needs {
    char *to;
    size_t length; /* of the run at hand, at the end of `to` */
    size_t best, best_length;
    size_t used;
};

static void end_run(struct needs *needs)
{
    if (needs->length > needs->best_length) {
        needs->best = needs->used - needs->length;
        needs->best_length = needs->length;
    }
    needs->length = 0;
}

/* Behind a character or a group: whether it may be left out. *at: behind that. */
static bool may_be_missing(struct ind_slice text, size_t *at, bool *repeats)
{
    const char c = *at < text.length ? text.at[*at] : '\0';
    *repeats = c == '+' || c == '*' || c == '?' || c == '{';
    if (!*repeats)
        return false;
    if (c == '{')
        while (*at < text.length && text.at[*at] != '}')
            ++*at;
    ++*at;
    if (*at < text.length && (text.at[*at] == '?' || text.at[*at] == '+'))
        ++*at; /* lazy, possessive */
    return c != '+';
}

struct ind_slice ind_regex_needs(struct ind_slice text, char *to)
{
    struct needs needs = {.to = to};
    for (size_t at = 0; at < text.length;) {
        const char c = text.at[at];
        const bool escaped = c == '\\';
        const char letter = escaped && at + 1 < text.length ? text.at[at + 1] : '\0';
        bool repeats, literal = !is_special(c);
        if (c == '|' || c == ')' || (escaped && at + 1 == text.length))
            return IND_NOTHING;
        if (escaped && (ind_is_alpha(letter) || ind_is_digit(letter))) {
            if (!is_class_or_place(letter))
                return IND_NOTHING;
        } else if (escaped) {
            literal = true;
        }
        const char one = escaped ? letter : c;
        at = c == '[' ? behind_class(text, at) : c == '(' ? behind_group(text, at) : at + (escaped ? 2 : 1);
        if (at == SIZE_MAX)
            return IND_NOTHING;
        const bool missing = may_be_missing(text, &at, &repeats);
        if (!literal || missing) {
            end_run(&needs);
            continue;
        }
        to[needs.used++] = one;
        needs.length++;
        if (repeats)
            end_run(&needs);
    }
    end_run(&needs);
    return (struct ind_slice){to + needs.best, needs.best_length};
}
