/* core/base/amount.h: numbers as people read them. */
#ifndef IND_CORE_BASE_AMOUNT_H
#define IND_CORE_BASE_AMOUNT_H

#include "core/base/slice.h"

#include <stdint.h>

enum { IND_AMOUNT_WIDTH = 32 }; /* room for either, with a final NUL */

/* "1234567", grouped "1,234,567"; into `text`, which is returned. */
const char *ind_number_text(uint64_t number, bool grouped, char text[IND_AMOUNT_WIDTH]);
/* "1.2 MiB"; likewise. */
const char *ind_size_text(uint64_t bytes, char text[IND_AMOUNT_WIDTH]);

#endif
