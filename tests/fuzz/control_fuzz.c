/* Any bytes may come over the control socket, in pieces, from somebody who then goes away: it answers the
 * next one, its books add up, and what it was told to do it does. A 0 byte ends a piece; "\0\1" breaks off
 * without reading. */
#include "collecting.h"

static const char *config(void)
{
    static char text[1000];
    snprintf(text, sizeof text,
             "store: %s/log\nstate: %s/state\nzone: UTC\nthreads: 1\nlisten: [unix: %s]\n"
             "archives: {default: {rotate: {size: 4 KiB}, keep: {number: 3}, compress: none}}\n"
             "routes:\n  - {name: all, file: all.log, layout: json}\n",
             ind_fuzz_folder_name, ind_fuzz_folder_name, ind_fuzz.local_path);
    return text;
}

static void send_message(void)
{
    static const char message[] = "<34>1 - host app - - [a b=\"c\"] it's a message";
    int fd = ind_fuzz_connect(ind_fuzz.local_path, SOCK_DGRAM);
    (void)send(fd, message, sizeof message - 1, MSG_NOSIGNAL);
    close(fd);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static char text[1 << 16];
    static unsigned count;
    ind_fuzz_begin("control", config);
    int fd = ind_fuzz_connect(ind_fuzz.control_path, SOCK_STREAM);
    if (fd < 0)
        abort();
    bool broken_off = false;
    for (size_t at = 0, length; at < size && !broken_off; at += length + 1) {
        const uint8_t *end = memchr(bytes + at, 0, size - at);
        length = end ? (size_t)(end - bytes) - at : size - at;
        broken_off =
            send(fd, bytes + at, length, MSG_NOSIGNAL) < 0 || (end && end + 1 < bytes + size && end[1] == 1);
        send_message();
    }
    if (broken_off) {
        close(fd);
    } else {
        shutdown(fd, SHUT_WR);
        ind_fuzz_read_all(fd, text, sizeof text);
    }
    if (count++ % 16 == 0)
        json_decref(ind_fuzz_status());
    return 0;
}
