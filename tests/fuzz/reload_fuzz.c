/* A collector is given one configuration after another while messages come: each is taken or refused with a
 * reason, no message to a listener that stays is lost, and the books add up. Bytes choose what is done next,
 * and each part of a configuration. */
#include "collecting.h"

#include <netinet/in.h>

enum { MOST_STEPS = 40, MOST_AT_ONCE = 16 };

static struct {
    unsigned ports[2];
    int local;     /* to the listener that stands in every configuration */
    uint64_t sent; /* to it */
    int stream;    /* a connection to one that may go; -1: none */
} trial;

static struct {
    const uint8_t *at, *end;
} choices;

static unsigned choose(unsigned of)
{
    return choices.at < choices.end ? *choices.at++ % of : 0;
}

#define ONE_OF(list) ((list)[choose(sizeof(list) / sizeof *(list))])

static void write_listeners(FILE *out)
{
    static const char *const kinds[] = {"udp", "tcp"};
    static const char *const addresses[] = {"127.0.0.1", "0.0.0.0", "[::]", "[::1]", "127.0.0.2"};
    fprintf(out, "listen:\n  - unix: %s\n", ind_fuzz.local_path);
    for (unsigned i = 0, count = choose(4); i < count; i++) {
        const char *kind = ONE_OF(kinds), *address = ONE_OF(addresses);
        fprintf(out, "  - %s: \"%s:%u\"\n", kind, address, ONE_OF(trial.ports));
        if (*kind == 't' && choose(3) == 1)
            fputs("    senders wait: no\n", out);
    }
    if (choose(3) == 1)
        fprintf(out, "  - unix: %s/other%u\n", ind_fuzz_folder_name, choose(2));
}

static void write_rules(FILE *out)
{
    static const char *const devices[] = {
        "",
        "devices:\n  - {name: d, address: 127.0.0.1}\n",
        "devices: [{name: d, address: 127.0.0.0/8, relay: yes, labels: {l: x}}, {name: e, host: host1}]\n",
    };
    static const char *const edits[] = {
        "",
        "edits:\n  - {name: a, mask: [ipv4, secret]}\n  - {name: b, thin: one in 2}\n",
        "edits:\n  - {name: a, repeat: 10s}\n  - {name: c, label: {l: \"{app}\"}}\n",
        "edits:\n  - {name: a, drop: yes, when: severity is debug}\n  - {name: b, set: {host: \"{app}\"}}\n",
        "edits:\n  - {name: r, limit: 5 a second, when: 'text contains \"x\"'}\n",
    };
    static const char *const archives[] = {
        "archives:\n  small: {rotate: {messages: 20}, keep: {number: 3}, compress: none}\n",
        "archives:\n  small: {rotate: {size: 20 KiB}, keep: {number: 1}, compress: zstd}\n"
        "  default: {rotate: every hour, keep: {for: 1 h}, compress: gzip}\n",
    };
    fputs(ONE_OF(devices), out);
    fputs(ONE_OF(edits), out);
    fputs(ONE_OF(archives), out);
}

static void write_routes(FILE *out)
{
    static const char *const rests[] = {
        "file: \"a/{host}.log\"",
        "file: b.log, layout: json, last: yes",
        "file: all.log, when: severity at least error",
        "file: all.log, otherwise: yes",
        "file: e.log, layout: rfc5424",
        "file: c.log, layout: \"{time} {text}\", archive: small",
        "file: \"d/{app}/{severity}.log\", when: 'text matches \"(a|b)+x\"', archive: small",
        "to: {program: [/bin/cat, /dev/null]}",
        "to: {program: [./none]}, last: yes",
    };
    fputs("routes:\n", out);
    for (unsigned i = 0, count = 1 + choose(4); i < count; i++)
        fprintf(out, "  - {name: r%u, %s}\n", i, ONE_OF(rests));
}

static void write_config(FILE *out)
{
    static const char *const heads[] = {"", "allow: [127.0.0.1]\n", "allow: [192.0.2.0/24]\n",
                                        "domain: fells.example\n"};
    static const char *const mistakes[] = {"?",
                                           "zone: Nowhere/At_all\n",
                                           "edits:\n  - {name: z, mask: nothing}\n",
                                           "devices:\n  - {name: d}\n  - {name: d}\n",
                                           "include: none/*.yaml\n",
                                           "conditions: {x: 'severity is'}\n",
                                           "open files: 64\n"};
    fprintf(out, "store: %s/log\nstate: %s/state\nthreads: %u\nburst buffer: 8 MiB\n", ind_fuzz_folder_name,
            ind_fuzz_folder_name, choose(16) == 15 ? 1 : 2);
    fputs(ONE_OF(heads), out);
    write_listeners(out);
    write_rules(out);
    write_routes(out);
    if (choose(8) == 7)
        fputs(ONE_OF(mistakes), out);
}

