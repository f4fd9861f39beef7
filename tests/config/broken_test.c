/* Each broken/NAME.yaml gives exactly the diagnostics in broken/NAME.expected. With IND_REWRITE=1 the
 * expected files are written anew: read the difference before you commit it. */
#include "support/support.h"

#include "config/config.h"
#include "simulate/fleet_file.h"
#include <dirent.h>
#include <unistd.h>

/* Files named fleet-… are for emit --fleet. */
static char *remarks_on_fleet(const char *name)
{
    char *text = NULL;
    size_t size = 0;
    FILE *memory = open_memstream(&text, &size);
    struct ind_diagnostics diagnostics = {0};
    struct ind_fleet_file *file;
    assert_non_null(memory);
    assert_false(ind_fleet_read(name, &file, &diagnostics));
    for (size_t i = 0; i < diagnostics.count; i++)
        ind_diagnostic_print(&diagnostics.list[i], memory);
    fclose(memory);
    ind_diagnostics_free(&diagnostics);
    ind_fleet_free(file);
    return text;
}

static char *remarks_on(const char *name)
{
    if (strncmp(name, "fleet-", 6) == 0)
        return remarks_on_fleet(name);
    char *text = NULL;
    size_t size = 0;
    FILE *memory = open_memstream(&text, &size);
    struct ind_loaded loaded;
    assert_non_null(memory);
    ind_config_load(name, &loaded);
    assert_int_equal(loaded.config != NULL, loaded.diagnostics.mistakes == 0);
    ind_config_compare_patterns(&loaded);
    for (size_t i = 0; i < loaded.diagnostics.count; i++)
        ind_diagnostic_print(&loaded.diagnostics.list[i], memory);
    fclose(memory);
    ind_loaded_free(&loaded);
    return text;
}

static void broken_configurations_are_told_exactly(void **state)
{
    (void)state;
    int cases = 0, wrong = 0;
    assert_int_equal(chdir(IND_TESTS_FOLDER "/config/broken"), 0);
    DIR *folder = opendir(".");
    for (struct dirent *entry; (entry = readdir(folder)) != NULL;) {
        char expected_name[300];
        size_t length = strlen(entry->d_name);
        if (length < 5 || strcmp(entry->d_name + length - 5, ".yaml") != 0)
            continue;
        snprintf(expected_name, sizeof expected_name, "%.*s.expected", (int)length - 5, entry->d_name);
        char *found = remarks_on(entry->d_name);
        if (getenv("IND_REWRITE"))
            ind_write_file(expected_name, found);
        char *expected = ind_read_file(expected_name, NULL);
        if (!expected || strcmp(expected, found) != 0) {
            print_error("%s: expected\n%sfound\n%s", entry->d_name, expected ? expected : "(nothing)\n",
                        found);
            wrong++;
        }
        free(expected);
        free(found);
        cases++;
    }
    closedir(folder);
    assert_int_equal(wrong, 0);
    assert_true(cases >= 100);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(broken_configurations_are_told_exactly)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
