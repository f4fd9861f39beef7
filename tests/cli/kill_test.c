/* The built program is killed again and again under load over TCP and TLS: no line is torn, none is there
 * twice, and a new start goes on. */
#define _GNU_SOURCE
#include "support/live.h"

#include "support/certificates.h"

#define CONFIG                                                                                               \
    IND_QUIET "store: log\nstate: state\nzone: UTC\nlisten:\n  - tcp: 127.0.0.1:0\n  - tls: 127.0.0.1:0\n"   \
              "    certificate: collector.pem\n    key: collector.key\n    clients: authority.pem\n"         \
              "routes:\n  - {name: all, file: \"{app}.log\"}\n"                                              \
              "archives: {default: {rotate: {size: 64 KiB}, keep: 1 year, compress: zstd 1}}\n"

/* So many are stored, and some of each listener. */
static bool any_stored(void *context)
{
    json_t *object = status();
    const json_t *row;
    size_t i;
    bool stored = number(json_object_get(object, "ledger"), "stored") >= *(unsigned long *)context;
    json_array_foreach(json_object_get(object, "listeners"), i, row) if (json_object_get(row, "at")) stored &=
        number(row, "stored") > 0;
    stored &= json_array_size(json_object_get(object, "listeners")) >= 2;
    json_decref(object);
    return stored;
}

static void fifty_kills_under_tcp_and_tls_leave_whole_lines_once(void **state)
{
    enum { ROUNDS = 50 };
    (void)state;
    ind_make_certificates(folder);
    struct ind_ran ran = ind_shell(folder, "seq 1 2000 > numbers");
    ind_ran_free(&ran);
    for (int round = 0; round < ROUNDS; round++) {
        begin(CONFIG);
        unsigned tcp = ind_reported_port(&running, "tcp 127.0.0.1:"),
                 tls = ind_reported_port(&running, "tls 127.0.0.1:");
        ran = ind_shell(folder,
                        "for n in a b; do awk -v r=%d -v n=$n '{ print \"<13>1 - h \" n \" - - - message \" "
                        "r \".\" n \".\" $1 }' numbers > in.$n; done;"
                        "(%s emit --to tcp:127.0.0.1:%u --from in.a >/dev/null 2>&1 &"
                        " %s emit --to tls:127.0.0.1:%u --trust authority.pem --certificate pier1-rtr.pem "
                        "--key pier1-rtr.key "
                        "--from in.b >/dev/null 2>&1 &)",
                        round, IND_PROGRAM, tcp, IND_PROGRAM, tls);
        ind_ran_free(&ran);
        unsigned long some = 1 + (unsigned long)round * 37 % 1500;
        ind_wait_until(any_stored, &some, "some are stored");
        end_with(SIGKILL, -1);
    }
    begin(CONFIG);
    end();
    assert_true(ind_count_lines(folder) >= ROUNDS);
    ran = ind_shell(folder, "ls log | grep -c '^a'; ls log | grep -c '^b'"); /* both came through */
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ran = ind_shell(
        folder, "grep -v ' syslog warning indagator ' all.txt > theirs.txt;"
                "grep -vcE ' h user notice [ab] - - - message [0-9]+\\.[ab]\\.[0-9]+$' theirs.txt;"
                "sed 's/.*message //' theirs.txt | sort | uniq -d | wc -l; find log -name '.*.tmp' | wc -l");
    assert_string_equal(ran.out, "0\n0\n0\n");
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(fifty_kills_under_tcp_and_tls_leave_whole_lines_once, set_up,
                                        tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
