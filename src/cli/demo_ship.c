#include "cli/demo_ship.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/control_client.h"
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum { AT_FIRST = 200, AT_SEA = 3000 };

/* "%u": the port, or 0. */
static const char ashore[] =
    "store: ashore\n"
    "state: ashore-state\n"
    "zone: Europe/Lisbon\n"
    "listen:\n"
    "  - tcp: 127.0.0.1:%u\n"
    "devices:\n"
    "  - {name: mv-tern-collector, address: 127.0.0.1, relay: yes}\n"
    "  - {name: mv-tern-rtr, address: 127.0.21.1}\n"
    "routes:\n"
    "  - {name: ships, when: device starts with \"mv-\", file: \"ships/{device}.log\"}\n";
/* "%u": the port ashore. */
static const char aboard[] =
    "store: aboard\n"
    "state: aboard-state\n"
    "zone: Europe/Lisbon\n"
    "listen:\n"
    "  - tcp: 127.0.0.1:0\n"
    "relays:\n"
    "  - name: head-office\n"
    "    to: \"tcp:127.0.0.1:%u\"\n"
    "    waiting: {space: 100 MiB, give up: oldest}\n"
    "    at most: 2 MB/s       # the link of a ship is thin\n"
    "routes:\n"
    "  - {name: on-to-head-office, when: 'app is not \"indagator\"', to: {relay: head-office}}\n"
    "  - {name: aboard, file: \"{facility}.log\"}\n";

/* One that is played in turn with another, in the same folder. */
struct ship {
    struct ind_demo ashore, aboard;
};

/* A text with one "%u". */
static bool write_config(const struct ind_demo *demo, const char *name, const char *text, unsigned port)
{
    const char *place = strstr(text, "%u");
    char path[4096];
    snprintf(path, sizeof path, "%s/%s", demo->folder, name);
    FILE *file = fopen(path, "w");
    const bool good =
        file && place && fprintf(file, "%.*s%u%s", (int)(place - text), text, port, place + 2) > 0;
    if (file && fclose(file) == 0 && good)
        return true;
    ind_complain("cannot write %s: %s", path, strerror(errno));
    return false;
}

static bool send_some(const struct ship *ship, int count)
{
    char to[64], number[16];
    snprintf(to, sizeof to, "tcp:127.0.0.1:%u", ship->aboard.tcp);
    snprintf(number, sizeof number, "%d", count);
    const char *const emit[] = {"indagator",
                                "emit",
                                "--to",
                                to,
                                "--host",
                                "mv-tern-rtr",
                                "--app",
                                "linkd",
                                "--severity",
                                "warning",
                                "--count",
                                number,
                                "sat0 (uplink) link up, 512 kbit/s",
                                NULL};
    return ind_demo_show(&ship->aboard, emit, 0) == IND_EXIT_DONE;
}

/* How many messages the relay has sent; and how many wait. False: the collector does not say. */
static bool ask(const struct ship *ship, uint64_t *sent, uint64_t *waiting)
{
    char path[4096], *text = NULL;
    const struct ind_config config = {.state = path};
    snprintf(path, sizeof path, "%s/aboard-state", ship->aboard.folder);
    const bool answered =
        ind_control_client_ask(&config, false, "/status", &text) == IND_CONTROL_CLIENT_ANSWERED;
    json_t *status = answered && text ? json_loads(text, 0, NULL) : NULL;
    const json_t *relay = json_array_get(json_object_get(status, "relays"), 0);
    *sent = ind_answer_number(relay, "sent");
    *waiting = ind_answer_number(relay, "waiting");
    json_decref(status);
    free(text);
    return relay != NULL;
}

static bool wait_for_relay(const struct ship *ship, uint64_t sent, uint64_t waiting)
{
    uint64_t has_sent = 0, waits = 0;
    for (int waited = 0; waited < IND_DEMO_PATIENCE; waited += 50) {
        const struct timespec pause = {0, 50000000};
        nanosleep(&pause, NULL);
        if (ask(ship, &has_sent, &waits) && has_sent >= sent && waits >= waiting && (waiting || waits == 0))
            return true;
    }
    ind_complain("the relay head-office has sent %llu messages, and %llu wait", (unsigned long long)has_sent,
                 (unsigned long long)waits);
    return false;
}

static bool show_status(const struct ship *ship)
{
    static const char *const call[] = {"indagator", "status", "-c", "aboard.yaml", NULL};
    return ind_demo_show(&ship->aboard, call, 2) == IND_EXIT_DONE;
}

static void end(struct ind_demo *demo)
{
    ind_demo_end(demo);
    if (demo->reports >= 0)
        close(demo->reports);
    if (demo->summary >= 0)
        close(demo->summary);
    demo->reports = demo->summary = -1;
}

static bool lose_link(struct ship *ship)
{
    ind_demo_heading("11. At sea the link is lost: what is for the head office waits on disk");
    printf("\n$ kill -TERM %ld    # nobody listens ashore any more\n", (long)ship->ashore.collector);
    end(&ship->ashore);
    return send_some(ship, AT_SEA) && wait_for_relay(ship, 0, AT_SEA) && show_status(ship);
}

static bool catch_up(struct ship *ship)
{
    static const char *const count[] = {"indagator",        "search", "-c",     "ashore.yaml", "--when",
                                        "app is \"linkd\"", "--by",   "device", NULL};
    ind_demo_heading("12. The link is back: all of it comes, in order, at the rate that the link is to bear");
    if (!ind_demo_collect(&ship->ashore, "ashore.yaml") || !wait_for_relay(ship, AT_FIRST + AT_SEA, 0))
        return false;
    const struct timespec pause = {0, 300000000}; /* until it is in its files */
    nanosleep(&pause, NULL);
    return ind_demo_show(&ship->ashore, count, 0) == IND_EXIT_DONE;
}

static bool play(struct ship *ship)
{
    const struct ind_demo *demo = &ship->ashore;
    ind_demo_heading(
        "10. A ship has a collector of its own, which passes on to that of the head office: a relay");
    if (!write_config(demo, "ashore.yaml", ashore, 0) || !ind_demo_collect(&ship->ashore, "ashore.yaml") ||
        !write_config(demo, "ashore.yaml", ashore, ship->ashore.tcp) ||
        !write_config(demo, "aboard.yaml", aboard, ship->ashore.tcp))
        return false;
    return ind_demo_collect(&ship->aboard, "aboard.yaml") && send_some(ship, AT_FIRST) &&
           wait_for_relay(ship, AT_FIRST, 0) && lose_link(ship) && catch_up(ship);
}

bool ind_demo_play_ship(const struct ind_demo *demo)
{
    struct ship ship = {*demo, *demo};
    ship.ashore.collector = ship.aboard.collector = 0;
    ship.ashore.reports = ship.aboard.reports = ship.ashore.summary = ship.aboard.summary = -1;
    const bool good = play(&ship);
    end(&ship.aboard);
    end(&ship.ashore);
    return good;
}
