#include "cli/ask.h"
#include "cli/cli.h"
#include "cli/table.h"
#include "collect/clock.h"
#include "collect/collector.h"
#include "store/store.h"
#include "store/survey.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdlib.h>
#include <unistd.h>

static struct {
    int due, dry_run, clock_is_right;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"due", '\0', POPT_ARG_NONE, &given.due, 0,
         "only files whose time, size or number of messages calls for it", NULL},
        {"dry-run", '\0', POPT_ARG_NONE, &given.dry_run, 0, "only say what would be done, and by which rule",
         NULL},
        {"clock-is-right", '\0', POPT_ARG_NONE, &given.clock_is_right, 0,
         "let archives be removed for their age again, after the clock had jumped", NULL},
        POPT_TABLEEND};
    return table;
}

static const struct ind_column columns[] = {
    {"action", false}, {"file", false}, {"size", false}, {"rule", false}, {"policy", false}};

static void add_row(struct ind_table *table, const char *action, const char *file, uint64_t size,
                    const char *rule, const char *policy)
{
    char text[32];
    ind_table_text(table, action);
    ind_table_text(table, file);
    ind_table_text(table, ind_size_text(size, text));
    ind_table_text(table, rule);
    ind_table_text(table, policy);
}

static int by_path(const struct ind_live_path *a, const struct ind_live_path *b)
{
    return strcmp(a->path, b->path);
}

static int by_archive(const struct ind_filed *a, const struct ind_filed *b)
{
    return strcmp(a->archive, b->archive);
}

static size_t dry_rotations(const struct ind_config *config, const struct ind_survey *survey, ind_time now,
                            struct ind_table *table)
{
    size_t count = 0;
    for (struct ind_live_path *path = survey->lives; path; path = path->hh.next) {
        const struct ind_filed *filed = path->filed;
        if (!filed || path->size == 0)
            continue;
        const struct ind_policy *policy =
            filed->policy == IND_NO_POLICY ? NULL : &config->policies[filed->policy];
        struct ind_live_facts facts = {IND_TIME_NONE, path->size, 1};
        enum ind_rotation_reason reason = IND_ROTATION_NOT;
        if (policy) {
            facts.period_end = ind_period_end(policy->rotate.every, config->zone, filed->first);
            reason = ind_rotation_due(&policy->rotate, &facts, now);
        }
        if (reason == IND_ROTATION_NOT && given.due)
            continue;
        add_row(table, "rotate", path->path, path->size,
                ind_rotation_reason_name(reason ? reason : IND_ROTATION_ASKED).at,
                policy ? policy->name : "none");
        count++;
    }
    return count;
}

static size_t dry_removals(const struct ind_config *config, const struct ind_survey *survey, ind_time now,
                           struct ind_table *table)
{
    size_t room = HASH_COUNT(survey->filed), removed = 0;
    struct ind_archive_facts *facts = calloc(room + 1, sizeof *facts);
    const struct ind_filed **filed = calloc(room + 1, sizeof *filed);
    for (size_t policy = 0; facts && filed && policy < config->policy_count; policy++) {
        struct ind_retention_facts given_facts = {.now = now, .clock_trusted = true};
        size_t count = 0;
        for (struct ind_live_path *path = survey->lives; path; path = path->hh.next)
            given_facts.live_size += path->filed && path->filed->policy == policy ? path->size : 0;
        for (struct ind_filed *each = survey->filed; each; each = each->hh.next) {
            if (each->policy != policy || (!each->has_plain && !each->compression))
                continue;
            filed[count] = each;
            facts[count] = (struct ind_archive_facts){
                .series = ind_path_hash(ind_slice_of(each->series)),
                .number = each->number,
                .rotated = each->known_rotated ? each->rotated : each->modified,
                .size = each->compression ? each->compressed_size : each->plain_size,
                .index = count};
            count++;
        }
        (void)ind_retention_decide(&config->policies[policy].keep, &given_facts, facts, count);
        for (size_t i = 0; i < count; i++)
            if (facts[i].verdict != IND_KEPT) {
                add_row(table, "remove", filed[facts[i].index]->archive, facts[i].size,
                        ind_retention_reason_name(facts[i].verdict).at, config->policies[policy].name);
                removed++;
            }
    }
    free(facts);
    free(filed);
    return removed;
}

