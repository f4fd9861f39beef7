#include "core/message/passed.h"

#include "core/base/address.h"
#include "core/message/structured_data.h"

struct ind_slice ind_passed_sender(struct ind_slice data)
{
    struct ind_slice sender = IND_NOTHING;
    struct ind_element element;
    struct ind_param param;
    struct ind_address address;
    size_t after;
    bool passed = false;
    for (size_t at = 0; ind_data_next(data, at, &element); at = element.after) {
        passed |= ind_slice_equal(element.id, IND_SLICE(IND_PASSED_ID));
        if (sender.length || !ind_slice_equal(element.id, IND_SLICE(IND_ORIGIN_ID)))
            continue;
        for (size_t next = element.params; ind_data_param(data, next, &param, &after); next = param.next)
            if (ind_slice_equal(param.name, IND_SLICE("ip")) && ind_address_read(param.value, &address))
                sender = param.value;
    }
    return passed ? sender : IND_NOTHING;
}
