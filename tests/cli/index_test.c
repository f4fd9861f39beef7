/* The index of archives that a collector made, frame by frame, against the frames' own text; and what is left
 * of an archive whose index is damaged. */
#define _GNU_SOURCE
#include "support/archives.h"
#include "support/random.h"

#include "core/line/line.h"
#include "store/disk/index_file.h"
#include "store/disk/line_reader.h"
#include <fcntl.h>
#include <glob.h>
#include <zstd.h>

enum { MESSAGES = 30000, FRAME = 2 << 20 };

static void make_store(void)
{
    uint64_t random = IND_RANDOM_START;
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    assert_non_null(file);
    ind_write_file(
        ind_path(folder, "indagator.yaml"),
        "store: log\nstate: state\nzone: UTC\narchives: {default: {rotate: every month}}\nroutes:\n"
        "  - {name: p, file: plain.log}\n  - {name: j, file: json.log, layout: json}\n"
        "  - {name: r, file: rfc5424.log, layout: rfc5424}\n  - {name: w, file: raw.log, layout: raw}\n"
        "  - {name: t, file: template.log, layout: \"{time} {text}\"}\n");
    for (unsigned i = 0; i < MESSAGES; i++)
        fprintf(file,
                "<%u>1 2026-11-%02uT%02u:%02u:%02u.%06uZ pier%u-rtr.skerry.example app%u - ID%u - from "
                "203.0.%u.%u port "
                "%u \\n \x1b[31m \"q\" \xC3\xA9 \xFF tab\t%x\n",
                ind_random(&random, 192), 1 + i / 5000, i / 1000 % 24, i / 20 % 60, i % 60, i,
                ind_random(&random, 300), ind_random(&random, 9), ind_random(&random, 4),
                ind_random(&random, 256), ind_random(&random, 256), ind_random(&random, 65536),
                ind_random(&random, 1u << 31));
    fclose(file);
    run(IND_PROGRAM " collect --from messages.log && " IND_PROGRAM " rotate");
}

static char *archive_path(const char *pattern, char path[500])
{
    glob_t found;
    assert_int_equal(glob(ind_path(folder, pattern), 0, NULL, &found), 0);
    assert_int_equal(found.gl_pathc, 1);
    snprintf(path, 500, "%s", found.gl_pathv[0]);
    globfree(&found);
    return path;
}

struct asking {
    const struct ind_index_frame *frame;
    bool may;
};

static void ask(void *context, uint64_t key)
{
    struct asking *asking = context;
    asking->may &= ind_index_has_key(asking->frame, key);
}

/* Every line of a frame is within what the index says of it. */
static void check_line(const struct ind_index *index, const struct ind_index_frame *frame, int stored,
                       struct ind_line_reader *reader, struct ind_slice line)
{
    struct ind_message message;
    struct ind_slice bytes;
    char scratch[4096];
    struct asking asking = {frame, true};
    if (!ind_line_reader_read(reader, stored, line, &message, &bytes)) {
        assert_false(frame->times_known || frame->keys_known || frame->pri_known || frame->devices_known);
        return;
    }
    assert_true(!frame->times_known || (frame->first <= message.time && message.time <= frame->last));
    assert_true(!frame->pri_known ||
                (frame->facilities >> message.facility & 1 && frame->severities >> message.severity & 1));
    assert_true(ind_index_has_device(index, frame, message.device));
    ind_index_keys(message.text, scratch, ask, &asking);
    if (!asking.may)
        fail_msg("the index says no of %.*s", IND_ARG(line));
}

static void check_archive(const char *pattern, int stored, bool times, bool devices, bool keys)
{
    char path[500], *bytes, *packed = malloc(FRAME), *text = malloc(FRAME);
    struct ind_index index;
    struct ind_line_reader *reader = ind_line_reader_new();
    const int file = open(archive_path(pattern, path), O_RDONLY);
    assert_true(ind_index_file_read(file, &index, &bytes));
    assert_true(index.frame_count > 1);
    assert_int_equal(index.lines, MESSAGES);
    for (uint32_t f = 0; f < index.frame_count; f++) {
        const struct ind_index_frame *frame = &index.frames[f];
        assert_true(frame->packed <= FRAME);
        assert_int_equal(pread(file, packed, frame->packed, (off_t)frame->offset), frame->packed);
        const size_t length = ZSTD_decompress(text, FRAME, packed, frame->packed);
        assert_int_equal(length, frame->text);
        assert_int_equal(frame->times_known, times);
        if (frame->text > FRAME / 4) { /* a short one may have no room for a filter */
            assert_int_equal(frame->devices_known, devices);
            assert_int_equal(frame->keys_known, keys);
        }
        uint32_t lines = 0;
        for (char *at = text, *end; at < text + length; at = end + 1, lines++) {
            end = memchr(at, '\n', (size_t)(text + length - at));
            assert_non_null(end);
            check_line(&index, frame, stored, reader, (struct ind_slice){at, (size_t)(end - at)});
        }
        assert_int_equal(lines, frame->lines);
    }
    ind_index_free(&index);
    ind_line_reader_free(reader);
    free(bytes);
    free(packed);
    free(text);
    close(file);
}

static void each_frame_holds_what_its_index_says(void **state)
{
    (void)state;
    make_store();
    check_archive("log/plain-*.zst", IND_LAYOUT_PLAIN, true, true, true);
    check_archive("log/json-*.zst", IND_LAYOUT_JSON, true, true, true);
    check_archive("log/rfc5424-*.zst", IND_LAYOUT_RFC5424, true, false, true);
    check_archive("log/raw-*.zst", IND_LAYOUT_RAW, false, false, false);
    check_archive("log/template-*.zst", -1, false, false, false);
    run("for f in log/*.zst; do zstd -tq $f || exit 1; done");
}

