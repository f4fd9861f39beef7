/* The built program, `fit`; and what the other commands make of patterns. */
#include "support/support.h"

#include <jansson.h>
#include <string.h>

static const char rules[] =
    "store: log\nstate: state\nzone: UTC\n"
    "patterns:\n"
    "  - name: login-failed\n"
    "    app: sshd\n"
    "    text:\n"
    "      - layout: \"Failed password for {user:word} from {peer:ip} port {port:int} {:remainder}\"\n"
    "        example: \"Failed password for tern from 203.0.113.7 port 4022 ssh2\"\n"
    "        gives: {user: tern, peer: 203.0.113.7, port: 4022}\n"
    "  - name: link-state\n"
    "    text: \"{interface:interface} link {state:word}\"\n"
    "conditions:\n"
    "  guessing: pattern is \"login-failed\" and not field user in (\"tern\", \"heron\")\n"
    "routes:\n"
    "  - {name: guesses, when: guessing, file: \"guesses/{field peer}.log\", last: yes}\n"
    "  - {name: links, when: field interface starts with \"ge\" and field state is \"down\", file: "
    "links.log, "
    "layout: json}\n"
    "  - {name: rest, file: rest.log}\n"
    "archives:\n"
    "  default: {rotate: {size: 1 GiB}, compress: none}\n";

static const char messages[] =
    "<34>Nov 23 04:45:00 harbour-fw sshd[811]: Failed password for root from 203.0.113.66 port 4022 ssh2\n"
    "<34>Nov 23 04:45:01 harbour-fw sshd[811]: Failed password for tern from 203.0.113.7 port 4023 ssh2\n"
    "<34>Nov 23 04:45:02 harbour-fw ftpd[12]: Failed password for root from 203.0.113.66 port 4024 ssh2\n"
    "<189>Nov 23 04:45:03 pier3-sw1 linkd: ge0/24 link down\n"
    "<189>Nov 23 04:45:04 pier3-sw1 linkd: ge0/24 link up\n";

static char *folder;

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"), rules);
    ind_write_file(ind_path(folder, "messages.log"), messages);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    ind_folder_remove(folder);
    return 0;
}

static void check(struct ind_ran ran, int status, const char *out)
{
    if (ran.status != status || strcmp(ran.out, out) != 0)
        print_error("%d: %s%s\n", ran.status, ran.out, ran.err);
    assert_int_equal(ran.status, status);
    assert_string_equal(ran.out, out);
    ind_ran_free(&ran);
}

static void a_sample_that_fits_has_each_field_under_its_part(void **state)
{
    (void)state;
    check(ind_run(folder, "fit", "--pattern", "{interface:interface} link {state:word}{:remainder}",
                  "  ge0/24  link down", NULL),
          0,
          "  ge0/24  link down\n"
          "  ^^^^^^       ~~~~\n"
          "  interface    state\n"
          "fits\n"
          "  interface ge0/24\n"
          "  state     down\n");
}

static void a_sample_that_does_not_fit_is_marked_where_it_stops(void **state)
{
    (void)state;
    check(ind_run(folder, "fit", "--pattern", "from {peer:ip} port {port:int}", "from 203.0.113.7 port 40x22",
                  NULL),
          1,
          "from 203.0.113.7 port 40x22\n"
          "                      ^^^^^\n"
          "                      stops here\n"
          "does not fit:\n"
          "  {port:int} takes only \"40\" of \"40x22\"; {port:host} would fit\n"
          "    in from {peer:ip} port {port:int}\n");
    check(ind_run(folder, "fit", "--pattern", "from {peer:ip} port {port:int}", "from 203.0.113.7", NULL), 1,
          "from 203.0.113.7 \n"
          "                ^\n"
          "                ends here\n"
          "does not fit:\n"
          "  expected \" port \", found the end of the text\n"
          "    in from {peer:ip} port {port:int}\n");
}

static void a_whole_message_is_tried_with_its_app(void **state)
{
    (void)state;
    struct ind_ran ran = ind_run(
        folder, "fit", "--json",
        "<34>Nov 23 04:45:00 harbour-fw sshd[811]: Failed password for root from 203.0.113.66 port 1 x",
        "<34>Nov 23 04:45:00 harbour-fw ftpd[811]: Failed password for root from 203.0.113.66 port 1 x",
        "Failed password for root from 203.0.113.66 port 1 x", NULL);
    assert_int_equal(ran.status, 1);
    char *line = strtok(ran.out, "\n");
    for (int i = 0; i < 3; i++, line = strtok(NULL, "\n")) {
        json_t *object = json_loads(line, 0, NULL);
        assert_int_equal(json_is_true(json_object_get(object, "fits")), i != 1);
        if (i != 1) {
            assert_string_equal(json_string_value(json_object_get(object, "pattern")), "login-failed");
            assert_string_equal(json_string_value(json_object_get(json_object_get(object, "fields"), "peer")),
                                "203.0.113.66");
        } else {
            json_t *stop = json_array_get(json_object_get(object, "stops"), 0);
            assert_string_equal(json_string_value(json_object_get(stop, "expected")), "the app \"sshd\"");
        }
        json_decref(object);
    }
    ind_ran_free(&ran);
}

