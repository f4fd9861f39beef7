#include "cli/cli.h"
#include "cli/control_client.h"
#include "cli/doctor.h"
#include "config/quantity.h"
#include "store/disk/disk.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

static char *given_listen, *given_file;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"listen", '\0', POPT_ARG_STRING, &given_listen, 0,
         "shows what arrives at the running collector for so long, such as 10s", "SPAN"},
        {"file", '\0', POPT_ARG_STRING, &given_file, 0,
         "tells which routes write a file of the store, and what kept the last messages from it", "PATH"},
        POPT_TABLEEND};
    return table;
}

/* The process that holds the store, though nobody answers for this configuration; 0: none. */
static long holder(const struct ind_config *config)
{
    int folder = open(config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    long process = folder >= 0 ? ind_disk_holder(folder) : 0;
    if (folder >= 0)
        close(folder);
    return process;
}

static void look_without_collector(struct ind_findings *findings, const struct ind_config *config)
{
    long other = holder(config);
    ind_findings_looked(findings);
    if (other)
        ind_findings_add(
            findings, IND_FINDING_BAD, "second",
            "end it, or use the configuration that it was started with (-c): each needs a store of its own",
            "another collector, process %ld, writes to %s, and does not answer at %s", other, config->store,
            config->state);
    else
        ind_findings_add(findings, IND_FINDING_BAD, "not-running",
                         "systemctl start indagator, or \"indagator collect\"",
                         "no collector runs on this configuration: nothing is received");
    ind_doctor_ports(findings, config);
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    char *text = NULL;
    json_error_t error;
    if (*call->rest) {
        ind_complain("doctor takes no arguments, but \"%s\" was given", *call->rest);
        return IND_EXIT_CALL;
    }
    if (given_listen && given_file) {
        ind_complain("--listen and --file are two questions: ask one after the other");
        return IND_EXIT_CALL;
    }
    int64_t span = 0;
    if (given_listen &&
        (!ind_read_span(ind_slice_of(given_listen), &span) || span <= 0 || span > 3600 * IND_SECOND)) {
        ind_complain("--listen %s: " IND_SPAN_HINT ", an hour at most", given_listen);
        return IND_EXIT_CALL;
    }
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL; /* which has been told, with what is to be done */
    if (given_listen || given_file) {
        int status = given_file ? ind_doctor_file(loaded.config, given_file, call->json != 0)
                                : ind_doctor_listen(loaded.config, (long)(span / (IND_SECOND / 1000)),
                                                    call->json != 0);
        ind_loaded_free(&loaded);
        return status;
    }
    struct ind_findings *findings = ind_findings_new();
    enum ind_control_client_result asked = ind_control_client_ask(loaded.config, false, "/status", &text);
    json_t *status = asked == IND_CONTROL_CLIENT_ANSWERED && text ? json_loads(text, 0, &error) : NULL;
    if (status)
        ind_doctor_collector(findings, &loaded, status);
    else if (asked == IND_CONTROL_CLIENT_NOBODY)
        look_without_collector(findings, loaded.config);
    else
        ind_findings_add(findings, IND_FINDING_BAD, "no-answer",
                         "may this user use the control socket? try as root",
                         "the collector does not answer: %s", text ? text : "");
    ind_doctor_machine(findings, loaded.config, status);
    size_t bad = ind_findings_print(findings, call->json != 0);
    ind_findings_free(findings);
    json_decref(status);
    free(text);
    ind_loaded_free(&loaded);
    return bad > 0 ? IND_EXIT_NO : IND_EXIT_DONE;
}

const struct ind_command ind_command_doctor = {
    .name = "doctor",
    .summary = "looks for what keeps messages from arriving or from being filed",
    .arguments = "[-c FILE] [--listen SPAN] [--file PATH]",
    .about =
        "Looks at the running collector, or, where none runs, at what would keep it from running; at "
        "folders,\n"
        "file systems, ports, and what the kernel does with datagrams. Tells for each thing that it finds\n"
        "what mends it. What is bad keeps messages away, and makes the exit code 1; advice does not.\n"
        "With --listen it only shows what arrives at the running collector: from whom, where, and in which\n"
        "form. Who is not under allow: is not among it: \"indagator status\" has those.\n"
        "With --file it tells which routes write a file of the store, and of the last messages of each\n"
        "device what kept them from it: those that were nearest first, and the tests that failed.\n\n"
        "Example:\n"
        "  indagator doctor\n"
        "  indagator doctor --file trouble/pier1-rtr.log\n",
    .options = options,
    .run = run,
};
