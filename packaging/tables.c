/* Prints the tables of the commands for packaging/manual.py: a line for each command and for each of its
 * options, with tabs between the columns. A line of "about" goes on with "+". Built, not installed. */
#include "cli/commands.h"

static void print_option(const struct poptOption *option)
{
    printf("option\t%s\t%c\t%s\t%s\n", option->longName, option->shortName ? option->shortName : '-',
           option->argDescrip ? option->argDescrip : "", option->descrip);
}

static void print_options(const struct poptOption *option)
{
    for (; option->longName || option->shortName || option->arg; option++)
        if (option->longName)
            print_option(option);
}

static void print_about(const char *text)
{
    const char *end;
    for (; (end = strchr(text, '\n')); text = end + 1)
        printf("+\t%.*s\n", (int)(end - text), text);
}

int main(void)
{
    struct ind_common common;
    struct poptOption table[IND_COMMON_OPTIONS];
    ind_common_options(&common, table);
    printf("common\n");
    print_options(table);
    for (int i = 0; i < IND_COMMANDS; i++) {
        const struct ind_command *command = ind_commands[i];
        printf("command\t%s\t%s\t%s\n", command->name, command->summary, command->arguments);
        print_about(command->about);
        print_options(command->options());
    }
    return 0;
}
