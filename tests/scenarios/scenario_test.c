/* The runner of the scenarios: see README.md in this folder. */
#define _GNU_SOURCE
#include "support/support.h"

#include "collect/input/datagrams.h"
#include "collect/output/writer.h"
#include "config/moment.h"
#include "config/quantity.h"
#include "store/archive/keeper.h"
#include "store/archive/proof.h"
#include "store/disk/inventory.h"
#include "store/disk/journal.h"
#include "store/disk/reader.h"
#include "store/disk/walk.h"
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <fnmatch.h>
#include <sys/stat.h>
#include <unistd.h>

enum { FILES_A_DAY = 20, MOST_STEPS = 4096, MOST_TOLD = 200, ROOM = 1200 };

/* A file system that can run full, and a process that can stop dead after any change to it. */
struct disk {
    uint64_t left;  /* UINT64_MAX: any number of bytes */
    uint64_t space; /* that it says are free, though it takes more; UINT64_MAX: as the real one */
    long changes;   /* made so far */
    long die_after; /* -1: never */
};

struct player {
    const char *name; /* of the scenario */
    char **lines;
    size_t line_count;
    char *folder;
    struct ind_loaded loaded;
    struct disk disk;
    struct ind_fs fs;
    /* The engine: what a receiver and the writer are made of, without their threads. */
    struct ind_clock clock; /* the two below */
    struct ind_lifecycle lifecycle;
    struct ind_reporter reporter;
    struct ind_waker nobody;
    struct ind_store *store;
    struct ind_intake *intake;
    struct ind_accounts *accounts;
    struct ind_slabs *slabs;
    struct ind_rings *rings;
    struct ind_tap *tap;
    struct ind_dispatch dispatch;
    struct ind_datagrams datagrams;
    struct ind_socket_table sockets;
    struct ind_datagram datagram; /* the one that stands in the socket; of 0 bytes: none */
    struct ind_listener listener;
    struct ind_writer writer;
    struct ind_zone *utc;
    ind_time now;             /* the clock on the wall, which `clock` sets */
    struct ind_steady steady; /* only time that passes moves it */
    unsigned long number;     /* {n} */
    char *told[MOST_TOLD];
    size_t told_count;
    uint64_t stored_before; /* when the process stopped dead */
    size_t line;            /* being played */
};

static struct ind_clocks clocks(const struct player *player)
{
    return (struct ind_clocks){player->now, player->steady};
}

static void wrong(const struct player *player, const char *format, ...)
{
    char text[4000];
    va_list list;
    va_start(list, format);
    vsnprintf(text, sizeof text, format, list);
    va_end(list);
    print_error("%s:%zu: %s (after change %ld)\n", player->name, player->line + 1, text,
                player->disk.changes);
    for (size_t i = 0; i < player->told_count; i++)
        print_error("  told: %s\n", player->told[i]);
    fail();
}

/* ---- The disk ---- */

static bool dead(struct disk *disk)
{
    if (disk->die_after >= 0 && disk->changes >= disk->die_after) {
        errno = EIO;
        return true;
    }
    disk->changes++;
    return false;
}

static int disk_open(void *context, int folder, const char *path, int flags, unsigned mode)
{
    if ((flags & O_CREAT) && dead(context))
        return -1;
    return ind_fs_posix.open(NULL, folder, path, flags, mode);
}

static ssize_t disk_write(void *context, int file, const struct iovec *pieces, int count)
{
    struct disk *disk = context;
    if (dead(disk))
        return -1;
    struct iovec one[200];
    size_t total = 0;
    int used = 0;
    for (; used < count && total < disk->left; used++) {
        one[used] = pieces[used];
        if (one[used].iov_len > disk->left - total)
            one[used].iov_len = (size_t)(disk->left - total);
        total += one[used].iov_len;
    }
    if (total == 0) {
        errno = ENOSPC;
        return -1;
    }
    ssize_t written = ind_fs_posix.write(NULL, file, one, used);
    if (written > 0 && disk->left != UINT64_MAX)
        disk->left -= (uint64_t)written;
    return written;
}

