/* Devices that fall silent, are heard again, or are not configured: what is told of them, and when. */
#include "support/random.h"
#include "support/support.h"

#include "collect/control/roll_call.h"
#include <string.h>

enum { MOST = 64 };

static char *folder;
static struct ind_loaded loaded;
static struct ind_reporter reporter;
static struct ind_roll_call *roll;
static struct ind_accounts *accounts;
static struct ind_ledger ledgers[30000];
static char told[MOST][300];
static size_t told_count;

static void note(void *context, const char *text)
{
    (void)context;
    if (told_count < MOST)
        snprintf(told[told_count], sizeof told[0], "%s", text);
    told_count++;
}

static struct ind_steady at(double minutes)
{
    return (struct ind_steady){(int64_t)(minutes * 60) * IND_SECOND + IND_SECOND};
}

static void begin(const char *devices)
{
    char text[4000];
    snprintf(text, sizeof text,
             "store: log\nstate: state\nlisten: [{udp: 127.0.0.1:0}]\nroutes: [{name: a, file: a.log}]\n%s",
             devices);
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    ind_reporter_begin(&reporter, note, NULL);
    roll = ind_roll_call_new(&reporter, at(0));
    accounts = ind_accounts_new();
    memset(ledgers, 0, sizeof ledgers);
    told_count = 0;
}

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    ind_roll_call_free(roll);
    ind_accounts_free(accounts);
    ind_reporter_end(&reporter);
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
    return 0;
}

static uint32_t account(enum ind_account_kind kind, const char *device, const char *sender)
{
    return ind_account_for(accounts, 2, kind, ind_slice_of(device), ind_slice_of(sender));
}

/* So many more messages of a configured device. */
static void hear(const char *device, uint64_t messages)
{
    ledgers[account(IND_ACCOUNT_DEVICE, device, "")].received += messages;
}

static void hear_stranger(const char *sender, const char *name)
{
    ledgers[account(IND_ACCOUNT_STRANGER, name, sender)].received++;
}

static void call(double minutes)
{
    const struct ind_ledger_snapshot snapshot = {.account_count = ind_accounts_count(accounts),
                                                 .ledgers = ledgers};
    struct ind_accounts *const all[] = {accounts};
    told_count = 0;
    ind_roll_call(roll, loaded.config, &snapshot, all, 1, at(minutes));
}

static void expect_told(const char *text)
{
    for (size_t i = 0; i < told_count && i < MOST; i++)
        if (strstr(told[i], text))
            return;
    for (size_t i = 0; i < told_count && i < MOST; i++)
        print_error("told: %s\n", told[i]);
    fail_msg("not told: %s", text);
}

#define TWO                                                                                                  \
    "devices:\n  - {name: pier3-sw2, address: 192.0.2.33}\n  - {name: harbour-fw, address: 192.0.2.9}\n"     \
    "  - {name: hq-relay, address: 192.0.2.200, relay: yes}\n"

static void each_silence_is_told_once_and_so_is_its_end(void **state)
{
    (void)state;
    begin(TWO);
    hear("harbour-fw", 3);
    call(1);
    assert_int_equal(told_count, 0);
    call(59);
    assert_int_equal(told_count, 0);
    call(60);
    assert_int_equal(told_count, 1);
    expect_told("nothing has come from pier3-sw2 since the start, 60 min ago");
    call(61);
    assert_int_equal(told_count, 1);
    expect_told("nothing has come from harbour-fw for 60 min");
    call(200);
    assert_int_equal(told_count, 0);
    hear("harbour-fw", 1);
    hear("pier3-sw2", 1);
    call(201);
    assert_int_equal(told_count, 2);
    expect_told("harbour-fw is heard again after 200 min");
    expect_told("pier3-sw2 is heard for the first time, 201 min after the start");
    call(260);
    assert_int_equal(told_count, 0);
    call(261);
    assert_int_equal(told_count, 2);
}

static void who_goes_on_is_never_silent(void **state)
{
    (void)state;
    begin("devices: [{name: pier3-sw2, address: 192.0.2.33}]\n");
    for (int minute = 0; minute < 400; minute += 50) {
        hear("pier3-sw2", 1);
        call(minute);
        assert_int_equal(told_count, 0);
    }
}

static void a_stranger_is_told_once_where_devices_are_configured(void **state)
{
    (void)state;
    begin(TWO);
    hear_stranger("192.0.2.77", "pier9-ap");
    hear_stranger("192.0.2.77", "another-name");
    hear_stranger("192.0.2.78", "192.0.2.78");
    ledgers[account(IND_ACCOUNT_REFUSED, "203.0.113.1", "203.0.113.1")].received++;
    ledgers[account(IND_ACCOUNT_STRANGER, "this-machine", "")].received++;
    call(1);
    assert_int_equal(told_count, 2);
    expect_told("192.0.2.77 sends, and is none of the configured devices (it calls itself pier9-ap);");
    expect_told("192.0.2.78 sends, and is none of the configured devices;");
    call(2);
    assert_int_equal(told_count, 0);
}

static void nobody_is_unknown_where_nobody_is_configured(void **state)
{
    (void)state;
    begin("");
    hear_stranger("192.0.2.77", "pier9-ap");
    call(1);
    call(100);
    assert_int_equal(told_count, 0);
}

/* Forged senders, many more than anybody wants to be told of. */
static void many_are_told_together(void **state)
{
    enum { SENDERS = 5000 };
    (void)state;
    begin(TWO);
    char sender[40];
    size_t all = 0;
    for (int i = 0; i < SENDERS; i++) {
        snprintf(sender, sizeof sender, "198.51.%d.%d", 100 + i / 250, i % 250);
        hear_stranger(sender, "x");
    }
    for (double minute = 0.1; minute < 5; minute += 0.2) {
        call(minute);
        all += told_count;
        if (told_count > 0 && all > IND_ROLL_CALL_TOLD)
            expect_told("4980 more senders are none of the configured devices");
    }
    assert_int_equal(all, IND_ROLL_CALL_TOLD + 1);
}

/* Against a deliberately simple second way to the same. */
static void random_days(void **state)
{
    (void)state;
    uint64_t random = IND_RANDOM_START;
    for (int round = 0; round < 20; round++) {
        begin("devices: [{name: pier3-sw2, address: 192.0.2.33}]\n");
        int last = 0, minute = 0;
        bool silent = false;
        while (minute < 3000) {
            minute += 1 + (int)ind_random(&random, 20);
            bool speaks = ind_random(&random, 10) == 0;
            if (speaks)
                hear("pier3-sw2", 1);
            call(minute);
            size_t expected = 0;
            if (speaks) {
                expected = silent;
                silent = false;
                last = minute;
            } else if (!silent && minute - last >= 60) {
                expected = 1;
                silent = true;
            }
            assert_int_equal(told_count, expected);
        }
        ind_roll_call_free(roll);
        ind_accounts_free(accounts);
        ind_reporter_end(&reporter);
        ind_loaded_free(&loaded);
    }
    begin(TWO);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(each_silence_is_told_once_and_so_is_its_end),
        TEST(who_goes_on_is_never_silent),
        TEST(a_stranger_is_told_once_where_devices_are_configured),
        TEST(nobody_is_unknown_where_nobody_is_configured),
        TEST(many_are_told_together),
        TEST(random_days),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
