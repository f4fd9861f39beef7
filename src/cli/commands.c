#include "cli/commands.h"

const struct ind_command *const ind_commands[IND_COMMANDS] = {
    &ind_command_collect, &ind_command_check,  &ind_command_explain, &ind_command_rehearse,
    &ind_command_fit,     &ind_command_learn,  &ind_command_emit,    &ind_command_search,
    &ind_command_follow,  &ind_command_status, &ind_command_pause,   &ind_command_resume,
    &ind_command_rotate,  &ind_command_report, &ind_command_watch,   &ind_command_archives,
    &ind_command_alerts,  &ind_command_doctor, &ind_command_demo};

void ind_common_options(struct ind_common *common, struct poptOption table[IND_COMMON_OPTIONS])
{
    const struct poptOption options[IND_COMMON_OPTIONS] = {
        {"config", 'c', POPT_ARG_STRING, &common->config, 0, "the configuration", "FILE"},
        {"json", '\0', POPT_ARG_NONE, &common->json, 0, "results as JSON, one object per line", NULL},
        {"color", '\0', POPT_ARG_STRING, &common->colour, 0,
         "colours: always, never, or auto, which is on a terminal where NO_COLOR is not set", "WHEN"},
        {"help", 'h', POPT_ARG_NONE, &common->help, 0, "this help", NULL},
        {"version", '\0', POPT_ARG_NONE, &common->version, 0, "the version", NULL},
        POPT_TABLEEND};
    memcpy(table, options, sizeof options);
}
