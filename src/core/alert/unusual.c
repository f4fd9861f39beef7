#include "core/alert/unusual.h"

enum { NEVER_BELOW = 20 };

static void sort(uint64_t *list, size_t count)
{
    for (size_t i = 1; i < count; i++)
        for (size_t k = i; k > 0 && list[k] < list[k - 1]; k--) {
            const uint64_t one = list[k];
            list[k] = list[k - 1];
            list[k - 1] = one;
        }
}

/* Of a sorted list; of an even number the mean of the middle two. */
static uint64_t middle(const uint64_t *list, size_t count)
{
    const uint64_t low = list[(count - 1) / 2], high = list[count / 2];
    return low + (high - low) / 2;
}

/* The root, by Newton's way: the core has no libm. */
static double root(double number)
{
    double guess = number > 1 ? number : 1;
    for (int i = 0; i < 60; i++)
        guess = (guess + number / guess) / 2;
    return guess;
}

static uint64_t difference(uint64_t a, uint64_t b)
{
    return a > b ? a - b : b - a;
}

static double larger(double a, double b)
{
    return a > b ? a : b;
}

struct ind_usual ind_usual_of(uint64_t volume, const uint64_t *past, size_t count)
{
    uint64_t list[IND_UNUSUAL_WEEKS];
    struct ind_usual usual = {.known = count >= IND_UNUSUAL_LEAST && count <= IND_UNUSUAL_WEEKS};
    if (!usual.known)
        return usual;
    memcpy(list, past, count * sizeof *list);
    sort(list, count);
    usual.least = list[0];
    usual.most = list[count - 1];
    usual.median = middle(list, count);
    for (size_t i = 0; i < count; i++)
        list[i] = difference(past[i], usual.median);
    sort(list, count);
    usual.spread = larger(1.4826 * (double)middle(list, count),
                          larger(root((double)usual.median), (double)usual.median / 10));
    const uint64_t off = difference(volume, usual.median);
    usual.unusual = off >= NEVER_BELOW && (double)off > 5 * usual.spread;
    return usual;
}

static void write_hour(unsigned hour, struct ind_buffer *buffer)
{
    ind_buffer_byte(buffer, (char)('0' + hour / 10 % 10));
    ind_buffer_byte(buffer, (char)('0' + hour % 10));
    ind_buffer_text(buffer, ":00");
}

void ind_usual_write(const struct ind_usual *usual, uint64_t volume, unsigned hour, size_t count,
                     struct ind_buffer *buffer)
{
    ind_buffer_number(buffer, volume);
    ind_buffer_text(buffer, volume == 1 ? " message from " : " messages from ");
    write_hour(hour, buffer);
    ind_buffer_text(buffer, " to ");
    write_hour((hour + 1) % 24, buffer);
    ind_buffer_text(buffer, " UTC; in the same hour of ");
    ind_buffer_number(buffer, count);
    ind_buffer_text(buffer, " weeks before ");
    ind_buffer_number(buffer, usual->least);
    ind_buffer_text(buffer, " to ");
    ind_buffer_number(buffer, usual->most);
    ind_buffer_text(buffer, ", the median ");
    ind_buffer_number(buffer, usual->median);
}