static int disk_truncate(void *context, int file, uint64_t size)
{
    struct disk *disk = context;
    struct stat facts;
    if (dead(disk))
        return -1;
    if (disk->left != UINT64_MAX && fstat(file, &facts) == 0)
        disk->left += (uint64_t)facts.st_size - size;
    return ind_fs_posix.truncate(NULL, file, size);
}

static int disk_sync(void *context, int file)
{
    const struct disk *disk = context;
    if (disk->die_after >= 0 && disk->changes >= disk->die_after)
        return -1;
    return ind_fs_posix.sync(NULL, file);
}

static int disk_rename(void *context, int folder, const char *from, const char *to)
{
    return dead(context) ? -1 : ind_fs_posix.rename(NULL, folder, from, to);
}

static int disk_remove(void *context, int folder, const char *path)
{
    struct disk *disk = context;
    struct stat facts;
    if (dead(disk))
        return -1;
    const bool known = fstatat(folder, path, &facts, AT_SYMLINK_NOFOLLOW) == 0;
    if (ind_fs_posix.remove(NULL, folder, path) != 0)
        return -1;
    if (known && disk->space != UINT64_MAX)
        disk->space += (uint64_t)facts.st_size;
    return 0;
}

static int disk_make_folder(void *context, int folder, const char *path, unsigned mode, int64_t group)
{
    return dead(context) ? -1 : ind_fs_posix.make_folder(NULL, folder, path, mode, group);
}

static int disk_own(void *context, int file, unsigned mode, int64_t group)
{
    return dead(context) ? -1 : ind_fs_posix.own(NULL, file, mode, group);
}

static int disk_space(void *context, int folder, uint64_t *size, uint64_t *room)
{
    const struct disk *disk = context;
    if (disk->space == UINT64_MAX)
        return ind_fs_posix.space(NULL, folder, size, room);
    *size = UINT64_C(1) << 40;
    *room = disk->space;
    return 0;
}

/* ---- The engine ---- */

static void tell(void *context, const char *text)
{
    struct player *player = context;
    if (player->told_count < MOST_TOLD)
        player->told[player->told_count++] = strdup(text);
}

static void tell_of_store(void *context, enum ind_own own, const char *path, const char *text)
{
    (void)own;
    (void)path;
    tell(context, text);
}

static void settle(void *context, uint32_t owner, uint32_t lines, bool written)
{
    ind_book_settle(((struct player *)context)->writer.filing.book, owner, lines, written);
}

static struct ind_clocks played_clocks(void *context)
{
    return clocks(context);
}

/* The network: one datagram stands in the socket, or none. */
static int receive(void *context, int socket, bool local, struct ind_datagram *datagrams, int most)
{
    struct player *player = context;
    (void)socket;
    (void)local;
    if (most == 0 || player->datagram.length == 0)
        return 0;
    datagrams[0] = player->datagram;
    player->datagram.length = 0;
    return 1;
}

/* Until nothing is left to do, or the disk takes nothing. */
static void run_writer(struct player *player)
{
    enum ind_writer_state state = IND_WRITER_GOES_ON;
    do
        state = ind_writer_step(&player->writer, 0);
    while (state == IND_WRITER_GOES_ON && ind_ring_full(player->rings, 0) > 0);
}

static void run_engine(struct player *player)
{
    do {
        ind_dispatch_slice(&player->dispatch);
        ind_dispatch_pass_on_in_time(&player->dispatch, true);
        run_writer(player);
    } while (ind_dispatch_waiting(&player->dispatch) && !player->writer.batch);
}

