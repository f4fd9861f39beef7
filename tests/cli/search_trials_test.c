/* Random questions put to random stores: the program against a reader so simple that it can hardly be wrong.
 * It unpacks each file with the ordinary tools, reads it from front to back, keeps what the condition holds
 * for, and puts that in order. IND_ALL=1: many more. */
#define _GNU_SOURCE
#include "support/archives.h"
#include "support/odd.h"
#include "support/random.h"

#include "core/base/escape.h"
#include "core/line/template.h"
#include "core/message/device.h"
#include "core/message/header.h"
#include "store/disk/line_reader.h"
#include "store/search/columns.h"
#include <fcntl.h>
#include <glob.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { BATCHES = 4, BATCH = 700, PARTS = 7 };

static uint64_t random_state;

static unsigned below(unsigned limit)
{
    return ind_random(&random_state, 100003) % limit; /* the lowest bits of neighbours are alike */
}

/* ---- A store ---- */

static const char config_text[] =
    "store: log\nstate: state\nzone: Europe/Lisbon\ndomain: skerry.example\n"
    "devices:\n  - {name: pier3-rtr, address: [192.0.2.3], labels: {site: pier}}\n"
    "  - {name: hq-fw, address: [192.0.2.4], labels: {site: hq}}\n"
    "conditions:\n  loud: severity at least warning\n"
    "archives:\n  default: {rotate: every month, compress: zstd}\n  gz: {rotate: every month, compress: "
    "gzip}\n"
    "  plain: {rotate: every month, compress: none}\n"
    "routes:\n  - {name: p, file: plain.log}\n  - {name: j, file: json.log, layout: json}\n"
    "  - {name: r, file: rfc5424.log, layout: rfc5424, archive: plain}\n"
    "  - {name: w, file: raw.log, layout: raw, archive: gz}\n"
    "  - {name: t, file: template.log, layout: \"{time} {text}\"}\n"
    "  - {name: n, file: un.log, archive: plain}\n";

static const char *const odd[] = {IND_ODD_PIECES};
static const char *const devices[] = {
    "pier3-rtr", "pier3-rtr.skerry.example", "hq-fw", "mv-auk-ap1", "192.0.2.9", "Pier4-SW"};
static const char *const words[] = {"link",   "down", "DENY", "accepted", "203.0.113.7", "203.0.113.70",
                                    "ge0/24", "port", "22",   "2222",     "of",          "user-x"};

/* Times that mostly go forward, by a day over all, and now and then are of another day. */
static void put_message(FILE *out, unsigned number)
{
    const unsigned minutes = number * 1440 * 3 / (BATCHES * BATCH) + (below(30) ? 0 : below(4000));
    fprintf(out, "<%u>1 2026-11-%02uT%02u:%02u:%02u.%06uZ %s ", below(192), 20 + minutes / 1440,
            minutes / 60 % 24, minutes % 60, below(60), below(3) ? below(1000000) : 0, devices[below(6)]);
    if (below(6))
        fprintf(out, "app%u %u ID%u ", below(6), below(9), below(30));
    else
        fputs("- - - ", out);
    if (below(4))
        fputs("- ", out);
    else
        fprintf(out, "[x@32473 a=\"%u\" b=\"q\\\"%u\"] ", below(5), below(9));
    for (unsigned i = below(7); i > 0; i--)
        fprintf(out, "%s%s", words[below(12)], below(6) ? " " : "");
    if (below(4) == 0)
        fprintf(out, "SRC=203.0.113.%u DPT=%u ", below(20), below(5));
    for (unsigned i = below(5) ? 0 : below(5); i > 0; i--) {
        const char *piece = odd[below(sizeof odd / sizeof *odd)];
        if (!strchr(piece, '\n'))
            fputs(piece, out);
    }
    fprintf(out, "#%u\n", number);
}

static void make_store(void)
{
    ind_write_file(ind_path(folder, "indagator.yaml"), config_text);
    for (unsigned batch = 0; batch < BATCHES; batch++) {
        FILE *out = fopen(ind_path(folder, "in"), "w");
        assert_non_null(out);
        for (unsigned i = 0; i < BATCH; i++)
            put_message(out, batch * BATCH + i);
        fclose(out);
        run(IND_PROGRAM " collect --from in");
        if (batch + 1 < BATCHES)
            run(IND_PROGRAM " rotate");
    }
    /* What somebody has put there. */
    run("printf '2026-11-21T01:02:03.000000Z nonsense link\\nno time at all: link down\\n"
        "2026-11-22T01:02:03.000000Z 0.1 x\\n\\n\\r\\n' >>log/plain.log");
}

