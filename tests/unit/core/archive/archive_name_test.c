/* Names of archives. */
#include "support/support.h"

#include "core/archive/archive_name.h"

static void archive_names_are_written_and_read_back(void **state)
{
    char text[128];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    struct ind_archive_name name;
    (void)state;
    ind_archive_name_write(&buffer, IND_SLICE("local4/warning.log"), INT64_C(1795409100) * IND_SECOND, 7);
    assert_slice(ind_buffer_view(&buffer), "local4/warning-20261123T044500Z-000007.log");
    assert_true(ind_archive_name_read(IND_SLICE("a/w-20261123T044500Z-1234567.log.zst"), &name));
    assert_int_equal(name.number, 1234567);
    assert_int_equal(name.compression, IND_COMPRESS_ZSTD);
    assert_slice(name.plain, "a/w-20261123T044500Z-1234567.log");
    assert_slice(name.live_stem, "a/w");
    static const char *const not_archives[] = {"w.log",
                                               "w-20261123T044500Z-00007.log",
                                               "w-20261123T04450Z-000007.log",
                                               "w-20261123T044500Z-000007.txt",
                                               "-000007.log",
                                               "w-000007.log.gz"};
    for (size_t i = 0; i < sizeof not_archives / sizeof *not_archives; i++)
        assert_false(ind_archive_name_read(ind_slice_of(not_archives[i]), &name));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(archive_names_are_written_and_read_back),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
