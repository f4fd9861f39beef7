/* Why a file is not written to: the routes that write it, and what keeps the last messages from it. */
#include "cli/doctor.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/control_client.h"
#include "cli/plain_line.h"
#include "cli/status_view.h"
#include "collect/runtime/clock.h"
#include "core/archive/archive_name.h"
#include "trial/explain.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { SHOWN = 6, MARGIN = 11, ELSEWHERE = 1000, FAR };

/* Messages that the same thing kept from the file. */
struct kept {
    char *why;
    size_t messages, distance; /* distance: how many tests fail; ELSEWHERE; or FAR: an edit dropped it */
    json_t *example;           /* borrowed */
    char seen[400];            /* what its tests saw */
};

struct looking {
    const struct ind_config *config;
    char path[IND_PATH + 1];         /* below the store */
    const struct ind_route **routes; /* that could write it */
    size_t route_count;
    struct kept *kept;
    size_t kept_count, kept_room;
    size_t messages, went;
    ind_time last_went;
    ind_time written; /* when the file was written last; IND_TIME_NONE: it is not there */
    uint64_t size;
};

/* ---- The file, and who writes it ---- */

/* Without the parts "." and "..", as far as words tell; false where it is too long. */
static bool clean_path(const char *given, char *path, size_t room)
{
    struct ind_buffer out = ind_buffer_on(path, room - 1);
    if (*given == '/')
        ind_buffer_byte(&out, '/');
    const size_t root = out.length;
    while (*given) {
        given += strspn(given, "/");
        const size_t part = strcspn(given, "/");
        if (part == 2 && memcmp(given, "..", 2) == 0) {
            while (out.length > root && out.at[out.length - 1] != '/')
                out.length--;
            out.length -= out.length > root;
        } else if (part > 0 && !(part == 1 && *given == '.')) {
            if (out.length > root)
                ind_buffer_byte(&out, '/');
            ind_buffer_add(&out, given, part);
        }
        given += part;
    }
    path[out.length] = '\0';
    return !out.full;
}

/* Below the store; false where it is outside. */
static bool find_path(struct looking *looking, const char *given)
{
    const char *store = looking->config->store;
    const size_t length = strlen(store);
    char *whole = realpath(store, NULL), folder[4096], *at = NULL;
    const char *rest = NULL;
    if (strncmp(given, store, length) == 0 && given[length] == '/') {
        rest = given + length + 1;
    } else if (whole && strncmp(given, whole, strlen(whole)) == 0 && given[strlen(whole)] == '/') {
        rest = given + strlen(whole) + 1;
    } else if (whole && *given != '/' && getcwd(folder, sizeof folder)) {
        /* From the present folder, where that leads into the store; otherwise below the store. */
        const size_t above = strlen(folder);
        at = strncmp(whole, folder, above) == 0 && whole[above] == '/' ? whole + above + 1 : NULL;
        rest = at && strncmp(given, at, strlen(at)) == 0 && given[strlen(at)] == '/' ? given + strlen(at) + 1
                                                                                     : given;
    } else if (*given != '/') {
        rest = given;
    }
    const bool good = rest && strlen(rest) <= IND_PATH;
    if (good)
        snprintf(looking->path, sizeof looking->path, "%s", rest);
    free(whole);
    return good;
}

/* An archive is looked at as the file that it was. */
static bool take_archive(struct looking *looking)
{
    struct ind_archive_name parts;
    if (!ind_archive_name_read(ind_slice_of(looking->path), &parts))
        return false;
    const size_t length = parts.live_stem.length; /* it begins where the path does */
    snprintf(looking->path + length, sizeof looking->path - length, ".log");
    return true;
}

static void look_at_file(struct looking *looking)
{
    char whole[4096 + IND_PATH];
    struct stat facts;
    snprintf(whole, sizeof whole, "%s/%s", looking->config->store, looking->path);
    looking->written = IND_TIME_NONE;
    if (stat(whole, &facts) != 0)
        return;
    looking->written = (ind_time)facts.st_mtime * IND_SECOND;
    looking->size = (uint64_t)facts.st_size;
}

static bool find_routes(struct looking *looking)
{
    const struct ind_config *config = looking->config;
    looking->routes = calloc(config->route_count + 1, sizeof *looking->routes);
    for (size_t i = 0; looking->routes && i < config->route_count; i++)
        if (config->routes[i].to == IND_TO_FILE &&
            ind_template_could_make(&config->routes[i].file, ind_slice_of(looking->path)))
            looking->routes[looking->route_count++] = &config->routes[i];
    return looking->routes != NULL;
}

