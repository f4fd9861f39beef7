/* What a file with a login may say, and who may read it. */
#include "net/broker_login.h"
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

static void each_way_is_understood(void **state)
{
    struct ind_broker_login login;
    unsigned line;
    (void)state;
    assert_true(
        ind_broker_login_parse(IND_SLICE("# ours\n\nuser:  skerry \r\npassword: a word\n"), &login, &line));
    assert_string_equal(login.user, "skerry");
    assert_string_equal(login.password, "a word");
    assert_true(ind_broker_login_parse(IND_SLICE("token: t"), &login, &line));
    assert_string_equal(login.token, "t");
    assert_true(ind_broker_login_parse(IND_SLICE("nkey: U\nseed: file\n"), &login, &line));
    assert_string_equal(login.nkey, "U");
    assert_string_equal(login.seed, "file");
}

static void what_does_not_go_together_is_told(void **state)
{
    static const struct {
        const char *text;
        unsigned line;
    } cases[] = {{"", 0},
                 {"user: a\n", 0},
                 {"password: a\n", 0},
                 {"user: a\npassword: b\ntoken: c\n", 0},
                 {"nkey: U\n", 0},
                 {"seed: f\ntoken: t\n", 0},
                 {"user: a\nuser: b\n", 2},
                 {"user:\n", 1},
                 {"\nname: a\n", 2},
                 {"token: a\n\xff\n", 2}};
    struct ind_broker_login login;
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        unsigned line = 99;
        assert_false(ind_broker_login_parse(ind_slice_of(cases[i].text), &login, &line));
        assert_int_equal(line, cases[i].line);
    }
    char word[600];
    memset(word, 'x', sizeof word);
    memcpy(word, "token: ", 7);
    unsigned line;
    assert_false(ind_broker_login_parse((struct ind_slice){word, sizeof word}, &login, &line));
    assert_int_equal(line, 1);
}

static void nobody_else_may_read_it(void **state)
{
    struct ind_broker_login login;
    char path[300], reason[300];
    char *folder = ind_folder_new();
    (void)state;
    snprintf(path, sizeof path, "%s/login", folder);
    FILE *file = fopen(path, "w");
    fputs("nkey: U\nseed: file\n", file);
    fclose(file);
    assert_int_equal(chmod(path, 0640), 0);
    assert_false(ind_broker_login_read(path, &login, reason, sizeof reason));
    assert_non_null(strstr(reason, "chmod go="));
    assert_int_equal(chmod(path, 0600), 0);
    assert_true(ind_broker_login_read(path, &login, reason, sizeof reason));
    char seed[300];
    snprintf(seed, sizeof seed, "%s/file", folder);
    assert_string_equal(login.seed, seed);
    assert_false(ind_broker_login_read(folder, &login, reason, sizeof reason));
    assert_int_equal(unlink(path), 0);
    assert_false(ind_broker_login_read(path, &login, reason, sizeof reason));
    assert_non_null(strstr(reason, "No such file"));
    ind_folder_remove(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(each_way_is_understood),
                                       cmocka_unit_test(what_does_not_go_together_is_told),
                                       cmocka_unit_test(nobody_else_may_read_it)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