static void damage(const char *pattern)
{
    glob_t found;
    assert_int_equal(glob(ind_path(folder, pattern), 0, NULL, &found), 0);
    const int file = open(found.gl_pathv[0], O_RDWR);
    const off_t size = lseek(file, 0, SEEK_END);
    assert_int_equal(pwrite(file, "x", 1, size - 40), 1);
    close(file);
    globfree(&found);
}

/* ---- The simple reader ---- */

struct answer {
    ind_time time;
    size_t order;
    char *line;
    char device[804], severity[16];
    bool found;
    bool given; /* with --context */
};

struct answers {
    struct answer *list;
    size_t count;
};

struct question {
    char when[900], span[300];
    ind_time since, until;
};

struct simple {
    struct ind_loaded loaded;
    struct ind_conditions *set;
    ind_condition when;
    struct ind_answers asked;
    struct ind_line_reader *reader;
    struct ind_template layout;
    const struct question *question;
    struct answers answers;
    /* The file at hand. */
    int stored;
    ind_time modified, last;
};

static const char layout_text[] = "{time} {device} {facility} {severity} {app} {text}";

static const struct {
    const char *name;
    int stored;
} kinds[] = {{"plain", IND_LAYOUT_PLAIN}, {"json", IND_LAYOUT_JSON},         {"rfc5424", IND_LAYOUT_RFC5424},
             {"raw", IND_LAYOUT_RAW},     {"template", IND_STORED_TEMPLATE}, {"un", IND_LAYOUT_PLAIN}};

static bool is_self_timed(int stored)
{
    return stored == IND_LAYOUT_PLAIN || stored == IND_LAYOUT_JSON || stored == IND_LAYOUT_RFC5424;
}

static void read_message(struct simple *simple, struct ind_slice line, struct ind_message *message,
                         char *scratch)
{
    const struct ind_config *config = simple->loaded.config;
    struct ind_slice bytes;
    if (ind_line_reader_read(simple->reader, simple->stored, line, message, &bytes)) {
        message->original = IND_NOTHING;
        return;
    }
    const struct ind_header_context context = {
        .devices = config->devices, .reference = simple->modified, .zone = config->zone, .scratch = scratch};
    size_t width;
    ind_header_read_with_device(&context, bytes, message);
    message->time = message->sent != IND_TIME_NONE                                    ? message->sent
                    : simple->last != IND_TIME_NONE && !is_self_timed(simple->stored) ? simple->last
                                                                                      : simple->modified;
    if (simple->stored == IND_LAYOUT_PLAIN && ind_line_plain_time(line, &width) != IND_TIME_NONE)
        message->time = ind_line_plain_time(line, &width);
}

static void take_line(struct simple *simple, struct ind_slice line)
{
    static char scratch[IND_DEVICE_SCRATCH], room[IND_LINE_MOST];
    struct ind_message message;
    struct ind_path_clock clock = {.zone = simple->loaded.config->zone};
    if (line.length && line.at[line.length - 1] == '\r')
        line.length--;
    if (line.length == 0)
        return;
    read_message(simple, line, &message, scratch);
    simple->last = message.time;
    if (!message.configured)
        message.configured = ind_devices_by_name(simple->loaded.config->devices, message.device);
    ind_answers_next(&simple->asked);
    if ((simple->question->since != IND_TIME_NONE && message.time < simple->question->since) ||
        (simple->question->until != IND_TIME_NONE && message.time >= simple->question->until))
        return;
    const bool found = ind_condition_holds(simple->set, simple->when, &message, &simple->asked);
    struct ind_buffer out = ind_buffer_on(room, sizeof room);
    (void)ind_line_write_template(&simple->layout, &message, &clock, &out);
    struct answers *answers = &simple->answers;
    if ((answers->count & (answers->count - 1)) == 0)
        answers->list =
            realloc(answers->list, (answers->count ? 2 * answers->count : 1) * sizeof *answers->list);
    struct answer *answer = &answers->list[answers->count];
    *answer = (struct answer){message.time, answers->count, strndup(room, out.length), "", "", found, false};
    struct ind_buffer name = ind_buffer_on(answer->device, sizeof answer->device - 1);
    if (message.device.length > 200)
        message.device.length = 200;
    ind_escape_text(&name, message.device);
    snprintf(answer->severity, sizeof answer->severity, "%s", ind_severity_name(message.severity).at);
    answers->count++;
}

