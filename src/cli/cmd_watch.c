#include "cli/cli.h"
#include "cli/search_chart.h"
#include "cli/watch_ask.h"
#include "cli/watch_screen.h"
#include "cli/watch_view.h"
#include "collect/runtime/clock.h"
#include "core/message/names.h"

#include <locale.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>

enum { ONCE_WIDTH = 100, ONCE_HEIGHT = 40, LOOK = 100, ESCAPE = 27 };
#define EVERY IND_SECOND

static struct {
    int once;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"once", '\0', POPT_ARG_NONE, &given.once, 0, "print it once as text, and end", NULL}, POPT_TABLEEND};
    return table;
}

static volatile sig_atomic_t ended;

static void end(int signal)
{
    ended = signal;
}

struct watching {
    const struct ind_config *config;
    struct ind_watch_model *model;
    struct ind_watch_view view;
    struct ind_watch_ask *ask;
    char what; /* is typed: 'd', 'f' */
};

/* ---- What messages are asked for ---- */

static void ask_for_messages(struct watching *watching)
{
    char when[600];
    const struct ind_watch_view *view = &watching->view;
    snprintf(when, sizeof when, "severity at least %s%s%s%s", ind_severity_name(view->severity).at,
             view->when[0] ? " and (" : "", view->when, view->when[0] ? ")" : "");
    watching->model->message_count = watching->model->next_message = 0;
    ind_watch_ask_for(watching->ask, when);
}

/* False, said, where it is no condition. */
static bool is_condition(struct watching *watching, const char *text)
{
    struct ind_conditions *set = NULL;
    struct ind_mistake mistake = {0};
    ind_condition when;
    const bool good = ind_config_condition(watching->config, ind_slice_of(text), &set, &when, &mistake);
    ind_conditions_free(set);
    if (!good)
        snprintf(watching->view.said, sizeof watching->view.said, "No condition: %.150s",
                 mistake.made ? mistake.text : "out of memory");
    return good;
}

/* ---- Keys ---- */

static void take_typed(struct watching *watching)
{
    struct ind_watch_view *view = &watching->view;
    view->asking = NULL;
    if (watching->what == 'd') {
        snprintf(view->device, sizeof view->device, "%.79s", view->typed);
        view->first = 0;
    } else if (is_condition(watching, view->typed)) {
        snprintf(view->when, sizeof view->when, "%s", view->typed);
        ask_for_messages(watching);
    }
}

static void type(struct watching *watching, int key)
{
    struct ind_watch_view *view = &watching->view;
    const size_t length = strlen(view->typed);
    if (key == '\r' || key == '\n') {
        take_typed(watching);
    } else if (key == ESCAPE) {
        view->asking = NULL;
    } else if (key == IND_KEY_BACK) {
        if (length > 0)
            view->typed[length - 1] = '\0';
    } else if (key >= ' ' && key < 127 && length + 1 < sizeof view->typed) {
        view->typed[length] = (char)key;
        view->typed[length + 1] = '\0';
    }
}

static void begin_to_type(struct watching *watching, char what, const char *asking, const char *before)
{
    watching->what = what;
    watching->view.asking = asking;
    snprintf(watching->view.typed, sizeof watching->view.typed, "%s", before);
}

static void move(struct ind_watch_view *view, long lines)
{
    const long first = (long)view->first + lines;
    view->first = first > 0 ? (size_t)first : 0; /* what is too far is set right where it is drawn */
}

static void next_severity(struct watching *watching)
{
    static const unsigned after[IND_SEVERITIES] = {
        [IND_SEVERITY_ERROR] = IND_SEVERITY_WARNING,  [IND_SEVERITY_WARNING] = IND_SEVERITY_NOTICE,
        [IND_SEVERITY_NOTICE] = IND_SEVERITY_DEBUG,   [IND_SEVERITY_DEBUG] = IND_SEVERITY_CRITICAL,
        [IND_SEVERITY_CRITICAL] = IND_SEVERITY_ERROR, [IND_SEVERITY_INFO] = IND_SEVERITY_DEBUG};
    watching->view.severity = after[watching->view.severity];
    ask_for_messages(watching);
}

