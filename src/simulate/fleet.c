#include "simulate/fleet.h"

static const ind_time never = INT64_MAX;

void ind_fleet_begin(struct ind_fleet *fleet, uint64_t seed)
{
    fleet->seed = seed | 1;
    for (size_t a = 0; a < fleet->actor_count; a++)
        for (size_t s = 0; s < fleet->actors[a].says_count; s++) {
            struct ind_saying *saying = &fleet->actors[a].says[s];
            saying->next = saying->from;
            saying->said = 0;
        }
}

bool ind_fleet_next(struct ind_fleet *fleet, struct ind_actor **actor, struct ind_saying **saying)
{
    *saying = NULL;
    for (size_t a = 0; a < fleet->actor_count; a++)
        for (size_t s = 0; s < fleet->actors[a].says_count; s++) {
            struct ind_saying *each = &fleet->actors[a].says[s];
            if (each->next < fleet->lasts && (!*saying || each->next < (*saying)->next)) {
                *saying = each;
                *actor = &fleet->actors[a];
            }
        }
    return *saying != NULL;
}

/* xorshift64*: the same on every machine. */
static uint64_t draw(struct ind_fleet *fleet)
{
    fleet->seed ^= fleet->seed >> 12;
    fleet->seed ^= fleet->seed << 25;
    fleet->seed ^= fleet->seed >> 27;
    return (fleet->seed * UINT64_C(2685821657736338717)) >> 32;
}

void ind_time_write_3164(struct ind_buffer *buffer, const struct ind_zone *zone, ind_time time)
{
    static const char months[] = "JanFebMarAprMayJunJulAugSepOctNovDec";
    struct ind_civil local;
    ind_zone_civil(zone, time, &local);
    int parts[] = {local.hour, local.minute, local.second};
    ind_buffer_add(buffer, months + 3 * (local.month - 1), 3);
    ind_buffer_text(buffer, local.day < 10 ? "  " : " ");
    ind_buffer_number(buffer, (unsigned)local.day);
    for (int i = 0; i < 3; i++) {
        ind_buffer_text(buffer, i ? ":" : " ");
        ind_buffer_text(buffer, parts[i] < 10 ? "0" : "");
        ind_buffer_number(buffer, (unsigned)parts[i]);
    }
}

/* "1-254": a number out of these. */
static bool put_range(struct ind_fleet *fleet, struct ind_slice inside, struct ind_buffer *message)
{
    uint64_t numbers[2] = {0, 0};
    int which = 0;
    for (size_t i = 0; i < inside.length; i++) {
        if (inside.at[i] == '-' && which == 0 && i > 0)
            which = 1;
        else if (ind_is_digit(inside.at[i]) && numbers[which] < 1000000000)
            numbers[which] = numbers[which] * 10 + (uint64_t)(inside.at[i] - '0');
        else
            return false;
    }
    if (which == 0 || numbers[1] < numbers[0])
        return false;
    ind_buffer_number(message, numbers[0] + draw(fleet) % (numbers[1] - numbers[0] + 1));
    return true;
}

/* "a|b|c": one of these. */
static bool put_choice(struct ind_fleet *fleet, struct ind_slice inside, struct ind_buffer *message)
{
    size_t count = 1, start = 0;
    for (size_t i = 0; i < inside.length; i++)
        count += inside.at[i] == '|';
    if (count == 1)
        return false;
    size_t wanted = draw(fleet) % count;
    for (size_t i = 0; i <= inside.length; i++) {
        if (i < inside.length && inside.at[i] != '|')
            continue;
        if (wanted-- == 0) {
            ind_buffer_add(message, inside.at + start, i - start);
            return true;
        }
        start = i + 1;
    }
    return true;
}

static void put_text(struct ind_fleet *fleet, const struct ind_saying *saying, struct ind_buffer *message)
{
    struct ind_slice text = saying->text;
    while (text.length > 0) {
        const char *close = *text.at == '{' ? memchr(text.at, '}', text.length) : NULL;
        struct ind_slice inside = {text.at + 1, close ? (size_t)(close - text.at) - 1 : 0};
        if (close && ind_slice_equal(inside, IND_SLICE("n")))
            ind_buffer_number(message, saying->said + 1);
        else if (!close || !(put_range(fleet, inside, message) || put_choice(fleet, inside, message)))
            close = NULL;
        if (!close)
            ind_buffer_byte(message, *text.at);
        text = ind_slice_from(text, close ? inside.length + 2 : 1);
    }
}

static void put_or_nil(struct ind_buffer *message, struct ind_slice value)
{
    ind_buffer_byte(message, ' ');
    ind_buffer_slice(message, value.length ? value : IND_SLICE("-"));
}

/* What a clock shows that nobody ever set: it began at 1970 when the device was switched on. */
static ind_time shown_time(const struct ind_actor *actor, ind_time now, ind_time at)
{
    return actor->clock == IND_CLOCK_NEVER_SET ? 47 * IND_SECOND + at
           : actor->clock == IND_CLOCK_OFF     ? now + actor->clock_off
                                               : now;
}

void ind_fleet_say(struct ind_fleet *fleet, const struct ind_actor *actor, struct ind_saying *saying,
                   ind_time now, ind_time at, struct ind_buffer *message)
{
    if (!actor->traps) {
        ind_buffer_byte(message, '<');
        ind_buffer_number(message, saying->facility * 8u + saying->severity);
        ind_buffer_byte(message, '>');
    }
    if (actor->traps) {
        /* nothing but its text */
    } else if (actor->old_form) {
        ind_time_write_3164(message, actor->zone, shown_time(actor, now, at));
        ind_buffer_byte(message, ' ');
        if (actor->host.length) {
            ind_buffer_slice(message, actor->host);
            ind_buffer_byte(message, ' ');
        }
        ind_buffer_slice(message, saying->app);
        if (saying->procid.length) {
            ind_buffer_byte(message, '[');
            ind_buffer_slice(message, saying->procid);
            ind_buffer_byte(message, ']');
        }
        ind_buffer_text(message, saying->app.length ? ": " : "");
    } else {
        ind_buffer_text(message, "1 ");
        ind_time_write(message, shown_time(actor, now, at));
        put_or_nil(message, actor->host);
        put_or_nil(message, saying->app);
        put_or_nil(message, saying->procid);
        put_or_nil(message, saying->msgid);
        ind_buffer_text(message, " - ");
    }
    put_text(fleet, saying, message);
    saying->said++;
    saying->next =
        saying->every && saying->next + saying->every < saying->until ? saying->next + saying->every : never;
}
