#include "store/disk/seal.h"

#include "store/disk/reader.h"
#include <errno.h>
#include <fcntl.h>
#include <openssl/evp.h>
#include <stdlib.h>

struct ind_sealing {
    EVP_MD_CTX *hash;
    uint64_t bytes;
};

static bool begin(struct ind_sealing *sealing)
{
    sealing->bytes = 0;
    return EVP_DigestInit_ex(sealing->hash, EVP_sha256(), NULL) == 1;
}

struct ind_sealing *ind_sealing_new(void)
{
    struct ind_sealing *sealing = calloc(1, sizeof *sealing);
    if (sealing && (sealing->hash = EVP_MD_CTX_new()) != NULL && begin(sealing))
        return sealing;
    ind_sealing_free(sealing);
    return NULL;
}

void ind_sealing_free(struct ind_sealing *sealing)
{
    if (!sealing)
        return;
    EVP_MD_CTX_free(sealing->hash);
    free(sealing);
}

bool ind_sealing_add(struct ind_sealing *sealing, const void *text, size_t length)
{
    sealing->bytes += length;
    return EVP_DigestUpdate(sealing->hash, text, length) == 1;
}

bool ind_sealing_end(struct ind_sealing *sealing, struct ind_seal *seal)
{
    unsigned length = 0;
    seal->bytes = sealing->bytes;
    return EVP_DigestFinal_ex(sealing->hash, seal->hash, &length) == 1 && begin(sealing);
}

static int add_all(struct ind_sealing *sealing, struct ind_reader *reader,
                   const struct ind_interrupt *interrupt, const char **reason)
{
    struct ind_slice block;
    enum ind_read read;
    uint64_t at;
    while ((read = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        if (!ind_sealing_add(sealing, block.at, block.length))
            return EIO;
        if (ind_interrupted(interrupt))
            return ECANCELED;
    }
    if (read == IND_READ_END)
        return 0;
    if (reason)
        *reason = ind_reader_reason(reader);
    return EBADMSG;
}

int ind_seal_file(int folder, const char *path, enum ind_compression compression,
                  const struct ind_interrupt *interrupt, struct ind_seal *seal, const char **reason)
{
    int file = openat(folder, path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (file < 0)
        return errno;
    struct ind_reader *reader = ind_reader_open(file, compression, 0, UINT64_MAX);
    struct ind_sealing *sealing = reader ? ind_sealing_new() : NULL;
    int error = sealing ? add_all(sealing, reader, interrupt, reason) : ENOMEM;
    if (!error && !ind_sealing_end(sealing, seal))
        error = EIO;
    ind_sealing_free(sealing);
    ind_reader_close(reader);
    return error;
}
