#include "trial/alerts_trial.h"

#include <stdio.h>
#include <stdlib.h>
#include <uthash.h>

/* Of all trials together; MEMORY: as a collector has. */
enum { MOST_NOTES = 1 << 20, MEMORY = 64 << 20 };

/* Those of one alert, key and second. */
struct note {
    UT_hash_handle hh;
    ind_time time, last;
    uint64_t count;
    uint16_t test_of; /* the alert */
    bool ends;
    size_t length; /* of what follows: the alert, whether it ends it, the second, and the key */
    char what[];
};

struct ind_alert_trial {
    const struct ind_config *config;
    struct ind_answers *answers;
    struct ind_alerting alerting;
    struct note *notes;
    size_t count;
    uint64_t left_out;
};

struct head {
    int64_t second;
    uint16_t alert;
    uint8_t ends;
};

struct ind_alert_trial *ind_alert_trial_new(const struct ind_config *config, struct ind_answers *answers)
{
    struct ind_alert_trial *trial = calloc(1, sizeof *trial);
    if (!trial)
        return NULL;
    trial->config = config;
    trial->answers = answers;
    if (ind_alerting_begin(&trial->alerting, config, answers))
        return trial;
    ind_alert_trial_free(trial);
    return NULL;
}

void ind_alert_trial_free(struct ind_alert_trial *trial)
{
    struct note *note, *next;
    if (!trial)
        return;
    HASH_ITER(hh, trial->notes, note, next)
    {
        HASH_DEL(trial->notes, note);
        free(note);
    }
    ind_alerting_end(&trial->alerting);
    free(trial);
}

/* ---- Noting ---- */

static struct ind_slice key_of(const struct note *note)
{
    return (struct ind_slice){note->what + sizeof(struct head), note->length - sizeof(struct head)};
}

static void add_note(struct ind_alert_trial *trial, const char *what, size_t length, const struct head *head,
                     ind_time time)
{
    struct note *note = trial->count < MOST_NOTES ? calloc(1, sizeof *note + length) : NULL;
    if (!note) {
        trial->left_out++;
        return;
    }
    note->time = note->last = time;
    note->count = 1;
    note->test_of = head->alert;
    note->ends = head->ends != 0;
    note->length = length;
    memcpy(note->what, what, length);
    HASH_ADD(hh, trial->notes, what, length, note);
    if (!note->hh.tbl) {
        free(note);
        trial->left_out++;
        return;
    }
    trial->count++;
}

static bool note_cause(void *context, const struct ind_alert_rule *rule, const struct ind_alert_cause *cause)
{
    struct ind_alert_trial *trial = context;
    char what[sizeof(struct head) + IND_ALERT_KEY];
    struct head head;
    struct note *note;
    memset(&head, 0, sizeof head); /* also what lies between its members: it is compared */
    head.second = ind_time_seconds(cause->time);
    head.alert = (uint16_t)(rule - trial->config->alerts.list);
    head.ends = cause->ends;
    memcpy(what, &head, sizeof head);
    if (cause->key.length)
        memcpy(what + sizeof head, cause->key.at, cause->key.length);
    const size_t length = sizeof head + cause->key.length;
    HASH_FIND(hh, trial->notes, what, (unsigned)length, note);
    if (!note) {
        add_note(trial, what, length, &head, cause->time);
        return false;
    }
    note->count++;
    note->time = cause->time < note->time ? cause->time : note->time;
    note->last = cause->time > note->last ? cause->time : note->last;
    return false;
}

void ind_alert_trial_note(struct ind_alert_trial *trial, const struct ind_message *message,
                          struct ind_answers *answers)
{
    const struct ind_alerting_call call = {note_cause, NULL, trial};
    struct ind_message copy = *message;
    if (trial->alerting.concerned)
        ind_alerting_look(&trial->alerting, &copy, answers, &call);
}

/* ---- Playing ---- */

struct playing {
    const struct ind_config *config;
    struct ind_alerts *alerts;
    struct ind_raised_alerts *raised;
    bool out_of_memory;
    struct ind_clocks now;
    /* Before `due` nothing happens by itself; `shortest`: what a message may bring about, at the soonest. */
    struct ind_steady due;
    int64_t shortest;
};

static void add_raised(struct playing *playing, const struct ind_alert *alert, ind_time opened)
{
    struct ind_raised_alerts *raised = playing->raised;
    if (raised->count == IND_MOST_RAISED) {
        raised->left_out++;
        return;
    }
    if ((raised->count & (raised->count - 1)) == 0) {
        struct ind_raised_alert *grown =
            realloc(raised->list, (raised->count ? 2 * raised->count : 1) * sizeof *grown);
        if (!grown) {
            playing->out_of_memory = true;
            return;
        }
        raised->list = grown;
    }
    struct ind_raised_alert *one = &raised->list[raised->count++];
    *one = (struct ind_raised_alert){.rule = ind_config_alert(playing->config, alert->rule->name),
                                     .number = alert->number,
                                     .messages = alert->count,
                                     .opened = opened,
                                     .over = IND_TIME_NONE};
    snprintf(one->key, sizeof one->key, "%s", alert->key);
}

static struct ind_raised_alert *raised_of(const struct playing *playing, uint64_t number)
{
    for (size_t i = playing->raised->count; i-- > 0;)
        if (playing->raised->list[i].number == number)
            return &playing->raised->list[i];
    return NULL;
}

