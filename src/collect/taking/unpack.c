#include "collect/taking/unpack.h"

#include <stdlib.h>
#include <zstd.h>

enum { MOST = 31 << 20, FIRST = 1 << 20, LEAST = 4096, WINDOW_BITS = 25 };

struct ind_unpacker {
    ZSTD_DCtx *context;
    char *plain;
    size_t room;
};

struct ind_unpacker *ind_unpacker_new(void)
{
    struct ind_unpacker *unpacker = calloc(1, sizeof *unpacker);
    if (!unpacker)
        return NULL;
    unpacker->context = ZSTD_createDCtx();
    if (unpacker->context &&
        !ZSTD_isError(ZSTD_DCtx_setParameter(unpacker->context, ZSTD_d_windowLogMax, WINDOW_BITS)))
        return unpacker;
    ind_unpacker_free(unpacker);
    return NULL;
}

void ind_unpacker_free(struct ind_unpacker *unpacker)
{
    if (!unpacker)
        return;
    ZSTD_freeDCtx(unpacker->context);
    free(unpacker->plain);
    free(unpacker);
}

static bool grow(struct ind_unpacker *unpacker)
{
    const size_t room = unpacker->room ? unpacker->room * 2 : FIRST;
    char *grown = unpacker->room < MOST ? realloc(unpacker->plain, room < MOST ? room : MOST) : NULL;
    if (!grown)
        return false;
    unpacker->plain = grown;
    unpacker->room = room < MOST ? room : MOST;
    return true;
}

bool ind_unpack(struct ind_unpacker *unpacker, struct ind_slice packed, struct ind_slice *plain)
{
    ZSTD_inBuffer in = {packed.at, packed.length, 0};
    size_t left = 1, length = 0;
    (void)ZSTD_DCtx_reset(unpacker->context, ZSTD_reset_session_only);
    while (in.pos < in.size || left > 0) {
        if (unpacker->room - length < LEAST && !grow(unpacker))
            return false;
        ZSTD_outBuffer out = {unpacker->plain, unpacker->room, length};
        const size_t before = in.pos;
        left = ZSTD_decompressStream(unpacker->context, &out, &in);
        if (ZSTD_isError(left) || (in.pos == before && out.pos == length))
            return false;
        length = out.pos;
    }
    *plain = (struct ind_slice){unpacker->plain, length};
    return true;
}
