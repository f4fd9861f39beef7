#include "collect/reporting/reporting.h"

#include "collect/reporting/due.h"
#include "collect/reporting/made.h"
#include "collect/runtime/priority.h"
#include "config/zones.h"
#include "report/html.h"
#include "store/disk/state_file.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define TELL_AGAIN (60 * IND_SECOND)
/* LOOK: milliseconds; PAUSE, LONGEST_PAUSE: seconds after a failure; MOST_PAGE: bytes that go by mail. */
enum { LOOK = 1000, PAUSE = 10, LONGEST_PAUSE = 600, MOST_PAGE = 8 << 20, PATH = 4400 };
#define FILE_NAME "reports.json"

/* A rule, with texts of its own. */
struct report {
    struct ind_report_rule rule;
    char *name, *folder, *mail, *when;
    ind_time delivered; /* the end of the span that was delivered last; IND_TIME_NONE: not known */
    unsigned failures;
    struct ind_steady failed, told;
};

struct rules {
    struct report *list;
    size_t count;
    struct ind_zone *zone; /* NULL: UTC */
    struct ind_mail mail;  /* its texts are its own */
};

struct ind_reporting {
    struct ind_reporting_settings settings;
    pthread_t thread;
    bool running;
    atomic_bool stop;
    struct ind_mutex mutex;
    struct ind_condition_variable bell;
    struct rules *next IND_GUARDED_BY(mutex); /* which the thread takes over */
    struct rules *rules;                      /* of the thread */
    json_t *done;                             /* likewise: by name, the end of what was delivered last */
};

/* ---- Rules ---- */

static char *copy_of(const char *text, bool *whole)
{
    char *copy = text ? strdup(text) : NULL;
    *whole &= !text || copy;
    return copy;
}

static void free_rules(struct rules *rules)
{
    if (!rules)
        return;
    for (size_t i = 0; i < rules->count; i++) {
        free(rules->list[i].name);
        free(rules->list[i].folder);
        free(rules->list[i].mail);
        free(rules->list[i].when);
    }
    free(rules->list);
    ind_zone_free(rules->zone);
    free((char *)(uintptr_t)rules->mail.server);
    free((char *)(uintptr_t)rules->mail.from);
    free((char *)(uintptr_t)rules->mail.login);
    free((char *)(uintptr_t)rules->mail.trust);
    free(rules);
}

static struct rules *copy_rules(const struct ind_config *config)
{
    struct rules *rules = calloc(1, sizeof *rules);
    bool whole = rules && (rules->list = calloc(config->report_count + 1, sizeof *rules->list));
    for (size_t i = 0; whole && i < config->report_count; i++) {
        const struct ind_report_rule *rule = &config->reports[i];
        struct report *report = &rules->list[rules->count++];
        *report = (struct report){.rule = *rule,
                                  .name = copy_of(rule->name, &whole),
                                  .folder = copy_of(rule->folder, &whole),
                                  .mail = copy_of(rule->mail, &whole),
                                  .when = copy_of(rule->when_text, &whole),
                                  .delivered = IND_TIME_NONE};
    }
    if (whole) {
        rules->mail = config->mail;
        rules->mail.server = copy_of(config->mail.server, &whole);
        rules->mail.from = copy_of(config->mail.from, &whole);
        rules->mail.login = copy_of(config->mail.login, &whole);
        rules->mail.trust = copy_of(config->mail.trust, &whole);
        rules->zone = config->zone_text ? ind_zone_named(config->zone_text) : ind_zone_of_machine();
    }
    if (whole)
        return rules;
    free_rules(rules);
    return NULL;
}

/* ---- What was delivered ---- */

static json_t *read_done(const struct ind_reporting_settings *settings)
{
    char path[PATH];
    json_error_t error;
    snprintf(path, sizeof path, "%s/" FILE_NAME, settings->state);
    const int file = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    json_t *done = file >= 0 ? json_loadfd(file, 0, &error) : NULL;
    if (file >= 0)
        close(file);
    if (json_is_object(done))
        return done;
    json_decref(done);
    if (file >= 0)
        ind_report(
            settings->reporter, IND_OWN_REPORT_FAILED, NULL,
            "%s is damaged: reports that were missed are not known; the next ones are made when their time "
            "comes",
            path);
    return json_object();
}

