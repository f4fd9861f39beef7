#include "cli/cli.h"

#include "collect/runtime/clock.h"
#include "config/moment.h"
#include "config/zones.h"
#include "core/base/escape.h"
#include "store/disk/reader.h"
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

static pthread_mutex_t progress_mutex = PTHREAD_MUTEX_INITIALIZER;
static struct {
    struct ind_steady began;
    bool on, in_the_way;
} progress;

static void clear_progress(void)
{
    if (progress.on)
        fputs(IND_CLEAR_LINE, stderr);
    progress.on = false;
}

void ind_complain(const char *format, ...)
{
    char text[2048];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    for (char *at = text; *at; at++)
        if ((unsigned char)*at < ' ' || *at == 127)
            *at = '?';
    pthread_mutex_lock(&progress_mutex);
    clear_progress();
    fprintf(stderr, "indagator: %s\n", text);
    fflush(stderr);
    pthread_mutex_unlock(&progress_mutex);
}

void ind_complain_text(void *context, const char *text)
{
    (void)context;
    ind_complain("%s", text);
}

void ind_complain_of(void *context, enum ind_own own, const char *path, const char *text)
{
    (void)own;
    (void)path;
    ind_complain_text(context, text);
}

void ind_print_diagnostics(const struct ind_loaded *loaded, bool warnings, FILE *out)
{
    for (size_t i = 0; i < loaded->diagnostics.count; i++)
        if (warnings || !loaded->diagnostics.list[i].warning)
            ind_diagnostic_print(&loaded->diagnostics.list[i], out);
}

bool ind_load(const struct ind_call *call, bool or_defaults, struct ind_loaded *loaded)
{
    const char *path = call->config_path ? call->config_path : ind_config_find();
    if (!path && !or_defaults) {
        ind_complain("no configuration: neither ./indagator.yaml nor /etc/indagator/indagator.yaml is there; "
                     "write one, or "
                     "name one with -c FILE");
        return false;
    }
    if (path)
        ind_config_load(path, loaded);
    else
        ind_config_defaults(loaded);
    ind_print_diagnostics(loaded, false, stderr);
    if (loaded->config)
        return true;
    ind_loaded_free(loaded);
    return false;
}

bool ind_has_store(const struct ind_config *config)
{
    struct stat facts;
    int error = stat(config->store, &facts) != 0 ? errno : S_ISDIR(facts.st_mode) ? 0 : ENOTDIR;
    if (error && error != EACCES)
        ind_complain("there is no store %s: %s%s", config->store, strerror(error),
                     error == ENOENT ? "; is store: right, or has nothing been collected yet?" : "");
    return error == 0 || error == EACCES;
}

bool ind_moment_option(const char *option, const char *text, const struct ind_zone *zone, bool end_of_day,
                       ind_time *time)
{
    *time = IND_TIME_NONE;
    if (!text || ind_moment_read(ind_slice_of(text), ind_now(), zone, end_of_day, time))
        return true;
    ind_complain("--%s: \"%s\" is not a time; " IND_MOMENT_HINT, option, text);
    return false;
}

bool ind_zone_option(const char *text, struct ind_zone **zone)
{
    *zone = strcmp(text, "local") == 0 ? ind_zone_of_machine() : ind_zone_named(text);
    if (!*zone)
        ind_complain(
            "--zone: unknown time zone \"%s\"; write local, or one such as Europe/Lisbon, UTC or +01:00",
            text);
    return *zone != NULL;
}

bool ind_condition_option(const struct ind_config *config, const char *text, struct ind_conditions **set,
                          ind_condition *condition)
{
    struct ind_mistake mistake = {0};
    if (ind_config_condition(config, ind_slice_of(text), set, condition, &mistake))
        return true;
    ind_conditions_free(*set);
    *set = NULL;
    if (!mistake.made) {
        ind_complain("out of memory");
        return false;
    }
    char name[] = "--when";
    struct ind_source source = {.path = name, .bytes = (char *)(uintptr_t)text, .length = strlen(text)};
    struct ind_diagnostics diagnostics = {0};
    ind_diagnostic_add(&diagnostics, false, &source, mistake.offset, mistake.length, "%s", mistake.text);
    ind_diagnostic_print(&diagnostics.list[0], stderr);
    ind_diagnostics_free(&diagnostics);
    return false;
}

static enum { COLOUR_AUTO, COLOUR_ALWAYS, COLOUR_NEVER } colours;