static void take_file(struct simple *simple, const char *path)
{
    struct stat facts;
    size_t length;
    const char *name = strrchr(path, '/') + 1;
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)
        if (strncmp(name, kinds[i].name, strlen(kinds[i].name)) == 0)
            simple->stored = kinds[i].stored;
    assert_int_equal(stat(path, &facts), 0);
    simple->modified = (ind_time)facts.st_mtim.tv_sec * IND_SECOND;
    simple->last = IND_TIME_NONE;
    struct ind_ran ran =
        ind_shell(folder, "case %s in *.zst) zstd -dcq %s;; *.gz) gzip -dc %s;; *) cat %s;; esac >text", path,
                  path, path, path);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    char *text = ind_read_file(ind_path(folder, "text"), &length);
    struct ind_slice rest = {text, length}, line;
    while (ind_slice_line(&rest, &line))
        take_line(simple, line);
    free(text);
}

static int by_time(const void *left, const void *right)
{
    const struct answer *a = left, *b = right;
    return a->time != b->time ? (a->time < b->time ? -1 : 1) : a->order < b->order ? -1 : 1;
}

static int by_plain_path(const void *left, const void *right)
{
    const char *a = *(char *const *)left, *b = *(char *const *)right;
    const char *end_a = strstr(a, ".log"), *end_b = strstr(b, ".log");
    const bool live_a = !memchr(strrchr(a, '/'), '-', (size_t)(end_a - strrchr(a, '/'))),
               live_b = !memchr(strrchr(b, '/'), '-', (size_t)(end_b - strrchr(b, '/')));
    char name_a[500], name_b[500];
    if (live_a != live_b)
        return live_a ? 1 : -1;
    snprintf(name_a, sizeof name_a, "%.*s.log", (int)(end_a - a), a);
    snprintf(name_b, sizeof name_b, "%.*s.log", (int)(end_b - b), b);
    return strcmp(name_a, name_b);
}

static struct answers ask_simply(const struct question *question)
{
    struct simple simple = {.question = question, .reader = ind_line_reader_new()};
    struct ind_mistake mistake = {0};
    glob_t found;
    ind_config_load(ind_path(folder, "indagator.yaml"), &simple.loaded);
    assert_non_null(simple.loaded.config);
    if (!ind_config_condition(simple.loaded.config, ind_slice_of(question->when), &simple.set, &simple.when,
                              &mistake))
        fail_msg("%s: %s", question->when, mistake.text);
    assert_true(ind_answers_begin(&simple.asked, simple.set));
    assert_true(ind_template_read(ind_slice_of(layout_text), IND_TEMPLATE_LINE, &simple.layout, &mistake));
    assert_int_equal(glob(ind_path(folder, "log/*.log*"), 0, NULL, &found), 0);
    qsort(found.gl_pathv, found.gl_pathc, sizeof(char *), by_plain_path);
    for (size_t i = 0; i < found.gl_pathc; i++)
        take_file(&simple, found.gl_pathv[i]);
    qsort(simple.answers.list, simple.answers.count, sizeof *simple.answers.list, by_time);
    globfree(&found);
    ind_answers_free(&simple.asked);
    ind_conditions_free(simple.set);
    ind_line_reader_free(simple.reader);
    ind_loaded_free(&simple.loaded);
    return simple.answers;
}

static void free_answers(struct answers *answers)
{
    for (size_t i = 0; i < answers->count; i++)
        free(answers->list[i].line);
    free(answers->list);
}

/* ---- Questions ---- */