static bool write_done(const struct ind_reporting *reporting)
{
    char *text = json_dumps(reporting->done, JSON_INDENT(1));
    const bool good = text && ind_state_file_write(reporting->settings.state, FILE_NAME, text);
    free(text);
    return good;
}

static bool note_done(struct ind_reporting *reporting, struct report *report, ind_time until)
{
    char text[IND_TIME_WIDTH + 1];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_time_write(&out, until);
    report->delivered = until;
    json_object_set_new(reporting->done, report->name, json_stringn(text, out.length));
    return write_done(reporting);
}

static ind_time done_until(const struct ind_reporting *reporting, const char *name)
{
    const char *text = json_string_value(json_object_get(reporting->done, name));
    ind_time time;
    enum ind_time_style style;
    return text && ind_time_read(ind_slice_of(text), &time, &style) > 0 ? time : IND_TIME_NONE;
}

/* ---- One report ---- */

struct making {
    const struct ind_reporting *reporting;
    const struct report *report;
    char span[16], file[PATH], reason[300];
    char *said;
};

static bool make_folder(const char *path)
{
    return mkdir(path, 0750) == 0 || errno == EEXIST;
}

/* Into the folder of the rule, or below the state. */
static bool make(struct making *making)
{
    const struct ind_reporting_settings *settings = &making->reporting->settings;
    const struct report *report = making->report;
    char own[PATH];
    snprintf(own, sizeof own, "%s/reports", settings->state);
    const char *folder = report->folder ? report->folder : own;
    const int length = snprintf(making->file, sizeof making->file, "%s/%s%s%s.html", folder, report->name,
                                report->folder ? "-" : "", report->folder ? making->span : "");
    if (length < 0 || (size_t)length >= sizeof making->file) {
        snprintf(making->reason, sizeof making->reason, "the path of its folder is too long");
        return false;
    }
    if (!make_folder(folder)) {
        snprintf(making->reason, sizeof making->reason, "%.200s: %s", folder, strerror(errno));
        return false;
    }
    const char *words[16] = {settings->program ? settings->program : "/proc/self/exe",
                             "report",
                             "--for",
                             making->span,
                             "--html",
                             making->file};
    size_t count = 6;
    if (settings->config_path) {
        words[count++] = "-c";
        words[count++] = settings->config_path;
    }
    if (report->when) {
        words[count++] = "--when";
        words[count++] = report->when;
    }
    if (report->rule.quick)
        words[count++] = "--quick";
    (void)unlink(making->file);
    const int code = ind_report_call((char *const *)(uintptr_t)words, &making->reporting->stop, &making->said,
                                     making->reason, sizeof making->reason);
    if (code < 0)
        return false;
    /* Also of a span without a message, or with a file that could not be read, there is a page. */
    if (access(making->file, R_OK) == 0)
        return true;
    snprintf(making->reason, sizeof making->reason,
             "it ends with %d; call \"indagator report --for %s\" to see why", code, making->span);
    return false;
}

static char *read_page(const char *path)
{
    struct stat facts;
    const int file = open(path, O_RDONLY | O_CLOEXEC);
    char *text = NULL;
    if (file >= 0 && fstat(file, &facts) == 0 && facts.st_size > 0 && facts.st_size < MOST_PAGE &&
        (text = malloc((size_t)facts.st_size + 1))) {
        const ssize_t got = read(file, text, (size_t)facts.st_size);
        text[got > 0 ? got : 0] = '\0';
        if (got != facts.st_size) {
            free(text);
            text = NULL;
        }
    }
    if (file >= 0)
        close(file);
    return text;
}