static int dry_run(const struct ind_config *config, bool json)
{
    struct ind_survey survey;
    int folder = open(config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) {
        ind_complain("cannot read the store %s: %s", config->store, strerror(errno));
        return IND_EXIT_FAILED;
    }
    struct ind_table *table = ind_table_new(columns, 5);
    bool good = ind_survey(config, folder, &survey);
    HASH_SORT(survey.lives, by_path);
    HASH_SORT(survey.filed, by_archive);
    size_t count =
        dry_rotations(config, &survey, ind_now(), table) + dry_removals(config, &survey, ind_now(), table);
    if (count)
        ind_table_print(table, json, stdout);
    else if (!json)
        printf("nothing to do\n");
    ind_survey_free(&survey);
    ind_table_free(table);
    close(folder);
    return good ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

/* It compresses and removes by itself, after it has answered. */
static int print_asked(const char *text, bool json)
{
    static const struct ind_column names[] = {{"rotated", true}, {"failed", true}};
    json_error_t error;
    json_t *answer = json_loads(text, 0, &error);
    uint64_t failed = (uint64_t)json_integer_value(json_object_get(answer, "failed"));
    struct ind_table *table = ind_table_new(names, 2);
    ind_table_number(table, (uint64_t)json_integer_value(json_object_get(answer, "rotated")));
    ind_table_number(table, failed);
    ind_table_print(table, json, stdout);
    ind_table_free(table);
    if (!json)
        printf("done by the running collector, which compresses them in a moment\n");
    json_decref(answer);
    return failed == 0 ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

/* One process at a time writes a store: the one that does is asked. `busy`: who that is. */
static int ask_collector(const struct ind_config *config, bool json, const char *busy)
{
    char path[64], *text = NULL;
    snprintf(path, sizeof path, "/rotate?due=%d&clock-is-right=%d", given.due != 0,
             given.clock_is_right != 0);
    enum ind_asked asked = ind_ask_text(config, true, path, &text);
    int status = IND_EXIT_FAILED;
    if (asked == IND_ASKED && text)
        status = print_asked(text, json);
    else if (asked == IND_ASKED_NOBODY)
        ind_complain("%s, and does not answer at %s/" IND_CONTROL_SOCKET, busy, config->state);
    else
        ind_complain("%s", text ? text : busy);
    free(text);
    return status;
}

static int rotate(const struct ind_config *config, bool json)
{
    char reason[1400];
    struct ind_store *store;
    size_t failed = 0;
    struct ind_store_settings settings = {
        .config = config, .fs = &ind_fs_posix, .now = ind_now(), .tell = ind_tell};
    enum ind_store_status status = ind_store_open(&settings, &store, reason, sizeof reason);
    if (status == IND_STORE_BUSY)
        return ask_collector(config, json, reason);
    if (status != IND_STORE_OK) {
        ind_complain("%s", reason);
        return IND_EXIT_FAILED;
    }
    size_t count = ind_store_rotate(store, given.due, ind_clocks_now(), &failed);
    if (given.clock_is_right)
        ind_keeper_retain(store, ind_clocks_now(), true);
    bool kept = ind_keeper_run(store, ind_clocks_now(), NULL);
    struct ind_keeper_counts keeper = ind_keeper_counts(store);
    ind_store_close(store);
    static const struct ind_column names[] = {
        {"rotated", true}, {"compressed", true}, {"removed", true}, {"failed", true}};
    struct ind_table *table = ind_table_new(names, 4);
    ind_table_number(table, count);
    ind_table_number(table, keeper.compressed);
    ind_table_number(table, keeper.removed);
    ind_table_number(table, failed + keeper.failed);
    ind_table_print(table, json, stdout);
    ind_table_free(table);
    return kept && failed == 0 ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    if (*call->rest) {
        ind_complain("rotate takes no arguments, but \"%s\" was given", *call->rest);
        return IND_EXIT_CALL;
    }
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    int status = given.dry_run ? dry_run(loaded.config, call->json) : rotate(loaded.config, call->json);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_rotate = {
    .name = "rotate",
    .summary = "turns live files into archives: all now, or what is due",
    .arguments = "[-c FILE] [--due] [--dry-run]",
    .about =
        "Rotates the live files of the store, compresses what the archive policies say, and removes\n"
        "what they no longer keep. A running collector does this by itself; while one runs, it is asked.\n\n"
        "Example:\n"
        "  indagator rotate -c indagator.yaml --due --dry-run\n",
    .options = options,
    .run = run,
};
