/* Fingerprints of certificates, written and read. */
#include "support/support.h"

#include "core/base/fingerprint.h"

static void what_is_written_is_read(void **state)
{
    char text[IND_FINGERPRINT_WIDTH + 1], plain[IND_FINGERPRINT_WIDTH];
    struct ind_fingerprint in, out;
    (void)state;
    for (unsigned seed = 0; seed < 200; seed++) {
        size_t length = 0;
        for (size_t i = 0; i < sizeof in.bytes; i++)
            in.bytes[i] = (uint8_t)((seed * 2654435761u + i * 40503u) >> 7);
        struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
        ind_fingerprint_write(&buffer, &in);
        assert_int_equal(buffer.length, IND_FINGERPRINT_WIDTH);
        assert_true(ind_fingerprint_read((struct ind_slice){text, buffer.length}, &out));
        assert_memory_equal(&in, &out, sizeof in);
        for (size_t i = 0; i < buffer.length; i++)
            if (i < 8 || text[i] != ':')
                plain[length++] = ind_lower(text[i]);
        assert_true(ind_fingerprint_read((struct ind_slice){plain, length}, &out));
        assert_memory_equal(&in, &out, sizeof in);
        /* Nothing that is shorter, longer or otherwise written. */
        assert_false(ind_fingerprint_read((struct ind_slice){text, buffer.length - 1}, &out));
        assert_false(ind_fingerprint_read((struct ind_slice){plain, length - 1}, &out));
        text[8 + seed % (IND_FINGERPRINT_WIDTH - 8)] = 'x';
        assert_false(ind_fingerprint_read((struct ind_slice){text, buffer.length}, &out));
    }
    assert_false(
        ind_fingerprint_read(IND_SLICE("sha-1:E1:2D:53:2B:7C:6B:8A:29:A2:76:C8:64:36:0B:08:4B:7A"), &out));
    assert_false(ind_fingerprint_read(IND_NOTHING, &out));
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(what_is_written_is_read)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