static void a_file_of_samples_is_summed_up(void **state)
{
    (void)state;
    check(
        ind_run(folder, "fit", "--from", "messages.log", NULL), 1,
        "<34>Nov 23 04:45:02 harbour-fw ftpd[12]: Failed password for root from 203.0.113.66 port 4024 ssh2\n"
        "does not fit:\n"
        "  all of it fits, but is for the app \"sshd\" only\n"
        "    in login-failed: Failed password for {user:word} from {peer:ip} port {port:int} {:remainder}\n"
        "\n5 samples, 1 of them fit nothing\n"
        "samples  pattern\n"
        "      2  login-failed\n"
        "      2  link-state\n");
    check(ind_shell(folder, "grep link messages.log | '%s' fit --name link-state --from -", IND_PROGRAM), 0,
          "2 samples, 0 of them fit nothing\n"
          "samples  pattern\n"
          "      2  link-state\n");
}

static void a_wrong_call_is_told(void **state)
{
    (void)state;
    static const struct {
        const char *arguments, *says;
    } cases[] = {
        {"--pattern '{a:integer} x' s",
         "--pattern:4: unknown type \"integer\"; did you mean \"int\"?\n{a:integer} x\n   ^^^^^^^\n"},
        {"--name login-faild x",
         "no pattern of the configuration is named \"login-faild\"; did you mean \"login-failed\"?"},
        {"--name link-state --pattern x x", "--pattern or --name, not both"},
        {"--pattern x", "which sample?"},
        {"--pattern x --from nowhere", "cannot read nowhere"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_ran ran = ind_shell(folder, "'%s' fit %s", IND_PROGRAM, cases[i].arguments);
        if (!strstr(ran.err, cases[i].says))
            print_error("%s: %s\n", cases[i].arguments, ran.err);
        assert_non_null(strstr(ran.err, cases[i].says));
        assert_int_equal(ran.status, i == 4 ? 3 : 2);
        ind_ran_free(&ran);
    }
}

static void fields_of_patterns_are_usable_at_once(void **state)
{
    (void)state;
    struct ind_ran ran =
        ind_run(folder, "collect", "--from", "messages.log", "--received", "2026-11-23T05:00:00Z", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    assert_true(
        ind_file_holds(ind_path(folder, "log/guesses/203.0.113.66.log"), "root from 203.0.113.66 port 4022"));
    assert_true(ind_file_holds(ind_path(folder, "log/rest.log"), "tern from 203.0.113.7"));
    assert_true(ind_file_holds(ind_path(folder, "log/rest.log"), "ftpd"));
    assert_true(ind_file_holds(
        ind_path(folder, "log/links.log"),
        "\"pattern\":\"link-state\",\"fields\":{\"interface\":\"ge0/24\",\"state\":\"down\"}"));
    check(ind_run(folder, "search", "--by", "pattern,field user", NULL), 0,
          "messages  pattern       field user\n"
          "       2  link-state    -\n"
          "       1  -             -\n"
          "       1  login-failed  root\n"
          "       1  login-failed  tern\n");
    check(ind_run(folder, "search", "--when", "pattern is \"login-failed\" and field port at least 4023",
                  "--layout", "{field user} {field port}", NULL),
          0, "tern 4023\n");
    check(ind_run(folder, "search", "--when", "pattern is absent", "--count", NULL), 0, "1\n");
}

static void a_match_that_is_given_up_is_counted(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "slow.yaml"),
                   "store: slow\nstate: slow-state\n"
                   "patterns:\n  - {name: slow, text: 'x {e:re((a+)+b)} {:remainder}'}\n"
                   "routes:\n  - {name: slow, when: pattern is \"slow\", file: slow.log}\n"
                   "  - {name: rest, file: rest.log}\n");
    ind_write_file(ind_path(folder, "slow.log"),
                   "<13>a: x aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaac b y\n<13>a: x aab y\n");
    struct ind_ran ran = ind_run(folder, "collect", "-c", "slow.yaml", "--from", "slow.log", NULL);
    assert_int_equal(ran.status, 0);
    if (!strstr(ran.out, "matches given up as too long"))
        print_error("%s\n", ran.out);
    assert_non_null(strstr(ran.out, "matches given up as too long"));
    ind_ran_free(&ran);
    assert_true(ind_file_holds(ind_path(folder, "slow/slow.log"), "x aab y"));
    assert_true(ind_file_holds(ind_path(folder, "slow/rest.log"), "aac b y"));
}

static void explain_shows_the_pattern_and_what_it_gives(void **state)
{
    (void)state;
    struct ind_ran ran = ind_run(
        folder, "explain",
        "<34>Nov 23 04:45:00 harbour-fw sshd[811]: Failed password for root from 203.0.113.66 port 1 x",
        NULL);
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(ran.out, "Pattern     login-failed, 3 fields\n"
                                    "  user      root\n"
                                    "  peer      203.0.113.66\n"
                                    "  port      1\n"));
    assert_non_null(strstr(ran.out, "pattern is \"login-failed\" (it is login-failed)"));
    ind_ran_free(&ran);
}

static void check_says_that_all_examples_fit_and_what_overlaps(void **state)
{
    (void)state;
    struct ind_ran ran = ind_run(folder, "check", NULL);
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(ran.out, "patterns 2, in 2 layouts; 1 example tried, all fit\n"));
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_sample_that_fits_has_each_field_under_its_part),
        cmocka_unit_test(a_sample_that_does_not_fit_is_marked_where_it_stops),
        cmocka_unit_test(a_whole_message_is_tried_with_its_app),
        cmocka_unit_test(a_file_of_samples_is_summed_up),
        cmocka_unit_test(a_wrong_call_is_told),
        cmocka_unit_test(fields_of_patterns_are_usable_at_once),
        cmocka_unit_test(a_match_that_is_given_up_is_counted),
        cmocka_unit_test(explain_shows_the_pattern_and_what_it_gives),
        cmocka_unit_test(check_says_that_all_examples_fit_and_what_overlaps),
    };
    return cmocka_run_group_tests(tests, set_up, tear_down);
}
