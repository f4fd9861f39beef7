/* The catalog asked before files are read. */
#include "cli/search_call.h"
#include "store/archive/catalog_read.h"
#include "store/search/known.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

struct asking {
    struct ind_search_places *places;
    struct ind_known *known;
    struct ind_search_asked *asked;
    int folder;
    bool *leave_out; /* per file */
};

static int compare(const void *key, const void *element)
{
    const struct ind_search_file *file = element;
    return strcmp(key, file->name);
}

/* Archives stand in front, in the order of their paths (store/read/snapshot.h). */
static struct ind_search_file *find(const struct asking *asking, const char *archive)
{
    size_t archives = 0;
    const struct ind_search_places *places = asking->places;
    for (size_t low = 0, high = places->count; low < high;) {
        const size_t middle = (low + high) / 2;
        if (places->files[middle].stored->file < 0)
            archives = low = middle + 1;
        else
            high = middle;
    }
    return archives ? bsearch(archive, places->files, archives, sizeof *places->files, compare) : NULL;
}

static bool is_wanted(void *context, const char *archive)
{
    return find(context, archive) != NULL;
}

/* Whether the file is, by its size, the one that was counted. */
static bool is_as_counted(const struct asking *asking, const struct ind_catalog_counts *counts)
{
    char path[1300];
    struct stat facts;
    snprintf(path, sizeof path, "%s%s", counts->archive, ind_compression_suffix(counts->compression).at);
    return fstatat(asking->folder, path, &facts, AT_SYMLINK_NOFOLLOW) == 0 && S_ISREG(facts.st_mode) &&
           (uint64_t)facts.st_size == counts->bytes;
}

static struct ind_slice name_of(const void *context, uint32_t device)
{
    return ind_catalog_name(context, device);
}

static bool ask(void *context, const struct ind_catalog_counts *counts)
{
    struct asking *asking = context;
    const struct ind_search_file *file = find(asking, counts->archive);
    asking->asked->archives++;
    if (!is_as_counted(asking, counts))
        return true;
    const enum ind_known_file known = ind_known_ask(asking->known, counts->packed, name_of, counts->names);
    if (known == IND_KNOWN_NOT)
        return true;
    asking->leave_out[file - asking->places->files] = true;
    if (known == IND_KNOWN_COUNTED) {
        asking->asked->counted++;
        return true;
    }
    asking->asked->out[known - IND_KNOWN_OUT_BY_TIME]++;
    asking->asked->bytes += counts->bytes;
    return true;
}

static void leave_out(struct ind_search_places *places, const bool *out)
{
    size_t kept = 0;
    for (size_t i = 0; i < places->count; i++)
        if (!out[i])
            places->files[kept++] = places->files[i];
    places->count = kept;
}

void ind_search_ask_catalog(const struct ind_config *config, struct ind_search_settings *settings,
                            struct ind_search_places *places, struct ind_search_asked *asked)
{
    struct asking asking = {.places = places, .asked = asked, .folder = -1};
    asking.leave_out = calloc(places->count + 1, sizeof *asking.leave_out);
    asking.known = ind_known_new(settings);
    asking.folder = open(config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (asking.leave_out && asking.known && asking.folder >= 0 &&
        ind_catalog_each_counts(config, asking.folder, false, is_wanted, ask, &asking)) {
        asked->asked = true;
        asked->why_not = ind_known_why_not(asking.known);
        leave_out(places, asking.leave_out);
        settings->known = asking.known;
    } else {
        *asked = (struct ind_search_asked){0};
        ind_known_free(asking.known); /* what it has counted is read now */
    }
    if (asking.folder >= 0)
        close(asking.folder);
    free(asking.leave_out);
}
