#include "collect/output/rotation_order.h"

void ind_rotation_order_begin(struct ind_rotation_order *order)
{
    ind_mutex_begin(&order->mutex);
}

void ind_rotation_order_end(struct ind_rotation_order *order)
{
    ind_mutex_end(&order->mutex);
}

void ind_rotation_order_ask(struct ind_rotation_order *order, bool only_due)
{
    ind_mutex_lock(&order->mutex);
    order->only_due = only_due && (!order->asked || order->only_due);
    order->asked = true;
    ind_mutex_unlock(&order->mutex);
}

bool ind_rotation_order_accept(struct ind_rotation_order *order, bool *only_due)
{
    ind_mutex_lock(&order->mutex);
    bool asked = order->asked;
    *only_due = order->only_due;
    order->asked = false;
    ind_mutex_unlock(&order->mutex);
    return asked;
}

void ind_rotation_order_settle(struct ind_rotation_order *order, size_t rotated, size_t failed)
{
    ind_mutex_lock(&order->mutex);
    order->done = true;
    order->rotated += rotated;
    order->failed += failed;
    ind_mutex_unlock(&order->mutex);
}

bool ind_rotation_order_is_done(struct ind_rotation_order *order)
{
    ind_mutex_lock(&order->mutex);
    bool done = order->done && !order->asked;
    ind_mutex_unlock(&order->mutex);
    return done;
}

void ind_rotation_order_take(struct ind_rotation_order *order, size_t *rotated, size_t *failed)
{
    ind_mutex_lock(&order->mutex);
    *rotated += order->rotated;
    *failed += order->failed;
    order->done = false;
    order->rotated = order->failed = 0;
    ind_mutex_unlock(&order->mutex);
}