static void any_test(char *to, size_t room)
{
    static const char *const severities[] = {"emergency", "error", "warning", "info", "debug"};
    const char *word = words[below(12)], *word2 = words[below(12)];
    switch (below(22)) {
    case 0:
        snprintf(to, room, "severity is %u", below(8));
        break;
    case 1:
        snprintf(to, room, "severity at %s %s", below(2) ? "least" : "most", severities[below(5)]);
        break;
    case 2:
        snprintf(to, room, "facility in (local%u, %u)", below(8), below(24));
        break;
    case 3:
        snprintf(to, room, "device is \"%s\"", devices[below(6)]);
        break;
    case 4:
        snprintf(to, room, "device %s \"%s\"%s", below(2) ? "contains" : "starts with",
                 below(2) ? "pier" : "hq-", below(2) ? " ignoring case" : "");
        break;
    case 5:
        snprintf(to, room, "host is \"%s\"", devices[below(6)]);
        break;
    case 6:
        snprintf(to, room, "app is \"app%u\"", below(8));
        break;
    case 7:
        snprintf(to, room, "msgid is \"ID%u\"", below(40));
        break;
    case 8:
    case 9:
        snprintf(to, room, "text contains \"%s %s\"%s", word, word2, below(3) ? "" : " ignoring case");
        break;
    case 10:
        snprintf(to, room, "text mentions \"%s\"", word);
        break;
    case 11:
        snprintf(to, room, "text mentions \"%s %s\"", word, word2);
        break;
    case 12:
        snprintf(to, room, "text starts with \"%s\"", word);
        break;
    case 13:
        snprintf(to, room, "text ends with \"#%u\"", below(BATCHES * BATCH));
        break;
    case 14:
        snprintf(to, room, "text matches \"%c.*%u$\"", "ldpo"[below(4)], below(10));
        break;
    case 15:
        snprintf(to, room, "data x@32473 a is \"%u\"", below(6));
        break;
    case 16:
        snprintf(to, room, "field SRC is \"203.0.113.%u\"", below(20));
        break;
    case 17:
        snprintf(to, room, "label site is \"%s\"", below(2) ? "pier" : "hq");
        break;
    case 18:
        snprintf(to, room, "time within %02u:00-%02u:30", below(24), below(24));
        break;
    case 19:
        snprintf(to, room, "day is %s", below(2) ? "sat" : "fri");
        break;
    case 20:
        snprintf(to, room, "loud");
        break;
    default:
        snprintf(to, room, "procid is \"%u\"", below(10));
        break;
    }
}

static void any_question(struct question *question)
{
    size_t length = 0;
    *question = (struct question){.since = IND_TIME_NONE, .until = IND_TIME_NONE};
    for (unsigned i = below(4); i > 0; i--) {
        char test[200];
        any_test(test, sizeof test);
        if (length)
            length += (size_t)sprintf(question->when + length, " %s ", below(2) ? "and" : "or");
        length += (size_t)sprintf(question->when + length, "%s(%s)", below(5) ? "" : "not ", test);
    }
    if (below(2)) {
        const unsigned minutes = below(4000), span = below(5) ? below(300) : 1;
        const ind_time begin = (ind_days_from_civil(2026, 11, 20) * 1440 + minutes) * 60 * IND_SECOND;
        question->since = begin;
        question->until = begin + (ind_time)(span + 1) * 60 * IND_SECOND;
        sprintf(question->span, "--since 2026-11-%02uT%02u:%02u:00Z --until 2026-11-%02uT%02u:%02u:00Z",
                20 + minutes / 1440, minutes / 60 % 24, minutes % 60, 20 + (minutes + span + 1) / 1440,
                (minutes + span + 1) / 60 % 24, (minutes + span + 1) % 60);
    }
}

/* Those that were found. */
static size_t find_answers(const struct answers *all, struct answers *found)
{
    *found = (struct answers){malloc((all->count + 1) * sizeof *found->list), 0};
    for (size_t i = 0; i < all->count; i++)
        if (all->list[i].found)
            found->list[found->count++] = all->list[i];
    return found->count;
}

/* Before each that is found the last `number` of its device that were not given, then it, and as many behind.
 */
static void write_context(const struct answers *all, unsigned number)
{
    FILE *out = fopen(ind_path(folder, "expected"), "w");
    for (size_t i = 0; i < all->count; i++) {
        struct answer *answer = &all->list[i];
        unsigned before = 0, since = 0;
        bool after = false;
        for (size_t b = i; b-- > 0 && since < number;) /* one that was found, not too far back */
            if (strcmp(all->list[b].device, answer->device) == 0) {
                after |= all->list[b].found;
                since++;
            }
        if (!answer->found && !after)
            continue;
        size_t from = i;
        for (size_t b = i; answer->found && b-- > 0 && before < number;)
            if (strcmp(all->list[b].device, answer->device) == 0) {
                from = b;
                before++;
            }
        for (size_t b = from; b <= i; b++)
            if (strcmp(all->list[b].device, answer->device) == 0 && !all->list[b].given) {
                fputs(all->list[b].line, out);
                all->list[b].given = true;
            }
    }
    fclose(out);
}