/* What stands out, as text and as a page of its own: mail programs run no scripts. */
static char *page_of(const char *text)
{
    char *page = NULL;
    size_t size = 0;
    FILE *out = open_memstream(&page, &size);
    if (!out)
        return NULL;
    fputs("<!DOCTYPE html>\n<html><head><meta charset=\"utf-8\"></head><body><pre>", out);
    ind_html_put(text, out);
    fputs("</pre></body></html>\n", out);
    return fclose(out) == 0 ? page : NULL;
}

static char *format(const char *form, const char *a, const char *b)
{
    const size_t room = strlen(form) + strlen(a) + strlen(b) + 1;
    char *text = malloc(room);
    if (text)
        snprintf(text, room, form, a, b);
    return text;
}

static struct ind_parcel parcel_of(const struct making *making)
{
    const struct report *report = making->report;
    char *text = format(
        "%s\nThe page that goes with this has charts and all numbers; open it in a browser.\nMade by the "
        "collector on %s\n",
        making->said ? making->said : "", making->reporting->settings.host);
    return (struct ind_parcel){.kind = IND_TELL_MAIL,
                               .to = strdup(report->mail),
                               .subject = format("Report %s: %s", report->name, making->span),
                               .text = text,
                               .page = page_of(text ? text : ""),
                               .id = format("report.%s.%s", report->name, making->span),
                               .attachment = read_page(making->file),
                               .attached = format("%s-%s.html", report->name, making->span)};
}

static void pass_over(void *context)
{
    (void)context;
}

static void rest(struct ind_reporting *reporting, int milliseconds)
{
    const struct timespec deadline = ind_deadline(milliseconds);
    ind_mutex_lock(&reporting->mutex);
    while (!atomic_load(&reporting->stop) && !reporting->next &&
           ind_condition_variable_wait_until(&reporting->bell, &reporting->mutex, &deadline))
        ;
    ind_mutex_unlock(&reporting->mutex);
}

static bool send_mail(struct ind_reporting *reporting, struct making *making)
{
    const struct ind_courier_settings settings = {
        .host = reporting->settings.host, .mail = &reporting->rules->mail, .ended = pass_over};
    const struct ind_parcel parcel = parcel_of(making);
    bool delivered = false, ended = false;
    ind_courier_begin();
    struct ind_courier *courier = ind_courier_new(&settings);
    if (!courier) {
        ind_parcel_free(parcel);
        snprintf(making->reason, sizeof making->reason, "out of memory");
        return false;
    }
    ind_courier_send(courier, &parcel);
    while (!atomic_load(&reporting->stop) && !ended) {
        const struct timespec pause = {0, 50000000L};
        ended = ind_courier_has_ended(courier, &delivered, making->reason, sizeof making->reason);
        if (!ended)
            (void)nanosleep(&pause, NULL);
    }
    ind_courier_free(courier);
    return ended && delivered;
}

static void tell(struct ind_reporting *reporting, struct report *report, const struct making *making,
                 bool good, struct ind_steady now)
{
    if (good && ind_steady_is_set(report->told))
        ind_report(reporting->settings.reporter, IND_OWN_REPORT_WORKS, NULL,
                   "the report \"%s\" was made and delivered", report->name);
    if (good)
        report->told = IND_STEADY_NEVER;
    else if (!atomic_load(&reporting->stop) && !ind_steady_reported_lately(&report->told, now, TELL_AGAIN))
        ind_report(reporting->settings.reporter, IND_OWN_REPORT_FAILED, NULL,
                   "the report \"%s\" of %s is not delivered: %s; it is tried again", report->name,
                   making->span, making->reason);
}

static void deliver(struct ind_reporting *reporting, struct report *report,
                    const struct ind_report_span *span)
{
    struct making making = {.reporting = reporting, .report = report};
    ind_report_due_name(&report->rule, span, reporting->rules->zone, making.span);
    bool good = make(&making) && (!report->mail || send_mail(reporting, &making));
    if (good && !note_done(reporting, report, span->until)) {
        snprintf(making.reason, sizeof making.reason, "%s/" FILE_NAME " cannot be written",
                 reporting->settings.state);
        good = false;
    }
    const struct ind_steady now = ind_clock_read(reporting->settings.clock).steady;
    report->failures = good ? 0 : report->failures + 1;
    report->failed = now;
    tell(reporting, report, &making, good, now);
    free(making.said);
}

