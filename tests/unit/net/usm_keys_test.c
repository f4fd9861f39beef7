/* Keys of SNMP version 3: the examples of the standards, and back and forth. */
#include "support/random.h"
#include "support/support.h"

#include "net/usm_keys.h"

static void check_hex(const unsigned char *bytes, size_t length, const char *expected)
{
    char text[2 * IND_USM_KEY + 1];
    for (size_t i = 0; i < length; i++)
        snprintf(text + 2 * i, 3, "%02x", bytes[i]);
    assert_string_equal(text, expected);
}

/* RFC 3414 appendix A.3.2; the second as others compute it. */
static void keys_are_those_of_the_standard(void **state)
{
    const struct ind_slice engine = {"\0\0\0\0\0\0\0\0\0\0\0\2", 12}, password = IND_SLICE("maplesyrup");
    unsigned char key[IND_USM_KEY], local[IND_USM_KEY];
    (void)state;
    assert_true(ind_usm_key_of(IND_USM_SHA1, password, key));
    check_hex(key, 20, "9fb5cc0381497b3793528939ff788d5d79145211");
    assert_true(ind_usm_localise(IND_USM_SHA1, key, engine, local));
    check_hex(local, 20, "6695febc9288e36282235fc7151f128497b38f3f");
    assert_true(ind_usm_key_of(IND_USM_SHA256, password, key));
    check_hex(key, 32, "ab51014d1e077f6017df2b12bee5f5aa72993177e9bb569c4dff5a4ca0b4afac");
    assert_true(ind_usm_localise(IND_USM_SHA256, key, engine, local));
    check_hex(local, 32, "8982e0e549e866db361a6b625d84cccc11162d453ee8ce3a6445c2d6776f0f8b");
    assert_false(ind_usm_key_of(IND_USM_SHA1, IND_NOTHING, key));
}

static void what_is_enciphered_is_deciphered(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 200; round++) {
        unsigned char key[IND_USM_KEY], salt[IND_USM_SALT];
        char clear[300], secret[300], again[300];
        const size_t length = ind_random(&random, sizeof clear);
        for (size_t i = 0; i < IND_USM_KEY; i++)
            key[i] = (unsigned char)ind_random(&random, 256);
        for (size_t i = 0; i < length; i++)
            clear[i] = (char)ind_random(&random, 256);
        assert_true(ind_usm_random(salt, sizeof salt));
        assert_true(ind_usm_encipher(key, 7, 99, salt, (struct ind_slice){clear, length}, secret));
        struct ind_usm usm = {
            .boots = 7, .time = 99, .salt = {(const char *)salt, sizeof salt}, .scoped = {secret, length}};
        assert_true(ind_usm_decipher(key, &usm, again));
        assert_memory_equal(again, clear, length);
        usm.time++;
        assert_true(ind_usm_decipher(key, &usm, again));
        assert_true(length < 4 || memcmp(again, clear, length) != 0);
        usm.salt.length--;
        assert_false(ind_usm_decipher(key, &usm, again));
    }
}

static void a_byte_that_changed_is_seen(void **state)
{
    static const enum ind_usm_authentication kinds[] = {IND_USM_SHA1, IND_USM_SHA256};
    (void)state;
    for (int i = 0; i < 2; i++) {
        unsigned char key[IND_USM_KEY] = {1, 2, 3}, digest[IND_USM_DIGEST];
        char message[100] = "a message with room for its digest";
        struct ind_usm usm = {.whole = {message, sizeof message},
                              .digest = {message + 40, ind_usm_digest_bytes(kinds[i])}};
        assert_true(ind_usm_sign(kinds[i], key, usm.whole, 40, digest));
        memcpy(message + 40, digest, usm.digest.length);
        assert_true(ind_usm_is_signed(kinds[i], key, &usm));
        for (size_t at = 0; at < sizeof message; at++) {
            message[at] ^= 1;
            assert_false(ind_usm_is_signed(kinds[i], key, &usm));
            message[at] ^= 1;
        }
        usm.digest.length--;
        assert_false(ind_usm_is_signed(kinds[i], key, &usm));
        assert_false(ind_usm_sign(kinds[i], key, usm.whole, 90, digest));
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(keys_are_those_of_the_standard),
                                       cmocka_unit_test(what_is_enciphered_is_deciphered),
                                       cmocka_unit_test(a_byte_that_changed_is_seen)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