static void happened(void *context, enum ind_alert_event event, const struct ind_alert *alert,
                     struct ind_clocks now)
{
    struct playing *playing = context;
    if (event == IND_ALERT_OPENED) {
        add_raised(playing, alert, now.wall);
        return;
    }
    struct ind_raised_alert *one = raised_of(playing, alert->number);
    if (!one)
        return;
    one->messages = alert->count;
    one->over = event == IND_ALERT_OVER ? now.wall : IND_TIME_NONE;
    one->reopened += event == IND_ALERT_REOPENED;
}

static void count_open(void *context, const struct ind_alert *alert)
{
    struct ind_raised_alert *one = raised_of(context, alert->number);
    if (one)
        one->messages = alert->count;
}

/* The steady clock goes as the times of messages do. */
static struct ind_clocks moment_of(ind_time time)
{
    return (struct ind_clocks){time, {time > 0 ? time : 1}};
}

/* What happens because nothing does has a time of its own. */
static void go_on_to(struct playing *playing, ind_time time)
{
    const struct ind_clocks to = moment_of(time);
    while (playing->due.ns <= to.steady.ns) {
        playing->now = moment_of(playing->due.ns);
        ind_alerts_tick(playing->alerts, playing->now);
        playing->due = ind_alerts_next(playing->alerts, playing->now.steady);
    }
    playing->now = to.steady.ns > playing->now.steady.ns ? to : playing->now;
}

static void hear(struct playing *playing, const struct ind_alert_cause *cause)
{
    const struct ind_steady soonest = ind_steady_after(playing->now.steady, playing->shortest);
    ind_alerts_hear(playing->alerts, cause, playing->now);
    playing->due = soonest.ns < playing->due.ns ? soonest : playing->due;
}

static void shorten(int64_t *shortest, int64_t span)
{
    if (span > 0 && span < *shortest)
        *shortest = span;
}

static int64_t shortest_of(const struct ind_config *config)
{
    int64_t shortest = 3600 * IND_SECOND;
    for (size_t i = 0; i < config->alerts.count; i++) {
        const struct ind_alert_rule *rule = &config->alerts.list[i];
        shorten(&shortest, rule->kind == IND_ALERT_FEWER ? rule->span / IND_ALERT_PARTS : rule->span);
        shorten(&shortest, rule->quiet);
        shorten(&shortest, rule->remind);
    }
    return shortest > 0 ? shortest : 1;
}

static void watch(void *context, struct ind_slice alert, struct ind_slice key)
{
    const struct playing *playing = context;
    ind_alerts_watch(playing->alerts, alert, key, IND_TIME_NONE, playing->now);
}

static int by_time(const void *a, const void *b)
{
    const struct note *x = *(const struct note *const *)a, *y = *(const struct note *const *)b;
    if (x->time != y->time)
        return x->time < y->time ? -1 : 1;
    if (x->test_of != y->test_of)
        return x->test_of < y->test_of ? -1 : 1;
    return x->ends != y->ends ? x->ends - y->ends : ind_slice_compare(key_of(x), key_of(y));
}

static void play(struct playing *playing, struct ind_alert_trial *trial, struct note **notes, size_t count)
{
    playing->now = moment_of(count ? notes[0]->time : 0);
    if (!ind_alerts_adopt(playing->alerts, playing->config->alerts.list, playing->config->alerts.count,
                          playing->now)) {
        playing->out_of_memory = true;
        return;
    }
    ind_alerting_configured(&trial->alerting, trial->answers, watch, playing);
    playing->shortest = shortest_of(playing->config);
    playing->due = ind_alerts_next(playing->alerts, playing->now.steady);
    for (size_t i = 0; i < count; i++) {
        const struct note *note = notes[i];
        const struct ind_alert_cause cause = {
            .alert = ind_slice_of(playing->config->alerts.list[note->test_of].name),
            .key = key_of(note),
            .ends = note->ends,
            .count = note->count,
            .time = note->time,
            .last = note->last};
        go_on_to(playing, note->time);
        hear(playing, &cause);
    }
    if (count)
        go_on_to(playing, notes[count - 1]->last);
    ind_alerts_visit(playing->alerts, false, count_open, playing);
}

bool ind_alert_trials_play(struct ind_alert_trial *const *trials, size_t count,
                           struct ind_raised_alerts *raised)
{
    size_t all = 0, at = 0;
    struct note *note, *next;
    struct playing playing = {.config = trials[0]->config, .raised = raised};
    const struct ind_alerts_settings settings = {.memory = MEMORY, .happened = happened, .context = &playing};
    for (size_t i = 0; i < count; i++) {
        all += trials[i]->count;
        raised->left_out += trials[i]->left_out;
    }
    struct note **notes = calloc(all + 1, sizeof(struct note *));
    playing.alerts = ind_alerts_new(&settings);
    if (notes && playing.alerts) {
        for (size_t i = 0; i < count; i++) {
            HASH_ITER(hh, trials[i]->notes, note, next)
            {
                notes[at++] = note;
            }
        }
        qsort(notes, all, sizeof(struct note *), by_time);
        play(&playing, trials[0], notes, all);
    }
    const bool good = notes && playing.alerts && !playing.out_of_memory;
    free(notes);
    ind_alerts_free(playing.alerts);
    return good;
}

void ind_raised_alerts_free(struct ind_raised_alerts *raised)
{
    free(raised->list);
    *raised = (struct ind_raised_alerts){0};
}
