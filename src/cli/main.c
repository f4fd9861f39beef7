/* cli/main.c: finds the command, reads its options, runs it, and sees to it that all output got out. */
#include "cli/cli.h"
#include "cli/commands.h"

#include <errno.h>
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>

static void print_usage(FILE *out)
{
    fprintf(out, "Usage: indagator COMMAND [options]\n\n"
                 "Collects syslog from network devices, files it by facility and severity, keeps the files\n"
                 "in order, and finds things in them again.\n\nCommands:\n");
    for (int i = 0; i < IND_COMMANDS; i++)
        fprintf(out, "  %-10s %s\n", ind_commands[i]->name, ind_commands[i]->summary);
    fprintf(out, "\nCommon to all:\n"
                 "  -c, --config FILE   the configuration; otherwise ./indagator.yaml, then\n"
                 "                      /etc/indagator/indagator.yaml\n"
                 "      --color WHEN    always, never or auto\n"
                 "      --json          results as JSON, one object per line\n"
                 "  -h, --help          help on a command: indagator help COMMAND\n"
                 "      --version       the version\n"
                 "\nNew here? \"indagator demo\" shows the whole thing on made-up data.\n");
}

static const struct ind_command *find_command(const char *name)
{
    const char *names[IND_COMMANDS];
    for (int i = 0; i < IND_COMMANDS; i++) {
        names[i] = ind_commands[i]->name;
        if (strcmp(name, names[i]) == 0)
            return ind_commands[i];
    }
    const char *near = ind_near(ind_slice_of(name), names, IND_COMMANDS);
    if (near)
        ind_complain("unknown command \"%s\"; did you mean \"%s\"?", name, near);
    else
        ind_complain("unknown command \"%s\"; \"indagator --help\" lists them", name);
    return NULL;
}

static void print_help(const struct ind_command *command, poptContext context)
{
    printf("Usage: indagator %s %s\n\n%s", command->name, command->arguments, command->about);
    char *text = NULL;
    size_t size = 0;
    FILE *memory = open_memstream(&text, &size);
    if (!memory)
        return;
    poptPrintHelp(context, memory, 0);
    fclose(memory);
    const char *options = strchr(text, '\n'); /* the first line is popt's own usage */
    printf("%s", options ? options + 1 : "");
    free(text);
}

static int bad_option(poptContext context, int error, const char *where)
{
    ind_complain("%s: %s; see \"indagator %s --help\"",
                 poptBadOption(context, error == POPT_ERROR_BADNUMBER ? 0 : POPT_BADOPTION_NOALIAS),
                 error == POPT_ERROR_BADOPT      ? "unknown option"
                 : error == POPT_ERROR_NOARG     ? "a value is missing"
                 : error == POPT_ERROR_BADNUMBER ? "this is no number"
                 : error == POPT_ERROR_OVERFLOW  ? "the number is too large"
                                                 : poptStrerror(error),
                 where);
    return IND_EXIT_CALL;
}

/* A configuration that is named must be there, also where the command could do without. */
static bool may_read(const char *config)
{
    if (!config || access(config, R_OK) == 0)
        return true;
    ind_complain("cannot read the configuration %s: %s", config, strerror(errno));
    return false;
}

static int run_command(const struct ind_command *command, const char *program, struct ind_common *common,
                       int argc, const char **argv)
{
    struct poptOption shared[IND_COMMON_OPTIONS];
    ind_common_options(common, shared);
    struct poptOption table[] = {
        {NULL, '\0', POPT_ARG_INCLUDE_TABLE, command->options(), 0, "Options:", NULL},
        {NULL, '\0', POPT_ARG_INCLUDE_TABLE, shared, 0, "Common to all commands:", NULL},
        POPT_TABLEEND};
    if (!command->options()->longName)
        memmove(table, table + 1, 2 * sizeof *table);
    poptContext context = poptGetContext("indagator", argc, argv, table, 0);
    int result = poptGetNextOpt(context), status;
    if (result < -1) {
        status = bad_option(context, result, command->name);
    } else if (common->help) {
        print_help(command, context);
        status = IND_EXIT_DONE;
    } else if (common->version) {
        printf("indagator %s\n", IND_VERSION);
        status = IND_EXIT_DONE;
    } else {
        static const char *none[] = {NULL};
        const char **rest = poptGetArgs(context);
        struct ind_call call = {program, common->config, common->json, rest ? rest : none};
        status = ind_colour_option(common->colour) && may_read(common->config) ? command->run(&call)
                                                                               : IND_EXIT_CALL;
    }
    poptFreeContext(context);
    return status;
}

/* "COMMAND …", or "help COMMAND", which is the same with --help. */
static int call_command(const char *program, struct ind_common *common, const char **rest)
{
    int count = 0;
    if (strcmp(*rest, "help") == 0) {
        common->help = 1;
        rest++;
    }
    if (!*rest) {
        print_usage(stdout);
        return IND_EXIT_DONE;
    }
    while (rest[count])
        count++;
    const struct ind_command *command = find_command(*rest);
    return command ? run_command(command, program, common, count, rest) : IND_EXIT_CALL;
}

/* Options before the command: -c belongs to it. */
static int read_call(int argc, const char **argv)
{
    struct ind_common common = {0};
    struct poptOption table[IND_COMMON_OPTIONS];
    ind_common_options(&common, table);
    poptContext context = poptGetContext("indagator", argc, argv, table, POPT_CONTEXT_POSIXMEHARDER);
    int result = poptGetNextOpt(context), status = IND_EXIT_CALL;
    const char **rest = poptGetArgs(context);
    if (result < -1) {
        status = bad_option(context, result, "");
    } else if (common.version) {
        printf("indagator %s\n", IND_VERSION);
        status = IND_EXIT_DONE;
    } else if (!rest || !*rest) {
        print_usage(common.help ? stdout : stderr);
        status = common.help ? IND_EXIT_DONE : IND_EXIT_CALL;
    } else {
        status = call_command(argv[0], &common, rest);
    }
    poptFreeContext(context);
    free(common.config);
    free(common.colour);
    return status;
}

int main(int argc, const char **argv)
{
    ind_terminal_begin();
    signal(SIGPIPE, SIG_IGN); /* a reader that has seen enough is no mistake: writing says so */
    int status = read_call(argc, argv);
    if (fflush(stdout) != 0 && errno != EPIPE && status == IND_EXIT_DONE) {
        ind_complain("cannot write the results: %s", strerror(errno));
        status = IND_EXIT_FAILED;
    }
    return status;
}
