/* What `archives list` says of archives, against what a rotation would do with them; and what is there. */
#define _GNU_SOURCE
#include "support/archives.h"
#include "support/random.h"

#include <sys/stat.h>

#define RULES(keep)                                                                                          \
    "store: log\nstate: state\nzone: UTC\n"                                                                  \
    "routes:\n  - {name: trouble, when: severity at least warning, file: \"trouble/{app}.log\", archive: "   \
    "short}\n"                                                                                               \
    "  - {name: all, file: all.log}\n"                                                                       \
    "archives:\n  default: {rotate: {messages: 7}, keep: " keep ", compress: zstd}\n"                        \
    "  short: {rotate: {messages: 3}, keep: {for: 20 days, number: 4, never less than: 5 days}}\n"

static void make_store(const char *rules)
{
    static const char *const apps[] = {"sshd", "kernel", "ospfd"};
    char text[40000];
    uint64_t random = IND_RANDOM_START;
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    for (int i = 0; i < 200; i++) {
        char line[200];
        snprintf(line, sizeof line, "<%u>1 2026-11-23T04:%02d:%02dZ pier1-rtr %s - - - message %d\n",
                 128 + ind_random(&random, 8), i / 60, i % 60, apps[ind_random(&random, 3)], i);
        ind_buffer_text(&out, line);
    }
    text[out.length] = '\0';
    ind_write_file(ind_path(folder, "indagator.yaml"), rules);
    ind_write_file(ind_path(folder, "messages.log"), text);
    struct ind_ran ran = ind_shell(folder, "rm -rf log state; %s collect --from messages.log && %s rotate",
                                   IND_PROGRAM, IND_PROGRAM);
    if (ran.status != 0)
        fail_msg("%s%s", ran.out, ran.err);
    ind_ran_free(&ran);
}

/* As if the archives had been rotated over the last weeks, in their order. */
static void age_archives(uint64_t *random)
{
    char *journal = ind_read_file(ind_path(folder, "log/.indagator/journal.jsonl"), NULL), *rest = journal,
         *line;
    char *changed = calloc(1, 2 * strlen(journal) + 1);
    size_t length = 0;
    double days = 40;
    const time_t now = time(NULL);
    while ((line = strsep(&rest, "\n")) && *line) {
        const char *at = strstr(line, "\"at\":\"");
        if (at && strstr(line, "\"rotated\"")) {
            const time_t then = now - (time_t)(days * 86400);
            struct tm utc;
            char stamp[40];
            days -= ind_random(random, 100) / 70.0;
            days = days < 0 ? 0 : days;
            strftime(stamp, sizeof stamp, "%Y-%m-%dT%H:%M:%S.000000Z", gmtime_r(&then, &utc));
            const char *end = strchr(at + 6, '"');
            length += (size_t)sprintf(changed + length, "%.*s%s%s\n", (int)(at + 6 - line), line, stamp, end);
        } else {
            length += (size_t)sprintf(changed + length, "%s\n", line);
        }
    }
    ind_write_file(ind_path(folder, "log/.indagator/journal.jsonl"), changed);
    free(changed);
    free(journal);
}

/* The paths that a command names, sorted. */
static char *sorted_paths(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s | sort", command);
    char *paths = strdup(ran.out);
    ind_ran_free(&ran);
    return paths;
}

static void what_goes_now_is_what_a_rotation_removes(void **state)
{
    (void)state;
    static const char *const rules[] = {
        RULES("{for: 15 days}"), RULES("{number: 9}"), RULES("{space: 1 KiB}"),
        RULES("{for: 30 days, number: 20, space: 2 KiB}"), RULES("{for: 10 years}")};
    char list[600], dry[600];
    uint64_t random = IND_RANDOM_START;
    snprintf(list, sizeof list,
             "%s archives list --json | grep '\"due\"' | sed 's/{\"archive\":\"\\([^\"]*\\)\".*/\\1/'",
             IND_PROGRAM);
    snprintf(dry, sizeof dry,
             "%s rotate --due --dry-run --clock-is-right --json | grep '\"remove\"' | sed "
             "'s/.*\"file\":\"\\([^\"]*\\)\".*/\\1/'",
             IND_PROGRAM);
    size_t removed = 0;
    for (size_t i = 0; i < sizeof rules / sizeof *rules; i++) {
        make_store(rules[i]);
        age_archives(&random);
        if (i % 2) { /* what is protected is in neither */
            struct ind_ran ran = ind_shell(
                folder, "%s archives protect trouble/sshd all-20261123T0402 --why 'case 7'", IND_PROGRAM);
            assert_int_equal(ran.status, 0);
            ind_ran_free(&ran);
        }
        char *listed = sorted_paths(list), *gone = sorted_paths(dry);
        if (strcmp(listed, gone) != 0)
            fail_msg("%s\nlisted:\n%sremoved:\n%s", rules[i], listed, gone);
        removed += strlen(gone);
        free(listed);
        free(gone);
    }
    assert_true(removed > 0);
}

static void what_is_there_is_listed(void **state)
{
    (void)state;
    make_store(RULES("{for: 30 days}"));
    expect("list all", 0, "all.log, by the route all, policy default");
    expect("list all", 0, "29 archives, ");
    expect("list nothing", 1, "0 archives");
    expect("", 2, "archives list");
    expect("lost", 2, "archives list");
    expect("list --on soon", 2, "is not a time");
    expect("list --on 2090-01-01", 1, "of today will be gone by then");
    /* The numbers are those of the files. */
    struct ind_ran ran =
        ind_shell(folder,
                  "for f in $(%s archives list --json | sed 's/{\"archive\":\"\\([^\"]*\\)\".*/\\1/'); do "
                  "zstd -dc log/$f; done | wc "
                  "-l -c; %s archives list --json | awk -F'[:,]' '{ for (i = 1; i < NF; i++) { if ($i == "
                  "\"\\\"messages\\\"\") m += "
                  "$(i + 1); if ($i == \"\\\"text_bytes\\\"\") b += $(i + 1) } } END { print m, b }'",
                  IND_PROGRAM, IND_PROGRAM);
    unsigned long lines = 0, bytes = 0, messages = 1, text = 1;
    assert_int_equal(sscanf(ran.out, "%lu %lu %lu %lu", &lines, &bytes, &messages, &text), 4);
    assert_int_equal(lines, messages);
    assert_int_equal(bytes, text);
    ind_ran_free(&ran);
    ran = ind_shell(folder, "rm log/all-*-000003.log.zst");
    ind_ran_free(&ran);
    expect("list all", 1, "missing");
    expect("list all", 1, "1 missing, though nobody has written down");
    /* Routes that are gone, and archives that nobody knows. */
    ran = ind_shell(folder, "cp log/all-*-000004.log.zst log/other-20261123T044500Z-000001.log.zst");
    ind_ran_free(&ran);
    expect("list other", 0, "never: no policy");
    ran = ind_shell(folder, "rm -r log");
    ind_ran_free(&ran);
    expect("list", 3, "log");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_goes_now_is_what_a_rotation_removes, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_there_is_listed, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