/* ---- The thread ---- */

static bool is_paused(const struct report *report, struct ind_steady now)
{
    int64_t pause = PAUSE;
    for (unsigned i = 1; i < report->failures && pause < LONGEST_PAUSE; i++)
        pause *= 2;
    pause = pause < LONGEST_PAUSE ? pause : LONGEST_PAUSE;
    return report->failures && ind_steady_lately(report->failed, now, pause * IND_SECOND);
}

/* A rule that is new begins with the span that is not over yet. */
static void look_at(struct ind_reporting *reporting, struct report *report)
{
    const struct ind_clocks now = ind_clock_read(reporting->settings.clock);
    struct ind_report_span span;
    if (!ind_report_due(&report->rule, now.wall, reporting->rules->zone, &span) ||
        is_paused(report, now.steady))
        return;
    if (report->delivered == IND_TIME_NONE)
        report->delivered = done_until(reporting, report->name);
    if (report->delivered == IND_TIME_NONE)
        (void)note_done(reporting, report, span.until);
    else if (report->delivered < span.until)
        deliver(reporting, report, &span);
}

static void take_over(struct ind_reporting *reporting)
{
    ind_mutex_lock(&reporting->mutex);
    struct rules *next = reporting->next;
    reporting->next = NULL;
    ind_mutex_unlock(&reporting->mutex);
    if (!next)
        return;
    free_rules(reporting->rules);
    reporting->rules = next;
}

static void *run(void *context)
{
    struct ind_reporting *reporting = context;
    ind_priority_yield_processor(); /* what it calls does so, too */
    ind_priority_yield_disk();
    reporting->done = read_done(&reporting->settings);
    while (!atomic_load(&reporting->stop)) {
        take_over(reporting);
        for (size_t i = 0; reporting->done && i < reporting->rules->count && !atomic_load(&reporting->stop);
             i++)
            look_at(reporting, &reporting->rules->list[i]);
        rest(reporting, LOOK);
    }
    json_decref(reporting->done);
    return NULL;
}

IND_NOT_SHARED struct ind_reporting *ind_reporting_new(const struct ind_reporting_settings *settings,
                                                       const struct ind_config *config)
{
    struct ind_reporting *reporting = calloc(1, sizeof *reporting);
    sigset_t all, before; /* signals are for the control thread alone */
    if (!reporting)
        return NULL;
    reporting->settings = *settings;
    ind_mutex_begin(&reporting->mutex);
    ind_condition_variable_begin(&reporting->bell);
    reporting->next = copy_rules(config);
    sigfillset(&all);
    pthread_sigmask(SIG_BLOCK, &all, &before);
    reporting->running = reporting->next && pthread_create(&reporting->thread, NULL, run, reporting) == 0;
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (reporting->running)
        return reporting;
    ind_reporting_free(reporting);
    return NULL;
}

bool ind_reporting_adopt(struct ind_reporting *reporting, const struct ind_config *config)
{
    struct rules *rules = copy_rules(config);
    if (!rules)
        return false;
    ind_mutex_lock(&reporting->mutex);
    struct rules *unused = reporting->next;
    reporting->next = rules;
    ind_condition_variable_signal(&reporting->bell);
    ind_mutex_unlock(&reporting->mutex);
    free_rules(unused);
    return true;
}

IND_NOT_SHARED void ind_reporting_free(struct ind_reporting *reporting)
{
    if (!reporting)
        return;
    ind_mutex_lock(&reporting->mutex);
    atomic_store(&reporting->stop, true);
    ind_condition_variable_signal(&reporting->bell);
    ind_mutex_unlock(&reporting->mutex);
    if (reporting->running)
        pthread_join(reporting->thread, NULL);
    free_rules(reporting->rules);
    free_rules(reporting->next);
    ind_condition_variable_end(&reporting->bell);
    ind_mutex_end(&reporting->mutex);
    free(reporting);
}
