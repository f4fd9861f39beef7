#include "cli/doctor.h"

#include "cli/cli.h"
#include "cli/terminal.h"
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST = 200 };

struct finding {
    enum ind_finding_kind kind;
    const char *check;
    char *text, *mend;
};

struct ind_findings {
    struct finding list[MOST];
    size_t count, looked;
};

struct ind_findings *ind_findings_new(void)
{
    return calloc(1, sizeof(struct ind_findings));
}

void ind_findings_free(struct ind_findings *findings)
{
    for (size_t i = 0; findings && i < findings->count; i++) {
        free(findings->list[i].text);
        free(findings->list[i].mend);
    }
    free(findings);
}

void ind_findings_looked(struct ind_findings *findings)
{
    if (findings)
        findings->looked++;
}

void ind_findings_add(struct ind_findings *findings, enum ind_finding_kind kind, const char *check,
                      const char *mend, const char *format, ...)
{
    char text[1200];
    va_list arguments;
    if (!findings || findings->count == MOST)
        return;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    findings->list[findings->count++] = (struct finding){kind, check, strdup(text), strdup(mend)};
}

static void print_one(const struct finding *finding, bool json)
{
    const bool bad = finding->kind == IND_FINDING_BAD, colour = ind_colour();
    if (json) {
        json_t *object =
            json_pack("{s:s,s:s,s:s,s:s}", "check", finding->check, "kind", bad ? "bad" : "advice", "found",
                      finding->text ? finding->text : "", "mend", finding->mend ? finding->mend : "");
        ind_print_json(object, stdout);
        printf("\n");
        json_decref(object);
        return;
    }
    printf("%s%s%s: %s\n", colour ? (bad ? IND_RED : IND_YELLOW) : "", bad ? "Bad" : "Advice",
           colour ? IND_PLAIN : "", finding->text ? finding->text : "");
    if (finding->mend && *finding->mend)
        printf("  %s\n", finding->mend);
}

size_t ind_findings_print(const struct ind_findings *findings, bool json)
{
    size_t bad = 0;
    for (int kind = IND_FINDING_BAD; findings && kind <= IND_FINDING_ADVICE; kind++)
        for (size_t i = 0; i < findings->count; i++)
            if ((int)findings->list[i].kind == kind) {
                print_one(&findings->list[i], json);
                bad += kind == IND_FINDING_BAD;
            }
    if (!json && findings)
        printf("%s%zu things looked at; bad: %zu, advice: %zu\n", findings->count ? "\n" : "",
               findings->looked, bad, findings->count - bad);
    return bad;
}