bool ind_colour_option(const char *text)
{
    static const char *const names[] = {"auto", "always", "never"};
    for (int i = 0; text && i < 3; i++)
        if (strcmp(text, names[i]) == 0) {
            colours = (unsigned)i;
            return true;
        }
    if (text)
        ind_complain("--color: \"%s\" is none of always, never and auto", text);
    return !text;
}

bool ind_colour(void)
{
    return colours == COLOUR_ALWAYS ||
           (colours == COLOUR_AUTO && ind_goes_to_terminal(stdout) && !getenv("NO_COLOR"));
}

void ind_progress(void *context, uint64_t bytes)
{
    ind_progress_of(context, bytes, 0);
}

/* "1.2 GiB read, 34 %, 5 s, 10 s left" */
static void print_progress(uint64_t bytes, uint64_t all, int64_t seconds)
{
    char size[32];
    fprintf(stderr, IND_CLEAR_LINE "%s read", ind_size_text(bytes, size));
    if (all > bytes)
        fprintf(stderr, ", %.0f %%", 100.0 * (double)bytes / (double)all);
    fprintf(stderr, ", %lld s", (long long)seconds);
    if (all > bytes && bytes)
        fprintf(stderr, ", %.0f s left", (double)seconds * (double)(all - bytes) / (double)bytes);
    fflush(stderr);
}

void ind_progress_of(void *context, uint64_t bytes, uint64_t all)
{
    (void)context;
    static atomic_int_fast64_t next;
    struct ind_steady now = ind_steady_now();
    if (now.ns < atomic_load(&next))
        return;
    pthread_mutex_lock(&progress_mutex);
    if (!ind_steady_is_set(progress.began))
        progress.began = now;
    if (isatty(STDERR_FILENO) && !ind_pages() && !progress.in_the_way &&
        ind_steady_from(progress.began, now) > 2 * IND_SECOND) {
        print_progress(bytes, all, ind_steady_from(progress.began, now) / IND_SECOND);
        progress.on = true;
    }
    atomic_store(&next, now.ns + IND_SECOND / 4);
    pthread_mutex_unlock(&progress_mutex);
}

void ind_progress_gives_way(void)
{
    pthread_mutex_lock(&progress_mutex);
    clear_progress();
    progress.in_the_way = true;
    pthread_mutex_unlock(&progress_mutex);
}

void ind_progress_end(void)
{
    pthread_mutex_lock(&progress_mutex);
    clear_progress();
    pthread_mutex_unlock(&progress_mutex);
}

const char *ind_grouped(uint64_t number, char text[32])
{
    return ind_number_text(number, ind_goes_to_terminal(stdout), text);
}

bool ind_each_line(const char *path, void (*visit)(void *context, struct ind_slice line), void *context)
{
    int file = strcmp(path, "-") == 0 ? dup(STDIN_FILENO) : open(path, O_RDONLY | O_CLOEXEC);
    struct ind_reader *reader =
        file < 0 ? NULL : ind_reader_open(file, ind_compression_of(path), 0, UINT64_MAX);
    struct ind_slice block, line;
    uint64_t at;
    enum ind_read result;
    if (!reader) {
        ind_complain("cannot read %s: %s", path, strerror(errno));
        return false;
    }
    while ((result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        block = ind_without_mark(block, at);
        while (ind_slice_line(&block, &line))
            visit(context, line);
    }
    if (result == IND_READ_FAILED)
        ind_complain("cannot read all of %s: %s", path, ind_reader_reason(reader));
    ind_reader_close(reader);
    return result != IND_READ_FAILED;
}

const char *ind_escaped(struct ind_slice text, char *room, size_t size)
{
    struct ind_buffer out = ind_buffer_on(room, size - 1);
    ind_escape_shown(&out, text);
    room[out.length] = '\0';
    return room;
}

void ind_print_fields(const struct ind_payload *fields, size_t from, size_t to, size_t least, char *room,
                      size_t size)
{
    enum { WIDEST = 30 };
    size_t width = least;
    for (size_t i = from; i < to; i++)
        if (fields->fields[i].name.length > width && fields->fields[i].name.length <= WIDEST)
            width = fields->fields[i].name.length;
    for (size_t i = from; i < to; i++) {
        struct ind_slice value = fields->fields[i].value;
        printf("  %-*s ", (int)width, ind_escaped(fields->fields[i].name, room, size));
        printf("%s\n", value.length ? ind_escaped(value, room, size) : "(empty)");
    }
}

const char *ind_temporary_folder(void)
{
    const char *folder = getenv("TMPDIR");
    return folder && *folder ? folder : "/tmp";
}
