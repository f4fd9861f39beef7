#include "cli/archives.h"
#include "cli/verbs.h"

static struct ind_archives_call given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"on", '\0', POPT_ARG_STRING, &given.on, 0,
         "list: only those that will still be there then, as far as age, number and space of their policy "
         "tell",
         "DATE"},
        {"due", '\0', POPT_ARG_NONE, &given.due, 0,
         "list: what would be rotated, compressed and removed now, by which rule, and what that frees", NULL},
        {"since", '\0', POPT_ARG_STRING, &given.since, 0, "archives with messages from then on", "TIME"},
        {"until", '\0', POPT_ARG_STRING, &given.until, 0, "archives with messages before then", "TIME"},
        {"to", '\0', POPT_ARG_STRING, &given.to, 0,
         "restore: a folder that the archives are put into, as text; without it their lines are printed",
         "FOLDER"},
        {"why", '\0', POPT_ARG_STRING, &given.why, 0,
         "protect, unprotect: the reason, for the journal and the list", "TEXT"},
        {"copy", '\0', POPT_ARG_STRING, &given.copy, 0,
         "verify: a copy of a store, which needs no configuration", "FOLDER"},
        {"key", '\0', POPT_ARG_STRING, &given.key, 0,
         "verify: the public key of who has signed, in PEM form; every chain must be signed", "FILE"},
        {"heads", '\0', POPT_ARG_STRING, &given.heads, 0,
         "verify: a copy of STATE/"
         "chain-heads: no chain may end before what it knows",
         "FILE"},
        POPT_TABLEEND};
    return table;
}

/* What can be done, and the options that each knows. */
static const struct archives_verb {
    struct ind_verb verb;
    int (*run)(const struct ind_config *config, const struct ind_archives_call *given);
    bool needs_no_configuration;
} verbs[] = {
    {{"list", {"on", "due"}}, ind_archives_list, false},
    {{"verify", {"since", "until", "copy", "key", "heads"}}, ind_archives_verify, true},
    {{"restore", {"since", "until", "to"}}, ind_archives_restore, false},
    {{"protect", {"since", "until", "why"}}, ind_archives_protect, false},
    {{"unprotect", {"since", "until", "why"}}, ind_archives_unprotect, false},
    {{"rebuild", {NULL}}, ind_archives_rebuild, false},
};
enum { VERBS = sizeof verbs / sizeof *verbs };

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    const struct archives_verb *verb = ind_verb_find(*call->rest, verbs, VERBS, sizeof *verbs);
    if (!verb) {
        ind_complain(
            "archives: what is to be done with them? there are \"archives list\", \"verify\", \"restore\", "
            "\"protect\", \"unprotect\" and \"rebuild\"");
        return IND_EXIT_CALL;
    }
    if (!ind_verb_options_fit("archives", &verb->verb, options()))
        return IND_EXIT_CALL;
    given.names = call->rest + 1;
    given.json = call->json != 0;
    if (!ind_load(call, verb->needs_no_configuration && given.copy, &loaded))
        return IND_EXIT_CALL;
    const int status = verb->run(loaded.config, &given);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_archives = {
    .name = "archives",
    .summary =
        "what lies in the store's archives, what will become of them, and whether they are what they were",
    .arguments = "list|verify|restore|protect|unprotect|rebuild [-c FILE] [--json] [SERIES…]",
    .about =
        "list: the archives of the store by series, with the span of their messages, how many there\n"
        "are, their size as text and on disk, and when each goes: by its age, or once so many more were\n"
        "rotated. Which go earlier for want of room nobody can foresee. With --on it lists those of\n"
        "today that will still be there then. Exit code 1 where there is none, or one is missing though\n"
        "nobody has written down that it was removed.\n\n"
        "verify: reads every archive to its end. Where the policy says \"chain: yes\" it proves that each\n"
        "text and each line of the journal is what it was, that none is missing, and none was put in;\n"
        "elsewhere, that each can be unpacked. Exit code 1 where something is wrong.\n\n"
        "restore: the messages of a time span, in order of time, or with --to whole archives as text into\n"
        "a folder. Each archive is checked first; one that is not right is named and left out (exit code "
        "3).\n\n"
        "protect: no rule removes these archives any more, whatever their policy says, until unprotect.\n"
        "They still count for the space of their policy, but not for its number.\n\n"
        "rebuild: makes the catalog of archives and volumes anew, from the journal and the files. A "
        "collector\n"
        "does so by itself where it is lost or damaged; this sets aside what stands in its place, and waits\n"
        "until it is done. Exit code 1 where a file could not be read to its end.\n\n"
        "SERIES is what the name of a series, or of an archive, begins with.\n\n"
        "Examples:\n"
        "  indagator archives list trouble/\n"
        "  indagator archives list --on 2027-01-31\n"
        "  indagator archives verify --since 30d\n"
        "  indagator archives restore --since 2026-11-23 --until 2026-11-23 trouble/ >monday.log\n"
        "  indagator archives protect --since 2026-11-23 --until 2026-11-24 --why 'case 2026-14'\n"
        "  indagator archives verify --copy /mnt/evidence --key audit.pub\n",
    .options = options,
    .run = run,
};