/* The whole ledger, which must add up at any moment: a snapshot, as for the status. */
static struct ind_ledger weigh(struct player *player)
{
    static const char *const names[] = {"internal", "files", "udp"};
    struct ind_ledger_snapshot snapshot = {0};
    struct ind_marker marker = {.kind = IND_MARKER_SNAPSHOT, .snapshot = &snapshot};
    struct ind_ledger sum = {0};
    atomic_store(&player->writer.snapshots_out, 1);
    ind_dispatch_snapshot(&player->dispatch, ind_accounts_count(player->accounts), &marker);
    while (atomic_load(&player->writer.snapshots_out) > 0)
        (void)ind_writer_step(&player->writer, 0);
    assert_non_null(snapshot.ledgers);
    for (uint32_t i = 0; i < snapshot.account_count; i++)
        ind_ledger_add(&sum, &snapshot.ledgers[i]);
    sum.received = 0;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        sum.received += snapshot.counts.received[i];
        sum.waiting += snapshot.counts.waiting[i];
        sum.ended[IND_END_LOST_BUFFER] += snapshot.counts.lost_buffer[i];
    }
    ind_ledger_snapshot_free(&snapshot);
    if (sum.received != ind_ledger_accounted(&sum))
        wrong(player, "the ledger does not add up: %llu received, %llu accounted for",
              (unsigned long long)sum.received, (unsigned long long)ind_ledger_accounted(&sum));
    return sum;
}

static void open_writer(struct player *player)
{
    struct ind_writer *writer = &player->writer;
    const struct ind_sinks_settings sinks = {.reporter = &player->reporter};
    *writer = (struct ind_writer){.accounts = &player->accounts,
                                  .rings = player->rings,
                                  .intakes = 1,
                                  .lifecycle = &player->lifecycle,
                                  .reporter = &player->reporter,
                                  .clock = &player->clock,
                                  .control = &player->nobody};
    ind_writer_begin(writer);
    writer->filing.destination.store = player->store;
    writer->filing.book = ind_book_new(&player->accounts);
    writer->filing.sinks = ind_sinks_new(&sinks);
    assert_true(writer->filing.book && writer->filing.sinks);
    assert_true(ind_book_adopt(writer->filing.book, player->loaded.config));
    assert_true(ind_sinks_adopt(writer->filing.sinks, player->loaded.config));
}

static void open_receiver(struct player *player)
{
    static const char *const names[] = {"internal", "files", "udp 0.0.0.0:514"};
    player->sockets = (struct ind_socket_table){.context = player, .receive = receive};
    player->listener =
        (struct ind_listener){.kind = IND_LISTEN_UDP, .transport = IND_TRANSPORT_UDP, .number = 2};
    player->dispatch = (struct ind_dispatch){.rings = player->rings,
                                             .tap = player->tap,
                                             .reporter = &player->reporter,
                                             .clock = &player->clock,
                                             .names = names,
                                             .intake = player->intake};
    assert_true(ind_dispatch_begin(&player->dispatch, player->slabs));
    player->datagrams = (struct ind_datagrams){.dispatch = &player->dispatch,
                                               .sockets = &player->sockets,
                                               .slabs = player->slabs,
                                               .limit = (size_t)player->loaded.config->limits.message};
}

static void open_engine(struct player *player)
{
    char reason[ROOM];
    player->clock = (struct ind_clock){played_clocks, player};
    player->nobody = IND_WAKER_CLOSED;
    ind_lifecycle_begin(&player->lifecycle, &player->nobody);
    ind_reporter_begin(&player->reporter, tell, player);
    player->accounts = ind_accounts_new();
    player->rings = ind_rings_new(1, IND_RING_BATCHES, NULL, NULL);
    player->slabs = ind_slabs_new(4 << 20, 1);
    player->tap = ind_tap_new(&player->nobody);
    assert_true(player->accounts && player->rings && player->slabs && player->tap);
    player->fs = (struct ind_fs){&player->disk, disk_open,   disk_write,       disk_truncate, disk_sync,
                                 disk_rename,   disk_remove, disk_make_folder, disk_own,      disk_space};
    struct ind_store_settings settings = {.config = player->loaded.config,
                                          .fs = &player->fs,
                                          .now = player->now,
                                          .files_a_day = FILES_A_DAY,
                                          .no_catalog = strncmp(player->name, "long_", 5) != 0,
                                          .report = tell_of_store,
                                          .settle = settle,
                                          .context = player};
    if (ind_store_open(&settings, &player->store, reason, sizeof reason) != IND_STORE_OK)
        wrong(player, "%s", reason);
    player->intake = ind_intake_new(player->loaded.config, player->accounts, NULL);
    assert_non_null(player->intake);
    open_writer(player);
    open_receiver(player);
}

