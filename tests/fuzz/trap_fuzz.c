/* Any bytes may come to a listener for traps: as they are, or signed and enciphered with a key that is known.
 * What is made of them is a message of RFC 5424 that is not malformed, and an answer is one of SNMP. */
#include "collect/intake/traps.h"
#include "core/message/header.h"

#include <stdio.h>
#include <stdlib.h>

static const struct ind_slice engine = {"\x80\0\0\0\1fuzz", 9};

static struct ind_usm_user users[2] = {
    {.name = "open"}, {.name = "ops", .authentication = IND_USM_SHA256, .privacy = IND_USM_AES128}};
static const char *communities[] = {"skerry"};

/* The bytes as the inside of a message of version 3 of that user: clear, or enciphered. */
static struct ind_slice secure(const uint8_t *bytes, size_t size, bool secured, char *room, size_t room_size)
{
    static uint32_t time;
    unsigned char local[IND_USM_KEY], digest[IND_USM_DIGEST];
    char *inside = malloc(size + 1);
    size_t from_end;
    struct ind_ber_out out = {room, room_size, room_size, false};
    struct ind_usm_message message = {
        .engine = engine, .user = IND_SLICE("open"), .boots = 1, .time = ++time};
    if (!inside || !ind_usm_localise(IND_USM_SHA256, users[1].key, engine, local))
        abort();
    if (secured) {
        message.user = IND_SLICE("ops");
        message.digest = ind_usm_digest_bytes(IND_USM_SHA256);
        message.salt = IND_SLICE("saltsalt");
        if (!ind_usm_encipher(local, 1, time, (const unsigned char *)message.salt.at,
                              (struct ind_slice){(const char *)bytes, size}, inside))
            abort();
        ind_ber_put_item(&out, IND_BER_OCTETS, (struct ind_slice){inside, size});
    } else {
        ind_ber_put_item(&out, IND_BER_SEQUENCE, (struct ind_slice){(const char *)bytes, size});
    }
    ind_usm_put_message(&out, &message, room_size, &from_end);
    const struct ind_slice whole = ind_ber_written(&out);
    if (secured && whole.length) {
        if (!ind_usm_sign(IND_USM_SHA256, local, whole, whole.length - from_end, digest))
            abort();
        memcpy(room + room_size - from_end, digest, message.digest);
    }
    free(inside);
    return whole;
}

static void read_one(struct ind_traps *traps, const struct ind_trap_rules *rules, struct ind_slice datagram)
{
    static struct ind_zone *zone;
    struct ind_message message;
    struct ind_trap_result result;
    const struct ind_trap_sender sender = {.address = {.bits = 32, .bytes = {192, 0, 2, 9}}, .relay = true};
    static int64_t now = IND_SECOND;
    zone = zone ? zone : ind_zone_fixed(0);
    now += IND_SECOND / 1000;
    ind_traps_read(traps, rules, &sender, datagram, (struct ind_steady){now}, &result);
    if (result.answer.length && ind_trap_version(result.answer) < 0)
        abort();
    if (result.outcome != IND_TRAP_MESSAGE)
        return;
    ind_header_read(result.message.at, result.message.length, IND_SECOND, zone, &message);
    if (result.cut)
        return;
    if (message.form != IND_FORM_RFC5424 || message.malformed != IND_MALFORMED_NOT ||
        message.text.length == 0 || !ind_slice_equal(message.app, IND_SLICE("trap"))) {
        fprintf(stderr, "%.*s\n", IND_ARG(result.message));
        abort();
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static char room[70000];
    static struct ind_traps *traps;
    static struct ind_listen_traps listen = {.communities = communities, .community_count = 1};
    static struct ind_trap_rules rules = {&listen, users, 2};
    if (!traps) {
        const struct ind_own_engine own = {.id = "own", .id_length = 3, .boots = 1, .began = {IND_SECOND}};
        struct ind_trap_engines *engines = ind_trap_engines_new();
        traps = engines ? ind_traps_new(engines) : NULL;
        listen.table = ind_trap_names_new(NULL, 0);
        if (!traps || !listen.table)
            abort();
        ind_trap_engines_begin(engines, &own);
    }
    if (size > 60000)
        return 0;
    read_one(traps, &rules, (struct ind_slice){(const char *)bytes, size});
    read_one(traps, &rules, secure(bytes, size, false, room, sizeof room));
    read_one(traps, &rules, secure(bytes, size, true, room, sizeof room));
    return 0;
}
