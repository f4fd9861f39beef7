/* cli/explain.h: what the two ways of printing an explanation share. */
#ifndef IND_CLI_EXPLAIN_H
#define IND_CLI_EXPLAIN_H

#include "cli/cli.h"
#include "trial/explain.h"

/* What every message of this call shares. */
struct ind_explaining {
    const struct ind_config *config;
    struct ind_explainer *explainer;
    struct ind_address sender;
    ind_time received, now;
    struct ind_explain_trap *trap; /* the messages are made of traps; NULL: they are messages */
    bool json, bold;
    size_t count;
    char *room;
};

enum { IND_EXPLAIN_ROOM = IND_LINE_MOST };

/* Payloads by their kind. */
enum { IND_EXPLAIN_PAYLOADS = 5 };
struct ind_explain_payload {
    unsigned kind;
    const char *name;
};
extern const struct ind_explain_payload ind_explain_payloads[IND_EXPLAIN_PAYLOADS];

/* "stored", "dropped", …: how the message ends. */
const char *ind_explain_end(const struct ind_explanation *explanation);
/* How it is known whose message it is. */
const char *ind_explain_whose(const struct ind_explanation *explanation);

/* One object per line. */
void ind_explain_print_json(struct ind_explaining *run, const struct ind_explanation *explanation);

#endif
