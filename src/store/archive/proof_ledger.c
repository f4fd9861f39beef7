#include "store/archive/proof_private.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* ---- The journal, as it is now ---- */

static bool read_text(int file, struct ind_proof_ledger *ledger)
{
    struct stat facts;
    if (fstat(file, &facts) != 0)
        return false;
    const size_t size = (size_t)facts.st_size;
    ledger->text = malloc(size + 1);
    ssize_t got = 1;
    while (ledger->text && got != 0 && ledger->length < size) {
        got = pread(file, ledger->text + ledger->length, size - ledger->length, (off_t)ledger->length);
        if (got < 0 && errno != EINTR)
            return false;
        ledger->length += got > 0 ? (size_t)got : 0;
    }
    return ledger->text != NULL;
}

static struct ind_proof_chain *chain_for(struct ind_proof_ledger *ledger, const char *series)
{
    struct ind_proof_chain *chain;
    HASH_FIND_STR(ledger->chains, series, chain);
    if (chain)
        return chain;
    chain = calloc(1, sizeof *chain);
    if (chain && (chain->series = strdup(series)) != NULL) {
        HASH_ADD_KEYPTR(hh, ledger->chains, chain->series, strlen(chain->series), chain);
        return chain;
    }
    free(chain);
    ledger->out_of_memory = true;
    return NULL;
}

struct reading {
    struct ind_proof_ledger *ledger;
    struct ind_proof_line line; /* the present one */
    size_t room;
    char *scratch; /* a line that may be changed */
    size_t scratch_room;
};

static bool copy_line(struct reading *reading, const struct ind_proof_line *line)
{
    if (reading->scratch_room <= line->length) {
        char *grown = realloc(reading->scratch, line->length * 2 + 1);
        if (!grown)
            return false;
        reading->scratch = grown;
        reading->scratch_room = line->length * 2 + 1;
    }
    memcpy(reading->scratch, line->text, line->length);
    reading->scratch[line->length] = '\0';
    return true;
}

/* Whether what stands behind the key of the hash ends before the line would. */
static bool ends_within_link(struct ind_slice rest)
{
    enum { HASH_END = IND_HASH_TEXT + 2 }; /* "} */
    static const char key[] = "\",\"signature\":\"";
    const size_t behind = rest.length > IND_HASH_TEXT ? rest.length - IND_HASH_TEXT : 0;
    return rest.length < HASH_END ||
           (rest.length < HASH_END + sizeof key - 1 + 2 * IND_SIGNATURE &&
            memcmp(rest.at + IND_HASH_TEXT, key, behind < sizeof key - 1 ? behind : sizeof key - 1) == 0);
}

/* What a write that broke off leaves: the beginning of a record; and after a power failure there may be NULs
 * in the place of the rest. */
static bool is_torn(const struct ind_proof_line *line)
{
    static const char begins[] = "{\"at\":\"";
    const char *nul = memchr(line->text, '\0', line->length);
    const size_t written = nul ? (size_t)(nul - line->text) : line->length;
    const size_t compared = written < sizeof begins - 1 ? written : sizeof begins - 1;
    struct ind_slice rest = {line->text, written};
    if (memcmp(line->text, begins, compared) != 0)
        return false;
    for (const char *at; (at = memchr(rest.at, ',', rest.length)) != NULL;) {
        rest = ind_slice_from(rest, (size_t)(at - rest.at) + 1);
        if (ind_slice_starts(rest, IND_SLICE("\"chain\":\"")))
            return ends_within_link(ind_slice_from(rest, sizeof "\"chain\":\"" - 1));
    }
    return nul || written == 0 || line->text[written - 1] != '}';
}

/* A line that was chained, though its link cannot be read any more. */
static bool has_rest_of_link(char *scratch, const struct ind_proof_line *line)
{
    memcpy(scratch, line->text, line->length); /* again: reading it changes it */
    return strstr(scratch, ",\"link\":") || strstr(scratch, ",\"chain\":") ||
           strstr(scratch, ",\"signature\":");
}

