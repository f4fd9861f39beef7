/* Any text is a condition or has a mistake within it; what is read can be asked, and gives the same answer
 * whether its tests are asked one by one or together. */
#include "core/condition/condition.h"

#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    struct ind_conditions *set = ind_conditions_new(IND_SLICE("skerry.example"), NULL, NULL);
    struct ind_mistake mistake = {0};
    ind_condition condition;
    if (!set)
        return 0;
    if (ind_condition_read(set, (struct ind_slice){(const char *)bytes, size}, NULL, &condition, &mistake)) {
        struct ind_message message = {
            .text = IND_SLICE("text"), .app = IND_SLICE("app"), .sender = IND_SLICE("192.0.2.1")};
        struct ind_answers answers;
        struct ind_reason reasons[8];
        message.data = IND_SLICE("[x@1 a=\"b\\\"c\" a=\"5\"]");
        if (!ind_answers_begin(&answers, set))
            abort();
        ind_answers_next(&answers);
        bool first = ind_condition_holds(set, condition, &message, &answers);
        enum ind_verdict verdict = ind_condition_by_pri(set, condition, 0, 0);
        if ((verdict == IND_YES && !first) || (verdict == IND_NO && first))
            abort();
        (void)ind_condition_warn(set, condition, true, &mistake);
        struct ind_slice literals[4];
        (void)ind_condition_literals(set, condition, literals, 4);
        if (ind_condition_text(set, condition).length > size)
            abort();
        for (size_t i = ind_condition_why(set, condition, &message, &answers, reasons, 8); i-- > 0;)
            if (reasons[i].test.length > size || strlen(reasons[i].seen) >= sizeof reasons[i].seen)
                abort();
        ind_answers_free(&answers);
        if (!ind_conditions_compile(set) || !ind_answers_begin(&answers, set))
            abort();
        ind_answers_next(&answers);
        if (ind_condition_holds(set, condition, &message, &answers) != first)
            abort();
        ind_answers_free(&answers);
    } else if (!mistake.made || mistake.offset + mistake.length > size || !mistake.text[0]) {
        abort();
    }
    ind_conditions_free(set);
    return 0;
}
