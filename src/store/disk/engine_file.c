#include "store/disk/engine_file.h"

#include "core/base/escape.h"
#include "store/disk/state_file.h"

#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#define FILE_NAME "engine.json"

enum { MOST_ID = 32 };

bool ind_engine_file_read(const char *state, char *id, size_t length, uint32_t *starts)
{
    char path[4200];
    json_error_t error;
    snprintf(path, sizeof path, "%s/" FILE_NAME, state);
    const int file = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    json_t *object = file >= 0 ? json_loadfd(file, 0, &error) : NULL;
    if (file >= 0)
        close(file);
    const char *text = json_string_value(json_object_get(object, "engine"));
    const json_int_t count = json_integer_value(json_object_get(object, "starts"));
    bool good = text && strlen(text) == 2 * length && count > 0 && count < INT32_MAX;
    for (size_t i = 0; good && i < length; i++) {
        const int high = ind_hex_digit(text[2 * i]), low = ind_hex_digit(text[2 * i + 1]);
        good = high >= 0 && low >= 0;
        id[i] = (char)(high * 16 + low);
    }
    *starts = (uint32_t)count;
    json_decref(object);
    return good;
}

bool ind_engine_file_write(const char *state, const char *id, size_t length, uint32_t starts)
{
    char text[200], hex[2 * MOST_ID + 1] = "";
    for (size_t i = 0; i < length && i < MOST_ID; i++)
        snprintf(hex + 2 * i, 3, "%02x", (unsigned)(unsigned char)id[i]);
    snprintf(text, sizeof text, "{\"engine\": \"%s\", \"starts\": %lu}\n", hex, (unsigned long)starts);
    return ind_state_file_write(state, FILE_NAME, text);
}
