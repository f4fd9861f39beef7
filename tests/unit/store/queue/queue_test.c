/* A queue on disk against a list in memory: random additions, reads, ends and starts, full disks; segments
 * cut at each byte, with any byte changed, and files of others. */
#include "store/queue/queue.h"
#include "support/random.h"
#include "support/support.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

enum { MOST = 4000, LONGEST = 3000, ROOM = IND_QUEUED_MOST + IND_QUEUED_HEADER };

static char *folder;
static struct ind_queue *queue;
static char *room;

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    room = malloc(ROOM);
    return folder && room ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    ind_queue_close(queue);
    queue = NULL;
    free(room);
    ind_folder_remove(folder);
    return 0;
}

static struct ind_queue_found open_again_with(const struct ind_fs *fs)
{
    struct ind_queue_found found;
    const struct ind_queue_settings settings = {
        .fs = fs, .folder = ind_path(folder, "queue"), .segment = 16 << 10};
    ind_queue_close(queue);
    assert_int_equal(ind_queue_open(&settings, &queue, &found), 0);
    return found;
}

/* What a power failure does is not tried here. */
static int no_flush(void *context, int file)
{
    (void)context;
    (void)file;
    return 0;
}

static struct ind_fs quick_disk(void)
{
    struct ind_fs fs = ind_fs_posix;
    fs.sync = no_flush;
    return fs;
}

static struct ind_queue_found open_again(void)
{
    const struct ind_fs fs = quick_disk();
    return open_again_with(&fs);
}

/* The message of a number: its length and bytes follow from it. */
static struct ind_slice message_of(uint64_t number, char *bytes)
{
    uint64_t random = number * 2654435761u + IND_RANDOM_START;
    for (int i = 0; i < 20; i++)
        (void)ind_random(&random, 2);
    const unsigned length = 1 + ind_random(&random, LONGEST);
    for (unsigned i = 0; i < length; i++)
        bytes[i] = (char)ind_random(&random, 256);
    return (struct ind_slice){bytes, length};
}

static int add(uint64_t first, unsigned count)
{
    static char bytes[LONGEST], records[64 * (LONGEST + IND_QUEUED_HEADER)];
    size_t used = 0;
    for (unsigned i = 0; i < count; i++) {
        const struct ind_slice message = message_of(first + i, bytes);
        ind_queued_put(records + used, (ind_time)(first + i), message);
        ind_queued_seal(records + used, first + i);
        used += ind_queued_size(message.length);
    }
    return ind_queue_append(queue, (struct ind_slice){records, used}, first, count);
}

/* Reads on from a number: what comes are the very messages. Returns the number behind them. */
static uint64_t read_from(uint64_t from, size_t most, uint64_t *lost)
{
    static char bytes[LONGEST];
    struct ind_queue_part part;
    assert_int_equal(ind_queue_read(queue, from, room, most, &part), 0);
    assert_int_equal(part.first, from + part.lost);
    *lost += part.lost;
    struct ind_slice rest = {room, part.length};
    for (uint64_t i = 0; i < part.count; i++) {
        const struct ind_queued record = ind_queued_at(rest.at);
        const struct ind_slice message = message_of(part.first + i, bytes);
        assert_true(ind_slice_equal(record.bytes, message));
        assert_int_equal(record.time, part.first + i);
        rest = ind_slice_from(rest, record.size);
    }
    assert_int_equal(rest.length, 0);
    return part.first + part.count;
}

static uint64_t read_all(uint64_t from, uint64_t *lost)
{
    for (;;) {
        const uint64_t next = read_from(from, ROOM, lost);
        if (next == from)
            return next;
        from = next;
    }
}

static void what_is_added_is_read(void **state)
{
    uint64_t random = IND_RANDOM_START, first = 1, next = 1, read = 1, lost = 0;
    (void)state;
    open_again();
    while (next < MOST) {
        switch (ind_random(&random, 100003) % 8) {
        case 0:
        case 1:
        case 2: {
            const unsigned count = 1 + ind_random(&random, 20);
            assert_int_equal(add(next, count), 0);
            next += count;
            break;
        }
        case 3:
        case 4:
            read = read_from(read < first ? first : read, ROOM, &lost);
            break;
        case 5: /* done with some; what follows is written down */
            first += ind_random(&random, (unsigned)(read - first + 1));
            assert_int_equal(ind_queue_note(queue, first, read, NULL), 0);
            ind_queue_done(queue, first);
            assert_int_equal(ind_queue_first(queue), first);
            break;
        case 6: /* once more from an earlier one */
            read = first + ind_random(&random, (unsigned)(read - first + 1));
            break;
        default: {
            if (ind_random(&random, 4))
                break;
            assert_int_equal(ind_queue_note(queue, first, read, NULL), 0);
            const struct ind_queue_found found = open_again();
            assert_int_equal(found.records, next - first);
            assert_int_equal(found.doubles, read - first);
            assert_int_equal(found.strange + found.cut + found.position_lost, 0);
            read = first;
        }
        }
        assert_int_equal(ind_queue_next(queue), next);
    }
    assert_int_equal(read_all(first, &lost), next);
    assert_int_equal(lost, 0);
    ind_queue_done(queue, next);
    assert_true(ind_queue_is_empty(queue));
    assert_int_equal(ind_queue_bytes(queue), 0);
    struct ind_ran ran = ind_shell(folder, "ls queue");
    assert_string_equal(ran.out, "identity\nposition\n");
    ind_ran_free(&ran);
}