static void close_engine(struct player *player)
{
    ind_dispatch_end(&player->dispatch);
    ind_store_close(player->store);
    if (player->writer.batch)
        ind_batch_free(player->writer.batch);
    ind_sinks_free(player->writer.filing.sinks);
    ind_book_free(player->writer.filing.book);
    ind_writer_end(&player->writer);
    ind_rings_free(player->rings);
    ind_tap_free(player->tap);
    ind_slabs_free(player->slabs);
    ind_intake_free(player->intake);
    ind_accounts_free(player->accounts);
    ind_reporter_end(&player->reporter);
    ind_lifecycle_end(&player->lifecycle);
    player->store = NULL;
    player->intake = NULL;
}

static void send_message(struct player *player, const char *text)
{
    char message[ROOM], *at = message;
    player->number++;
    for (; *text && at < message + sizeof message - 24; text++) {
        if (strncmp(text, "{n}", 3) == 0) {
            at += sprintf(at, "%lu", player->number);
            text += 2;
        } else {
            *at++ = *text;
        }
    }
    player->datagram =
        (struct ind_datagram){.bytes = message, .length = (size_t)(at - message), .received = IND_TIME_NONE};
    (void)ind_address_read(IND_SLICE("192.0.2.1"), &player->datagram.sender);
    assert_int_equal(ind_datagrams_read(&player->datagrams, &player->listener, NULL, 0), IND_DATAGRAMS_READ);
    run_engine(player);
}

static void pass(struct player *player, int64_t seconds)
{
    for (int64_t i = 0; i < seconds; i++) {
        /* Long stretches in which nothing happens go by in greater steps. */
        int64_t step = seconds - i > 300 ? 60 : 1;
        player->now += step * IND_SECOND;
        player->steady = ind_steady_after(player->steady, step * IND_SECOND);
        i += step - 1;
        run_engine(player);
        (void)ind_keeper_run(ind_store_keeper(player->store), clocks(player), NULL);
        (void)weigh(player);
    }
}

/* ---- What is on the disk ---- */

struct found {
    const struct player *player;
    char names[MOST_STEPS][256];
    size_t lines[MOST_STEPS];
    size_t count, total;
    char **texts; /* of all lines */
    size_t text_room;
};

