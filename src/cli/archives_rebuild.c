#include "cli/archives.h"
#include "cli/table.h"
#include "store/archive/catalog.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

/* Milliseconds: a collector that takes down what was rotated is soon done. */
enum { PATIENCE = 30000 };

static void show_progress(void *context, const struct ind_catalog_progress *progress)
{
    ind_progress(context, progress->bytes);
}

static bool set_aside(const struct ind_config *config)
{
    const bool good = ind_catalog_set_aside(config->state);
    if (good)
        ind_complain("what stood in its place is now %s/" IND_CATALOG_ASIDE, config->state);
    else
        ind_complain("%s/" IND_CATALOG_NAME " cannot be renamed: %s", config->state, strerror(errno));
    return good;
}

/* Whatever stands there and does not serve is set aside. */
static struct ind_catalog *open_any(const struct ind_config *config, int folder)
{
    char reason[256];
    struct ind_catalog *catalog;
    enum ind_catalog_status status =
        ind_catalog_open(config->state, config->store, folder, PATIENCE, &catalog, reason, sizeof reason);
    if (status == IND_CATALOG_GOOD)
        return catalog;
    ind_complain("%s/" IND_CATALOG_NAME ": %s", config->state, reason);
    if ((status != IND_CATALOG_DAMAGED && status != IND_CATALOG_FOREIGN) || !set_aside(config))
        return NULL;
    status =
        ind_catalog_open(config->state, config->store, folder, PATIENCE, &catalog, reason, sizeof reason);
    if (status != IND_CATALOG_GOOD)
        ind_complain("%s/" IND_CATALOG_NAME ": %s", config->state, reason);
    return catalog;
}

static void print_result(const struct ind_catalog_progress *progress, bool json)
{
    char number[32], size[32];
    if (json) {
        json_t *object = json_object();
        json_object_set_new(object, "files", json_integer((json_int_t)progress->files));
        json_object_set_new(object, "text_bytes", json_integer((json_int_t)progress->bytes));
        json_object_set_new(object, "broken", json_integer((json_int_t)progress->broken));
        ind_print_json(object, stdout);
        printf("\n");
        json_decref(object);
        return;
    }
    printf("the catalog is made anew: %s file%s, %s of text counted\n", ind_grouped(progress->files, number),
           progress->files == 1 ? "" : "s", ind_size_text(progress->bytes, size));
    if (progress->broken)
        printf("%s could not be read to the end; \"indagator archives verify\" names them\n",
               ind_grouped(progress->broken, number));
}

/* Returns the exit code. */
static int rebuild(const struct ind_config *config, int folder, const struct ind_archives_call *given)
{
    struct ind_catalog_progress progress = {0};
    enum ind_catalog_status status = IND_CATALOG_FAILED;
    for (int tries = 0; tries < 2; tries++) { /* what is damaged may show only now */
        struct ind_catalog *catalog = open_any(config, folder);
        if (!catalog)
            return IND_EXIT_FAILED;
        status = ind_catalog_rebuild(catalog, NULL, show_progress, NULL, &progress);
        ind_progress_end();
        if (status != IND_CATALOG_GOOD)
            ind_complain("%s/" IND_CATALOG_NAME ": %s", config->state, ind_catalog_reason(catalog));
        ind_catalog_close(catalog);
        if (status != IND_CATALOG_DAMAGED || !set_aside(config))
            break;
        progress = (struct ind_catalog_progress){0};
    }
    if (status != IND_CATALOG_GOOD)
        return IND_EXIT_FAILED;
    print_result(&progress, given->json);
    return progress.broken ? IND_EXIT_NO : IND_EXIT_DONE;
}

int ind_archives_rebuild(const struct ind_config *config, const struct ind_archives_call *given)
{
    if (*given->names) {
        ind_complain("archives rebuild: the catalog is made anew as a whole: leave names out");
        return IND_EXIT_CALL;
    }
    if (!ind_has_store(config))
        return IND_EXIT_FAILED;
    const int folder = open(config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) {
        ind_complain("%s: %s", config->store, strerror(errno));
        return IND_EXIT_FAILED;
    }
    const int code = rebuild(config, folder, given);
    close(folder);
    return code;
}