static void take_series(void *context, const struct ind_journal_record *record)
{
    struct reading *reading = context;
    struct ind_proof_line *line = &reading->line;
    line->chain = chain_for(reading->ledger, record->series);
    line->compacted = line->linked && ind_link_handed_on(record, &line->passes_on);
}

static bool keep_line(struct reading *reading)
{
    struct ind_proof_ledger *ledger = reading->ledger;
    if (ledger->line_count == reading->room) {
        const size_t room = reading->room ? reading->room * 2 : 256;
        struct ind_proof_line *grown = realloc(ledger->lines, room * sizeof *grown);
        if (!grown)
            return false;
        ledger->lines = grown;
        reading->room = room;
    }
    ledger->lines[ledger->line_count++] = reading->line;
    return true;
}

static void take_line(struct reading *reading)
{
    struct ind_proof_line *line = &reading->line;
    struct ind_proof_ledger *ledger = reading->ledger;
    line->chain = NULL;
    line->linked = ind_link_read((struct ind_slice){line->text, line->length}, &line->link);
    line->passes_on = line->link;
    if (!copy_line(reading, line)) {
        ledger->out_of_memory = true;
        return;
    }
    (void)ind_record_read(reading->scratch, line->length, take_series, reading);
    if (!line->chain && is_torn(line)) {
        ledger->torn++;
        return;
    }
    if (line->chain && (line->linked || has_rest_of_link(reading->scratch, line)))
        line->chain->last = 1; /* chained from here on; more is found out later */
    if ((!line->chain || line->chain->last) && !keep_line(reading))
        ledger->out_of_memory = true;
}

/* Calls `take` with each whole line in reading->line. */
static void each_line(struct reading *reading, void (*take)(struct reading *reading))
{
    struct ind_proof_ledger *ledger = reading->ledger;
    uint64_t number = 0;
    for (const char *at = ledger->text, *end = at + ledger->length; at < end;) {
        const char *newline = memchr(at, '\n', (size_t)(end - at));
        newline = newline ? newline : end; /* torn, or being written, unless somebody took its end */
        reading->line =
            (struct ind_proof_line){.text = at, .length = (size_t)(newline - at), .number = ++number};
        take(reading);
        at = newline + 1;
    }
}

static void share_out(struct ind_proof_ledger *ledger)
{
    for (size_t i = 0; i < ledger->line_count; i++) {
        struct ind_proof_line *line = &ledger->lines[i];
        struct ind_proof_chain *chain = line->chain;
        if (!chain)
            continue;
        if (chain->line_count == chain->line_room) {
            const size_t room = chain->line_room ? chain->line_room * 2 : 16;
            struct ind_proof_line **grown = realloc(chain->lines, room * sizeof(struct ind_proof_line *));
            ledger->out_of_memory |= !grown;
            if (!grown)
                return;
            chain->lines = grown;
            chain->line_room = room;
        }
        chain->lines[chain->line_count++] = line;
    }
}