static bool is_one_of(const struct looking *looking, const struct ind_route *route)
{
    for (size_t i = 0; i < looking->route_count; i++)
        if (looking->routes[i] == route)
            return true;
    return false;
}

/* ---- What kept a message away ---- */

/* The newest is the example. */
static void add_kept(struct looking *looking, const char *why, size_t distance, json_t *example,
                     const char *seen)
{
    size_t i = 0;
    while (i < looking->kept_count && strcmp(looking->kept[i].why, why) != 0)
        i++;
    if (i == looking->kept_room) {
        const size_t room = i ? i * 2 : 64;
        struct kept *grown = realloc(looking->kept, room * sizeof *grown);
        if (!grown)
            return;
        looking->kept = grown;
        looking->kept_room = room;
    }
    struct kept *kept = &looking->kept[i];
    if (i == looking->kept_count) {
        *kept = (struct kept){.why = strdup(why), .distance = distance};
        if (!kept->why)
            return;
        looking->kept_count++;
    }
    kept->messages++;
    kept->example = example;
    snprintf(kept->seen, sizeof kept->seen, "%s", seen);
}

/* What the tests saw is not part of what tells groups apart. */
static void describe_tests(const struct ind_route_verdict *verdict, struct ind_buffer *why,
                           struct ind_buffer *seen)
{
    for (size_t i = 0; i < verdict->reason_count; i++) {
        const struct ind_reason *reason = &verdict->reasons[i];
        ind_buffer_text(why, i ? ", and by " : "kept away by ");
        if (reason->name.length) {
            ind_buffer_slice(why, reason->name);
            ind_buffer_text(why, ": ");
        }
        ind_buffer_slice(why, reason->test);
        ind_buffer_text(seen, i ? "; " : "it is ");
        ind_buffer_text(seen, reason->present ? (reason->seen[0] ? reason->seen : "nothing") : "absent");
    }
}

struct verdict_text {
    char why[1200], seen[400];
    size_t distance;
};

static void describe_verdict(const struct looking *looking, const struct ind_route_verdict *verdict,
                             struct verdict_text *text)
{
    struct ind_buffer why = ind_buffer_on(text->why, sizeof text->why - 1),
                      seen = ind_buffer_on(text->seen, sizeof text->seen - 1);
    ind_buffer_text(&why, verdict->route->name);
    ind_buffer_text(&why, ": ");
    text->distance = 1;
    if (strcmp(verdict->path, looking->path) != 0) {
        ind_buffer_text(&why, "of another of its files");
        ind_buffer_text(&seen, "such as ");
        ind_buffer_text(&seen, verdict->path);
        text->distance = ELSEWHERE;
    } else if (verdict->above) {
        ind_buffer_text(&why, verdict->taken == IND_NOT_ASKED ? "taken before by the route "
                                                              : "not needed, since taken by the route ");
        ind_buffer_text(&why, verdict->above->name);
        ind_buffer_text(&why, verdict->taken == IND_NOT_ASKED ? ", which is last" : "");
    } else if (verdict->taken == IND_DROPPED) {
        ind_buffer_text(&why, "dropped by an edit");
        text->distance = FAR;
    } else {
        describe_tests(verdict, &why, &seen);
        text->distance = verdict->reason_count;
    }
    text->why[why.length] = text->seen[seen.length] = '\0';
}

/* Of several routes the one that was nearest tells. */
static void judge(struct looking *looking, const struct ind_explanation *explanation, json_t *message)
{
    struct verdict_text best = {.distance = SIZE_MAX}, text;
    for (size_t i = 0; i < explanation->route_count; i++) {
        const struct ind_route_verdict *verdict = &explanation->routes[i];
        if (!is_one_of(looking, verdict->route))
            continue;
        if (verdict->taken == IND_TAKEN && strcmp(verdict->path, looking->path) == 0) {
            looking->went++;
            looking->last_went = ind_answer_time(message, "time");
            return;
        }
        describe_verdict(looking, verdict, &text);
        if (text.distance < best.distance)
            best = text;
    }
    if (best.distance != SIZE_MAX)
        add_kept(looking, best.why, best.distance, message, best.seen);
}

