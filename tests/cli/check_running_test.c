/* What `check --against-running` says that a reload would change, against what the reload does. */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/random.h"

static const char first_rules[] =
    "store: log\nstate: state\nzone: UTC\nlisten: [{udp: 127.0.0.1:0}]\nreserve: 1 MiB\n"
    "devices:\n  - {name: harbour-fw, address: 192.0.2.9, labels: {site: harbour}}\n  - from: devices.csv\n"
    "conditions: {trouble: severity at least warning}\n"
    "edits:\n  - {name: hide, mask: phone}\n  - {name: chatter, when: 'app is \"dhcpd\"', drop: yes}\n"
    "routes:\n  - {name: trouble, when: trouble, file: trouble.log}\n"
    "  - {name: piers, when: 'host starts with \"pier\"', file: piers.log, last: yes}\n"
    "  - {name: rest, file: rest.log}\n"
    "archives: {default: {rotate: every day, keep: 30 days}}\ninclude: [more.yaml]\n";
static const char first_devices[] =
    "name,address,site\npier1-rtr,192.0.2.1,pier1\npier2-rtr,192.0.2.2,pier2\n";
static const char first_more[] = "routes:\n  - {name: included, file: included.log}\n";

static void write_all(const char *rules, const char *devices, const char *more)
{
    ind_write_file(ind_path(folder, "devices.csv"), devices);
    ind_write_file(ind_path(folder, "more.yaml"), more);
    ind_write_file(ind_path(folder, "indagator.yaml"), rules);
}

static struct ind_ran check(int code)
{
    struct ind_ran ran = ind_run(folder, "check", "--against-running", NULL);
    if (ran.status != code)
        fail_msg("%d: %s%s", ran.status, ran.out, ran.err);
    return ran;
}

static void expect(int code, const char *part)
{
    struct ind_ran ran = check(code);
    if (!strstr(ran.out, part))
        fail_msg("no \"%s\" in %s", part, ran.out);
    ind_ran_free(&ran);
}

/* The text with one part of it replaced; to be freed. */
static char *with(const char *text, const char *part, const char *instead)
{
    const char *at = strstr(text, part);
    char *changed = NULL;
    if (!at)
        fail_msg("no \"%s\" in %s", part, text);
    assert_true(asprintf(&changed, "%.*s%s%s", (int)(at - text), text, instead, at + strlen(part)) > 0);
    return changed;
}

static const struct {
    const char *part, *instead, *told;
    bool restart;
} changes[] = {
    {"severity at least warning", "severity at least error",
     "condition trouble: changed\n  is   severity at least error\n  was  severity at least warning\n", false},
    {"site: harbour", "site: quay", "device harbour-fw: changed\n  labels     is   {site: quay}\n", false},
    {"  - {name: hide, mask: phone}\n", "", "edit hide: gone\n", false},
    {"file: trouble.log", "file: \"trouble/{device}.log\"", "route trouble: changed\n", false},
    {", last: yes", "", "  last       was  yes\n", false},
    {"  - {name: rest, file: rest.log}\n",
     "  - {name: rest, file: rest.log}\n  - {name: night, when: time within 22:00-06:00, file: night.log}\n",
     "route night: new\n  file       night.log\n", false},
    {"keep: 30 days", "keep: 10 days", "archive default: changed\n", false},
    {"127.0.0.1:0}", "127.0.0.1:0}, {tcp: 127.0.0.1:0}", "listen tcp 127.0.0.1:0: new, will be opened\n",
     false},
    {"reserve: 1 MiB", "reserve: 2 MiB", "setting reserve: changed\n", false},
    {"zone: UTC", "zone: Europe/Lisbon", "setting zone: changed\n", false},
    {"store: log", "store: elsewhere", "needs a restart, a reload is refused", true},
    {"zone: UTC", "zone: UTC\nthreads: 7", "needs a restart, a reload is refused", true},
    {"zone: UTC", "zone: UTC\nopen files: 77", "needs a restart, a reload is refused", true},
    {"zone: UTC", "zone: UTC\nburst buffer: 7 MiB", "needs a restart, a reload is refused", true},
    {"zone: UTC", "zone: UTC\nuser: root", "needs a restart, a reload is refused", true},
};

