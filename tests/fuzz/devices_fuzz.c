/* Any file is a list of devices or has diagnostics, each with its place within it. */
#include "config/config.h"
#include "temporary.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    char list[64], config[64], yaml[200];
    struct ind_loaded loaded;
    if (size > 65536)
        return 0;
    ind_fuzz_file("devices", bytes, size, list);
    snprintf(yaml, sizeof yaml,
             "domain: skerry.example\ndevices:\n  - from: %s\nroutes:\n  - {name: a, file: a.log}\n", list);
    ind_fuzz_file("yaml", (const uint8_t *)yaml, strlen(yaml), config);
    ind_config_load(config, &loaded);
    for (size_t i = 0; i < loaded.diagnostics.count; i++) {
        const struct ind_diagnostic *diagnostic = &loaded.diagnostics.list[i];
        if (diagnostic->source && diagnostic->offset + diagnostic->length > diagnostic->source->length)
            abort();
    }
    if (loaded.config)
        for (size_t i = 0; i < ind_devices_count(loaded.config->devices); i++)
            if (!ind_devices_by_name(loaded.config->devices,
                                     ind_slice_of(ind_devices_at(loaded.config->devices, i)->name)))
                abort();
    ind_loaded_free(&loaded);
    return 0;
}