static void look_at_message(struct looking *looking, struct ind_explainer *explainer, json_t *message,
                            ind_time now)
{
    const char *line = ind_answer_text(message, "line"), *text = strstr(line, "(dropped by the edit ");
    struct ind_remembered remembered = {.line = ind_slice_of(line),
                                        .listener = ind_slice_of(ind_answer_text(message, "listener")),
                                        .transport = (enum ind_transport)ind_transport_read(
                                            ind_slice_of(ind_answer_text(message, "transport")))};
    looking->messages++;
    if (json_is_true(json_object_get(message, "dropped"))) {
        char why[400];
        const size_t length = text ? strcspn(text, ")") : 0; /* without its parentheses */
        snprintf(why, sizeof why, "%.*s", length ? (int)length - 1 : 18,
                 length ? text + 1 : "dropped by an edit");
        add_kept(looking, why, FAR, message, "");
        return;
    }
    (void)ind_address_read(ind_slice_of(ind_answer_text(message, "sender")), &remembered.sender);
    judge(looking, ind_explain_remembered(explainer, &remembered, now), message);
}

static int nearest_first(const void *one, const void *other)
{
    const struct kept *a = one, *b = other;
    if (a->distance != b->distance)
        return a->distance < b->distance ? -1 : 1;
    if (a->messages != b->messages)
        return a->messages < b->messages ? 1 : -1;
    return strcmp(a->why, b->why);
}

static bool look_at_messages(struct looking *looking, const json_t *recent)
{
    struct ind_explainer *explainer = ind_explainer_new(looking->config);
    const ind_time now = ind_now();
    json_t *message;
    size_t i;
    json_array_foreach(json_object_get(recent, "messages"), i, message) if (explainer)
        look_at_message(looking, explainer, message, now);
    if (looking->kept_count)
        qsort(looking->kept, looking->kept_count, sizeof *looking->kept, nearest_first);
    ind_explainer_free(explainer);
    return explainer != NULL;
}

/* ---- As text ---- */

static const char *times(size_t count, char number[32])
{
    return count == 1 ? "1 message" : ind_grouped(count, number);
}

static void show_file(const struct looking *looking, bool archive)
{
    char size[32], ago[48];
    if (archive)
        printf("An archive, of the file %s\n", looking->path);
    if (looking->written == IND_TIME_NONE) {
        printf("%s is not there: nothing has been written to it\n", looking->path);
        return;
    }
    ind_status_span(ind_now() - looking->written, ago);
    printf("%s has %s, the last of it written %s ago\n", looking->path, ind_size_text(looking->size, size),
           ago);
}

static uint64_t taken_since_start(const json_t *status, const char *name)
{
    const json_t *route;
    size_t i;
    json_array_foreach(json_object_get(status, "routes"), i,
                       route) if (strcmp(ind_answer_text(route, "route"), name) ==
                                  0) return ind_answer_number(route, "messages");
    return 0;
}

static void show_routes(const struct looking *looking, const json_t *status)
{
    char number[32];
    for (size_t i = 0; i < looking->route_count; i++) {
        const struct ind_route *route = looking->routes[i];
        printf("The route %s writes it (%.*s)", route->name, IND_ARG(route->file.source));
        if (route->otherwise)
            printf(", what no other takes");
        if (route->when_text)
            printf(", when %s", route->when_text);
        printf(": %s taken since the start\n", times((size_t)taken_since_start(status, route->name), number));
    }
}

/* Words, broken before the terminal's end. */
static void print_wrapped(const char *text, size_t width)
{
    size_t at = MARGIN;
    while (*text) {
        const size_t word = strcspn(text, " "), after = strspn(text + word, " ");
        if (at > MARGIN && at + 1 + word > width) {
            printf("\n%*s", MARGIN, "");
            at = MARGIN;
        } else if (at > MARGIN) {
            putchar(' ');
            at++;
        }
        printf("%.*s", (int)word, text);
        at += word;
        text += word + after;
    }
    printf("\n");
}

static void show_kept(const struct kept *kept, size_t width)
{
    char number[32], text[2048];
    snprintf(text, sizeof text, "%s%s%s%s", kept->why, kept->seen[0] ? " (" : "", kept->seen,
             kept->seen[0] ? ")" : "");
    printf("%9s  ", ind_grouped(kept->messages, number));
    print_wrapped(text, width);
    if (kept->distance < ELSEWHERE)
        ind_print_plain(kept->example, true, MARGIN, width);
}

static void show_messages(const struct looking *looking)
{
    char number[2][32], ago[48];
    size_t rest = 0;
    if (looking->messages == 0) {
        printf("\nNo message has come since the start\n");
        return;
    }
    printf("\nOf the last %s messages that are remembered %s went there",
           ind_grouped(looking->messages, number[0]),
           looking->went ? ind_grouped(looking->went, number[1]) : "none");
    if (looking->went) {
        ind_status_span(ind_now() - looking->last_went, ago);
        printf(", the last one %s ago", ago);
    }
    printf("\n");
    if (looking->kept_count == 0)
        return;
    ind_status_heading("What kept the others away, those that were nearest first, each with an example");
    for (size_t i = 0; i < looking->kept_count; i++)
        if (i < SHOWN)
            show_kept(&looking->kept[i], ind_terminal_width());
        else
            rest += looking->kept[i].messages;
    if (rest)
        printf("%9s  for %zu other reasons\n", ind_grouped(rest, number[0]), looking->kept_count - SHOWN);
}

