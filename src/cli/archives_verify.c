#include "cli/archives.h"
#include "cli/table.h"
#include "config/source.h"
#include "store/archive/proof.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct call {
    const struct ind_config *config;
    const struct ind_archives_call *given;
    struct ind_proof_settings settings;
    struct ind_public_key **keys;
    struct ind_source *heads;
};

/* ---- What it is checked by ---- */

/* Of a copy only what was given: its state folder may lie anywhere. */
static bool take_heads(struct call *call)
{
    char path[IND_PATH + 32];
    if (call->given->heads)
        snprintf(path, sizeof path, "%s", call->given->heads);
    else if (!call->given->copy)
        snprintf(path, sizeof path, "%s/" IND_CHAIN_HEADS, call->config->state);
    else
        return true;
    call->heads = ind_source_read(path);
    if (call->heads)
        call->settings.heads = (struct ind_slice){call->heads->bytes, call->heads->length};
    if (call->heads || (!call->given->heads && errno == ENOENT))
        return true;
    ind_complain("%s: %s", path, ind_open_file_reason(errno));
    return false;
}

static bool add_key(struct call *call, const char *path, char *reason, size_t room)
{
    struct ind_public_key *key = ind_public_key_open(path, reason, room);
    if (key)
        call->keys[call->settings.key_count++] = key;
    return key != NULL;
}

/* The key that was given, or those by which the policies sign, where this user may read them. */
static bool take_keys(struct call *call)
{
    char reason[IND_PATH + 300];
    const struct ind_config *config = call->config;
    call->keys = calloc(config->policy_count + 1, sizeof(struct ind_public_key *));
    if (!call->keys)
        return false;
    call->settings.keys = (const struct ind_public_key *const *)call->keys;
    call->settings.signatures_wanted = call->given->key != NULL;
    if (call->given->key && !add_key(call, call->given->key, reason, sizeof reason)) {
        ind_complain("%s", reason);
        return false;
    }
    for (size_t i = 0; !call->given->key && !call->given->copy && i < config->policy_count; i++)
        if (config->policies[i].sign)
            (void)add_key(call, config->policies[i].sign, reason, sizeof reason);
    return true;
}

/* ---- What it says ---- */

/* For eyes what is not there is no number. */
static void add_number(struct ind_table *table, uint64_t number, bool json)
{
    if (number || json)
        ind_table_number(table, number);
    else
        ind_table_text(table, "-");
}

static void print_series(const struct ind_proof *proof, bool json)
{
    static const struct ind_column columns[] = {{"series", false},   {"links", true},    {"signed to", true},
                                                {"proven", true},    {"unproven", true}, {"removed", true},
                                                {"not asked", true}, {"text", true}};
    struct ind_table *table = ind_table_new(columns, sizeof columns / sizeof *columns);
    for (size_t i = 0; i < proof->series_count; i++) {
        const struct ind_proof_series *series = &proof->series[i];
        ind_table_text(table, series->name);
        add_number(table, series->links, json);
        add_number(table, series->signed_to, json);
        add_number(table, series->verified, json);
        add_number(table, series->unhashed, json);
        add_number(table, series->removed, json);
        add_number(table, series->unlooked, json);
        ind_table_size(table, series->bytes);
    }
    ind_table_print(table, json, stdout);
    ind_table_free(table);
}

static void print_findings(const struct ind_proof *proof, bool json)
{
    static const struct ind_column columns[] = {
        {"finding", false}, {"where", false}, {"series", false}, {"what", false}};
    struct ind_table *table = ind_table_new(columns, sizeof columns / sizeof *columns);
    for (size_t i = 0; i < proof->finding_count; i++) {
        const struct ind_finding *finding = &proof->findings[i];
        char line[64];
        snprintf(line, sizeof line, finding->line ? IND_JOURNAL_PATH ":%llu" : IND_JOURNAL_PATH,
                 (unsigned long long)finding->line);
        ind_table_text(table, ind_finding_name(finding->kind));
        ind_table_text(table, finding->archive ? finding->archive : line);
        ind_table_text(table, finding->series ? finding->series : "-");
        ind_table_text(table, finding->text ? finding->text : "");
    }
    ind_table_print(table, json, stdout);
    ind_table_free(table);
}

/* What must be known to read the answer rightly. */
static void print_notes(const struct ind_proof *proof)
{
    char number[32];
    uint64_t proven = 0, bytes = 0, chained = 0;
    for (size_t i = 0; i < proof->series_count; i++) {
        proven += proof->series[i].verified;
        bytes += proof->series[i].bytes;
        chained += proof->series[i].links > 0;
    }
    printf("%s archive%s proven", ind_grouped(proven, number), proven == 1 ? "" : "s");
    printf(", %s of text read", ind_size_text(bytes, number));
    if (proof->finding_count)
        printf("; %s finding%s", ind_grouped(proof->finding_count, number),
               proof->finding_count == 1 ? "" : "s");
    else if (chained || proof->series_count == 0)
        printf("; nothing is wrong");
    else
        printf(
            "; all can be unpacked, but no series is chained: nothing proves that they are what they were");
    printf("\n");
    if (proof->unknown)
        printf("%s file%s with the name of an archive that the journal does not know\n",
               ind_grouped(proof->unknown, number), proof->unknown == 1 ? "" : "s");
}

static int show(const struct call *call, const struct ind_proof *proof)
{
    const bool json = call->given->json;
    if (proof->series_count)
        print_series(proof, json);
    if (!json && proof->series_count && proof->finding_count)
        printf("\n");
    if (proof->finding_count)
        print_findings(proof, json);
    if (!json) {
        printf("\n");
        print_notes(proof);
    }
    if (proof->signatures_unlooked)
        ind_complain("the signatures were not checked: give the public key with --key");
    if (proof->unreadable)
        ind_complain("%zu files or folders could not be read: the answer is in part only", proof->unreadable);
    const bool none = proof->series_count == 0 && proof->finding_count == 0 && call->settings.names;
    if (none)
        ind_complain("there is no such series");
    return proof->finding_count || none ? IND_EXIT_NO : proof->unreadable ? IND_EXIT_FAILED : IND_EXIT_DONE;
}

static int verify(struct call *call)
{
    struct ind_proof proof;
    char reason[IND_PATH + 300];
    const bool good = ind_proof_make(&call->settings, &proof, reason, sizeof reason);
    ind_progress_end();
    const int code = good ? show(call, &proof) : IND_EXIT_FAILED;
    if (!good)
        ind_complain("%s", reason);
    ind_proof_free(&proof);
    return code;
}

int ind_archives_verify(const struct ind_config *config, const struct ind_archives_call *given)
{
    const long processors = sysconf(_SC_NPROCESSORS_ONLN);
    struct call call = {.config = config,
                        .given = given,
                        .settings = {.store = given->copy ? given->copy : config->store,
                                     .names = *given->names ? given->names : NULL,
                                     .threads = processors > 0 ? (unsigned)processors : 1,
                                     .progress = ind_progress}};
    int code = IND_EXIT_CALL;
    if (ind_moment_option("since", given->since, config->zone, false, &call.settings.since) &&
        ind_moment_option("until", given->until, config->zone, true, &call.settings.until) &&
        take_keys(&call) && take_heads(&call))
        code = verify(&call);
    for (size_t i = 0; i < call.settings.key_count; i++)
        ind_public_key_free(call.keys[i]);
    free(call.keys);
    ind_source_free(call.heads);
    return code;
}
