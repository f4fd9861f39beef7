#include "cli/follow_show.h"

#include "cli/search_groups.h"
#include "collect/runtime/clock.h"
#include "store/search/once.h"
#include <stdlib.h>

/* Of conditions, in their order, with the letters that stand for them. */
static const char *const colours[] = {IND_CYAN, IND_YELLOW, IND_GREEN, IND_RED, IND_BOLD, IND_DIM};
enum { COLOURS = sizeof colours / sizeof *colours, ROOM = IND_LINE_MOST };

bool ind_follow_show_begin(struct ind_follow_show *show, const struct ind_search_settings *settings,
                           bool parses)
{
    show->config = settings->config;
    show->settings = *settings;
    show->parses = parses;
    show->for_people = ind_goes_to_terminal(stdout) || ind_colour();
    show->reader = ind_line_reader_new();
    show->room = malloc(ROOM);
    show->by_reader.zone = show->clock.zone = settings->zone;
    show->clock.times = show->line_clock.zone = settings->times;
    show->began = ind_now();
    show->drawn = ind_steady_now();
    ind_screen_begin(&show->screen, false, settings->conditions, settings->when);
    return show->reader && show->room;
}

void ind_follow_show_end(struct ind_follow_show *show)
{
    for (size_t i = 0; i < show->condition_count; i++) {
        ind_answers_free(&show->conditions[i].answers);
        ind_conditions_free(show->conditions[i].set);
    }
    ind_line_reader_free(show->reader);
    ind_by_reader_free(&show->by_reader);
    ind_groups_free(&show->groups);
    ind_screen_end(&show->screen);
    free(show->room);
    free(show->earlier);
}

bool ind_follow_show_condition(struct ind_follow_show *show, struct ind_conditions *set, ind_condition when)
{
    if (show->condition_count == IND_FOLLOW_CONDITIONS ||
        !ind_answers_begin(&show->conditions[show->condition_count].answers, set))
        return false;
    show->conditions[show->condition_count].set = set;
    show->conditions[show->condition_count++].when = when;
    return true;
}

/* ---- Lines ---- */

static void put(struct ind_follow_show *show, struct ind_slice text)
{
    show->failed |= fwrite(text.at, 1, text.length, stdout) != text.length;
}

static void put_line(struct ind_follow_show *show, struct ind_slice line)
{
    const bool plain = show->for_people && !show->settings.line && show->settings.layout == IND_LAYOUT_PLAIN;
    if (plain) {
        put(show, ind_screen_plain(&show->screen, line));
    } else {
        put(show, line);
        put(show, IND_SLICE("\n"));
    }
}

/* A letter for the condition, for those who see no colour. */
static void put_sign(struct ind_follow_show *show, size_t condition)
{
    char text[64];
    const char *colour = ind_colour() ? colours[condition % COLOURS] : "";
    snprintf(text, sizeof text, "%s%c%s ", colour, (char)('a' + condition), *colour ? IND_PLAIN : "");
    put(show, ind_slice_of(text));
}

static size_t condition_of(struct ind_follow_show *show, const struct ind_message *message)
{
    for (size_t i = 0; i < show->condition_count; i++) {
        ind_answers_next(&show->conditions[i].answers);
        if (ind_condition_holds(show->conditions[i].set, show->conditions[i].when, message,
                                &show->conditions[i].answers))
            return i;
    }
    return show->condition_count;
}

static void count(struct ind_follow_show *show, const struct ind_message *message,
                  struct ind_answers *answers)
{
    char key[IND_GROUP_KEY_MOST];
    struct ind_buffer out = ind_buffer_on(key, sizeof key);
    ind_group_key(&show->settings, message, answers, &show->by_reader, &out);
    ind_groups_add(&show->groups, ind_buffer_view(&out), 1, NULL);
    show->changed = true;
}

static void show_message(struct ind_follow_show *show, struct ind_message *message)
{
    struct ind_answers *answers = &show->conditions[0].answers;
    if (!message->configured)
        message->configured = ind_devices_by_name(show->config->devices, message->device);
    const size_t condition = condition_of(show, message);
    if (show->settings.by_count) {
        count(show, message, answers);
        return;
    }
    if (show->for_people && show->condition_count > 1 && condition < show->condition_count)
        put_sign(show, condition);
    struct ind_buffer out = ind_buffer_on(show->room, ROOM);
    if (show->settings.line) {
        message->payload = ind_answers_payload(answers, message);
        (void)ind_line_write_template(show->settings.line, message, &show->clock, &out);
    } else {
        (void)ind_line_write(show->settings.layout, message, &show->line_clock, &out);
    }
    out.length -= out.length > 0; /* its end */
    put_line(show, ind_buffer_view(&out));
}

/* ---- What was shown already ---- */

static bool read_message(struct ind_follow_show *show, struct ind_slice line, struct ind_message *message)
{
    struct ind_slice bytes;
    return ind_line_reader_read(show->reader, IND_LAYOUT_JSON, line, message, &bytes);
}

