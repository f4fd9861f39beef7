/* core/condition/logic.h: what can be proved of a condition without a message. */
#ifndef IND_CORE_CONDITION_LOGIC_H
#define IND_CORE_CONDITION_LOGIC_H

#include "core/condition/condition.h"

/* Two parts that exclude each other (or, said of the contrary, of which one always holds);
 * 0, 0 where it is not as simple. */
struct ind_clash {
    uint32_t a, b;
};
/* Whether it is proved that the condition (`negated`: its contrary) holds for no message. */
bool ind_condition_never(const struct ind_conditions *set, ind_condition condition, bool negated,
                         struct ind_clash *clash);

#endif
