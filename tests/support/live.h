/* tests/support/live.h: a test's one collector: started, spoken to, asked, ended. For test programs that
 * drive the built program; each includes it once. */
#ifndef IND_TESTS_LIVE_H
#define IND_TESTS_LIVE_H

#include "support/support.h"

#include "net/socket.h"
#include <jansson.h>
#include <signal.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

static char *folder;
static struct ind_running running;

static inline void begin(const char *config)
{
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    running = ind_collect_start(folder);
}

static inline void end_with(int signal, int expected)
{
    assert_int_equal(ind_collect_stop(&running, signal), expected);
    free(running.out);
    free(running.err);
    running = (struct ind_running){0};
}

static inline void end(void)
{
    end_with(SIGTERM, 0);
}

static inline int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    return 0;
}

static inline int tear_down(void **state)
{
    (void)state;
    if (running.process > 0)
        (void)ind_collect_stop(&running, SIGKILL);
    ind_folder_remove(folder);
    return 0;
}

static inline int open_to(enum ind_transport_kind kind, unsigned port, const char *from)
{
    char number[16];
    const char *reason = "";
    snprintf(number, sizeof number, "%u", port);
    int fd = ind_connect(kind, "127.0.0.1", number, from, &reason);
    if (fd < 0)
        print_error("%s\n", reason);
    assert_true(fd >= 0);
    return fd;
}

static inline void say(int fd, const char *text, size_t length)
{
    assert_int_equal(send(fd, text, length, MSG_NOSIGNAL), length);
}
#define SAY(fd, text) say(fd, text, sizeof(text) - 1)

/* What the collector says to a reload; to be freed. */
static inline struct ind_ran ask_to_reload(void)
{
    return ind_shell(folder, "curl -s --unix-socket state/control.sock -X POST http://x/reload");
}

static inline void reload_and_expect(const char *part)
{
    struct ind_ran ran = ask_to_reload();
    if (!strstr(ran.out, part))
        print_error("%s", ran.out);
    assert_non_null(strstr(ran.out, part));
    ind_ran_free(&ran);
}

/* The ledger as the running collector gives it. */
static inline json_t *status(void)
{
    struct ind_ran ran = ind_run(folder, "status", "--json", NULL);
    if (ran.status != 0)
        print_error("%s", ran.err);
    assert_int_equal(ran.status, 0);
    json_error_t error;
    json_t *object = json_loads(ran.out, 0, &error);
    assert_non_null(object);
    ind_ran_free(&ran);
    return object;
}

static inline unsigned long number(const json_t *object, const char *key)
{
    return (unsigned long)json_integer_value(json_object_get(object, key));
}

/* A number of the only relay. */
static inline unsigned long of_relay(const char *key)
{
    json_t *object = status();
    const unsigned long count = number(json_array_get(json_object_get(object, "relays"), 0), key);
    json_decref(object);
    return count;
}

/* What the status says is wrong with a disk; NULL: nothing is. */
static inline bool has_trouble(void *text)
{
    json_t *object = status();
    const char *trouble = json_string_value(json_object_get(json_object_get(object, "files"), "trouble"));
    bool has = text ? trouble && strstr(trouble, text) : !trouble;
    json_decref(object);
    return has;
}

static inline void wait_trouble(const char *text)
{
    ind_wait_until(has_trouble, (void *)(uintptr_t)text, text ? text : "there is no trouble any more");
}

/* Waits until a file has so many lines. */
struct ind_expected_lines {
    const char *path;
    int lines;
};

static inline bool has_lines(void *context)
{
    const struct ind_expected_lines *expected = context;
    char *text = ind_read_file(ind_path(folder, expected->path), NULL);
    int lines = 0;
    for (const char *at = text; at && (at = strchr(at, '\n')); at++)
        lines++;
    free(text);
    return lines == expected->lines;
}

static inline void wait_lines(const char *path, int lines)
{
    struct ind_expected_lines expected = {path, lines};
    ind_wait_until(has_lines, &expected, path);
}

#endif