static void show_no_route(const struct looking *looking)
{
    printf("No route writes it. Those that write files:\n");
    for (size_t i = 0; i < looking->config->route_count; i++)
        if (looking->config->routes[i].to == IND_TO_FILE)
            printf("  %-24s %.*s\n", looking->config->routes[i].name,
                   IND_ARG(looking->config->routes[i].file.source));
}

/* ---- As JSON ---- */

static void print_json(const struct looking *looking, const json_t *status)
{
    json_t *object = json_object(), *routes = json_array(), *kept = json_array();
    json_object_set_new(object, "file", json_string(looking->path));
    for (size_t i = 0; i < looking->route_count; i++)
        json_array_append_new(
            routes, json_pack("{s:s,s:s,s:I}", "route", looking->routes[i]->name, "when",
                              looking->routes[i]->when_text ? looking->routes[i]->when_text : "", "taken",
                              (json_int_t)taken_since_start(status, looking->routes[i]->name)));
    for (size_t i = 0; i < looking->kept_count; i++) {
        const struct kept *one = &looking->kept[i];
        json_array_append_new(kept, json_pack("{s:s,s:I,s:s,s:s}", "why", one->why, "messages",
                                              (json_int_t)one->messages, "seen", one->seen, "example",
                                              ind_answer_text(one->example, "line")));
    }
    json_object_set_new(object, "routes", routes);
    json_object_set_new(object, "messages", json_integer((json_int_t)looking->messages));
    json_object_set_new(object, "went", json_integer((json_int_t)looking->went));
    json_object_set_new(object, "kept", kept);
    ind_print_json(object, stdout);
    printf("\n");
    json_decref(object);
}

/* ---- Together ---- */

static void free_looking(struct looking *looking)
{
    for (size_t i = 0; i < looking->kept_count; i++)
        free(looking->kept[i].why);
    free(looking->kept);
    free(looking->routes);
}

static json_t *ask(const struct ind_config *config, const char *path, enum ind_control_client_result *asked)
{
    char *text = NULL;
    *asked = ind_control_client_ask(config, false, path, &text);
    json_t *answer = *asked == IND_CONTROL_CLIENT_ANSWERED && text ? json_loads(text, 0, NULL) : NULL;
    free(text);
    return answer;
}

static void show(const struct looking *looking, const json_t *status, bool archive)
{
    show_file(looking, archive);
    if (looking->route_count == 0) {
        show_no_route(looking);
        return;
    }
    show_routes(looking, status);
    if (status)
        show_messages(looking);
    else
        printf("\nNo collector runs on this configuration: nothing is received. \"indagator doctor\" tells "
               "more\n");
}

int ind_doctor_file(const struct ind_config *config, const char *path, bool json)
{
    struct looking looking = {.config = config, .last_went = IND_TIME_NONE};
    enum ind_control_client_result asked;
    char cleaned[4096];
    if (!clean_path(path, cleaned, sizeof cleaned) || !find_path(&looking, cleaned)) {
        ind_complain("%s is not below the store, %s", path, config->store);
        return IND_EXIT_CALL;
    }
    const bool archive = take_archive(&looking);
    if (!ind_is_live_name(ind_slice_of(looking.path))) {
        ind_complain("--file %s: the store's files end in .log, or are archives of such", path);
        return IND_EXIT_CALL;
    }
    look_at_file(&looking);
    json_t *status = ask(config, "/status", &asked);
    json_t *recent = status ? ask(config, "/recent", &asked) : NULL;
    bool good = find_routes(&looking) && (asked == IND_CONTROL_CLIENT_NOBODY || recent);
    if (good && recent)
        good = look_at_messages(&looking, recent);
    if (!good)
        ind_complain("the collector does not say what came last");
    else if (json)
        print_json(&looking, status);
    else
        show(&looking, status, archive);
    const bool written = looking.went > 0 ||
                         (status && looking.size > 0 && looking.written >= ind_answer_time(status, "since"));
    const int code = !good ? IND_EXIT_FAILED : written ? IND_EXIT_DONE : IND_EXIT_NO;
    free_looking(&looking);
    json_decref(status);
    json_decref(recent);
    return code;
}
