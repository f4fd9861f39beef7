/* `archives verify` as it is called: on a store, on a copy of one, with a key, while a collector writes; and
 * the chain checked a second way, by other people's tools and nothing but the documentation. */
#define _GNU_SOURCE
#include "support/archives.h"

#define RULES                                                                                                \
    "store: log\nstate: state\nzone: UTC\n"                                                                  \
    "routes:\n  - {name: firewall, when: facility is local4, file: \"fw/{app}.log\", archive: audit, last: " \
    "yes}\n"                                                                                                 \
    "  - {name: all, file: all.log}\n"                                                                       \
    "archives:\n  default: {rotate: {messages: 7}, compress: gzip}\n"                                        \
    "  audit: {rotate: {messages: 5}, keep: {number: 4}, chain: yes, sign: audit.key}\n"

static void make_store(void)
{
    char text[20000];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    run("for name in audit other; do openssl genpkey -algorithm ed25519 -out $name.key && "
        "openssl pkey -in $name.key -pubout -out $name.pub; done");
    for (int i = 0; i < 90; i++) {
        char line[200];
        snprintf(line, sizeof line, "<%d>1 2026-11-2%dT04:%02d:00Z harbour-fw %s - - - message %d\n",
                 i % 3 ? 166 : 30, i / 30 + 1, i % 60, i % 2 ? "filter" : "vpn", i);
        ind_buffer_text(&out, line);
    }
    text[out.length] = '\0';
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES);
    ind_write_file(ind_path(folder, "messages.log"), text);
    run(IND_PROGRAM " collect --from messages.log");
    run(IND_PROGRAM " rotate");
}

static void a_store_and_a_copy_of_it_are_verified(void **state)
{
    (void)state;
    make_store();
    expect("verify", 0, "8 archives proven");
    expect("verify", 0, "nothing is wrong");
    expect("verify fw/vpn", 0, "4 archives proven");
    expect("verify all", 0, "no series is chained");
    expect("verify nothing", 1, "no such series");
    expect("verify --since 2027-01-01", 0, "0 archives proven");
    run("mkdir away && cp -a log away/ && cp state/chain-heads away/ && rm -r state/chain-heads");
    expect("verify --copy away/log --key audit.pub --heads away/chain-heads", 0, "8 archives proven");
    expect("verify --copy away/log --key audit.key", 0, "nothing is wrong");
    expect("verify --copy away/log", 0, "the signatures were not checked");
    expect("verify --copy away/log --key other.pub", 1, "not signed by the key");
    /* No configuration is needed for that. */
    struct ind_ran ran =
        ind_shell(folder, "cd away && %s archives verify --copy log --key ../audit.pub", IND_PROGRAM);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
}

static void what_is_wrong_is_named_and_makes_the_exit_code(void **state)
{
    (void)state;
    make_store();
    run("cp -a log before");
    run("f=$(ls log/fw/vpn-*.zst | tail -1); zstd -dcq $f | sed s/message/massage/ | zstd -q > new; mv new "
        "$f");
    expect("verify", 1, "its text is not the one that was hashed");
    expect("verify fw/filter", 0, "nothing is wrong");
    expect("verify --json", 1, "{\"finding\":\"changed\",\"where\":\"fw/vpn-2026");
    run("rm -r log; cp -a before log; rm $(ls log/fw/vpn-*.zst | head -1)");
    expect("verify", 1, "missing");
    run("rm -r log; cp -a before log; sed -i '/\"removed\"/d' log/.indagator/journal.jsonl");
    expect("verify", 1, "lines_missing");
    run("rm -r log; cp -a before log; sed -i '$d' log/.indagator/journal.jsonl; "
        "sed -i '$d' log/.indagator/journal.jsonl");
    expect("verify", 1, "journal_cut");
    run("rm -r log; cp -a before log; truncate -s -9 $(ls log/all-*.gz | head -1)");
    expect("verify", 1, "it cannot be unpacked to its end");
    run("rm log/.indagator/journal.jsonl");
    expect("verify", 3, "has no journal");
}

static void a_call_that_means_nothing_is_told(void **state)
{
    (void)state;
    make_store();
    expect("verify --on 2026-11-30", 2, "\"archives verify\" has no option --on");
    expect("list --key audit.pub", 2, "\"archives list\" has no option --key");
    expect("verify --key messages.log", 2, "is no public key");
    expect("verify --key nowhere.pub", 2, "No such file");
    expect("verify --heads nowhere", 2, "No such file");
    expect("verify --copy nowhere --key audit.pub", 3, "No such file");
    expect("verify --since soon", 2, "is not a time");
}

static void a_key_that_is_none_is_told_before_anything_is_done(void **state)
{
    (void)state;
    make_store();
    run("cp messages.log audit.key");
    struct ind_ran ran = ind_shell(folder, "%s rotate 2>&1", IND_PROGRAM);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.out, "audit.key is no private key to sign with; make one by"));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "%s check 2>&1", IND_PROGRAM);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "indagator.yaml:9:"));
    assert_non_null(strstr(ran.out, "audit.key is no private key to sign with"));
    ind_ran_free(&ran);
    ind_write_file(ind_path(folder, "indagator.yaml"), "store: log\nroutes: [{name: all, file: all.log}]\n"
                                                       "archives: {default: {sign: audit.key}}\n");
    ran = ind_shell(folder, "%s check 2>&1", IND_PROGRAM);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "\"sign\" signs the links of a chain: add \"chain: yes\""));
    ind_ran_free(&ran);
}

