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

/* Series by their own name, or by that of any of their archives. */
static void mark_wanted(const struct ind_proof_settings *settings, struct ind_proof_ledger *ledger)
{
    for (struct ind_proof_chain *chain = ledger->chains; chain; chain = chain->hh.next)
        chain->wanted = ind_proof_is_asked_for(settings, chain->series);
    for (const struct ind_proof_archive *archive = ledger->archives; archive; archive = archive->hh.next)
        archive->chain->wanted |= ind_proof_is_asked_for(settings, archive->path);
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

/* ---- The heads ---- */

/* A line of the heads: a number, a hash, the name of a series. One of which the journal tells nothing is
 * lost. */
static void take_head(const char *text, struct ind_proof *proof)
{
    const char *hash = strchr(text, ' '), *series = hash ? strchr(hash + 1, ' ') : NULL;
    struct ind_proof_chain *chain = NULL;
    if (!series)
        return;
    HASH_FIND_STR(proof->ledger->chains, series + 1, chain);
    if (!chain || !chain->last)
        ind_proof_find(proof, IND_FOUND_CUT, series + 1, NULL, 0,
                       "the journal has no link of it, and link %.*s is known", (int)(hash - text), text);
    else if (ind_hash_read((struct ind_slice){hash + 1, (size_t)(series - hash) - 1}, chain->known_hash))
        chain->known = strtoull(text, NULL, 10);
}

static void take_heads(struct ind_slice heads, struct ind_proof *proof)
{
    char line[IND_PATH + 200];
    while (heads.length) {
        const char *newline = memchr(heads.at, '\n', heads.length);
        const size_t length = newline ? (size_t)(newline - heads.at) : heads.length;
        snprintf(line, sizeof line, "%.*s", (int)length, heads.at);
        take_head(line, proof);
        heads = ind_slice_from(heads, length + (newline != NULL));
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
    take_heads(settings->heads, proof);
    ind_proof_links(settings, proof->ledger, proof);
    ind_proof_ledger_tell(proof->ledger);
    mark_wanted(settings, proof->ledger);
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
