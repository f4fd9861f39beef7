/* Any file is a configuration or has remarks, each at a place within it. */
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
    if ((loaded.config == NULL) != (loaded.remarks.mistakes > 0))
        abort();
    for (size_t i = 0; i < loaded.remarks.count; i++)
        if (loaded.remarks.list[i].source &&
            loaded.remarks.list[i].offset > loaded.remarks.list[i].source->length)
            abort();
    FILE *nowhere = fopen("/dev/null", "w");
    for (size_t i = 0; nowhere && i < loaded.remarks.count; i++)
        ind_remark_print(&loaded.remarks.list[i], nowhere);
    if (nowhere)
        fclose(nowhere);
    ind_loaded_free(&loaded);
    return 0;
}
