/* What a start finds in the folder of a queue. */
#include "store/disk/read_at.h"
#include "store/queue/queue_private.h"

#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>

enum { SCAN = 1 << 20 };

static bool is_ours(const char *name)
{
    const size_t length = strlen(name);
    static const char damaged[] = ".damaged";
    return name[0] == '.' || strcmp(name, "position") == 0 || strcmp(name, "identity") == 0 ||
           (length > sizeof damaged && strcmp(name + length - (sizeof damaged - 1), damaged) == 0);
}

/* One file of the folder. 0, or the error. */
static int look_at(struct ind_queue *queue, const char *name, struct ind_queue_found *found)
{
    char header[IND_SEGMENT_HEADER];
    struct stat facts;
    uint64_t first = ind_segment_number(name), in_header = 0;
    if (first == 0) {
        found->strange += !is_ours(name);
        return 0;
    }
    int file = openat(queue->folder, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    if (file < 0 || fstat(file, &facts) != 0 || !S_ISREG(facts.st_mode)) {
        if (file >= 0)
            close(file);
        found->strange++;
        return 0;
    }
    const ssize_t got = ind_read_at(file, header, sizeof header, 0);
    close(file);
    bool good = got == IND_SEGMENT_HEADER &&
                ind_segment_read((struct ind_slice){header, sizeof header}, &in_header) && in_header == first;
    if (!good && got >= 0 && got < IND_SEGMENT_HEADER) { /* a crash came before its first record */
        found->cut += (uint64_t)got;
        return queue->fs.remove(queue->fs.context, queue->folder, name) == 0 ? 0 : errno;
    }
    if (!good) {
        ind_queue_set_aside(queue, name);
        found->strange++;
        return 0;
    }
    const struct ind_queue_segment segment = {first, first, first, (uint64_t)facts.st_size};
    return ind_queue_keep(queue, &segment) ? 0 : ENOMEM;
}

static int order(const void *a, const void *b)
{
    const struct ind_queue_segment *one = a, *other = b;
    return (one->first > other->first) - (one->first < other->first);
}

/* How many records the newest segment has: their numbers are in no name behind it. */
static int count_newest(struct ind_queue *queue, struct ind_queue_found *found)
{
    struct ind_queue_segment *segment = &queue->segments[queue->count - 1];
    char name[IND_SEGMENT_NAME], *room = malloc(SCAN);
    uint64_t at = IND_SEGMENT_HEADER;
    ssize_t got = 0;
    ind_segment_name(segment->named, name);
    int file = openat(queue->folder, name, O_RDONLY | O_CLOEXEC);
    while (room && file >= 0 && (got = ind_read_at(file, room, SCAN, at)) > 0) {
        struct ind_slice rest = {room, (size_t)got};
        struct ind_queued record;
        while (ind_queued_read(rest, segment->next, &record) == IND_QUEUED_WHOLE) {
            segment->next++;
            rest = ind_slice_from(rest, record.size);
        }
        at += (size_t)got - rest.length;
        if (rest.length == (size_t)got)
            break;
    }
    const int error = !room ? ENOMEM : file < 0 || got < 0 ? errno : 0;
    found->cut += segment->bytes - at;
    if (file >= 0)
        close(file);
    free(room);
    return error;
}

static int read_folder(struct ind_queue *queue, struct ind_queue_found *found)
{
    const int copy = openat(queue->folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    DIR *folder = copy < 0 ? NULL : fdopendir(copy);
    int error = 0;
    if (!folder) {
        error = errno;
        if (copy >= 0)
            close(copy);
        return error;
    }
    for (const struct dirent *entry; error == 0 && (entry = readdir(folder));)
        error = look_at(queue, entry->d_name, found);
    closedir(folder);
    if (error || queue->count == 0)
        return error;
    qsort(queue->segments, queue->count, sizeof *queue->segments, order);
    for (size_t i = 0; i + 1 < queue->count; i++)
        queue->segments[i].next = queue->segments[i + 1].first;
    error = count_newest(queue, found);
    queue->next = queue->segments[queue->count - 1].next;
    if (error == 0 && queue->next == queue->segments[queue->count - 1].named)
        ind_queue_drop_newest(queue);
    return error;
}

static void read_boot(struct ind_queue *queue)
{
    int file = open("/proc/sys/kernel/random/boot_id", O_RDONLY | O_CLOEXEC);
    ssize_t got = file >= 0 ? read(file, queue->boot, 36) : 0;
    if (file >= 0)
        close(file);
    queue->boot[got == 36 ? 36 : 0] = '\0';
    if (got != 36)
        queue->boot[0] = '-', queue->boot[1] = '\0';
}

/* What the other side may have of what waits. After a power failure nobody knows how far the last run came:
 * it had written more than had come to the disk. */
static uint64_t doubles(const struct ind_queue *queue, const struct ind_queue_position *position)
{
    const uint64_t first = ind_queue_first(queue);
    const bool same_run = strcmp(position->boot, queue->boot) == 0;
    const uint64_t to = same_run && position->offered < queue->next ? position->offered : queue->next;
    return to > first ? to - first : 0;
}

static void take_position(struct ind_queue *queue, struct ind_queue_found *found)
{
    struct ind_queue_position position = {0};
    const bool known = ind_queue_position_read(queue->position, &position);
    if (!known) {
        found->position_lost = queue->count > 0;
        found->doubles = ind_queue_next(queue) - ind_queue_first(queue);
        found->records = found->doubles;
        return;
    }
    queue->generation = position.generation;
    if (position.acknowledged > queue->next)
        queue->next = position.acknowledged;
    ind_queue_done(queue, position.acknowledged);
    found->doubles = doubles(queue, &position);
    /* They are told from the first that was not done with on. */
    uint64_t end = position.acknowledged;
    for (unsigned i = 0; i < position.batches.count; i++)
        end += position.batches.records[i];
    if (position.acknowledged == ind_queue_first(queue) && end <= ind_queue_first(queue) + found->doubles)
        found->batches = position.batches;
    for (size_t i = 0; i < queue->count; i++)
        found->records += queue->segments[i].next - queue->segments[i].first;
}

static bool is_identity(const char *text, ssize_t length)
{
    for (int i = 0; i < 32 && length >= 32; i++)
        if (!ind_is_hex(text[i]))
            return false;
    return length >= 32;
}

/* What was there before; else a new one. 0, or the error. */
static int find_identity(struct ind_queue *queue)
{
    char text[33];
    unsigned char random[16];
    int file = openat(queue->folder, "identity", O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    ssize_t got = file >= 0 ? read(file, text, 32) : 0;
    if (file >= 0)
        close(file);
    if (!is_identity(text, got)) {
        const int source = open("/dev/urandom", O_RDONLY | O_CLOEXEC);
        got = source >= 0 ? read(source, random, sizeof random) : -1;
        if (source >= 0)
            close(source);
        if (got != (ssize_t)sizeof random)
            return EIO;
        for (size_t i = 0; i < sizeof random; i++)
            snprintf(text + 2 * i, 3, "%02x", random[i]);
        file = queue->fs.open(queue->fs.context, queue->folder, "identity",
                              O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0600);
        const bool good = file >= 0 && ind_fs_write_all(&queue->fs, file, text, 32) &&
                          queue->fs.sync(queue->fs.context, file) == 0;
        const int error = errno;
        if (file >= 0)
            close(file);
        if (!good)
            return error;
    }
    memcpy(queue->identity, text, 32);
    return 0;
}

static int lock(int file)
{
    struct flock whole = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
    return fcntl(file, F_SETLK, &whole) == 0 ? 0 : errno == EACCES || errno == EAGAIN ? EBUSY : errno;
}

static int begin(struct ind_queue *queue, struct ind_queue_found *found)
{
    if (!ind_fs_make_path(queue->path, NULL, NULL))
        return errno;
    queue->folder = open(queue->path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (queue->folder < 0)
        return errno;
    queue->position = openat(queue->folder, "position", O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600);
    if (queue->position < 0)
        return errno;
    int error = lock(queue->position);
    if (error == 0)
        error = find_identity(queue);
    if (error == 0)
        error = read_folder(queue, found);
    if (error == 0)
        take_position(queue, found);
    return error;
}

int ind_queue_open(const struct ind_queue_settings *settings, struct ind_queue **queue,
                   struct ind_queue_found *found)
{
    struct ind_queue *made = calloc(1, sizeof *made);
    *queue = NULL;
    *found = (struct ind_queue_found){0};
    if (!made)
        return ENOMEM;
    made->fs = *settings->fs;
    made->path = strdup(settings->folder);
    made->limit = settings->segment;
    made->next = 1;
    made->folder = made->position = made->writing = made->reading.file = -1;
    read_boot(made);
    const int error = made->path ? begin(made, found) : ENOMEM;
    if (error)
        ind_queue_close(made);
    else
        *queue = made;
    return error;
}
