/* Any file is a configuration or has diagnostics, each at a place within it. */
#include "config/config.h"
#include "config/tree.h"
#include "temporary.h"

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    char name[64];
    ind_fuzz_file("config", bytes, size, name);
    struct ind_loaded loaded;
    ind_config_load(name, &loaded);
    if ((loaded.config == NULL) != (loaded.diagnostics.mistakes > 0))
        abort();
    for (size_t i = 0; i < loaded.diagnostics.count; i++)
        if (loaded.diagnostics.list[i].source &&
            loaded.diagnostics.list[i].offset > loaded.diagnostics.list[i].source->length)
            abort();
    FILE *nowhere = fopen("/dev/null", "w");
    for (size_t i = 0; nowhere && i < loaded.diagnostics.count; i++)
        ind_diagnostic_print(&loaded.diagnostics.list[i], nowhere);
    if (nowhere)
        fclose(nowhere);
    ind_loaded_free(&loaded);
    return 0;
}
