/* What is said beside the result of a search: what was read, what was left out, what is missing. */
#include "cli/search_call.h"

void ind_search_tell_copies(const struct ind_search_options *given, const struct ind_search_result *result)
{
    char number[32];
    if (result->copies)
        ind_complain("%s cop%s of messages that several routes stored %s left out%s",
                     ind_grouped(result->copies, number), result->copies == 1 ? "y" : "ies",
                     result->copies == 1 ? "is" : "are", given->once ? "" : "; --copies counts them too");
}

/* ---- --why ---- */

static void tell_catalog(const struct ind_search_asked *asked)
{
    char number[5][32], size[32];
    const size_t out = asked->out[0] + asked->out[1] + asked->out[2];
    if (!asked->asked)
        return;
    if (asked->counted)
        ind_complain("the catalog counts %s of %s archives; of these nothing was read",
                     ind_grouped(asked->counted, number[0]), ind_grouped(asked->archives, number[1]));
    else if (asked->why_not)
        ind_complain("the catalog counts nothing here: %s", asked->why_not);
    if (out)
        ind_complain(
            "the catalog left out %s of %s archives, %s: %s by time, %s by facility and severity, %s by "
            "device",
            ind_grouped(out, number[0]), ind_grouped(asked->archives, number[1]),
            ind_size_text(asked->bytes, size), ind_grouped(asked->out[0], number[2]),
            ind_grouped(asked->out[1], number[3]), ind_grouped(asked->out[2], number[4]));
}

void ind_search_tell_why(const struct ind_search_result *result, const struct ind_search_asked *asked)
{
    char size[2][32], number[7][32];
    if (asked)
        tell_catalog(asked);
    if (result->archives == 0 && result->bytes == 0) {
        ind_complain("no text was read");
        return;
    }
    if (result->archives == 0) {
        ind_complain("%s of text were read; no archive with an index was there to be asked",
                     ind_size_text(result->bytes, size[0]));
        return;
    }
    ind_complain(
        "%s of text were read; the index of %s archive%s left out %s of %s pieces, %s of text: %s by "
        "time, %s by facility and severity, %s by device, %s by words",
        ind_size_text(result->bytes, size[0]), ind_grouped(result->archives, number[0]),
        result->archives == 1 ? "" : "s",
        ind_grouped(result->frames - result->left_out[IND_READ_IT], number[1]),
        ind_grouped(result->frames, number[2]), ind_size_text(result->bytes_left_out, size[1]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_TIME], number[3]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_PRI], number[4]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_DEVICE], number[5]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_WORDS], number[6]));
}

/* ---- Gaps ---- */

static bool tell_lacking(const struct ind_search_result *result)
{
    bool whole = true;
    for (unsigned field = 0; field < IND_FIELDS; field++)
        if (result->lacking[field]) {
            ind_complain(
                "%llu file%s not hold the field \"%s\", or not of every message, so that a test of it "
                "cannot be answered there; layout: %s keeps it",
                (unsigned long long)result->lacking[field], result->lacking[field] == 1 ? " does" : "s do",
                ind_field_name((enum ind_field)field).at, field == IND_FIELD_ORIGINAL ? "raw" : "json");
            whole = false;
        }
    return whole;
}

static bool tell_limits(const struct ind_search_result *result)
{
    if (result->gave_up)
        ind_complain("a regular expression or a pattern was given up on a message %llu time%s, since it took "
                     "too long: "
                     "whether that one is meant is not known; a plainer expression, or contains, takes less",
                     (unsigned long long)result->gave_up, result->gave_up == 1 ? "" : "s");
    if (result->groups_cut)
        ind_complain("there are more groups than there is room for: what they count is not whole; a narrower "
                     "--when, or "
                     "fewer fields, help");
    if (result->context_cut)
        ind_complain(
            "so many devices have said so much that lines before those found may be missing; a smaller "
            "--context or a narrower --when helps");
    if (result->distinct_cut)
        ind_complain("more than a million different values: the rest is not counted");
    if (result->spill_error)
        ind_complain("the folder for temporary files, %s, does not take what has no room in memory (%s): the "
                     "answer is not whole; TMPDIR names another",
                     ind_temporary_folder(), strerror(result->spill_error));
    else if (result->failed)
        ind_complain("memory ran out: the answer is not whole");
    return !result->gave_up && !result->groups_cut && !result->distinct_cut && !result->context_cut &&
           !result->failed;
}

static bool have_none(const struct ind_search_result *result, size_t field)
{
    for (size_t i = 0; i < result->group_count; i++)
        if (strcmp(ind_group_value(result->groups[i], field), "-") != 0)
            return false;
    return result->group_count > 0;
}

void ind_search_tell_absent(const struct ind_search_result *result,
                            const struct ind_search_settings *settings)
{
    for (size_t i = 0; i < settings->by_count; i++)
        if ((settings->by[i].what == IND_FIELD_FIELD || settings->by[i].what == IND_FIELD_LABEL) &&
            have_none(result, i))
            ind_complain(
                "no message that was found has the %s \"%.*s\"; \"indagator explain\" shows which fields "
                "one has",
                ind_field_name((enum ind_field)settings->by[i].what).at, IND_ARG(settings->by[i].name));
}

bool ind_search_tell_gaps(const struct ind_search_result *result, size_t unreadable)
{
    if (unreadable)
        ind_complain("%zu folder%s of the store may not be read: what is in there was not searched",
                     unreadable, unreadable == 1 ? "" : "s");
    const bool whole = result->unread_files == 0 && unreadable == 0;
    const bool holds = tell_lacking(result);
    return tell_limits(result) && holds && whole;
}
