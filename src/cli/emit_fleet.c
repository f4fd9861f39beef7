/* cli/emit_fleet.c: plays a made-up fleet: each device a sender of its own, from its own address. */
#include "cli/emit.h"
#include "collect/runtime/clock.h"
#include "simulate/fleet_file.h"

#include <stdlib.h>

enum { LONGEST = 8192 };

struct playing {
    struct ind_emitter *emitter;
    struct ind_fleet *fleet;
    const struct ind_emit_target *targets;
    size_t target_count;
    struct ind_outlet **outlets;         /* by actor */
    const struct ind_emit_target **used; /* by actor */
};

/* The target of the device's own transport, or the first. */
static const struct ind_emit_target *target_for(const struct playing *playing, const struct ind_actor *actor)
{
    bool stream = actor->transport == IND_FLEET_TCP;
    for (size_t i = 0; i < playing->target_count; i++) {
        enum ind_transport_kind kind = playing->targets[i].kind;
        if (playing->targets[i].traps == actor->traps &&
            (stream ? kind == IND_SEND_TCP || kind == IND_SEND_TLS : kind == IND_SEND_UDP))
            return &playing->targets[i];
    }
    return &playing->targets[0];
}

static bool open_outlet(struct playing *playing, size_t index)
{
    const struct ind_actor *actor = &playing->fleet->actors[index];
    const struct ind_emit_target *target = target_for(playing, actor);
    if (actor->traps && !target->traps) {
        ind_complain("%.*s sends traps: say where to with --to traps:HOST:PORT", IND_ARG(actor->name));
        return false;
    }
    char from[IND_ADDRESS_WIDTH];
    const char *reason;
    snprintf(from, sizeof from, "%.*s", IND_ARG(actor->from));
    struct ind_outlet_settings settings = {.kind = target->kind,
                                           .host = target->host,
                                           .port = target->port,
                                           .tls = target->tls,
                                           .from = actor->from.length ? from : NULL,
                                           .lines = actor->lines};
    playing->used[index] = target;
    playing->outlets[index] = ind_outlet_open(&settings, &reason);
    if (!playing->outlets[index])
        ind_complain("%.*s cannot send to %s from %s: %s", IND_ARG(actor->name), target->text,
                     actor->from.length ? from : "any address", reason);
    return playing->outlets[index] != NULL;
}

static bool play(struct playing *playing)
{
    static char bytes[LONGEST];
    struct ind_emitter *emitter = playing->emitter;
    struct ind_actor *actor;
    struct ind_saying *saying;
    emitter->began = ind_steady_now();
    while (!ind_emit_done(emitter) && ind_fleet_next(playing->fleet, &actor, &saying)) {
        size_t index = (size_t)(actor - playing->fleet->actors);
        int64_t at = saying->next;
        struct ind_buffer message = ind_buffer_on(bytes, sizeof bytes);
        ind_emit_wait_until(ind_steady_after(emitter->began, at));
        ind_fleet_say(playing->fleet, actor, saying, ind_now(), at, &message);
        /* Each is seen at once, as devices send them. */
        if (!ind_emit_send(emitter, playing->used[index], playing->outlets[index],
                           ind_buffer_view(&message)) ||
            !ind_outlet_flush(playing->outlets[index]))
            return false;
    }
    return true;
}

int ind_emit_fleet(struct ind_emitter *emitter, const char *path, const struct ind_emit_target *targets,
                   size_t count)
{
    struct ind_fleet_file *file;
    struct ind_diagnostics diagnostics = {0};
    bool good = ind_fleet_read(path, &file, &diagnostics);
    for (size_t i = 0; i < diagnostics.count; i++)
        ind_diagnostic_print(&diagnostics.list[i], stderr);
    ind_diagnostics_free(&diagnostics);
    if (!good) {
        ind_fleet_free(file);
        return IND_EXIT_CALL;
    }
    struct playing playing = {emitter, ind_fleet_of(file), targets, count, NULL, NULL};
    size_t actors = playing.fleet->actor_count;
    playing.outlets = calloc(actors, sizeof(struct ind_outlet *));
    playing.used = calloc(actors, sizeof(struct ind_emit_target *));
    good = playing.outlets && playing.used;
    for (size_t i = 0; good && i < actors; i++)
        good = open_outlet(&playing, i);
    if (good) {
        ind_fleet_begin(playing.fleet, 1);
        good = play(&playing);
    }
    for (size_t i = 0; playing.outlets && i < actors; i++)
        ind_outlet_close(playing.outlets[i]);
    free(playing.outlets);
    free(playing.used);
    ind_fleet_free(file);
    return good ? IND_EXIT_DONE : IND_EXIT_FAILED;
}