/* docs/proof.md, and nothing else. Whether an archive is hashed and compressed before its number has it
 * removed goes by time: only the links that must be there are counted. */
static const char second_way[] =
    "import hashlib, json, subprocess, sys\n"
    "heads, digests, links = {}, {}, 0\n"
    "for line in open('log/.indagator/journal.jsonl', 'rb').read().split(b'\\n'):\n"
    "    if b',\"chain\":' not in line:\n"
    "        continue\n"
    "    record, before = json.loads(line), line[:line.index(b',\"chain\":')]\n"
    "    number, made = heads.get(record['series'], (0, bytes(32)))\n"
    "    value = hashlib.sha256(made + before).digest()\n"
    "    assert record['link'] == number + 1 and record['chain'] == value.hex(), line\n"
    "    signature = bytes.fromhex(record['signature'])\n"
    "    open('value', 'wb').write(value)\n"
    "    open('signature', 'wb').write(signature)\n"
    "    subprocess.check_call(['openssl', 'pkeyutl', '-verify', '-rawin', '-pubin', '-inkey', 'audit.pub',\n"
    "                           '-in', 'value', '-sigfile', 'signature'], stdout=subprocess.DEVNULL)\n"
    "    heads[record['series']] = (record['link'], value + signature)\n"
    "    links += record['event'] in ('opened', 'rotated', 'removed')\n"
    "    if record['event'] == 'hashed':\n"
    "        digests[record['archive']] = record['sha256'], record['bytes']\n"
    "    if record['event'] == 'removed':\n"
    "        digests.pop(record['archive'], None)\n"
    "for archive, (digest, size) in digests.items():\n"
    "    text = subprocess.check_output(['zstd', '-dcq', 'log/' + archive + '.zst'])\n"
    "    assert hashlib.sha256(text).hexdigest() == digest and len(text) == size, archive\n"
    "print(len(digests), 'archives', links, 'links')\n";

static void the_documentation_is_enough_to_check_a_chain(void **state)
{
    (void)state;
    make_store();
    ind_write_file(ind_path(folder, "second.py"), second_way);
    struct ind_ran ran = ind_shell(folder, "python3 second.py");
    if (ran.status != 0 || strcmp(ran.out, "8 archives 28 links\n") != 0)
        fail_msg("%s%s", ran.out, ran.err);
    ind_ran_free(&ran);
}

static void a_collector_that_writes_meanwhile_is_no_finding(void **state)
{
    (void)state;
    run("openssl genpkey -algorithm ed25519 -out audit.key");
    begin("listen: [{udp: 127.0.0.1:0}]\n" RULES);
    struct ind_ran ran = ind_shell(
        folder,
        "%s emit --to udp:127.0.0.1:%u --facility local4 --app vpn --count 4000 --rate 2000 text >sent 2>&1 "
        "& "
        "for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30; do "
        "%s archives verify >out 2>&1 || { cat out; exit 1; }; done; wait",
        IND_PROGRAM, running.port, IND_PROGRAM);
    if (ran.status != 0)
        fail_msg("%s", ran.out);
    ind_ran_free(&ran);
    end();
    expect("verify", 0, "nothing is wrong");
}

/* By a running collector; what is there is a store by itself, of these series only. */
static bool all_are_there(void *context)
{
    (void)context;
    struct ind_ran ran = ind_shell(folder,
                                   "test $(ls share/fw | wc -l) = $(ls log/fw/*.zst | wc -l) && "
                                   "%s archives verify --copy share --key audit.pub",
                                   IND_PROGRAM);
    const bool good = ran.status == 0 && !strstr(ran.out, "all.log");
    ind_ran_free(&ran);
    return good;
}

static void a_second_place_can_be_searched_and_verified(void **state)
{
    (void)state;
    make_store();
    ind_write_file(ind_path(folder, "more.log"), "");
    run("sed -i 's/chain: yes/chain: yes, second place: share/; s/number: 4/number: 100/' indagator.yaml; "
        "mkdir share");
    run("printf 'listen: [{udp: 127.0.0.1:0}]\n' >>indagator.yaml");
    running = ind_collect_start(folder);
    ind_wait_until(all_are_there, NULL, "all archives are at the second place");
    end();
    run(IND_PROGRAM " search --layout plain share | sort >there; " IND_PROGRAM
                    " archives restore fw/ | sort | cmp - there");
    run("for f in $(cd share/fw && ls); do cmp share/fw/$f log/fw/$f || exit 1; done");
    expect("verify", 0, "nothing is wrong");
    expect("verify --copy share --key other.pub", 1, "not signed");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_store_and_a_copy_of_it_are_verified, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_wrong_is_named_and_makes_the_exit_code, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_call_that_means_nothing_is_told, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_key_that_is_none_is_told_before_anything_is_done, set_up,
                                        tear_down),
        cmocka_unit_test_setup_teardown(the_documentation_is_enough_to_check_a_chain, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_second_place_can_be_searched_and_verified, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_collector_that_writes_meanwhile_is_no_finding, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
