#include "collect/runtime/lifecycle.h"

#include <time.h>

void ind_lifecycle_begin(struct ind_lifecycle *lifecycle, const struct ind_waker *control)
{
    ind_mutex_begin(&lifecycle->ending);
    ind_condition_variable_begin(&lifecycle->ended);
    lifecycle->control = control;
}

void ind_lifecycle_end(struct ind_lifecycle *lifecycle)
{
    ind_condition_variable_end(&lifecycle->ended);
    ind_mutex_end(&lifecycle->ending);
}

void ind_lifecycle_set_written(struct ind_lifecycle *lifecycle)
{
    ind_mutex_lock(&lifecycle->ending);
    atomic_store(&lifecycle->written, true);
    ind_condition_variable_broadcast(&lifecycle->ended);
    ind_mutex_unlock(&lifecycle->ending);
    ind_waker_wake(lifecycle->control);
}

bool ind_lifecycle_wait_written(struct ind_lifecycle *lifecycle, int milliseconds)
{
    const struct timespec deadline = ind_deadline(milliseconds);
    ind_mutex_lock(&lifecycle->ending);
    if (!atomic_load(&lifecycle->written))
        (void)ind_condition_variable_wait_until(&lifecycle->ended, &lifecycle->ending, &deadline);
    ind_mutex_unlock(&lifecycle->ending);
    return atomic_load(&lifecycle->written);
}
