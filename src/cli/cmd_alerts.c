#include "cli/alerts.h"
#include "cli/verbs.h"

static struct ind_alerts_call given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"note", '\0', POPT_ARG_STRING, &given.note, 0, "ack: what you know of it", "TEXT"},
        {"for", '\0', POPT_ARG_STRING, &given.span, 0, "mute: for so long, such as 2h", "SPAN"},
        {"off", '\0', POPT_ARG_NONE, &given.off, 0, "mute: it is told again, and what was held back", NULL},
        {"since", '\0', POPT_ARG_STRING, &given.since, 0, "history: what was over from then on; 30d", "TIME"},
        {"until", '\0', POPT_ARG_STRING, &given.until, 0, "history: what was over before then", "TIME"},
        POPT_TABLEEND};
    return table;
}

static const struct alerts_verb {
    struct ind_verb verb;
    int (*run)(const struct ind_config *config, const struct ind_alerts_call *given);
    bool needs_name;
} verbs[] = {
    {{"list", {NULL}}, ind_alerts_list, false},
    {{"show", {NULL}}, ind_alerts_show, true},
    {{"ack", {"note"}}, ind_alerts_ack, true},
    {{"mute", {"for", "off"}}, ind_alerts_mute, true},
    {{"history", {"since", "until"}}, ind_alerts_history, false},
    {{"test", {NULL}}, ind_alerts_test, true},
};
enum { VERBS = sizeof verbs / sizeof *verbs };

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    const struct alerts_verb *verb =
        ind_verb_find(*call->rest ? *call->rest : "list", verbs, VERBS, sizeof *verbs);
    if (!verb) {
        ind_complain("alerts: what is to be done with them? there are \"alerts list\", \"show\", \"ack\", "
                     "\"mute\", \"history\" and \"test\"");
        return IND_EXIT_CALL;
    }
    if (!ind_verb_options_fit("alerts", &verb->verb, options()))
        return IND_EXIT_CALL;
    given.name = *call->rest ? call->rest[1] : NULL;
    given.key = given.name ? call->rest[2] : NULL;
    given.json = call->json != 0;
    if (given.key && call->rest[3]) {
        ind_complain("alerts %s: \"%s\" is one word too many; quote a key that has blanks", verb->verb.name,
                     call->rest[3]);
        return IND_EXIT_CALL;
    }
    if (verb->needs_name && !given.name) {
        ind_complain("alerts %s: which one? \"indagator alerts list\" shows their names", verb->verb.name);
        return IND_EXIT_CALL;
    }
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    const int status = verb->run(loaded.config, &given);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_alerts = {
    .name = "alerts",
    .summary = "what is open, who has seen to it, and what was before",
    .arguments = "[list|show|ack|mute|history|test] [-c FILE] [--json] [NAME [KEY]]",
    .about =
        "list: alerts that are open, then those that somebody has acknowledged, the oldest first. Exit code\n"
        "1 where there is none.\n\n"
        "show: all that is known of the last one of that name and key, or of that number.\n\n"
        "ack: somebody has seen to it. Whether it is over with that, its rule says; without KEY all that "
        "are\n"
        "open by that name. Exit code 1 where none was.\n\n"
        "mute: it is not told for a while, and what was held back is told afterwards.\n\n"
        "history: those that are over, the last first.\n\n"
        "test: tells whom it would tell, as if it had opened.\n\n"
        "Examples:\n"
        "  indagator alerts list\n"
        "  indagator alerts ack guessing 203.0.113.7 --note 'blocked at the firewall'\n"
        "  indagator alerts mute link-down --for 2h\n",
    .options = options,
    .run = run,
};
