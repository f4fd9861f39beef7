/* The text of metrics with names that somebody has made up, read by a parser that knows nothing of who wrote
 * it. */
#include "support/random.h"
#include "support/support.h"

#include "collect/control/metrics.h"
#include "collect/control/rows.h"
#include <ctype.h>
#include <string.h>

static struct ind_loaded loaded;
static struct ind_accounts *accounts;
static struct ind_ledger ledgers[4000];
static ind_time last[4000];
static struct ind_clock_offset offsets[4000];
static struct ind_status status;
static struct ind_ledger_snapshot snapshot;
static struct ind_status_receiver receiver;

static int set_up(void **state)
{
    (void)state;
    ind_config_defaults(&loaded);
    assert_non_null(loaded.config);
    ((struct ind_config *)(uintptr_t)loaded.config)->serve.devices = 200;
    accounts = ind_accounts_new();
    memset(ledgers, 0, sizeof ledgers);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    ind_accounts_free(accounts);
    ind_loaded_free(&loaded);
    return 0;
}

static void hear(const char *device, uint64_t messages)
{
    uint32_t number = ind_account_for(accounts, 1, IND_ACCOUNT_DEVICE, ind_slice_of(device), IND_NOTHING);
    ledgers[number].received += messages;
    last[number] = IND_SECOND;
}

static char *text_of(const char *listener)
{
    struct ind_accounts *const all[] = {accounts};
    snapshot = (struct ind_ledger_snapshot){
        .account_count = ind_accounts_count(accounts), .ledgers = ledgers, .last = last, .offsets = offsets};
    status = (struct ind_status){.began = IND_SECOND,
                                 .version = "1",
                                 .config = loaded.config,
                                 .intakes = 1,
                                 .snapshots = &snapshot,
                                 .accounts = all,
                                 .receivers = &receiver,
                                 .listener_count = 2};
    status.listeners[1] = (struct ind_status_listener){.name = listener, .open = true};
    status.listeners[0].name = "internal";
    struct ind_rows *rows = ind_rows_new();
    assert_true(rows && ind_rows_gather(rows, &status) && ind_rows_gather(rows, &status)); /* as once */
    char *text = ind_metrics_text(&status, rows);
    ind_rows_free(rows);
    assert_non_null(text);
    return text;
}

/* A name, labels with their values, a blank, a number. Returns the end of the line; NULL where it is none. */
static const char *read_sample(const char *at)
{
    if (strncmp(at, "indagator_", 10) != 0)
        return NULL;
    while (islower((unsigned char)*at) || *at == '_')
        at++;
    if (*at == '{') {
        do {
            at++;
            while (islower((unsigned char)*at) || *at == '_')
                at++;
            if (*at++ != '=' || *at++ != '"')
                return NULL;
            for (; *at != '"'; at++) {
                if ((unsigned char)*at < 0x20 || *at == 0x7f)
                    return NULL;
                if (*at == '\\' && !strchr("\\\"n", *++at))
                    return NULL;
            }
            at++;
        } while (*at == ',');
        if (*at++ != '}')
            return NULL;
    }
    if (*at++ != ' ')
        return NULL;
    char *end;
    (void)strtod(at, &end);
    return end > at && *end == '\n' ? end : NULL;
}

static void expect_readable(const char *text)
{
    static const char end[] = "# EOF\n";
    size_t length = strlen(text);
    assert_true(length > sizeof end && strcmp(text + length - strlen(end), end) == 0);
    for (const char *at = text; *at; at++) {
        const char *line = at;
        at = *at == '#' ? strchr(at, '\n') : read_sample(at);
        if (!at)
            fail_msg("not readable: %.200s", line);
    }
}

static size_t count_of(const char *text, const char *part)
{
    size_t count = 0;
    for (; (text = strstr(text, part)); text++)
        count++;
    return count;
}

static void odd_names_are_escaped(void **state)
{
    (void)state;
    static const char *const names[] = {"plain",
                                        "with \"quotes\"",
                                        "back\\slash",
                                        "end\\",
                                        "new\nline",
                                        "\x1b[31mred",
                                        "not utf-8 \xff\xfe",
                                        "c1 \xc2\x9b",
                                        "\"} 1\nforged 2",
                                        "\xe2\x80\xae turned round",
                                        "b\xc3\xbch",
                                        " "};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        hear(names[i], 10 + i);
    char *text = text_of("udp \"0.0.0.0\":514\\");
    expect_readable(text);
    assert_null(strstr(text, "\nforged 2"));
    assert_non_null(strstr(text, "indagator_device_messages_received_total{device=\"plain\"} 10\n"));
    assert_non_null(strstr(text, "{device=\"with \\\"quotes\\\"\"} 11\n"));
    assert_non_null(strstr(text, "{device=\"b\xc3\xbch\"}"));
    free(text);
}

static void random_names_are_readable(void **state)
{
    (void)state;
    uint64_t random = IND_RANDOM_START;
    for (int i = 0; i < 3000; i++) {
        char name[40];
        size_t length = 1 + ind_random(&random, 30);
        for (size_t n = 0; n < length; n++)
            name[n] = (char)(1 + ind_random(&random, 255));
        name[length] = '\0';
        hear(name, 1 + ind_random(&random, 100000));
    }
    ((struct ind_config *)(uintptr_t)loaded.config)->serve.devices = 100000;
    char *text = text_of("udp");
    expect_readable(text);
    free(text);
}

static void the_busiest_have_series_of_their_own(void **state)
{
    (void)state;
    char name[40];
    for (int i = 0; i < 1000; i++) {
        snprintf(name, sizeof name, "device-%d", i);
        hear(name, (uint64_t)i + 1);
    }
    char *text = text_of("udp");
    expect_readable(text);
    assert_int_equal(count_of(text, "indagator_device_messages_received_total{"), 201);
    assert_non_null(strstr(text, "_received_total{device=\"device-999\"} 1000\n"));
    assert_null(strstr(text, "device-799\""));
    assert_non_null(strstr(text, "_received_total{device=\"(others)\"} 320400\n")); /* 1 + … + 800 */
    assert_int_equal(count_of(text, "indagator_device_last_message_timestamp_seconds{"), 200);
    free(text);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(odd_names_are_escaped),
        TEST(random_names_are_readable),
        TEST(the_busiest_have_series_of_their_own),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
