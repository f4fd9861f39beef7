/* The catalog asked before files are read. */
#include "cli/search_call.h"
#include "store/archive/catalog_read.h"
#include "store/search/known.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

struct asking {
    struct ind_search_places *places;
    struct ind_known *known;
    struct ind_search_asked *asked;
    int folder;
    bool *leave_out; /* per file */
};

static bool is_wanted(void *context, const char *archive)
{
    const struct asking *asking = context;
    return ind_search_archive(asking->places->files, asking->places->count, archive) != NULL;
}

static struct ind_slice name_of(const void *context, uint32_t device)
{
    return ind_catalog_name(context, device);
}

static bool ask(void *context, const struct ind_catalog_counts *counts)
{
    struct asking *asking = context;
    const struct ind_search_file *file =
        ind_search_archive(asking->places->files, asking->places->count, counts->archive);
    asking->asked->archives++;
    if (!ind_catalog_is_as_counted(asking->folder, counts))
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
