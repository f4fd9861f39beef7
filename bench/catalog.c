/* bench/catalog.c: a catalog of a year: 50 million messages of 500 devices by five routes, an archive a day
 * of each. Usage: bench_catalog FOLDER; STATE is FOLDER/state. Prints the bytes of text that these would be.
 */
#include "store/archive/catalog_private.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>

enum { DAYS = 365, ROUTES = 5, DEVICES = 100, HOURS = 24, MESSAGES = 50000000, LINE = 150 };

static uint64_t state = 88172645;

static unsigned any(unsigned below)
{
    state ^= state << 13;
    state ^= state >> 7;
    state ^= state << 17;
    return (unsigned)((state >> 20) % below);
}

/* Most are of little weight. */
static uint8_t any_pri(unsigned route)
{
    const unsigned what = any(100);
    const unsigned severity = what < 50   ? 6
                              : what < 75 ? 5
                              : what < 90 ? 4
                              : what < 98 ? 3
                              : what < 99 ? 2
                                          : 7;
    return (uint8_t)((16 + route) * 8 + severity);
}

static struct ind_volumes *a_day(struct ind_catalog *catalog, int64_t day, unsigned route)
{
    struct ind_volumes *volumes = ind_volumes_new();
    const double each = (double)MESSAGES / DAYS / ROUTES / DEVICES / HOURS;
    for (int64_t hour = day * HOURS; hour < (day + 1) * HOURS; hour++)
        for (unsigned device = 0; device < DEVICES; device++) {
            char name[32];
            snprintf(name, sizeof name, "pier%u-sw%u", route + 1, device);
            const uint32_t number = ind_catalog_device(catalog, ind_slice_of(name));
            for (unsigned i = (unsigned)(each / 2) + any((unsigned)(each + 1.5)); i > 0; i--)
                (void)ind_volumes_add(
                    volumes, &(struct ind_volume){hour, number, any_pri(route), 1, LINE - 40 + any(80)});
        }
    return volumes;
}

int main(int argc, char **argv)
{
    char reason[256], path[4096], query[300];
    struct ind_catalog *catalog;
    uint64_t text = 0, messages = 0;
    if (argc < 2)
        return 2;
    snprintf(path, sizeof path, "%s/state", argv[1]);
    if (ind_catalog_open(path, argv[1], open(argv[1], O_RDONLY | O_DIRECTORY), 0, &catalog, reason,
                         sizeof reason) != IND_CATALOG_GOOD) {
        fprintf(stderr, "%s\n", reason);
        return 1;
    }
    enum ind_catalog_status status = ind_catalog_begin(catalog);
    for (int64_t day = 20454; day < 20454 + DAYS && status == IND_CATALOG_GOOD; day++)
        for (unsigned route = 0; route < ROUTES && status == IND_CATALOG_GOOD; route++) {
            size_t count;
            struct ind_volumes *volumes = a_day(catalog, day, route);
            const struct ind_volume *list = ind_volumes_sorted(volumes, &count);
            for (size_t i = 0; i < count; i++) {
                text += list[i].bytes;
                messages += list[i].messages;
            }
            snprintf(
                query, sizeof query,
                "INSERT INTO files(archive, series, number, state, live, route, policy, layout, version, "
                "counted)"
                " VALUES('pier%u/all-%lld-%06lld.log', 'pier%u/all.log', %lld, 'archive', 'pier%u/all.log',"
                " 'pier%u', 'default', 'plain', 2, 1)",
                route, (long long)day, (long long)day, route, (long long)day, route, route);
            status = ind_catalog_run_text(catalog, query);
            const int64_t file = sqlite3_last_insert_rowid(catalog->db);
            if (status == IND_CATALOG_GOOD)
                status = ind_catalog_store_volumes(catalog, file, volumes, true, NULL);
            ind_volumes_free(volumes);
        }
    status = ind_catalog_end(catalog, status);
    printf("%llu %llu\n", (unsigned long long)messages, (unsigned long long)text);
    ind_catalog_close(catalog);
    return status != IND_CATALOG_GOOD;
}