static void the_oldest_are_given_up_by_the_segment(void **state)
{
    uint64_t next = 1, lost = 0;
    (void)state;
    open_again();
    for (; next < 100; next += 10)
        assert_int_equal(add(next, 10), 0);
    const uint64_t before = ind_queue_bytes(queue), given_up = ind_queue_give_up(queue);
    assert_in_range(given_up, 2, next - 1);
    assert_true(ind_queue_bytes(queue) < before);
    assert_int_equal(read_all(given_up, &lost), next);
    assert_int_equal(lost, 0);
    while (!ind_queue_is_empty(queue))
        (void)ind_queue_give_up(queue);
    assert_int_equal(ind_queue_next(queue), next);
    assert_int_equal(add(next, 1), 0);
    assert_int_equal(read_all(next, &lost), next + 1);
}

static const char *copy_of_segment(void)
{
    static char path[200];
    snprintf(path, sizeof path, "%s", ind_path(folder, "queue/00000000000000000001.queue"));
    return path;
}

static void write_bytes(const char *path, const char *bytes, size_t length)
{
    FILE *file = fopen(path, "wb");
    assert_non_null(file);
    assert_int_equal(fwrite(bytes, 1, length, file), length);
    fclose(file);
}

static void empty_folder(void)
{
    char name[100];
    for (int i = 1; i < 20; i++)
        for (int aside = 0; aside < 2; aside++) {
            snprintf(name, sizeof name, "queue/%020d.queue%s", i, aside ? ".damaged" : "");
            (void)unlink(ind_path(folder, name));
        }
    (void)unlink(ind_path(folder, "queue/position"));
}

/* How many of the first records are whole in so many bytes. */
static uint64_t whole_in(const char *bytes, size_t length)
{
    size_t at = IND_SEGMENT_HEADER;
    uint64_t count = 0;
    while (at + IND_QUEUED_HEADER <= length && at + ind_queued_at(bytes + at).size <= length) {
        at += ind_queued_at(bytes + at).size;
        count++;
    }
    return count;
}

static void a_segment_may_end_at_any_byte(void **state)
{
    size_t length;
    (void)state;
    open_again();
    assert_int_equal(add(1, 5), 0);
    ind_queue_close(queue);
    queue = NULL;
    char *bytes = ind_read_file(copy_of_segment(), &length);
    for (size_t cut = 0; cut <= length; cut += cut > 60 && cut + 40 < length ? 31 : 1) {
        uint64_t lost = 0;
        write_bytes(copy_of_segment(), bytes, cut);
        const struct ind_queue_found found = open_again();
        const uint64_t whole = whole_in(bytes, cut);
        assert_int_equal(found.records, whole);
        assert_int_equal(found.strange, 0);
        assert_int_equal(read_all(1, &lost), whole + 1);
        assert_int_equal(add(whole + 1, 2), 0); /* it goes on behind them */
        assert_int_equal(read_all(1, &lost), whole + 3);
        assert_int_equal(lost, 0);
        open_again();
        assert_int_equal(read_all(1, &lost), whole + 3);
        assert_int_equal(lost, 0);
        ind_queue_close(queue);
        queue = NULL;
        empty_folder();
    }
    free(bytes);
}

/* In a segment with others behind it: what is lost is counted, and what is behind comes. */
static void no_changed_byte_goes_unseen(void **state)
{
    size_t length;
    (void)state;
    open_again();
    assert_int_equal(add(1, 4), 0);
    ind_queue_close(queue);
    queue = NULL;
    char *bytes = ind_read_file(copy_of_segment(), &length);
    for (size_t at = 0; at < length; at += at < 60 ? 1 : 61) {
        uint64_t lost = 0;
        bytes[at] ^= 0x20;
        write_bytes(copy_of_segment(), bytes, length);
        bytes[at] ^= 0x20;
        struct ind_queue_found found = open_again();
        const uint64_t kept = ind_queue_next(queue) - 1;
        assert_true(kept < 4);
        assert_int_equal(found.strange, at < IND_SEGMENT_HEADER);
        assert_int_equal(add(5, 3), 0); /* as if it had been damaged later */
        found = open_again();
        assert_int_equal(read_all(1, &lost), 8);
        assert_int_equal(lost, 4 - kept);
        ind_queue_close(queue);
        queue = NULL;
        empty_folder();
    }
    free(bytes);
}

