#include "config/zones.h"

#include "config/source.h"

#include <stdio.h>
#include <stdlib.h>

enum { LARGEST = 1 << 20 };

static struct ind_zone *read_file(const char *path)
{
    FILE *file = ind_open_file(path);
    if (!file)
        return NULL;
    unsigned char *bytes = malloc(LARGEST);
    size_t length = bytes ? fread(bytes, 1, LARGEST, file) : 0;
    struct ind_zone *zone = length ? ind_zone_read(bytes, length) : NULL;
    free(bytes);
    fclose(file);
    return zone;
}

/* Letters, digits and the signs that zone names have; no part begins with a dot, so none leaves the folder.
 */
static bool is_zone_name(const char *name)
{
    if (!*name || *name == '/' || strlen(name) > 100)
        return false;
    for (const char *c = name; *c; c++)
        if (!(ind_is_alpha(*c) || ind_is_digit(*c) || strchr("+-_/", *c)))
            return false;
    return true;
}

struct ind_zone *ind_zone_named(const char *name)
{
    static const char *const folders[] = {"/usr/share/zoneinfo", "/usr/lib/zoneinfo",
                                          "/usr/share/lib/zoneinfo"};
    int32_t offset;
    if (ind_zone_read_offset(ind_slice_of(name), &offset))
        return ind_zone_fixed(offset);
    struct ind_zone *zone = NULL;
    for (size_t i = 0; is_zone_name(name) && !zone && i < sizeof folders / sizeof *folders; i++) {
        char path[256];
        snprintf(path, sizeof path, "%s/%s", folders[i], name);
        zone = read_file(path);
    }
    return zone;
}

struct ind_zone *ind_zone_of_machine(void)
{
    const char *variable = getenv("TZ");
    struct ind_zone *zone = NULL;
    if (variable && *variable) {
        variable += *variable == ':';
        zone = *variable == '/' ? read_file(variable) : ind_zone_named(variable);
    } else {
        zone = read_file("/etc/localtime");
    }
    return zone ? zone : ind_zone_fixed(0);
}