/* Of what tells a message from others: not all layouts of the store hold all of it. */
static uint64_t hash_of(const struct ind_message *message)
{
    struct ind_once_mark mark;
    ind_once_mark(message, 0, &mark);
    return mark.message[0] ^ (uint64_t)message->time / 1000 * UINT64_C(0x9E3779B97F4A7C15);
}

/* One of them, which is then forgotten: it may come once more. */
static bool take_earlier(struct ind_follow_show *show, uint64_t hash)
{
    for (size_t i = show->earlier_count; i-- > 0;)
        if (show->earlier[i] == hash) {
            show->earlier[i] = show->earlier[--show->earlier_count];
            return true;
        }
    return false;
}

static void note_earlier(struct ind_follow_show *show, uint64_t hash)
{
    const size_t used = show->earlier_count;
    if ((used & (used - 1)) == 0) {
        uint64_t *grown = realloc(show->earlier, (used ? 2 * used : 1) * sizeof *grown);
        if (!grown)
            return;
        show->earlier = grown;
    }
    show->earlier[show->earlier_count++] = hash;
}

/* What a line is known by when it comes again; false where that cannot be told. */
static bool identify(struct ind_follow_show *show, struct ind_slice line, const struct ind_message *parsed,
                     uint64_t *hash)
{
    struct ind_message message;
    struct ind_slice bytes;
    const struct ind_template *template = show->settings.line;
    const enum ind_layout layout = show->settings.layout;
    const bool readable = !template && (layout == IND_LAYOUT_PLAIN || layout == IND_LAYOUT_JSON);
    if (!parsed && readable && ind_line_reader_read(show->reader, (int)layout, line, &message, &bytes))
        parsed = &message;
    const struct ind_message whole = {.text = line, .time = 0};
    *hash = hash_of(parsed ? parsed : &whole);
    return parsed || (template && ind_template_has(template, IND_PUT_TIME)) ||
           (!template && layout == IND_LAYOUT_RFC5424);
}

static void show_line(struct ind_follow_show *show, struct ind_slice line, bool earlier)
{
    struct ind_message message;
    uint64_t hash;
    const bool parsed = show->parses && read_message(show, line, &message);
    if (show->parses && !parsed)
        return; /* none of ours */
    if ((earlier || show->earlier_count) && identify(show, line, parsed ? &message : NULL, &hash)) {
        if (earlier)
            note_earlier(show, hash);
        else if (take_earlier(show, hash))
            return;
    }
    if (parsed)
        show_message(show, &message);
    else
        put_line(show, line);
    show->shown += !earlier;
}

void ind_follow_show_line(struct ind_follow_show *show, struct ind_slice line)
{
    show_line(show, line, false);
}

void ind_follow_show_earlier(struct ind_follow_show *show, struct ind_slice line)
{
    if (line.length && line.at[line.length - 1] == '\n')
        line.length--;
    show_line(show, line, true);
}

void ind_follow_show_skipped(struct ind_follow_show *show, const char *number)
{
    show->skipped += strtoull(number, NULL, 10);
    if (!show->settings.by_count)
        ind_complain(
            "%s messages were skipped: they come faster than they can be shown; a narrower --when helps",
            number);
}

/* ---- Counts ---- */

static void draw(struct ind_follow_show *show, bool end)
{
    static const struct ind_search_options plain = {0};
    struct ind_search_result result = {0};
    char number[2][32], since[40];
    struct ind_buffer time = ind_buffer_on(since, sizeof since - 1);
    const size_t rows = ind_terminal_rows();
    show->settings.top = end || rows < 8 ? 0 : rows - 5;
    ind_groups_list(&show->groups, &show->settings, &result);
    result.found = 0;
    for (size_t i = 0; i < result.all_groups; i++)
        result.found += result.groups[i]->count;
    ind_zone_write_time(show->settings.times, show->began, &time);
    since[time.length < 19 ? time.length : 19] = '\0';
    if (ind_goes_to_terminal(stdout)) {
        if (!end)
            printf(IND_CLEAR_SCREEN);
        printf("since %s: %s messages%s%s%s\n", since, ind_grouped(result.found, number[0]),
               show->skipped ? ", and " : "", show->skipped ? ind_grouped(show->skipped, number[1]) : "",
               show->skipped ? " that were skipped, since they come too fast" : "");
    } else if (show->skipped) {
        ind_complain("%llu messages were skipped: they come faster than they can be counted",
                     (unsigned long long)show->skipped);
    }
    struct ind_search_options options = plain;
    options.json = show->settings.layout == IND_LAYOUT_JSON;
    ind_search_print_groups(&result, &show->settings, &options, stdout);
    show->failed |= fflush(stdout) != 0;
    free(result.groups);
}

void ind_follow_show_counts(struct ind_follow_show *show, bool end)
{
    const struct ind_steady now = ind_steady_now();
    const bool due = show->changed && ind_steady_from(show->drawn, now) >= IND_SECOND;
    if (!show->settings.by_count || !(end || (due && ind_goes_to_terminal(stdout))))
        return;
    draw(show, end);
    show->drawn = now;
    show->changed = false;
}
