#include "store/archive/proof_private.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

void ind_proof_free(struct ind_proof *proof)
{
    ind_proof_free_findings(proof);
    free(proof->series);
    ind_proof_ledger_free(proof->ledger);
    *proof = (struct ind_proof){0};
}

/* ---- What was asked for ---- */

static bool is_wanted(const struct ind_proof_settings *settings, const struct ind_proof_ledger *ledger,
                      const struct ind_proof_chain *chain)
{
    if (!settings->names)
        return true;
    for (const char **name = settings->names; *name; name++) {
        const size_t length = strlen(*name);
        if (strncmp(chain->series, *name, length) == 0)
            return true;
        for (const struct ind_proof_archive *archive = ledger->archives; archive; archive = archive->hh.next)
            if (archive->chain == chain && strncmp(archive->path, *name, length) == 0)
                return true;
    }
    return false;
}

static int by_name(const void *one, const void *other)
{
    return strcmp(((const struct ind_proof_series *)one)->name,
                  ((const struct ind_proof_series *)other)->name);
}

static bool gather_series(struct ind_proof *proof)
{
    const struct ind_proof_ledger *ledger = proof->ledger;
    proof->series = calloc(HASH_COUNT(ledger->chains) + 1, sizeof *proof->series);
    if (!proof->series)
        return false;
    for (struct ind_proof_chain *chain = ledger->chains; chain; chain = chain->hh.next) {
        chain->result.name = chain->series;
        if (chain->wanted)
            proof->series[proof->series_count++] = chain->result;
    }
    qsort(proof->series, proof->series_count, sizeof *proof->series, by_name);
    return true;
}

/* Findings about series that nobody asked for are left out. */
static void keep_wanted(struct ind_proof *proof)
{
    size_t kept = 0;
    for (size_t i = 0; i < proof->finding_count; i++) {
        struct ind_finding finding = proof->findings[i];
        struct ind_proof_chain *chain = NULL;
        if (finding.series)
            HASH_FIND_STR(proof->ledger->chains, finding.series, chain);
        if (!chain || chain->wanted) {
            proof->findings[kept++] = finding;
            continue;
        }
        free(finding.series);
        free(finding.archive);
        free(finding.text);
    }
    proof->finding_count = kept;
}

static int by_place(const void *one, const void *other)
{
    const struct ind_finding *a = one, *b = other;
    if (!a->archive != !b->archive)
        return a->archive ? 1 : -1;
    return a->archive ? strcmp(a->archive, b->archive) : (a->line > b->line) - (a->line < b->line);
}

/* ---- One round ---- */

/* Series of which the heads tell, and the journal nothing. */
static void find_lost_series(const struct ind_proof_settings *settings, struct ind_proof *proof)
{
    for (const char *at = settings->heads; at && *at;) {
        const char *newline = strchr(at, '\n');
        const size_t length = newline ? (size_t)(newline - at) : strlen(at);
        char line[IND_PATH + 200];
        snprintf(line, sizeof line, "%.*s", (int)length, at);
        char *hash = strchr(line, ' '), *series = hash ? strchr(hash + 1, ' ') : NULL;
        struct ind_proof_chain *chain = NULL;
        if (series)
            HASH_FIND_STR(proof->ledger->chains, series + 1, chain);
        if (series && (!chain || !chain->last)) {
            *hash = '\0';
            ind_proof_find(proof, IND_FOUND_CUT, series + 1, NULL, 0,
                           "the journal has no link of it, and link %s is known", line);
        }
        at = newline ? newline + 1 : NULL;
    }
}

/* False where the journal cannot be read, or memory is out. */
static bool look(const struct ind_proof_settings *settings, int folder, struct ind_proof_files *files,
                 struct ind_proof *proof)
{
    ind_proof_files_list(folder, files);
    proof->ledger = ind_proof_ledger_read(folder);
    if (!proof->ledger)
        return false;
    ind_proof_links(settings, proof->ledger, proof);
    find_lost_series(settings, proof);
    ind_proof_ledger_tell(proof->ledger);
    for (struct ind_proof_chain *chain = proof->ledger->chains; chain; chain = chain->hh.next)
        chain->wanted = is_wanted(settings, proof->ledger, chain);
    ind_proof_files_read(settings, folder, proof->ledger, files);
    ind_proof_files_judge(settings, folder, proof->ledger, files, proof);
    proof->torn = proof->ledger->torn;
    proof->unreadable += files->unreadable;
    errno = ENOMEM;
    return !proof->ledger->out_of_memory && !files->out_of_memory;
}

bool ind_proof_make(const struct ind_proof_settings *settings, struct ind_proof *proof, char *reason,
                    size_t room)
{
    struct ind_proof_files files;
    *proof = (struct ind_proof){0};
    const int folder = open(settings->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) {
        snprintf(reason, room, "%s: %s", settings->store, strerror(errno));
        return false;
    }
    bool good = look(settings, folder, &files, proof);
    if (!good)
        snprintf(reason, room,
                 errno == ENOENT ? "%s has no journal (" IND_JOURNAL_PATH
                                   "): nothing can be said of its archives"
                                 : "%s: the journal cannot be read: %s",
                 settings->store, strerror(errno));
    good = good && gather_series(proof);
    if (good)
        keep_wanted(proof);
    if (good && proof->finding_count)
        qsort(proof->findings, proof->finding_count, sizeof *proof->findings, by_place);
    ind_proof_files_free(&files);
    close(folder);
    return good;
}
