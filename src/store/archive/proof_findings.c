#include "store/archive/proof_private.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char *const names[IND_FINDINGS] = {
    "changed",      "truncated",     "damaged",    "missing",    "renamed",     "swapped", "added",
    "line_changed", "lines_missing", "line_added", "line_moved", "journal_cut", "unsigned"};

const char *ind_finding_name(enum ind_finding_kind kind)
{
    return names[kind];
}

void ind_proof_find(struct ind_proof *proof, enum ind_finding_kind kind, const char *series,
                    const char *archive, uint64_t line, const char *format, ...)
{
    char text[IND_PATH + 400];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    struct ind_finding *grown = realloc(proof->findings, (proof->finding_count + 1) * sizeof *grown);
    if (!grown) {
        proof->unreadable++; /* never a good answer that is none */
        return;
    }
    proof->findings = grown;
    grown[proof->finding_count++] = (struct ind_finding){
        kind, series ? strdup(series) : NULL, archive ? strdup(archive) : NULL, line, strdup(text)};
}

void ind_proof_free_findings(struct ind_proof *proof)
{
    for (size_t i = 0; i < proof->finding_count; i++) {
        free(proof->findings[i].series);
        free(proof->findings[i].archive);
        free(proof->findings[i].text);
    }
    free(proof->findings);
    proof->findings = NULL;
    proof->finding_count = 0;
}