/* And after the reload nothing differs any more; where it is refused the same still does. */
static void what_is_told_is_what_the_reload_does(void **state)
{
    (void)state;
    write_all(first_rules, first_devices, first_more);
    running = ind_collect_start(folder);
    for (size_t i = 0; i < sizeof changes / sizeof *changes; i++) {
        char *rules = with(first_rules, changes[i].part, changes[i].instead);
        expect(0, "A reload would change nothing");
        write_all(rules, first_devices, first_more);
        expect(changes[i].restart, changes[i].told);
        struct ind_ran ran = ask_to_reload();
        const bool refused = strstr(ran.out, "this needs a restart") != NULL;
        if (refused != changes[i].restart)
            fail_msg("%s: %s", changes[i].instead, ran.out);
        ind_ran_free(&ran);
        if (refused)
            expect(1, changes[i].told);
        else
            expect(0, "A reload would change nothing");
        write_all(first_rules, first_devices, first_more);
        ran = ask_to_reload();
        assert_non_null(strstr(ran.out, "\"routes\":4"));
        ind_ran_free(&ran);
        free(rules);
    }
    end();
    struct ind_ran ran = ind_run(folder, "check", "--against-running", NULL);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.err, "no collector is running"));
    ind_ran_free(&ran);
}

static void tables_includes_and_layout(void **state)
{
    (void)state;
    write_all(first_rules, first_devices, first_more);
    running = ind_collect_start(folder);
    write_all(first_rules, "name,address,site\npier1-rtr,192.0.2.1,pier1\npier2-rtr,192.0.2.22,pier2\n",
              first_more);
    expect(0, "device pier2-rtr: changed\n  address    is   192.0.2.22/32\n  address    was  192.0.2.2/32\n");
    write_all(first_rules, "name,address,site\npier1-rtr,192.0.2.1,pier7\npier2-rtr,192.0.2.2,pier2\n",
              first_more);
    expect(0, "device pier1-rtr: changed\n  label      is   site pier7\n  label      was  site pier1\n");
    write_all(first_rules, "name,address,site\npier2-rtr,192.0.2.2,pier2\n", first_more);
    expect(0, "device pier1-rtr: gone\n");
    write_all(first_rules, first_devices, "routes:\n  - {name: included, file: other.log}\n");
    expect(0, "route included: changed\n");
    char *rules = with(first_rules, "  - {name: rest, file: rest.log}\n", ""),
         *moved = with(rules, "routes:\n", "routes:\n  - {name: rest, file: rest.log}\n");
    write_all(moved, first_devices, first_more);
    expect(0, "routes act in another order\n  is   rest, trouble, piers, included\n  was  trouble, piers, "
              "rest, included\n");
    free(rules);
    free(moved);
    /* The same in other words. */
    rules = with(
        first_rules, "{name: harbour-fw, address: 192.0.2.9, labels: {site: harbour}}",
        "labels:\n      site: \"harbour\"   # a comment\n    'name': harbour-fw\n    address: '192.0.2.9'");
    write_all(rules, first_devices, first_more);
    expect(0, "A reload would change nothing");
    free(rules);
    ind_write_file(ind_path(folder, "indagator.yaml"), "nonsense: 1\n");
    struct ind_ran ran = check(1); /* a mistake: as check says it */
    assert_non_null(strstr(ran.err, "unknown key \"nonsense\""));
    ind_ran_free(&ran);
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_is_told_is_what_the_reload_does, set_up, tear_down),
        cmocka_unit_test_setup_teardown(tables_includes_and_layout, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
