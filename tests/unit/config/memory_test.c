/* No allocation is relied upon: whichever of them fails, a configuration is read with a clean error or whole,
 * a message is taken through its rules or not, and nothing is lost of the memory. */
#include "support/support.h"

#include "config/config.h"
#include "core/edit/edit_state.h"
#include "core/message/header.h"

#include <string.h>

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__) || !defined(__GLIBC__)
#define PLAYED 0 /* the sanitizers bring an allocator of their own */
#else
#define PLAYED 1
#endif

/* Of the code under test, between begin() and end(). */
static struct {
    bool on;
    long left; /* allocations until the one that fails; negative: none does */
    long alive, made;
    bool failed;
} memory;

#if PLAYED
extern void *__libc_malloc(size_t size);
extern void *__libc_calloc(size_t count, size_t size);
extern void *__libc_realloc(void *old, size_t size);
extern void __libc_free(void *memory);

static bool fails(void)
{
    if (!memory.on)
        return false;
    memory.made++;
    if (memory.left-- != 0)
        return false;
    memory.failed = true;
    return true;
}

static void *count(void *made)
{
    memory.alive += memory.on && made;
    return made;
}

void *malloc(size_t size)
{
    return fails() ? NULL : count(__libc_malloc(size));
}

void *calloc(size_t number, size_t size)
{
    return fails() ? NULL : count(__libc_calloc(number, size));
}

void *realloc(void *old, size_t size)
{
    if (fails())
        return NULL;
    void *grown = __libc_realloc(old, size);
    memory.alive += memory.on && grown && !old;
    return grown;
}

extern void *__libc_memalign(size_t alignment, size_t size);

void *aligned_alloc(size_t alignment, size_t size)
{
    return fails() ? NULL : count(__libc_memalign(alignment, size));
}

void free(void *old)
{
    memory.alive -= memory.on && old;
    __libc_free(old);
}
#endif

static char *folder;

static const char text[] =
    "store: log\nstate: state\nzone: Europe/Lisbon\ndomain: skerry.example\n"
    "listen:\n  - udp: 127.0.0.1:5140\n  - tcp: \"[::1]:6010\"\n    senders wait: no\n  - unix: log.sock\n"
    "allow: [\"192.0.2.0/24\", \"2001:db8::/32\"]\n"
    "devices:\n  - {name: harbour-fw, address: 192.0.2.9, host: [hfw, hfw-standby], zone: Atlantic/Faroe, "
    "labels: {site: "
    "harbour}}\n  - {name: hq-relay, address: 192.0.2.200, relay: yes}\n  - from: devices.csv\n"
    "patterns:\n  - name: login-failed\n    app: sshd\n    text:\n      - layout: \"Failed password for "
    "{user:word} from "
    "{peer:ip} port {port:int} {:remainder}\"\n      - layout: \"{what:re([a-z]+)} is {:remainder}\"\n"
    "conditions:\n  trouble: severity at least warning\n"
    "  night: 'time within 22:00-06:00 and (host starts with \"pier\" or text matches \"a+b\")'\n"
    "edits:\n  - {name: hide, mask: [phone, {matches: 'token=[a-z]+'}]}\n  - {name: mark, when: trouble, "
    "label: {kind: "
    "bad}}\n  - {name: few, limit: 3 a second}\n"
    "routes:\n  - {name: firewall, when: 'label site is \"harbour\" and trouble', file: "
    "\"{device}/{date}.log\", archive: "
    "audit, last: yes}\n  - {name: night, when: night, file: night.log, layout: json}\n"
    "  - {name: out, when: 'pattern is \"login-failed\" and field peer within 203.0.113.0/24', to: output}\n"
    "  - {name: words, when: 'text contains \"down\" or text mentions \"up\" or text contains \"fan\" or "
    "data a@1 b is "
    "\"c\"', file: words.log}\n  - {name: rest, otherwise: yes, file: \"{facility}/{severity}.log\"}\n"
    "archives:\n  default: {rotate: every day, keep: 30 days}\n  audit: {rotate: {every: hour, size: 256 "
    "MiB}, keep: {for: 1 "
    "year}}\n";