static size_t read_lines(struct found *found, const char *path)
{
    char whole[ROOM];
    snprintf(whole, sizeof whole, "%s/log/%s", found->player->folder, path);
    struct ind_reader *reader =
        ind_reader_open(open(whole, O_RDONLY), ind_compression_of(path), 0, UINT64_MAX);
    struct ind_slice block;
    uint64_t at;
    size_t lines = 0;
    enum ind_read result;
    assert_non_null(reader);
    while ((result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK)
        while (block.length) {
            const char *newline = memchr(block.at, '\n', block.length);
            if (!newline)
                wrong(found->player, "%s has a torn line", path);
            size_t length = (size_t)(newline - block.at);
            found->texts = realloc(found->texts, (found->total + 1) * sizeof *found->texts);
            found->texts[found->total++] = strndup(block.at, length);
            lines++;
            block = ind_slice_from(block, length + 1);
        }
    if (result == IND_READ_FAILED)
        wrong(found->player, "%s: %s", path, ind_reader_reason(reader));
    ind_reader_close(reader);
    return lines;
}

static bool take_file(void *context, const char *path)
{
    struct found *found = context;
    assert_true(found->count < MOST_STEPS);
    snprintf(found->names[found->count], sizeof found->names[0], "%s", path);
    found->lines[found->count] = read_lines(found, path);
    found->count++;
    return true;
}

static struct found *find_files(const struct player *player)
{
    char log[ROOM];
    struct found *found = calloc(1, sizeof *found);
    snprintf(log, sizeof log, "%s/log", player->folder);
    int folder = open(log, O_RDONLY | O_DIRECTORY);
    found->player = player;
    assert_true(folder >= 0);
    assert_true(ind_walk(folder, take_file, found, NULL));
    close(folder);
    return found;
}

static void found_free(struct found *found)
{
    for (size_t i = 0; i < found->total; i++)
        free(found->texts[i]);
    free(found->texts);
    free(found);
}

static int by_text(const void *left, const void *right)
{
    return strcmp(*(char *const *)left, *(char *const *)right);
}

static void nothing_twice(const struct player *player, struct found *found)
{
    if (!found->total)
        return;
    qsort(found->texts, found->total, sizeof *found->texts, by_text);
    for (size_t i = 1; i < found->total; i++)
        if (strchr(found->texts[i], '#') && strcmp(found->texts[i - 1], found->texts[i]) == 0)
            wrong(player, "a line stands twice: %s", found->texts[i]);
}

/* `files` … `end`: exactly these. */
static void expect_files(struct player *player)
{
    struct found *found = find_files(player);
    bool seen[MOST_STEPS] = {false};
    for (player->line++; strcmp(player->lines[player->line], "end") != 0; player->line++) {
        char pattern[256], count[32];
        assert_int_equal(sscanf(player->lines[player->line], "%255s %31s", pattern, count), 2);
        size_t i = 0;
        while (i < found->count && (seen[i] || fnmatch(pattern, found->names[i], FNM_PATHNAME) != 0))
            i++;
        bool optional = strcmp(count, "?") == 0;
        if (i == found->count && !optional)
            wrong(player, "there is no %s", pattern);
        if (i == found->count)
            continue;
        seen[i] = true;
        if (!optional && found->lines[i] != strtoul(count, NULL, 10))
            wrong(player, "%s has %zu lines, not %s", found->names[i], found->lines[i], count);
    }
    for (size_t i = 0; i < found->count; i++)
        if (!seen[i])
            wrong(player, "%s should not be there", found->names[i]);
    found_free(found);
}

static void expect_lines(struct player *player, const char *count)
{
    struct found *found = find_files(player);
    if (found->total != strtoul(count, NULL, 10))
        wrong(player, "%zu lines, not %s", found->total, count);
    nothing_twice(player, found);
    found_free(found);
}

static void expect_count(struct player *player, const char *arguments)
{
    char name[32], wanted[32];
    assert_int_equal(sscanf(arguments, "%31s %31s", name, wanted), 2);
    struct ind_store_counts store = ind_store_counts(player->store);
    struct ind_ledger ledger = weigh(player);
    struct ind_keeper_counts keeper = ind_keeper_counts(ind_store_keeper(player->store));
    const struct {
        const char *name;
        uint64_t count;
    } counts[] = {{"stored", ledger.ended[IND_END_STORED]},
                  {"lost", ledger.ended[IND_END_LOST_DISK]},
                  {"waiting", ledger.waiting},
                  {"overflowed", store.overflowed},
                  {"rotated", store.rotated},
                  {"removed", keeper.removed},
                  {"compressed", keeper.compressed},
                  {"received", ledger.received},
                  {"unrouted", ledger.ended[IND_END_UNROUTED]}};
    for (size_t i = 0; i < sizeof counts / sizeof *counts; i++)
        if (strcmp(name, counts[i].name) == 0) {
            if (wanted[0] != '?' && counts[i].count != strtoul(wanted, NULL, 10))
                wrong(player, "%s is %llu, not %s", name, (unsigned long long)counts[i].count, wanted);
            return;
        }
    wrong(player, "unknown count %s", name);
}

static void take_record(void *context, const struct ind_journal_record *record)
{
    size_t *counts = context;
    counts[record->event]++;
}

static void expect_journal(struct player *player, const char *arguments)
{
    char name[32], log[ROOM];
    unsigned long wanted;
    size_t counts[IND_EVENTS] = {0};
    assert_int_equal(sscanf(arguments, "%31s %lu", name, &wanted), 2);
    snprintf(log, sizeof log, "%s/log", player->folder);
    int folder = open(log, O_RDONLY | O_DIRECTORY);
    (void)ind_journal_read(folder, 0, NULL, take_record, counts);
    close(folder);
    for (size_t i = 0; i < IND_EVENTS; i++)
        if (strcmp(name, ind_event_name((enum ind_event)i)) == 0 && counts[i] != wanted)
            wrong(player, "%zu records \"%s\", not %lu", counts[i], name, wanted);
}

static void expect_told(struct player *player, const char *text)
{
    for (size_t i = 0; i < player->told_count; i++)
        if (strstr(player->told[i], text))
            return;
    wrong(player, "nobody was told \"%s\"", text);
}

/* Everything is as it should be once all work is done: what is to be compressed is, alone, and nothing is
 * left over. */
static void expect_finished(struct player *player)
{
    struct found *found = find_files(player);
    char log[ROOM];
    struct ind_inventory inventory;
    snprintf(log, sizeof log, "%s/log", player->folder);
    int folder = open(log, O_RDONLY | O_DIRECTORY);
    assert_true(ind_inventory(player->loaded.config, folder, &inventory));
    close(folder);
    if (inventory.leftover_count)
        wrong(player, "%s is left over", inventory.leftovers[0]);
    bool removed = false;
    for (struct ind_archive_entry *entry = inventory.entries; entry; entry = entry->hh.next) {
        removed |= entry->known_removed;
        if (entry->has_plain)
            wrong(player, "%s was not compressed", entry->archive);
        if (entry->known_removed && entry->compression)
            wrong(player, "%s is journaled as removed and still there", entry->archive);
        if (entry->compression && !entry->known_rotated)
            wrong(player, "%s was rotated without a record", entry->archive);
    }
    ind_inventory_free(&inventory);
    if (!removed && found->total < player->stored_before)
        wrong(player, "%zu messages are there, but %llu had been stored", found->total,
              (unsigned long long)player->stored_before);
    for (size_t i = 1; found->total && i < found->total; i++)
        for (size_t j = 0; j < i; j++)
            if (strcmp(strrchr(found->texts[i], '-'), strrchr(found->texts[j], '-')) == 0)
                wrong(player, "a message stands twice: %s", found->texts[i]);
    found_free(found);
}

/* No chain is broken, and no archive missing; also between a crash and the start after it. */
static void expect_proven(struct player *player, const char *where)
{
    char log[ROOM], state[ROOM], reason[ROOM * 2];
    snprintf(log, sizeof log, "%s/%s", player->folder, where);
    snprintf(state, sizeof state, "%s/state/" IND_CHAIN_HEADS, player->folder);
    char *heads = strcmp(where, "log") == 0 ? ind_read_file(state, NULL) : NULL;
    struct ind_proof proof;
    const struct ind_proof_settings settings = {.store = log,
                                                .heads = ind_slice_of(heads),
                                                .since = IND_TIME_NONE,
                                                .until = IND_TIME_NONE,
                                                .threads = 1};
    if (!ind_proof_make(&settings, &proof, reason, sizeof reason))
        wrong(player, "%s", reason);
    for (size_t i = 0; i < proof.finding_count; i++)
        wrong(player, "%s %s line %llu: %s", ind_finding_name(proof.findings[i].kind),
              proof.findings[i].archive ? proof.findings[i].archive : "journal",
              (unsigned long long)proof.findings[i].line, proof.findings[i].text);
    if (proof.unreadable)
        wrong(player, "%zu files cannot be read", proof.unreadable);
    ind_proof_free(&proof);
    free(heads);
}

/* ---- What lies beside the store ---- */

static void make_folder(struct player *player, const char *name)
{
    char path[ROOM];
    snprintf(path, sizeof path, "%s/%s", player->folder, name);
    if (mkdir(path, 0700) != 0)
        wrong(player, "%s: %s", path, strerror(errno));
}

static void move(struct player *player, const char *arguments)
{
    char from[64], to[64], path[2][ROOM];
    assert_int_equal(sscanf(arguments, "%63s %63s", from, to), 2);
    snprintf(path[0], ROOM, "%s/%s", player->folder, from);
    snprintf(path[1], ROOM, "%s/%s", player->folder, to);
    if (rename(path[0], path[1]) != 0)
        wrong(player, "%s: %s", path[0], strerror(errno));
}

/* The archives that lie in a folder beside the store: all of them whole, and so many; nothing half. */
static void expect_same(struct player *player, const char *arguments)
{
    char name[64];
    unsigned long wanted;
    assert_int_equal(sscanf(arguments, "%63s %lu", name, &wanted), 2);
    struct ind_ran ran = ind_shell(player->folder,
                                   "find %s -name '*.log*' | wc -l && ! find %s -name '.*.tmp' | grep . && "
                                   "for f in $(find %s -name '*.zst'); do zstd -tq $f || exit 1; done",
                                   name, name, name);
    if (ran.status != 0 || strtoul(ran.out, NULL, 10) != wanted)
        wrong(player, "%s: %s%s", name, ran.out, ran.err);
    ind_ran_free(&ran);
}

/* ---- The script ---- */

static void load_config(struct player *player)
{
    char path[ROOM];
    snprintf(path, sizeof path, "%s/indagator.yaml", player->folder);
    FILE *file = fopen(path, "w");
    assert_non_null(file);
    fprintf(file, "store: log\nstate: state\n");
    for (player->line++; strcmp(player->lines[player->line], "end") != 0; player->line++)
        fprintf(file, "%s\n", player->lines[player->line]);
    fclose(file);
    ind_config_load(path, &player->loaded);
    for (size_t i = 0; i < player->loaded.diagnostics.count; i++)
        if (!player->loaded.diagnostics.list[i].warning)
            wrong(player, "%s", player->loaded.diagnostics.list[i].text);
    assert_non_null(player->loaded.config);
}

static void restart(struct player *player, bool in_order)
{
    if (in_order)
        (void)ind_store_flush(player->store, clocks(player));
    close_engine(player);
    open_engine(player);
}

static const char *after(const char *line, const char *word)
{
    size_t length = strlen(word);
    return strncmp(line, word, length) == 0 ? line + length : NULL;
}

static void play_line(struct player *player)
{
    const char *line = player->lines[player->line], *rest;
    int64_t span;
    if (*line == '#' || *line == '\0') {
        return;
    } else if (strcmp(line, "config") == 0) {
        load_config(player);
    } else if ((rest = after(line, "clock ")) != NULL) {
        assert_true(ind_moment_read(ind_slice_of(rest), 0, player->utc, false, &player->now));
        if (!player->store)
            open_engine(player);
    } else if ((rest = after(line, "pass ")) != NULL) {
        assert_true(ind_read_span(ind_slice_of(rest), &span));
        pass(player, span / IND_SECOND);
    } else if ((rest = after(line, "send ")) != NULL) {
        send_message(player, rest);
    } else if ((rest = after(line, "times ")) != NULL) {
        const char *message = after(player->lines[++player->line], "send ");
        assert_non_null(message);
        for (unsigned long i = strtoul(rest, NULL, 10); i > 0; i--)
            send_message(player, message);
    } else if (strcmp(line, "files") == 0) {
        expect_files(player);
    } else if ((rest = after(line, "lines ")) != NULL) {
        expect_lines(player, rest);
    } else if ((rest = after(line, "count ")) != NULL) {
        expect_count(player, rest);
    } else if ((rest = after(line, "journal ")) != NULL) {
        expect_journal(player, rest);
    } else if ((rest = after(line, "told ")) != NULL) {
        expect_told(player, rest);
    } else if (strcmp(line, "finished") == 0) {
        expect_finished(player);
        expect_proven(player, "log");
    } else if ((rest = after(line, "proven ")) != NULL) {
        expect_proven(player, rest);
    } else if ((rest = after(line, "folder ")) != NULL) {
        make_folder(player, rest);
    } else if ((rest = after(line, "move ")) != NULL) {
        move(player, rest);
    } else if ((rest = after(line, "same ")) != NULL) {
        expect_same(player, rest);
    } else if ((rest = after(line, "disk ")) != NULL) {
        player->disk.left = strcmp(rest, "free") == 0 ? UINT64_MAX : strtoul(rest, NULL, 10);
    } else if ((rest = after(line, "space ")) != NULL) {
        player->disk.space = strcmp(rest, "any") == 0 ? UINT64_MAX : strtoul(rest, NULL, 10);
    } else if (strcmp(line, "restart") == 0 || strcmp(line, "crash") == 0) {
        restart(player, *line == 'r');
    } else {
        wrong(player, "unknown step: %s", line);
    }
}

static size_t find_line(const struct player *player, const char *wanted)
{
    size_t line = 0;
    while (line < player->line_count && strcmp(player->lines[line], wanted) != 0)
        line++;
    return line;
}

static void play_lines(struct player *player, size_t from, size_t to)
{
    for (player->line = from; player->line < to; player->line++)
        play_line(player);
}

/* One play, in a folder of its own. Returns the changes to files up to `then`. */
static long play_once(struct player *player, long die_after)
{
    size_t every = find_line(player, "every step"), then = find_line(player, "then");
    player->folder = ind_folder_new();
    player->disk = (struct disk){UINT64_MAX, UINT64_MAX, 0, -1};
    player->number = 0;
    play_lines(player, 0, every);
    long changes = 0;
    if (every < player->line_count) {
        player->disk.changes = 0;
        player->disk.die_after = die_after;
        play_lines(player, every + 1, then);
        changes = player->disk.changes;
        player->disk.die_after = -1;
        player->stored_before = weigh(player).ended[IND_END_STORED];
        expect_proven(player, "log");
        restart(player, false);
        play_lines(player, then + 1, player->line_count);
    }
    close_engine(player);
    ind_loaded_free(&player->loaded);
    ind_folder_remove(player->folder);
    for (size_t i = 0; i < player->told_count; i++)
        free(player->told[i]);
    player->told_count = 0;
    return changes;
}

static void play(const char *path, const char *name)
{
    char *text = ind_read_file(path, NULL), *lines[MOST_STEPS];
    struct player player = {.name = name, .lines = lines, .utc = ind_zone_fixed(0), .steady = {IND_SECOND}};
    assert_non_null(text);
    for (char *at = text, *end; *at; at = end) {
        end = strchr(at, '\n');
        assert_true(end && player.line_count < MOST_STEPS);
        *end++ = '\0';
        lines[player.line_count++] = at;
    }
    long changes = play_once(&player, -1);
    for (long step = 0; step < changes; step++)
        (void)play_once(&player, step);
    print_message("%s: good%s\n", name, changes ? ", after every step too" : "");
    if (changes)
        print_message("  (%ld steps)\n", changes);
    ind_zone_free(player.utc);
    free(text);
}

static int is_scenario(const struct dirent *entry)
{
    size_t length = strlen(entry->d_name);
    return length > 9 && strcmp(entry->d_name + length - 9, ".scenario") == 0;
}

static void all_scenarios_play_as_written(void **state)
{
    struct dirent **list;
    (void)state;
    int count = scandir(IND_TESTS_FOLDER "/scenarios", &list, is_scenario, alphasort);
    assert_true(count > 5);
    for (int i = 0; i < count; i++) {
        char path[ROOM];
        snprintf(path, sizeof path, "%s/scenarios/%s", IND_TESTS_FOLDER, list[i]->d_name);
        const char *only = getenv("IND_SCENARIO");
        const bool is_long = strncmp(list[i]->d_name, "long_", 5) == 0 && !getenv("IND_ALL");
        if (only ? strstr(list[i]->d_name, only) != NULL : !is_long)
            play(path, list[i]->d_name);
        free(list[i]);
    }
    free(list);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(all_scenarios_play_as_written)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