static void files_of_others_stay(void **state)
{
    uint64_t lost = 0;
    (void)state;
    open_again();
    assert_int_equal(add(1, 3), 0);
    ind_queue_close(queue);
    queue = NULL;
    struct ind_ran ran =
        ind_shell(folder, "cd queue; echo mine > notes.txt; mkdir 00000000000000000009.queue; "
                          "mkfifo 00000000000000000010.queue; head -c 5000 /dev/urandom > "
                          "00000000000000000011.queue; ln -s notes.txt 00000000000000000012.queue; "
                          "head -c 400 /dev/urandom > position");
    ind_ran_free(&ran);
    const struct ind_queue_found found = open_again();
    assert_int_equal(found.strange, 5);
    assert_true(found.position_lost);
    assert_int_equal(found.doubles, 3);
    assert_int_equal(read_all(1, &lost), 4);
    ran = ind_shell(folder, "cat queue/notes.txt; ls queue | wc -l");
    assert_string_equal(ran.out, "mine\n8\n");
    ind_ran_free(&ran);
}

/* A disk with so many bytes left. */
static size_t bytes_left;

static ssize_t write_while_room(void *context, int file, const struct iovec *pieces, int count)
{
    ssize_t written = 0;
    (void)context;
    for (int i = 0; i < count; i++) {
        const size_t length = pieces[i].iov_len < bytes_left ? pieces[i].iov_len : bytes_left;
        if (length == 0)
            break;
        const ssize_t one = write(file, pieces[i].iov_base, length);
        if (one < 0)
            return one;
        bytes_left -= (size_t)one;
        written += one;
    }
    if (written == 0) {
        errno = ENOSPC;
        return -1;
    }
    return written;
}

static int no_truncating(void *context, int file, uint64_t size)
{
    (void)context;
    (void)file;
    (void)size;
    errno = EIO;
    return -1;
}

static void what_a_full_disk_does_not_take_is_not_there(void **state)
{
    uint64_t random = IND_RANDOM_START, next = 1, lost = 0;
    (void)state;
    struct ind_fs full = quick_disk();
    full.write = write_while_room;
    for (int round = 0; round < 300; round++) {
        if (round == 150)
            full.truncate = no_truncating;
        if (round % 10 == 0) {
            bytes_left = SIZE_MAX;
            open_again_with(&full);
            assert_in_range(ind_queue_next(queue), next, next + 7); /* see below */
            next = ind_queue_next(queue);
        }
        bytes_left = ind_random(&random, 20000);
        const unsigned count = 1 + ind_random(&random, 8);
        const int error = add(next, count);
        assert_true(error == 0 || error == ENOSPC);
        next += error == 0 ? count : 0;
        assert_int_equal(ind_queue_next(queue), next);
    }
    assert_true(next > 20);
    assert_int_equal(read_all(1, &lost), next);
    bytes_left = SIZE_MAX;
    open_again_with(&full);
    /* Records of a part that did not fit whole, and could not be taken back, are there for the next start. */
    assert_in_range(read_all(1, &lost), next, next + 7);
    assert_int_equal(lost, 0);
}

/* A segment of which not one record has found room goes, too. */
static void an_empty_segment_is_removed(void **state)
{
    (void)state;
    struct ind_fs full = quick_disk();
    full.write = write_while_room;
    bytes_left = SIZE_MAX;
    open_again_with(&full);
    bytes_left = IND_SEGMENT_HEADER;
    assert_int_equal(add(1, 1), ENOSPC);
    ind_queue_done(queue, 1);
    assert_int_equal(ind_queue_bytes(queue), 0);
    assert_int_equal(ind_queue_give_up(queue), 1);
    bytes_left = SIZE_MAX;
    assert_int_equal(add(1, 1), 0);
    assert_int_equal(ind_queue_next(queue), 2);
}

static void one_process_has_it(void **state)
{
    struct ind_queue_found found;
    (void)state;
    open_again();
    const pid_t child = fork();
    if (child == 0) {
        struct ind_queue *other;
        const struct ind_queue_settings settings = {&ind_fs_posix, ind_path(folder, "queue"), 4096};
        _exit(ind_queue_open(&settings, &other, &found) == EBUSY ? 0 : 1);
    }
    struct ind_ran ran = ind_shell(folder, "true");
    ind_ran_free(&ran);
    int status = -1;
    assert_int_equal(waitpid(child, &status, 0), child);
    assert_int_equal(status, 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_is_added_is_read, set_up, tear_down),
        cmocka_unit_test_setup_teardown(the_oldest_are_given_up_by_the_segment, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_segment_may_end_at_any_byte, set_up, tear_down),
        cmocka_unit_test_setup_teardown(no_changed_byte_goes_unseen, set_up, tear_down),
        cmocka_unit_test_setup_teardown(files_of_others_stay, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_a_full_disk_does_not_take_is_not_there, set_up, tear_down),
        cmocka_unit_test_setup_teardown(an_empty_segment_is_removed, set_up, tear_down),
        cmocka_unit_test_setup_teardown(one_process_has_it, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
