/* Volumes: what is added up is what a plain list of all adds up to; bytes and text give back what they were
 * made from; what is neither is refused. */
#include "support/random.h"
#include "support/support.h"

#include "core/archive/volumes.h"
#include <string.h>

enum { TRIALS = 300, MOST = 200, DEVICES = 9 };

static uint64_t seed = IND_RANDOM_START;

static const char *const names[DEVICES] = {
    "", "", "harbour-fw", "-", "*", "a b,c;d", "2001:db8::7", "%", "\xC3\x9F \xFF"};

static struct ind_slice name_of(void *context, uint32_t device)
{
    (void)context;
    return ind_slice_of(names[device]);
}

static uint32_t number_of(void *context, struct ind_slice name)
{
    (void)context;
    for (uint32_t i = IND_DEVICE_FIRST; i < DEVICES; i++)
        if (ind_slice_equal(name, ind_slice_of(names[i])))
            return i;
    fail_msg("no device \"%.*s\"", IND_ARG(name));
    return 0;
}

static uint64_t any_number(void)
{
    const unsigned bits = ind_random(&seed, 40);
    return ((uint64_t)ind_random(&seed, 1 << 20) << 20 | ind_random(&seed, 1 << 20)) >> (40 - bits);
}

static struct ind_volume any_volume(void)
{
    static const int64_t hours[] = {IND_HOUR_UNKNOWN, 0, -1, 498894, 498895, -2562047, 2562047};
    const unsigned pri = ind_random(&seed, 193);
    return (struct ind_volume){.hour = hours[ind_random(&seed, 7)],
                               .device = ind_random(&seed, DEVICES),
                               .pri = pri == 192 ? IND_VOLUME_NO_PRI : (uint8_t)(pri & (pri > 40 ? 255 : 7)),
                               .messages = any_number(),
                               .bytes = any_number()};
}

static bool is_same(const struct ind_volume *a, const struct ind_volume *b)
{
    return a->hour == b->hour && a->device == b->device && a->pri == b->pri;
}

static void expect_equal(struct ind_volumes *volumes, struct ind_volumes *wanted)
{
    size_t count, wanted_count;
    const struct ind_volume *list = ind_volumes_sorted(volumes, &count),
                            *other = ind_volumes_sorted(wanted, &wanted_count);
    assert_int_equal(count, wanted_count);
    for (size_t i = 0; i < count; i++) {
        assert_true(is_same(&list[i], &other[i]));
        assert_int_equal(list[i].messages, other[i].messages);
        assert_int_equal(list[i].bytes, other[i].bytes);
    }
    assert_int_equal(ind_volumes_folded(volumes), ind_volumes_folded(wanted));
}

static struct ind_volumes *any_volumes(struct ind_volume *all, size_t count)
{
    struct ind_volumes *volumes = ind_volumes_new();
    for (size_t i = 0; i < count; i++) {
        all[i] = any_volume();
        assert_true(ind_volumes_add(volumes, &all[i]));
        if (ind_random(&seed, 50) == 0) { /* between two looks it may be added to */
            size_t some;
            (void)ind_volumes_sorted(volumes, &some);
        }
    }
    return volumes;
}

static void what_is_added_is_there(void **state)
{
    (void)state;
    for (int trial = 0; trial < TRIALS; trial++) {
        struct ind_volume all[MOST];
        const size_t count = ind_random(&seed, MOST);
        size_t kinds;
        uint64_t messages = 0, listed = 0;
        struct ind_volumes *volumes = any_volumes(all, count);
        const struct ind_volume *list = ind_volumes_sorted(volumes, &kinds);
        for (size_t i = 0; i < kinds; i++) {
            struct ind_volume sum = {0};
            for (size_t j = 0; j < count; j++)
                if (is_same(&all[j], &list[i])) {
                    sum.messages += all[j].messages;
                    sum.bytes += all[j].bytes;
                }
            assert_int_equal(list[i].messages, sum.messages);
            assert_int_equal(list[i].bytes, sum.bytes);
            listed += list[i].messages;
            assert_true(i == 0 || list[i - 1].hour < list[i].hour ||
                        (list[i - 1].hour == list[i].hour && list[i - 1].device <= list[i].device));
        }
        for (size_t j = 0; j < count; j++)
            messages += all[j].messages;
        assert_int_equal(listed, messages);
        ind_volumes_free(volumes);
    }
}

static void bytes_and_text_give_it_back(void **state)
{
    (void)state;
    for (int trial = 0; trial < TRIALS; trial++) {
        struct ind_volume all[MOST];
        size_t length, text_length;
        struct ind_volumes *volumes = any_volumes(all, ind_random(&seed, MOST)), *back = ind_volumes_new(),
                           *read = ind_volumes_new();
        if (trial % 7 == 0)
            ind_volumes_set_folded(volumes);
        char *packed = ind_volumes_pack(volumes, &length);
        assert_true(ind_volumes_unpack((struct ind_slice){packed, length}, back));
        expect_equal(back, volumes);
        char *text = ind_volumes_write(volumes, IND_VOLUMES_WHOLE, name_of, NULL, &text_length);
        assert_int_equal(strlen(text), text_length);
        for (size_t i = 0; i < text_length; i++) /* no byte that JSON would escape */
            assert_true(text[i] >= ' ' && text[i] <= '~' && text[i] != '"' && text[i] != '\\');
        assert_true(ind_volumes_read(ind_slice_of(text), number_of, NULL, read));
        if (trial % 7 == 0)
            ind_volumes_set_folded(read);
        expect_equal(read, volumes);
        free(packed);
        free(text);
        ind_volumes_free(volumes);
        ind_volumes_free(back);
        ind_volumes_free(read);
    }
}

