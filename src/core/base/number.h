/* core/base/number.h: decimal numbers as people and devices write them. Internal to core/. */
#ifndef IND_CORE_BASE_NUMBER_H
#define IND_CORE_BASE_NUMBER_H

#include "core/base/slice.h"

/* "4022", "-0.5", "+12": the whole of `text`, at most 18 digits. */
static inline bool ind_number_read(struct ind_slice text, double *number)
{
    size_t at = text.length && (text.at[0] == '-' || text.at[0] == '+'), digits = 0;
    double value = 0, scale = 0;
    for (; at < text.length; at++) {
        if (text.at[at] == '.' && scale == 0 && digits > 0)
            scale = 1;
        else if (!ind_is_digit(text.at[at]) || ++digits > 18)
            return false;
        else
            value = value * 10 + (text.at[at] - '0'), scale *= 10;
    }
    if (digits == 0 || text.at[text.length - 1] == '.')
        return false;
    value = scale > 1 ? value / scale : value;
    *number = text.at[0] == '-' ? -value : value;
    return true;
}

#endif