static const char *config(void)
{
    static char text[8192];
    FILE *out = fmemopen(text, sizeof text, "w");
    write_config(out);
    fclose(out);
    return text;
}

/* It is what the bytes make of it, or the first of each part. */
static const char *first_config(void)
{
    choices.at = choices.end;
    return config();
}

static void reload(void)
{
    static char answer[1 << 14];
    ind_fuzz_write(ind_fuzz.config_path, config());
    int code = ind_fuzz_ask("POST /reload", answer, sizeof answer);
    if (code != 200 && (code != 409 || !*answer))
        abort();
}

static int connect_to(int type, unsigned port)
{
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    int fd = socket(AF_INET, type, 0);
    if (fd >= 0 && connect(fd, (struct sockaddr *)&address, sizeof address) == 0)
        return fd;
    close(fd);
    return -1;
}

static size_t write_message(char *text, size_t room, const char *end)
{
    static const char *const texts[] = {
        "x", "abababx", "link to 192.0.2.77 is down", "password=secret", "\x01\xFF x", ""};
    return (size_t)snprintf(text, room, "<%u>1 - host%u app%u - - - %s%s", choose(192), choose(4), choose(3),
                            ONE_OF(texts), end);
}

static void send_to_local(void)
{
    char text[200];
    for (unsigned i = 0, count = 1 + choose(MOST_AT_ONCE); i < count; i++) {
        size_t length = write_message(text, sizeof text, "");
        if (send(trial.local, text, length, MSG_NOSIGNAL) != (ssize_t)length)
            abort();
        trial.sent++;
    }
}

/* These may go to nobody. */
static void send_to_others(void)
{
    char text[200];
    int fd = connect_to(SOCK_DGRAM, ONE_OF(trial.ports));
    (void)send(fd, text, write_message(text, sizeof text, ""), MSG_NOSIGNAL);
    close(fd);
    if (trial.stream < 0)
        trial.stream = connect_to(SOCK_STREAM, ONE_OF(trial.ports));
    size_t length = write_message(text, sizeof text, choose(4) ? "\n" : "");
    if (send(trial.stream, text, length, MSG_NOSIGNAL | MSG_DONTWAIT) < 0) {
        close(trial.stream);
        trial.stream = -1;
    }
}

static void rotate(void)
{
    char answer[200];
    if (ind_fuzz_ask(choose(2) ? "POST /rotate" : "POST /rotate?due=1", answer, sizeof answer) != 200)
        abort();
}

static void find_ports(void)
{
    for (int i = 0; i < 2; i++) {
        int probe = ind_tcp_listen("0.0.0.0", 0, false);
        trial.ports[i] = ind_socket_port(probe);
        close(probe);
    }
    trial.stream = -1;
}

static uint64_t received_by_local(void)
{
    uint64_t received = 0;
    json_t *status = ind_fuzz_status(), *listener;
    size_t i;
    json_array_foreach(json_object_get(status, "listeners"), i, listener)
    {
        const char *name = json_string_value(json_object_get(listener, "listener"));
        if (strstr(name, ind_fuzz.local_path))
            received += (uint64_t)json_integer_value(json_object_get(listener, "received"));
    }
    json_decref(status);
    return received;
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    if (!ind_fuzz.config_path[0]) {
        find_ports();
        ind_fuzz_begin("reload", first_config);
        trial.local = ind_fuzz_connect(ind_fuzz.local_path, SOCK_DGRAM);
    }
    choices.at = bytes;
    choices.end = bytes + size;
    for (int step = 0; step < MOST_STEPS && choices.at < choices.end; step++) {
        switch (choose(6)) {
        case 0:
        case 1:
            reload();
            break;
        case 2:
            rotate();
            break;
        case 3:
            send_to_others();
            break;
        default:
            send_to_local();
        }
    }
    for (int tries = IND_FUZZ_PATIENCE * 500; received_by_local() != trial.sent; ind_fuzz_rest())
        if (tries-- == 0)
            abort();
    return 0;
}
