#include "collect/alert/way.h"

#include "config/config.h"
#include "core/time/zone.h"

#include <stdio.h>
#include <stdlib.h>

#define MINUTE (60 * IND_SECOND)
#define HOUR (60 * MINUTE)
#define SHORTEST (10 * IND_SECOND)
#define LONGEST (10 * MINUTE)

/* ---- What it is ---- */

static const char *const kinds[] = {"mail", "post", "program", "terminals", "message"};

void ind_way_id(const struct ind_tell *tell, struct ind_buffer *room)
{
    ind_buffer_text(room, kinds[tell->kind]);
    for (size_t i = 0; tell->program && tell->program[i]; i++) {
        ind_buffer_byte(room, ' ');
        ind_buffer_text(room, tell->program[i]);
    }
    if (tell->to && !tell->program) {
        ind_buffer_byte(room, ' ');
        ind_buffer_text(room, tell->to);
    }
    if (tell->zone) {
        ind_buffer_text(room, " in ");
        ind_buffer_text(room, tell->zone);
    }
}

/* What stands before the path, without a login. */
static struct ind_slice host_of(const char *address)
{
    const char *host = strstr(address, "://");
    host = host ? host + 3 : address;
    const size_t length = strcspn(host, "/?#");
    const char *login = length ? memchr(host, '@', length) : NULL;
    const char *begin = login ? login + 1 : host;
    return (struct ind_slice){begin, (size_t)(host + length - begin)};
}

void ind_way_show(const struct ind_way *way, struct ind_buffer *room)
{
    const struct ind_tell *tell = &way->tell;
    ind_buffer_text(room, kinds[tell->kind]);
    if (tell->to)
        ind_buffer_byte(room, ' ');
    if (tell->kind == IND_TELL_POST)
        ind_buffer_cut(room, host_of(tell->to));
    else if (tell->to)
        ind_buffer_cut(room, ind_slice_of(tell->to));
    if (tell->zone) {
        ind_buffer_text(room, " in ");
        ind_buffer_text(room, tell->zone);
    }
}

struct ind_way *ind_way_new(const struct ind_tell *tell, const char *id, uint64_t at_most)
{
    struct ind_way *way = calloc(1, sizeof *way);
    if (!way)
        return NULL;
    way->id = strdup(id);
    way->tell = *tell;
    way->tell.to = tell->to ? strdup(tell->to) : NULL;
    way->tell.zone = tell->zone ? strdup(tell->zone) : NULL;
    way->tell.program = tell->program ? ind_program_copy(tell->program) : NULL;
    way->at_most = tell->kind == IND_TELL_MAIL ? at_most : 0;
    way->went = calloc(way->at_most + 1, sizeof *way->went);
    if (way->id && way->went && (!tell->to || way->tell.to) && (!tell->zone || way->tell.zone) &&
        (!tell->program || way->tell.program))
        return way;
    ind_way_free(way);
    return NULL;
}

static void free_text(const char *text)
{
    free((void *)(uintptr_t)text);
}

void ind_way_free(struct ind_way *way)
{
    if (!way)
        return;
    for (size_t i = 0; i < way->count; i++)
        ind_news_let_go(way->list[i].news);
    ind_program_free((char **)(uintptr_t)way->tell.program);
    free_text(way->tell.to);
    free_text(way->tell.zone);
    ind_zone_free(way->zone);
    free(way->went);
    free(way->id);
    free(way);
}

/* ---- What waits ---- */

void ind_way_add(struct ind_way *way, struct ind_news *news, uint64_t id, bool held)
{
    way->upto = id > way->upto ? id : way->upto;
    if (way->count == IND_WAY_WAITING) {
        way->left_out++;
        return;
    }
    way->list[way->count++] = (struct ind_way_item){ind_news_hold(news), id, held};
}

int64_t ind_way_pause(const struct ind_way *way)
{
    int64_t pause = SHORTEST;
    for (unsigned i = 1; i < way->failures && pause < LONGEST; i++)
        pause *= 2;
    return pause < LONGEST ? pause : LONGEST;
}

static bool may_go(const struct ind_way *way, struct ind_steady now)
{
    if (way->under_way || (way->count == 0 && way->left_out == 0))
        return false;
    if (way->failures && ind_steady_lately(way->failed, now, ind_way_pause(way)))
        return false;
    if (way->at_most == 0)
        return true;
    /* Of the last so many, the first must be an hour old. */
    return !ind_steady_lately(way->last, now, MINUTE) &&
           (way->gone < way->at_most || !ind_steady_lately(way->went[way->gone % way->at_most], now, HOUR));
}

bool ind_way_begin(struct ind_way *way, struct ind_steady now, uint64_t *left_out)
{
    if (!may_go(way, now))
        return false;
    const size_t most = way->at_most ? IND_WAY_IN_ONE : 1;
    way->under_way = true;
    way->going = way->count < most ? way->count : most;
    /* What was left out came after all that is there. */
    way->going_left_out = way->going == way->count ? way->left_out : 0;
    way->going_upto = way->going == way->count ? way->upto : way->list[way->going - 1].id;
    *left_out = way->going_left_out;
    return true;
}

static void has_gone(struct ind_way *way, struct ind_steady now)
{
    if (way->at_most)
        way->went[way->gone % way->at_most] = now;
    way->gone++;
    way->last = now;
}

void ind_way_end(struct ind_way *way, bool delivered, const char *reason, struct ind_steady now,
                 uint64_t *upto)
{
    way->under_way = false;
    *upto = 0;
    if (!delivered) {
        way->failures++;
        way->failed_count++;
        way->failed = now;
        snprintf(way->reason, sizeof way->reason, "%s", reason);
        return;
    }
    for (size_t i = 0; i < way->going; i++)
        ind_news_let_go(way->list[i].news);
    way->count -= way->going;
    memmove(way->list, way->list + way->going, way->count * sizeof *way->list);
    way->left_out -= way->going_left_out;
    way->failures = 0;
    way->reason[0] = '\0';
    way->delivered++;
    has_gone(way, now);
    *upto = way->going_upto;
}
