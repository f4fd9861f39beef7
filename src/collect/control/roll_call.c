#include "collect/control/roll_call.h"

#include <stdlib.h>
#include <uthash.h>

#define MINUTE (60 * IND_SECOND)

/* A configured device, by its name, or a sender that is none, by its address. */
struct heard {
    UT_hash_handle hh;
    char *name;
    uint64_t received, before; /* messages: in this call, and in the one before */
    struct ind_steady last;    /* when they had become more; not set: nothing was ever heard */
    bool silent;               /* which has been told */
};

/* How many of a kind have been told in this minute, and how many have not. */
struct budget {
    struct ind_steady began;
    unsigned told;
    size_t more;
};

struct ind_roll_call {
    struct ind_reporter *reporter;
    struct ind_steady began;
    struct heard *devices, *senders;
    struct budget silent, again, unknown;
};

struct ind_roll_call *ind_roll_call_new(struct ind_reporter *reporter, struct ind_steady began)
{
    struct ind_roll_call *roll = calloc(1, sizeof *roll);
    if (roll)
        *roll = (struct ind_roll_call){.reporter = reporter, .began = began};
    return roll;
}

static void free_table(struct heard **table)
{
    struct heard *heard, *next;
    HASH_ITER(hh, *table, heard, next)
    {
        HASH_DEL(*table, heard);
        free(heard->name);
        free(heard);
    }
}

void ind_roll_call_free(struct ind_roll_call *roll)
{
    if (!roll)
        return;
    free_table(&roll->devices);
    free_table(&roll->senders);
    free(roll);
}

/* Found or made; NULL where memory is out, or there is no room. *fresh: made. */
static struct heard *heard_for(struct heard **table, struct ind_slice name, size_t most, bool *fresh)
{
    struct heard *heard;
    *fresh = false;
    HASH_FIND(hh, *table, name.at, (unsigned)name.length, heard);
    if (heard || HASH_COUNT(*table) >= most)
        return heard;
    heard = calloc(1, sizeof *heard);
    char *copy = heard ? malloc(name.length + 1) : NULL;
    if (!copy) {
        free(heard);
        return NULL;
    }
    memcpy(copy, name.at, name.length);
    copy[name.length] = '\0';
    heard->name = copy;
    HASH_ADD_KEYPTR(hh, *table, heard->name, (unsigned)name.length, heard);
    *fresh = true;
    return heard;
}

/* False: it is one of those that are told together. */
static bool may_tell(struct budget *budget)
{
    if (budget->told < IND_ROLL_CALL_TOLD) {
        budget->told++;
        return true;
    }
    budget->more++;
    return false;
}

static void end_minute(struct ind_roll_call *roll, struct budget *budget, enum ind_own own, const char *what,
                       struct ind_steady now)
{
    if (ind_steady_lately(budget->began, now, MINUTE))
        return;
    if (budget->more)
        ind_report(roll->reporter, own, NULL, "%zu more %s; \"indagator status\" tells which", budget->more,
                   what);
    *budget = (struct budget){.began = now};
}

/* ---- Those that are configured ---- */

static void tell_silent(struct ind_roll_call *roll, struct heard *heard, struct ind_steady now)
{
    heard->silent = true;
    if (!may_tell(&roll->silent))
        return;
    bool ever = ind_steady_is_set(heard->last);
    long long minutes = ind_steady_from(ever ? heard->last : roll->began, now) / MINUTE;
    ind_report(roll->reporter, IND_OWN_DEVICE_SILENT, IND_WITH({"device", ind_slice_of(heard->name)}),
               ever ? "nothing has come from %s for %lld min"
                    : "nothing has come from %s since the start, %lld min ago",
               heard->name, minutes);
}

static void tell_again(struct ind_roll_call *roll, struct heard *heard, struct ind_steady now)
{
    heard->silent = false;
    if (!may_tell(&roll->again))
        return;
    bool ever = ind_steady_is_set(heard->last);
    ind_report(roll->reporter, IND_OWN_DEVICE_HEARD, IND_WITH({"device", ind_slice_of(heard->name)}),
               ever ? "%s is heard again after %lld min"
                    : "%s is heard for the first time, %lld min after the start",
               heard->name, (long long)(ind_steady_from(ever ? heard->last : roll->began, now) / MINUTE));
}

/* Relays speak for others. */
static void look_at_device(struct ind_roll_call *roll, const struct ind_device *device, struct ind_steady now)
{
    bool fresh;
    struct heard *heard =
        heard_for(&roll->devices, (struct ind_slice){device->name, device->name_length}, SIZE_MAX, &fresh);
    if (!heard || device->relay)
        return;
    bool more = heard->received > heard->before;
    if (more && heard->silent)
        tell_again(roll, heard, now);
    if (more)
        heard->last = now;
    struct ind_steady since = ind_steady_is_set(heard->last) ? heard->last : roll->began;
    if (!heard->silent && ind_steady_from(since, now) >= IND_SILENT_AFTER * IND_SECOND)
        tell_silent(roll, heard, now);
}

/* ---- All that were heard ---- */

static void tell_unknown(struct ind_roll_call *roll, const struct ind_account *account)
{
    if (!may_tell(&roll->unknown))
        return;
    bool named = account->device.length > 0 && !ind_slice_equal(account->device, account->sender);
    ind_report(
        roll->reporter, IND_OWN_DEVICE_UNKNOWN,
        IND_WITH({"sender", account->sender}, {"device", account->device}),
        "%.*s sends, and is none of the configured devices%s%.*s%s; \"indagator status\" gives a block to "
        "copy",
        IND_ARG(account->sender), named ? " (it calls itself " : "", named ? (int)account->device.length : 0,
        account->device.at, named ? ")" : "");
}

static void hear(struct ind_roll_call *roll, const struct ind_account *account, uint64_t received)
{
    bool fresh, stranger = account->kind == IND_ACCOUNT_STRANGER && account->sender.length > 0;
    if (received == 0 || (account->kind != IND_ACCOUNT_DEVICE && !stranger))
        return;
    struct heard *heard = stranger ? heard_for(&roll->senders, account->sender, IND_ROLL_CALL_KNOWN, &fresh)
                                   : heard_for(&roll->devices, account->device, SIZE_MAX, &fresh);
    if (stranger && heard && fresh)
        tell_unknown(roll, account);
    else if (heard && !stranger)
        heard->received += received;
}

void ind_roll_call(struct ind_roll_call *roll, const struct ind_config *config,
                   const struct ind_ledger_snapshot *snapshots, struct ind_accounts *const *accounts,
                   unsigned intakes, struct ind_steady now)
{
    size_t count = ind_devices_count(config->devices);
    if (count == 0)
        return;
    for (struct heard *heard = roll->devices; heard; heard = heard->hh.next) {
        heard->before = heard->received;
        heard->received = 0;
    }
    for (unsigned i = 0; i < intakes; i++)
        for (uint32_t n = 0; snapshots[i].ledgers && n < snapshots[i].account_count; n++)
            hear(roll, ind_account_at(accounts[i], n), snapshots[i].ledgers[n].received);
    for (size_t i = 0; i < count; i++)
        look_at_device(roll, ind_devices_at(config->devices, i), now);
    end_minute(roll, &roll->silent, IND_OWN_DEVICE_SILENT, "configured devices have fallen silent", now);
    end_minute(roll, &roll->again, IND_OWN_DEVICE_HEARD, "configured devices are heard again", now);
    end_minute(roll, &roll->unknown, IND_OWN_DEVICE_UNKNOWN, "senders are none of the configured devices",
               now);
}