static void write_answers(const struct answers *answers, size_t from, size_t to, bool reverse)
{
    FILE *out = fopen(ind_path(folder, "expected"), "w");
    for (size_t i = from; i < to; i++)
        fputs(answers->list[reverse ? to - 1 - (i - from) : i].line, out);
    fclose(out);
}

struct group {
    const char *device, *severity;
    unsigned count;
};

static int most_first(const void *left, const void *right)
{
    const struct group *a = left, *b = right;
    int order = a->count != b->count ? (a->count > b->count ? -1 : 1) : strcmp(a->device, b->device);
    return order ? order : strcmp(a->severity, b->severity);
}

static void write_groups(const struct answers *answers)
{
    FILE *out = fopen(ind_path(folder, "expected"), "w");
    static struct group groups[5000];
    memset(groups, 0, sizeof groups);
    size_t count = 0;
    for (size_t i = 0; i < answers->count; i++) {
        size_t g = 0;
        while (g < count && (strcmp(groups[g].device, answers->list[i].device) != 0 ||
                             strcmp(groups[g].severity, answers->list[i].severity) != 0))
            g++;
        groups[g].device = answers->list[i].device;
        groups[g].severity = answers->list[i].severity;
        groups[g].count++;
        count += g == count;
    }
    qsort(groups, count, sizeof *groups, most_first);
    fputs("messages,device,severity\n", out);
    for (size_t i = 0; i < count; i++) {
        char room[2000];
        struct ind_buffer name = ind_buffer_on(room, sizeof room);
        ind_csv_write(&name, ind_slice_of(groups[i].device));
        fprintf(out, "%u,%.*s,%s\n", groups[i].count, (int)name.length, room, groups[i].severity);
    }
    fclose(out);
}

static void ask(const struct question *question, const struct answers *all)
{
    char form[100] = "";
    struct answers found, *answers = &found;
    const unsigned kind = below(7), number = 1 + below(40);
    const size_t count = find_answers(all, &found);
    bool lines = true;
    if (kind == 0) {
        write_answers(answers, 0, number < count ? number : count, false);
        snprintf(form, sizeof form, "--first %u", number);
    } else if (kind == 1) {
        write_answers(answers, number < count ? count - number : 0, count, false);
        snprintf(form, sizeof form, "--last %u", number);
    } else if (kind == 2) {
        write_answers(answers, 0, count, true);
        snprintf(form, sizeof form, "--reverse");
    } else if (kind == 3) {
        write_groups(answers);
        snprintf(form, sizeof form, "--by device,severity --csv --copies");
        lines = false;
    } else if (kind == 4) {
        write_context(all, 1 + number / 8);
        snprintf(form, sizeof form, "--context %u", 1 + number / 8);
    } else {
        write_answers(answers, 0, count, false);
    }
    struct ind_ran ran = ind_shell(
        folder, "%s search --when '%s' %s %s %s%s%s >got 2>told; code=$?; cmp got expected && exit $code",
        IND_PROGRAM, question->when, question->span, form, lines ? "--layout '" : "",
        lines ? layout_text : "", lines ? "'" : "");
    if (strlen(ran.out) || strlen(ran.err) || ran.status > 3)
        fail_msg("--when '%s' %s %s: %s%s", question->when, question->span, form, ran.out, ran.err);
    ind_ran_free(&ran);
    free(found.list);
}

static void questions(unsigned stores, unsigned each)
{
    for (unsigned s = 0; s < stores; s++) {
        random_state = IND_RANDOM_START + 977 * s;
        make_store();
        for (unsigned i = 0; i < each; i++) {
            struct question question;
            if (i == each / 2)
                damage(s % 2 ? "log/plain-*.zst" : "log/json-*.zst");
            any_question(&question);
            struct answers answers = ask_simply(&question);
            ask(&question, &answers);
            free_answers(&answers);
        }
        run("rm -rf log state");
    }
}

static void a_search_finds_what_the_simplest_reader_does(void **state)
{
    (void)state;
    if (getenv("IND_ALL"))
        questions(6, 80);
    else
        questions(1, 14);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_search_finds_what_the_simplest_reader_does, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
