/* Any file is a fleet or has diagnostics; what it says can be said. */
#include "simulate/fleet_file.h"
#include "temporary.h"

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static char room[8192];
    char name[64];
    ind_fuzz_file("fleet", bytes, size, name);
    struct ind_fleet_file *fleet;
    struct ind_diagnostics diagnostics = {0};
    struct ind_actor *actor;
    struct ind_saying *saying;
    if (ind_fleet_read(name, &fleet, &diagnostics)) {
        ind_fleet_begin(ind_fleet_of(fleet), size);
        for (int i = 0; i < 200 && ind_fleet_next(ind_fleet_of(fleet), &actor, &saying); i++) {
            struct ind_buffer message = ind_buffer_on(room, sizeof room);
            ind_fleet_say(ind_fleet_of(fleet), actor, saying, INT64_C(1795409100) * IND_SECOND, saying->next,
                          &message);
        }
    }
    ind_diagnostics_free(&diagnostics);
    ind_fleet_free(fleet);
    return 0;
}
