#include "store/disk/digest.h"

#include "store/disk/reader.h"
#include <errno.h>
#include <fcntl.h>
#include <openssl/evp.h>
#include <stdlib.h>

struct ind_digesting {
    EVP_MD_CTX *hash;
    uint64_t bytes;
};

static bool begin(struct ind_digesting *digesting)
{
    digesting->bytes = 0;
    return EVP_DigestInit_ex(digesting->hash, EVP_sha256(), NULL) == 1;
}

struct ind_digesting *ind_digesting_new(void)
{
    struct ind_digesting *digesting = calloc(1, sizeof *digesting);
    if (digesting && (digesting->hash = EVP_MD_CTX_new()) != NULL && begin(digesting))
        return digesting;
    ind_digesting_free(digesting);
    return NULL;
}

void ind_digesting_free(struct ind_digesting *digesting)
{
    if (!digesting)
        return;
    EVP_MD_CTX_free(digesting->hash);
    free(digesting);
}

bool ind_digesting_add(struct ind_digesting *digesting, const void *text, size_t length)
{
    digesting->bytes += length;
    return EVP_DigestUpdate(digesting->hash, text, length) == 1;
}

bool ind_digesting_end(struct ind_digesting *digesting, struct ind_digest *digest)
{
    unsigned length = 0;
    digest->bytes = digesting->bytes;
    return EVP_DigestFinal_ex(digesting->hash, digest->hash, &length) == 1 && begin(digesting);
}

static int add_all(struct ind_digesting *digesting, struct ind_reader *reader,
                   const struct ind_interrupt *interrupt, const char **reason)
{
    struct ind_slice block;
    enum ind_read read;
    uint64_t at;
    while ((read = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        if (!ind_digesting_add(digesting, block.at, block.length))
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

int ind_digest_file(int folder, const char *path, enum ind_compression compression,
                    const struct ind_interrupt *interrupt, struct ind_digest *digest, const char **reason)
{
    int file = openat(folder, path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (file < 0)
        return errno;
    struct ind_reader *reader = ind_reader_open(file, compression, 0, UINT64_MAX);
    struct ind_digesting *digesting = reader ? ind_digesting_new() : NULL;
    int error = digesting ? add_all(digesting, reader, interrupt, reason) : ENOMEM;
    if (!error && !ind_digesting_end(digesting, digest))
        error = EIO;
    ind_digesting_free(digesting);
    ind_reader_close(reader);
    return error;
}