/* False: it is to end. */
static bool act(struct watching *watching, int key)
{
    struct ind_watch_view *view = &watching->view;
    view->said[0] = '\0';
    if (view->help) {
        view->help = false;
    } else if (view->asking) {
        type(watching, key);
    } else {
        switch (key) {
        case 'q':
            return false;
        case 's':
            view->order = (view->order + 1) % 4;
            view->first = 0;
            break;
        case 'v':
            next_severity(watching);
            break;
        case 'd':
            begin_to_type(watching, 'd', "Devices whose names hold:", view->device);
            break;
        case 'f':
            begin_to_type(watching, 'f', "Messages for which:", view->when);
            break;
        case ' ':
        case 'p':
            view->paused = !view->paused;
            break;
        case '?':
        case 'h':
            view->help = true;
            break;
        case IND_KEY_UP:
            move(view, -1);
            break;
        case IND_KEY_DOWN:
            move(view, 1);
            break;
        case IND_KEY_PAGE_UP:
            move(view, -10);
            break;
        case IND_KEY_PAGE_DOWN:
            move(view, 10);
            break;
        default:
            break;
        }
    }
    return true;
}

/* ---- Drawing ---- */

static void draw(struct watching *watching)
{
    struct ind_frame frame;
    size_t width, height;
    ind_watch_screen_size(&width, &height);
    if (ind_frame_begin(&frame, width, height, ind_has_blocks())) {
        ind_watch_draw(watching->model, &watching->view, &frame);
        ind_watch_screen_show(&frame);
    }
    ind_frame_free(&frame);
}

/* Once a second, and at each key. */
static void go_on(struct watching *watching)
{
    struct ind_steady drawn = IND_STEADY_NEVER;
    bool gone = false;
    while (!ended && !gone) {
        const int key = ind_watch_screen_key(LOOK, &gone);
        if (key != IND_KEY_NONE && key != IND_KEY_RESIZED && !act(watching, key))
            return;
        (void)ind_watch_ask_take(watching->ask, watching->view.paused, watching->model);
        if (key == IND_KEY_NONE && ind_steady_lately(drawn, ind_steady_now(), EVERY))
            continue;
        drawn = ind_steady_now();
        draw(watching);
    }
}

static int show(struct watching *watching)
{
    static const int signals[] = {SIGINT, SIGTERM, SIGHUP};
    struct sigaction action = {.sa_handler = end};
    for (size_t i = 0; i < sizeof signals / sizeof *signals; i++)
        sigaction(signals[i], &action, NULL);
    if (!ind_watch_screen_begin())
        return IND_EXIT_CALL;
    go_on(watching);
    ind_watch_screen_end();
    return IND_EXIT_DONE;
}

/* Two answers, so that there are rates. */
static int print_once(struct watching *watching)
{
    struct ind_frame frame;
    unsigned answers = 0;
    setlocale(LC_CTYPE, "");
    while (!ended && answers < 2) {
        const struct timespec pause = {0, LOOK * 1000000L};
        answers += ind_watch_ask_take(watching->ask, false, watching->model);
        if (answers && !watching->model->running)
            break;
        (void)nanosleep(&pause, NULL);
    }
    const size_t width = ind_terminal_width(), rows = ind_terminal_rows();
    if (!ind_frame_begin(&frame, width ? width : ONCE_WIDTH, rows ? rows - 1 : ONCE_HEIGHT, ind_has_blocks()))
        return IND_EXIT_FAILED;
    ind_watch_draw(watching->model, &watching->view, &frame);
    ind_frame_print(&frame, stdout);
    ind_frame_free(&frame);
    return watching->model->running ? IND_EXIT_DONE : IND_EXIT_NO;
}

static int run(struct ind_call *call)
{
    static struct ind_watch_model model;
    struct ind_loaded loaded;
    if (*call->rest) {
        ind_complain("watch takes no argument \"%s\"; press d for one device", *call->rest);
        return IND_EXIT_CALL;
    }
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    struct watching watching = {
        .config = loaded.config, .model = &model, .view = {.severity = IND_SEVERITY_ERROR}};
    watching.ask = ind_watch_ask_new(loaded.config);
    int code = IND_EXIT_FAILED;
    if (watching.ask) {
        ask_for_messages(&watching);
        code = given.once ? print_once(&watching) : show(&watching);
    } else {
        ind_complain("out of memory");
    }
    ind_watch_ask_free(watching.ask);
    ind_watch_model_free(&model);
    ind_loaded_free(&loaded);
    return code;
}

const struct ind_command ind_command_watch = {
    .name = "watch",
    .summary = "a screen that moves: state, rates, devices, severe messages",
    .arguments = "[-c FILE] [--once]",
    .about = "Shows on a terminal, once a second, whether all is well, how much comes, devices with trouble "
             "first, "
             "and\nsevere messages as they come. It goes on when the collector ends and comes back. Keys: s "
             "order, d "
             "one\ndevice, f filter, v severity, space pause, ? help, q end.\n\n"
             "Example:\n"
             "  indagator watch -c indagator.yaml\n",
    .options = options,
    .run = run,
};
