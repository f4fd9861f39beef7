#include "core/base/amount.h"

const char *ind_number_text(uint64_t number, bool grouped, char text[32])
{
    char digits[24];
    struct ind_buffer buffer = ind_buffer_on(digits, sizeof digits);
    size_t out = 0;
    ind_buffer_number(&buffer, number);
    for (size_t i = 0; i < buffer.length; i++) {
        if (grouped && i > 0 && (buffer.length - i) % 3 == 0)
            text[out++] = ',';
        text[out++] = digits[i];
    }
    text[out] = '\0';
    return text;
}

const char *ind_size_text(uint64_t bytes, char text[32])
{
    static const char *const units[] = {" B", " KiB", " MiB", " GiB", " TiB"};
    struct ind_buffer buffer = ind_buffer_on(text, 31);
    int unit = 0;
    uint64_t of_unit = 1;
    for (; unit < 4 && bytes / of_unit >= 1024; unit++)
        of_unit *= 1024;
    const uint64_t whole = bytes / of_unit, tenths = (bytes % of_unit * 10 + of_unit / 2) / of_unit;
    ind_buffer_number(&buffer, whole + tenths / 10);
    if (unit) {
        ind_buffer_byte(&buffer, '.');
        ind_buffer_byte(&buffer, (char)('0' + tenths % 10));
    }
    ind_buffer_text(&buffer, units[unit]);
    text[buffer.length] = '\0';
    return text;
}
