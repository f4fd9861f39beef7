/* The writer's book: messages with several lines, in one batch or in two, stored and lost. */
#include "support/support.h"

#include "collect/account/book.h"

static struct ind_accounts *accounts;
static struct ind_book *book;
static struct ind_copies copies[8]; /* of the batch at hand */
static size_t copies_count;

static int set_up(void **state)
{
    (void)state;
    accounts = ind_accounts_new();
    book = ind_book_new(&accounts);
    copies_count = 0;
    assert_true(accounts && book);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    ind_book_free(book);
    ind_accounts_free(accounts);
    return 0;
}

static uint32_t account(const char *device)
{
    return ind_account_for(accounts, 3, IND_ACCOUNT_DEVICE, ind_slice_of(device), IND_NOTHING);
}

static uint64_t ended(uint32_t number, enum ind_end end)
{
    return ind_account_at(accounts, number)->ledger.ended[end];
}

/* The owner of the next line of the copies with this number. */
static uint32_t owner(uint32_t number)
{
    return ind_book_owner(book, 0, IND_OWNER_COPIES | number, copies);
}

static void add_copies(uint32_t number, uint32_t count, bool continued)
{
    copies[copies_count++] = (struct ind_copies){number, count, UINT32_MAX, continued};
}

static void a_message_counts_once_however_many_lines_it_has(void **state)
{
    (void)state;
    uint32_t one = account("one");
    add_copies(one, 3, false);
    uint32_t first = owner(0), second = owner(0), third = owner(0);
    assert_int_equal(first, second);
    ind_book_settle(book, first, 1, true);
    assert_int_equal(ended(one, IND_END_STORED), 1);
    ind_book_settle(book, second, 1, false);
    ind_book_settle(book, third, 1, true);
    assert_int_equal(ended(one, IND_END_STORED), 1);
    assert_int_equal(ended(one, IND_END_LOST_DISK), 0);
}

static void it_is_lost_only_when_its_last_line_is(void **state)
{
    (void)state;
    uint32_t one = account("one");
    add_copies(one, 2, false);
    uint32_t lines = owner(0);
    ind_book_settle(book, lines, 1, false);
    assert_int_equal(ended(one, IND_END_LOST_DISK), 0);
    ind_book_settle(book, lines, 1, false);
    assert_int_equal(ended(one, IND_END_LOST_DISK), 1);
    assert_int_equal(ended(one, IND_END_STORED), 0);
}

static void its_lines_may_be_in_two_batches(void **state)
{
    (void)state;
    uint32_t one = account("one");
    add_copies(one, 2, false);
    uint32_t first = owner(0);
    ind_book_carry(book, 0, &copies[copies_count - 1]);
    copies_count = 0;
    add_copies(one, 2, true);
    assert_int_equal(owner(0), first);
    ind_book_settle(book, first, 1, false);
    assert_int_equal(ended(one, IND_END_LOST_DISK), 0);
    ind_book_settle(book, first, 1, true);
    assert_int_equal(ended(one, IND_END_STORED), 1);
}

static void what_never_comes_is_lost_at_the_end(void **state)
{
    (void)state;
    uint32_t one = account("one");
    add_copies(one, 2, false);
    add_copies(one, 2, false);
    ind_book_settle(book, owner(0), 1, true);
    (void)owner(1);
    ind_book_close(book);
    assert_int_equal(ended(one, IND_END_STORED), 1);
    assert_int_equal(ended(one, IND_END_LOST_DISK), 1);
}

static void tokens_are_used_again(void **state)
{
    (void)state;
    uint32_t one = account("one"), highest = 0;
    for (int i = 0; i < 100000; i++) {
        copies_count = 0;
        add_copies(one, 2, false);
        uint32_t lines = owner(0);
        highest = lines > highest ? lines : highest;
        ind_book_settle(book, lines, 2, true);
    }
    assert_int_equal(ended(one, IND_END_STORED), 100000);
    assert_true(highest < (UINT32_C(1) << 31) + 2000);
}

static void accounts_are_found_again_and_strangers_are_bounded(void **state)
{
    char name[32];
    (void)state;
    uint32_t one = account("one"), others = UINT32_MAX;
    assert_int_equal(account("one"), one);
    assert_int_not_equal(account("two"), one);
    for (int i = 0; i < IND_STRANGERS + 10; i++) {
        snprintf(name, sizeof name, "host%d", i);
        uint32_t number =
            ind_account_for(accounts, 3, IND_ACCOUNT_STRANGER, ind_slice_of(name), IND_SLICE("192.0.2.1"));
        if (i >= IND_STRANGERS) {
            others = others == UINT32_MAX ? number : others;
            assert_int_equal(number, others);
        }
    }
    assert_int_equal(ind_account_at(accounts, others)->kind, IND_ACCOUNT_OTHERS);
    assert_int_equal(account("one"), one); /* configured devices always have their own */
    assert_int_not_equal(account("three"), others);
    assert_slice(ind_account_at(accounts, one)->device, "one");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
#define with_book(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
        with_book(a_message_counts_once_however_many_lines_it_has),
        with_book(it_is_lost_only_when_its_last_line_is),
        with_book(its_lines_may_be_in_two_batches),
        with_book(what_never_comes_is_lost_at_the_end),
        with_book(tokens_are_used_again),
        with_book(accounts_are_found_again_and_strangers_are_bounded),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