struct ind_proof_ledger *ind_proof_ledger_read(int folder)
{
    const int file = openat(folder, IND_JOURNAL_PATH, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (file < 0)
        return NULL;
    struct ind_proof_ledger *ledger = calloc(1, sizeof *ledger);
    struct reading reading = {.ledger = ledger};
    const bool good = ledger && read_text(file, ledger);
    const int error = ledger ? errno : ENOMEM;
    close(file);
    if (!good) {
        ind_proof_ledger_free(ledger);
        errno = error;
        return NULL;
    }
    each_line(&reading, take_line);
    free(reading.scratch);
    share_out(ledger);
    return ledger;
}

void ind_proof_ledger_free(struct ind_proof_ledger *ledger)
{
    if (!ledger)
        return;
    struct ind_proof_chain *chain, *next_chain;
    HASH_ITER(hh, ledger->chains, chain, next_chain)
    {
        HASH_DEL(ledger->chains, chain);
        free(chain->series);
        free(chain->lines);
        free(chain);
    }
    HASH_CLEAR(by_text, ledger->by_text);
    struct ind_proof_archive *archive, *next_archive;
    HASH_ITER(hh, ledger->archives, archive, next_archive)
    {
        HASH_DEL(ledger->archives, archive);
        free(archive->path);
        free(archive);
    }
    struct ind_proof_live *live, *next_live;
    HASH_ITER(hh, ledger->lives, live, next_live)
    {
        HASH_DEL(ledger->lives, live);
        free(live->path);
        free(live);
    }
    free(ledger->lines);
    free(ledger->text);
    free(ledger);
}

/* ---- What it tells of archives ---- */

static struct ind_proof_archive *archive_for(struct ind_proof_ledger *ledger, const char *path)
{
    struct ind_proof_archive *archive;
    HASH_FIND_STR(ledger->archives, path, archive);
    if (archive)
        return archive;
    archive = calloc(1, sizeof *archive);
    if (archive && (archive->path = strdup(path)) != NULL) {
        archive->first = archive->last = IND_TIME_NONE;
        HASH_ADD_KEYPTR(hh, ledger->archives, archive->path, strlen(archive->path), archive);
        return archive;
    }
    free(archive);
    ledger->out_of_memory = true;
    return NULL;
}

static void note_live(struct ind_proof_ledger *ledger, const char *path, struct ind_proof_chain *chain)
{
    struct ind_proof_live *live;
    HASH_FIND_STR(ledger->lives, path, live);
    if (live)
        return;
    live = calloc(1, sizeof *live);
    if (live && (live->path = strdup(path)) != NULL) {
        live->chain = chain;
        HASH_ADD_KEYPTR(hh, ledger->lives, live->path, strlen(live->path), live);
        return;
    }
    free(live);
    ledger->out_of_memory = true;
}

static void tell(void *context, const struct ind_journal_record *record)
{
    struct ind_proof_ledger *ledger = ((struct reading *)context)->ledger;
    struct ind_proof_chain *chain = chain_for(ledger, record->series);
    if (chain && record->event == IND_EVENT_COMPACTED) {
        chain->result.removed += record->archives;
        return;
    }
    struct ind_proof_archive *archive =
        chain && record->archive ? archive_for(ledger, record->archive) : NULL;
    if (!archive)
        return;
    archive->chain = chain;
    archive->number = record->number;
    archive->linked |= record->linked;
    if (record->event == IND_EVENT_OPENED) {
        archive->rotated = archive->removed = archive->hashed = false;
        archive->linked = record->linked;
        archive->first = record->first;
        note_live(ledger, record->live, chain);
    } else if (record->event == IND_EVENT_ROTATED) {
        archive->rotated = true;
        archive->first = record->first != IND_TIME_NONE ? record->first : archive->first;
        archive->last = record->last;
    } else if (record->event == IND_EVENT_HASHED) {
        archive->hashed = ind_hash_read(ind_slice_of(record->text_hash), archive->hash);
        archive->bytes = record->bytes;
    } else if (record->event == IND_EVENT_REMOVED) {
        archive->removed = true;
    }
}

/* Lines that were kept are in order; all others are of series before their chain. */
static void tell_line(struct reading *reading)
{
    const struct ind_proof_ledger *ledger = reading->ledger;
    const uint64_t number = reading->line.number;
    size_t low = 0, high = ledger->line_count;
    while (low < high) {
        const size_t middle = low + (high - low) / 2;
        if (ledger->lines[middle].number < number)
            low = middle + 1;
        else
            high = middle;
    }
    const bool kept = low < ledger->line_count && ledger->lines[low].number == number;
    if (kept && (!ledger->lines[low].chain || ledger->lines[low].verdict != IND_LINE_GOOD))
        return;
    if (copy_line(reading, &reading->line))
        (void)ind_record_read(reading->scratch, reading->line.length, tell, reading);
}

void ind_proof_ledger_tell(struct ind_proof_ledger *ledger)
{
    struct reading reading = {.ledger = ledger};
    each_line(&reading, tell_line);
    free(reading.scratch);
}
