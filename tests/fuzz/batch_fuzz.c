/* What comes from a message system, of whoever has made it: batches, packed or not, and their lines; and a
 * file with a login. What the short way reads of a line is what the long way does. */
#include "collect/taking/unpack.h"
#include "net/broker_login.h"
#include "store/disk/json_line.h"
#include "store/disk/json_quick.h"

#include <stdlib.h>
#include <zstd.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t length);

static void require(bool holds)
{
    if (!holds)
        abort();
}

/* A copy of just that length: nothing beyond is looked at. */
static void read_line(struct ind_json_line *reader, struct ind_slice line)
{
    struct ind_message quick, any;
    char *copy = malloc(line.length ? line.length : 1);
    require(copy != NULL);
    memcpy(copy, line.at, line.length);
    line.at = copy;
    if (ind_json_quick_read(line, &quick)) {
        require(ind_json_line_read_any(reader, line, &any));
        require(quick.time == any.time && quick.sent == any.sent && quick.received == any.received);
        require(quick.facility == any.facility && quick.severity == any.severity && quick.form == any.form);
        require(ind_slice_equal(quick.device, any.device) && ind_slice_equal(quick.host, any.host));
        require(ind_slice_equal(quick.app, any.app) && ind_slice_equal(quick.text, any.text));
        require(ind_slice_equal(quick.sender, any.sender) && ind_slice_equal(quick.data, any.data));
    } else {
        (void)ind_json_line_read(reader, line, &any);
    }
    free(copy);
}

static void read_lines(struct ind_slice rest)
{
    struct ind_json_line *reader = ind_json_line_new();
    struct ind_slice line;
    require(reader != NULL);
    while (ind_slice_line(&rest, &line))
        if (line.length)
            read_line(reader, line);
    ind_json_line_free(reader);
}

/* By the library in one call, where it can tell how much there is. */
static void unpack(struct ind_slice packed)
{
    static struct ind_unpacker *unpacker;
    struct ind_slice plain;
    if (!unpacker)
        unpacker = ind_unpacker_new();
    require(unpacker != NULL);
    const bool good = ind_unpack(unpacker, packed, &plain);
    const unsigned long long size = ZSTD_getFrameContentSize(packed.at, packed.length);
    if (!good)
        return;
    read_lines(plain);
    if (size > 1 << 20 || ZSTD_findFrameCompressedSize(packed.at, packed.length) != packed.length)
        return;
    char *whole = malloc(size + 1);
    require(whole != NULL);
    require(ZSTD_decompress(whole, size + 1, packed.at, packed.length) == plain.length);
    require(plain.length == 0 || memcmp(whole, plain.at, plain.length) == 0);
    free(whole);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t length)
{
    struct ind_slice all = {(const char *)bytes, length};
    struct ind_broker_login login;
    unsigned line;
    if (ind_broker_login_parse(all, &login, &line))
        require((login.user[0] != '\0') + (login.token[0] != '\0') + (login.nkey[0] != '\0') == 1);
    read_lines(all);
    unpack(all);
    return 0;
}
