/* What is to be written, and the bell that ends a rest. */
#include "collect/alert/desk_private.h"

#include <stdlib.h>

enum { LOOK_MILLISECONDS = 100 };

static void free_op(struct ind_desk_op *op)
{
    ind_news_let_go(op->news);
    free(op->way);
    free(op->who);
    free(op->counted);
}

void ind_desk_ops_add(struct ind_desk_ops *ops, struct ind_desk_op op)
{
    if (ops->count == ops->room && ops->room < IND_DESK_OPS) {
        const size_t room = ops->room ? 2 * ops->room : 64;
        struct ind_desk_op *grown = realloc(ops->list, room * sizeof *grown);
        ops->list = grown ? grown : ops->list;
        ops->room = grown ? room : ops->room;
    }
    if (ops->count == ops->room) {
        ops->lost++;
        free_op(&op);
        return;
    }
    ops->list[ops->count++] = op;
}

void ind_desk_ops_free(struct ind_desk_ops *ops)
{
    for (size_t i = 0; i < ops->count; i++)
        free_op(&ops->list[i]);
    free(ops->list);
    *ops = (struct ind_desk_ops){0};
}

/* ---- The bell ---- */

void ind_desk_ring(void *context)
{
    struct ind_desk *desk = context;
    ind_mutex_lock(&desk->resting);
    desk->rung = true;
    ind_condition_variable_signal(&desk->bell);
    ind_mutex_unlock(&desk->resting);
}

void ind_desk_rest(struct ind_desk *desk)
{
    const struct timespec deadline = ind_deadline(LOOK_MILLISECONDS);
    ind_mutex_lock(&desk->resting);
    while (!desk->rung && ind_condition_variable_wait_until(&desk->bell, &desk->resting, &deadline))
        ;
    desk->rung = false;
    ind_mutex_unlock(&desk->resting);
}
