#include "cli/archives_select.h"
#include "cli/control_client.h"
#include "collect/runtime/clock.h"
#include "store/archive/keeper.h"
#include "store/write/store.h"

#include <stdlib.h>
#include <string.h>

/* Archives that a running collector is asked for at a time, and what a query may be long. */
enum { AT_A_TIME = 64, QUERY = 12000, LONGEST_WHY = 400 };

/* ---- By a running collector ---- */

/* As many as one query has room for; returns how many, 0 where not even one fits. */
static size_t write_query(const struct ind_selected *selected, size_t from, bool on, const char *why,
                          char path[QUERY])
{
    char *escaped = ind_query_text(why ? why : "");
    size_t count = 0;
    int length = escaped ? snprintf(path, QUERY, "/protect?off=%d&why=%s", !on, escaped) : QUERY;
    free(escaped);
    while (length < QUERY && from + count < selected->count && count < AT_A_TIME) {
        escaped = ind_query_text(selected->list[from + count]->archive);
        const int more =
            escaped ? snprintf(path + length, (size_t)(QUERY - length), "&archive=%s", escaped) : QUERY;
        free(escaped);
        if (length + more >= QUERY) {
            path[length] = '\0';
            break;
        }
        length += more;
        count++;
    }
    return count;
}

static bool ask_collector(const struct ind_config *config, const struct ind_selected *selected, bool on,
                          const char *why, const char *busy)
{
    char path[QUERY];
    for (size_t done = 0, count; done < selected->count; done += count) {
        char *text = NULL;
        count = write_query(selected, done, on, why, path);
        const enum ind_control_client_result asked =
            count ? ind_control_client_ask(config, true, path, &text) : IND_CONTROL_CLIENT_REFUSED;
        if (asked != IND_CONTROL_CLIENT_ANSWERED) {
            ind_complain("%s", asked == IND_CONTROL_CLIENT_NOBODY || !text ? busy : text);
            free(text);
            return false;
        }
        free(text);
    }
    return true;
}

/* ---- By ourselves ---- */

static bool protect_here(struct ind_store *store, const struct ind_selected *selected, bool on,
                         const char *why)
{
    struct ind_keeper *keeper = ind_store_keeper(store);
    bool good = true;
    for (size_t i = 0; good && i < selected->count; i++)
        good = ind_keeper_ask_protection(keeper, selected->list[i]->archive, on, why);
    ind_keeper_protect(keeper, ind_clocks_now().wall);
    return good;
}

static bool protect(const struct ind_config *config, const struct ind_selected *selected, bool on,
                    const char *why)
{
    char reason[1400];
    struct ind_store *store;
    const struct ind_store_settings settings = {
        .config = config, .fs = &ind_fs_posix, .now = ind_now(), .report = ind_complain_of};
    const enum ind_store_status status = ind_store_open(&settings, &store, reason, sizeof reason);
    if (status == IND_STORE_BUSY)
        return ask_collector(config, selected, on, why, reason);
    if (status != IND_STORE_OK) {
        ind_complain("%s", reason);
        return false;
    }
    const bool good = protect_here(store, selected, on, why);
    ind_store_close(store);
    return good;
}

/* ---- Together ---- */

/* What counts is what is in the journal afterwards. */
static int tell(const struct ind_config *config, const struct ind_archives_call *given, bool on, bool good)
{
    struct ind_selected after;
    char number[32];
    size_t done = 0;
    int code = ind_archives_select(config, given, &after);
    for (size_t i = 0; code == IND_EXIT_DONE && i < after.count; i++)
        done += after.list[i]->is_protected == on;
    if (code == IND_EXIT_DONE && given->json)
        printf("{\"archives\":%zu,\"%s\":%zu}\n", after.count, on ? "protected" : "unprotected", done);
    else if (code == IND_EXIT_DONE)
        printf("%s archive%s %s protected%s\n", ind_grouped(done, number), done == 1 ? "" : "s",
               done == 1 ? "is" : "are",
               on ? ": no rule removes them until \"archives unprotect\"" : " no more");
    if (code == IND_EXIT_DONE && (!good || done < after.count)) {
        ind_complain("%zu archives could not be %s", after.count - done, on ? "protected" : "unprotected");
        code = IND_EXIT_FAILED;
    }
    ind_archives_select_free(&after);
    return code;
}

static bool says_why(const struct ind_archives_call *given, bool on)
{
    if (on && (!given->why || !*given->why))
        ind_complain("archives protect: say why, for who finds it in a year: --why TEXT");
    else if (given->why && strlen(given->why) > LONGEST_WHY)
        ind_complain("--why: %d bytes at most", LONGEST_WHY);
    else if (!*given->names && !given->since && !given->until)
        ind_complain("archives %s: name a series or an archive, or give --since or --until",
                     on ? "protect" : "unprotect");
    else
        return true;
    return false;
}

static int protect_or_not(const struct ind_config *config, const struct ind_archives_call *given, bool on)
{
    struct ind_selected selected;
    if (!says_why(given, on))
        return IND_EXIT_CALL;
    int code = ind_archives_select(config, given, &selected);
    const bool good = code == IND_EXIT_DONE && protect(config, &selected, on, given->why);
    ind_archives_select_free(&selected);
    return code == IND_EXIT_DONE ? tell(config, given, on, good) : code;
}

int ind_archives_protect(const struct ind_config *config, const struct ind_archives_call *given)
{
    return protect_or_not(config, given, true);
}

int ind_archives_unprotect(const struct ind_config *config, const struct ind_archives_call *given)
{
    return protect_or_not(config, given, false);
}