static const char *const messages[] = {
    "<164>1 2026-11-23T04:45:00Z pier7-rtr kernel - - [a@1 b=\"c\"] port 12 is down, token=secret",
    "<165>Nov 23 04:45:01 hfw sshd[77]: Failed password for tern from 203.0.113.7 port 4022 ssh2",
    "{\"event\": \"boot\"}",
};

/* Through edits and routes; false where memory was out. */
static bool take(const struct ind_config *config)
{
    struct ind_answers answers;
    struct ind_editor *editor = ind_editor_new(&config->edits);
    uint32_t *taken = calloc(config->route_count, sizeof *taken);
    char scratch[IND_DEVICE_SCRATCH];
    bool good = ind_answers_begin(&answers, config->conditions) &&
                ind_router_prepare(config->router, &answers) &&
                ind_router_prepare(config->edits.router, &answers) && editor && taken;
    for (size_t i = 0; good && i < sizeof messages / sizeof *messages; i++) {
        const struct ind_edit_call call = {.go_on = true};
        struct ind_message message;
        const struct ind_header_context context = {.devices = config->devices,
                                                   .reference = INT64_C(1795409100) * IND_SECOND,
                                                   .zone = config->zone,
                                                   .scratch = scratch};
        ind_header_read_with_device(&context, ind_slice_of(messages[i]), &message);
        message.time = context.reference;
        (void)ind_edits_apply(&config->edits, editor, &message, &answers, context.reference, &call);
        (void)ind_router_decide(config->router, &message, &answers, taken);
        (void)ind_answers_payload(&answers, &message);
    }
    free(taken);
    ind_editor_free(editor);
    ind_answers_free(&answers);
    return good;
}

static bool is_whole(const struct ind_config *config)
{
    return config->route_count == 5 && config->edits.count == 3 && config->named.count == 2 &&
           config->listener_count == 3 && config->allow_count == 2 && config->policy_count == 2 &&
           ind_patterns_syntax_count(config->patterns) == 2 && ind_devices_count(config->devices) == 4 &&
           config->edits.list[0].regexes && config->router && config->edits.router;
}

static bool load_and_take(const char *path)
{
    struct ind_loaded loaded;
    ind_config_load(path, &loaded);
    bool good = loaded.config && take(loaded.config);
    struct ind_edit_state *state = loaded.config ? ind_edit_state_new(64) : NULL;
    good = good && state;
    ind_edit_state_free(state);
    /* Never silently nothing, or less than what is written. */
    assert_true(loaded.config || loaded.diagnostics.mistakes > 0);
    assert_true(!loaded.config || is_whole(loaded.config));
    ind_loaded_free(&loaded);
    return good;
}

static bool play(const char *path, long fail_at)
{
    memory.left = fail_at;
    memory.alive = memory.made = 0;
    memory.failed = false;
    memory.on = true;
    bool good = load_and_take(path);
    memory.on = false;
    return good;
}

static void whichever_allocation_fails_nothing_breaks_or_leaks(void **state)
{
    (void)state;
    if (!PLAYED)
        skip();
    folder = ind_folder_new();
    ind_write_file(ind_path(folder, "devices.csv"),
                   "name,address\npier1-rtr,192.0.2.131\npier2-rtr,192.0.2.132\n");
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
    char *path = strdup(ind_path(folder, "indagator.yaml"));
    assert_true(play(path, -1)); /* what is kept for the process (zones, JIT) is there from now on */
    assert_true(play(path, -1));
    long count = memory.made;
    assert_true(count > 300);
    assert_int_equal(memory.alive, 0);
    size_t refused = 0;
    for (long n = 0; n < count; n++) {
        bool good = play(path, n);
        refused += !good;
        if (memory.alive != 0)
            fail_msg("allocation %ld of %ld fails: %ld are left", n, count, memory.alive);
        assert_true(memory.failed);
    }
    assert_true(refused > (size_t)count / 2);
    free(path);
    ind_folder_remove(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(whichever_allocation_fails_nothing_breaks_or_leaks)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