/* Less is told, of as many messages. */
static void coarser_texts_have_the_same_sums(void **state)
{
    (void)state;
    for (int detail = IND_VOLUMES_BY_HOUR; detail <= IND_VOLUMES_BY_DAY; detail++) {
        struct ind_volume all[MOST];
        size_t length, count;
        uint64_t sums[2] = {0};
        struct ind_volumes *volumes = any_volumes(all, MOST), *read = ind_volumes_new();
        char *text = ind_volumes_write(volumes, (enum ind_volume_detail)detail, NULL, NULL, &length);
        assert_true(ind_volumes_read(ind_slice_of(text), number_of, NULL, read));
        const struct ind_volume *list = ind_volumes_sorted(read, &count);
        for (size_t i = 0; i < count; i++) {
            sums[0] += list[i].messages;
            assert_true(list[i].device <= IND_DEVICE_OTHERS);
            assert_true(detail == IND_VOLUMES_BY_HOUR || list[i].hour == IND_HOUR_UNKNOWN ||
                        list[i].hour % 24 == 0);
        }
        for (size_t i = 0; i < MOST; i++)
            sums[1] += all[i].messages;
        assert_int_equal(sums[0], sums[1]);
        free(text);
        ind_volumes_free(volumes);
        ind_volumes_free(read);
    }
}

static void texts_are_as_they_are_described(void **state)
{
    (void)state;
    static const char text[] = "- - - 1 5;2026-11-30T06 - 164 1 2,* 0 3 4,harbour-fw 191 5 6,%2D 7 8 9";
    static const char *const wrong[] = {"x",
                                        "2026-11-30T06",
                                        "2026-11-30T06 ",
                                        "2026-11-30T24 - 1 1 1",
                                        "2026-02-30 - 1 1 1",
                                        "0000-01-01 - 1 1 1",
                                        "2026-11-30T06 - 192 1 1",
                                        "2026-11-30T06 - 1 1",
                                        "2026-11-30T06 - 1 1 1 1",
                                        "2026-11-30T06  1 1 1",
                                        "2026-11-30T06 %2 1 1 1",
                                        "2026-11-30T06 %2X 1 1 1",
                                        "2026-11-30T06 - 1 99999999999999999999 1",
                                        "2026-11-30T06 - 1 -1 1"};
    size_t length;
    struct ind_volumes *volumes = ind_volumes_new();
    assert_true(ind_volumes_read(ind_slice_of(text), number_of, NULL, volumes));
    char *again = ind_volumes_write(volumes, IND_VOLUMES_WHOLE, name_of, NULL, &length);
    assert_string_equal(again, text);
    free(again);
    again = ind_volumes_write(volumes, IND_VOLUMES_BY_DAY, NULL, NULL, &length);
    assert_string_equal(again, "- - - 1 5;2026-11-30 - 164 1 2,* 0 3 4,* 7 8 9,* 191 5 6");
    free(again);
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++)
        if (ind_volumes_read(ind_slice_of(wrong[i]), number_of, NULL, volumes))
            fail_msg("\"%s\" was read", wrong[i]);
    ind_volumes_free(volumes);
}

static void what_was_changed_is_refused_or_read(void **state)
{
    (void)state;
    struct ind_volume all[MOST];
    size_t length, refused = 0;
    struct ind_volumes *volumes = any_volumes(all, MOST);
    char *packed = ind_volumes_pack(volumes, &length);
    for (int trial = 0; trial < 2000; trial++) {
        struct ind_volumes *read = ind_volumes_new();
        const size_t kept = trial % 3 ? length : ind_random(&seed, (unsigned)length);
        char *changed = malloc(kept + 1);
        memcpy(changed, packed, kept);
        for (unsigned i = ind_random(&seed, 4); i > 0 && kept; i--)
            changed[ind_random(&seed, (unsigned)kept)] = (char)ind_random(&seed, 256);
        refused += !ind_volumes_unpack((struct ind_slice){changed, kept}, read);
        ind_volumes_free(read);
        free(changed);
    }
    assert_true(refused > 100);
    free(packed);
    ind_volumes_free(volumes);
}

static void strangers_do_not_fill_the_memory(void **state)
{
    (void)state;
    size_t count;
    uint64_t messages = 0;
    struct ind_volumes *volumes = ind_volumes_new();
    for (uint32_t i = 0; i < IND_VOLUMES_MOST + 1000; i++)
        assert_true(ind_volumes_add(
            volumes, &(struct ind_volume){.device = IND_DEVICE_FIRST + i, .messages = 1, .bytes = 1}));
    assert_true(ind_volumes_folded(volumes));
    const struct ind_volume *list = ind_volumes_sorted(volumes, &count);
    assert_int_equal(count, IND_VOLUMES_MOST + 1);
    assert_int_equal(list[0].device, IND_DEVICE_OTHERS);
    for (size_t i = 0; i < count; i++)
        messages += list[i].messages;
    assert_int_equal(messages, IND_VOLUMES_MOST + 1000);
    for (int64_t i = 1; i < IND_VOLUMES_MOST + 1000; i++)
        assert_true(ind_volumes_add(volumes, &(struct ind_volume){.hour = i, .messages = 1, .bytes = 1}));
    list = ind_volumes_sorted(volumes, &count);
    assert_true(count <= 2 * IND_VOLUMES_MOST + 2);
    assert_int_equal(list[0].hour, IND_HOUR_UNKNOWN);
    ind_volumes_free(volumes);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(what_is_added_is_there),
        cmocka_unit_test(bytes_and_text_give_it_back),
        cmocka_unit_test(coarser_texts_have_the_same_sums),
        cmocka_unit_test(texts_are_as_they_are_described),
        cmocka_unit_test(what_was_changed_is_refused_or_read),
        cmocka_unit_test(strangers_do_not_fill_the_memory),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