static void a_damaged_index_costs_no_answer(void **state)
{
    (void)state;
    char path[500], *bytes;
    struct ind_index index;
    make_store();
    run("rm log/json-* log/r* log/t*; " IND_PROGRAM " search --when 'text contains \"203.0.7\"' >before");
    const int file = open(archive_path("log/plain-*.zst", path), O_RDWR);
    const off_t size = lseek(file, 0, SEEK_END);
    for (int i = 0; i < 40; i++) { /* within the index, its wrap but for its length included */
        const off_t at = size - 1 - i * 17;
        char byte;
        assert_int_equal(pread(file, &byte, 1, at), 1);
        byte ^= 1;
        assert_int_equal(pwrite(file, &byte, 1, at), 1);
        assert_false(ind_index_file_read(file, &index, &bytes));
        byte ^= 1;
        assert_int_equal(pwrite(file, &byte, 1, at), 1);
    }
    assert_int_equal(pwrite(file, "x", 1, size - 100), 1);
    run(IND_PROGRAM " search --when 'text contains \"203.0.7\"' | cmp - before");
    run(IND_PROGRAM " archives verify plain");
    close(file);
    run("f=$(ls log/plain-*.zst); zstd -dcq $f | gzip >${f%.zst}.gz; rm $f"); /* by somebody else, without one
                                                                               */
    run(IND_PROGRAM " search --when 'text contains \"203.0.7\"' | cmp - before");
}

/* ---- Searches: the same with an index as without ---- */

/* Of what there is, and of what there is not; what an index can tell, and what it cannot. */
static void any_question(uint64_t *random, char *question, size_t room)
{
    char when[300], span[120] = "";
    const unsigned kind = ind_random(random, 10);
    if (kind == 0)
        snprintf(when, sizeof when, "severity is %u", ind_random(random, 8));
    else if (kind == 1)
        snprintf(when, sizeof when, "severity at least error and facility is local%u", ind_random(random, 8));
    else if (kind == 2)
        snprintf(when, sizeof when, "text contains \"from 203.0.%u.%u port %u\"", ind_random(random, 4),
                 ind_random(random, 256), ind_random(random, 256));
    else if (kind == 3)
        snprintf(when, sizeof when, "text contains \".%u.%u port \" or text contains \"port %u %cn\"",
                 ind_random(random, 4), ind_random(random, 256), ind_random(random, 256), '\\');
    else if (kind == 4)
        snprintf(when, sizeof when, "text mentions \"203.0.%u.%u\"", ind_random(random, 4),
                 ind_random(random, 256));
    else if (kind == 5)
        snprintf(when, sizeof when, "app is \"app%u\" and text contains \"port %u\"", ind_random(random, 12),
                 ind_random(random, 256));
    else if (kind == 6)
        snprintf(when, sizeof when, "not text contains \"port\" or msgid is \"ID%u\"",
                 ind_random(random, 70000));
    else if (kind == 7)
        snprintf(when, sizeof when, "host is \"pier%u-rtr\" and severity at least notice",
                 ind_random(random, 300));
    else if (kind == 8) /* words that go on at both ends */
        snprintf(when, sizeof when, "text contains \"rom 203.0.%u.%u por\"", ind_random(random, 4),
                 ind_random(random, 256));
    else
        snprintf(when, sizeof when, "text contains \"nobody.has.said.so\"");
    if (ind_random(random, 2)) {
        const unsigned day = 1 + ind_random(random, 7), hour = ind_random(random, 24);
        snprintf(span, sizeof span, "--since 2026-11-%02uT%02u:00:00Z --until 2026-11-%02uT%02u:%02u:00Z",
                 day, hour, day + ind_random(random, 2), hour, ind_random(random, 60));
    }
    snprintf(question, room, "--when '%s' %s", when, span);
}

static void an_index_changes_no_answer(void **state)
{
    (void)state;
    uint64_t random = IND_RANDOM_START + 5;
    size_t left_out = 0;
    make_store();
    /* The same archives, and no index. */
    run("rm log/t* log/raw*; mkdir plain && cp -a indagator.yaml state log plain/ && cd plain && for f in "
        "log/*.zst; "
        "do zstd -dcq $f | zstd -qf - -o $f.new && mv $f.new $f; done");
    for (int i = 0; i < (getenv("IND_ALL") ? 500 : 9); i++) {
        char question[600];
        any_question(&random, question, sizeof question);
        struct ind_ran ran =
            ind_shell(folder,
                      "%s search --why %s >one 2>why; echo $? >>one; cd plain && %s search %s "
                      ">../two 2>/dev/null; echo $? >>../two; cd .. && cmp one two && cat why",
                      IND_PROGRAM, question, IND_PROGRAM, question);
        const char *why = strstr(ran.out, "left out ");
        if (ran.status != 0)
            fail_msg("%s: %s%s", question, ran.out, ran.err);
        left_out += why && strncmp(why, "left out 0 ", 11) != 0;
        ind_ran_free(&ran);
    }
    assert_true(left_out > 1);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(each_frame_holds_what_its_index_says, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_damaged_index_costs_no_answer, set_up, tear_down),
        cmocka_unit_test_setup_teardown(an_index_changes_no_answer, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
