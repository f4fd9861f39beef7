#include "core/queue/window.h"

static struct ind_burst *at(struct ind_window *window, size_t index)
{
    return &window->list[(window->first + index) % IND_WINDOW_MOST];
}

void ind_window_add(struct ind_window *window, const struct ind_burst *burst)
{
    *at(window, window->count++) = *burst;
    window->again += burst->state == IND_BURST_AGAIN;
}

void ind_window_amend(struct ind_window *window, uint64_t end)
{
    at(window, window->count - 1)->end = end;
}

struct ind_burst *ind_window_next_again(struct ind_window *window)
{
    for (size_t i = 0; window->again && i < window->count; i++)
        if (at(window, i)->state == IND_BURST_AGAIN)
            return at(window, i);
    return NULL;
}

void ind_window_send_again(struct ind_window *window, struct ind_burst *burst, uint64_t first, unsigned link,
                           uint64_t start, uint64_t end)
{
    window->again--;
    *burst = (struct ind_burst){
        .first = first, .next = burst->next, .start = start, .end = end, .time = burst->time, .link = link};
}

uint64_t ind_window_acknowledge(struct ind_window *window, unsigned link, uint64_t bytes)
{
    uint64_t records = 0;
    for (size_t i = 0; i < window->count; i++) {
        struct ind_burst *burst = at(window, i);
        if (burst->state != IND_BURST_SENT || burst->link != link)
            continue;
        if (burst->end > bytes)
            continue; /* one sent again stands before others that were sent before it */
        burst->state = IND_BURST_HAD;
        records += burst->next - burst->first;
    }
    return records;
}

uint64_t ind_window_break(struct ind_window *window, unsigned link, uint64_t bytes)
{
    uint64_t records = 0;
    (void)ind_window_acknowledge(window, link, bytes);
    for (size_t i = 0; i < window->count; i++) {
        struct ind_burst *burst = at(window, i);
        if (burst->state != IND_BURST_SENT || burst->link != link)
            continue;
        burst->state = IND_BURST_AGAIN;
        burst->skip = bytes > burst->start ? bytes - burst->start : 0;
        records += burst->next - burst->first;
        window->again++;
    }
    return records;
}

bool ind_window_is_under_way(const struct ind_window *window, unsigned link)
{
    for (size_t i = 0; i < window->count; i++) {
        const struct ind_burst *burst = ind_window_at(window, i);
        if (burst->state == IND_BURST_SENT && burst->link == link)
            return true;
    }
    return false;
}

static void drop_first(struct ind_window *window)
{
    window->again -= at(window, 0)->state == IND_BURST_AGAIN;
    window->first = (window->first + 1) % IND_WINDOW_MOST;
    window->count--;
}

ind_time ind_window_oldest(const struct ind_window *window)
{
    for (size_t i = 0; i < window->count; i++)
        if (ind_window_at(window, i)->state != IND_BURST_HAD)
            return ind_window_at(window, i)->time;
    return IND_TIME_NONE;
}

uint64_t ind_window_done(struct ind_window *window, uint64_t next)
{
    while (window->count && at(window, 0)->state == IND_BURST_HAD)
        drop_first(window);
    return window->count ? at(window, 0)->first : next;
}

void ind_window_forget(struct ind_window *window, uint64_t first)
{
    while (window->count && at(window, 0)->next <= first)
        drop_first(window);
    if (window->count && at(window, 0)->first < first)
        at(window, 0)->first = first;
}
