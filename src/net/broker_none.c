/* Without the library of the message system. */
#include "net/broker.h"

#if !defined(IND_NATS)

#include <stdio.h>

bool ind_broker_is_built_in(void)
{
    return false;
}

struct ind_broker *ind_broker_open(const struct ind_broker_settings *settings, char reason[IND_BROKER_REASON])
{
    (void)settings;
    snprintf(reason, IND_BROKER_REASON, "this program is built without NATS (libnats)");
    return NULL;
}

void ind_broker_close(struct ind_broker *broker)
{
    (void)broker;
}

bool ind_broker_keep(struct ind_broker *broker, const char *stream, const char *subject,
                     char reason[IND_BROKER_REASON])
{
    (void)broker;
    (void)stream;
    (void)subject;
    reason[0] = '\0';
    return false;
}

bool ind_broker_publish(struct ind_broker *broker, const char *subject, const char *id,
                        const char *const *headers, const void *bytes, size_t length)
{
    (void)broker;
    (void)subject;
    (void)id;
    (void)headers;
    (void)bytes;
    (void)length;
    return false;
}

uint64_t ind_broker_published(const struct ind_broker *broker)
{
    (void)broker;
    return 0;
}

uint64_t ind_broker_acknowledged(struct ind_broker *broker)
{
    (void)broker;
    return 0;
}

uint64_t ind_broker_repeated(struct ind_broker *broker)
{
    (void)broker;
    return 0;
}

bool ind_broker_join(struct ind_broker *broker, const char *stream, const char *subject, const char *group,
                     int64_t again_after, char reason[IND_BROKER_REASON])
{
    (void)group;
    (void)again_after;
    return ind_broker_keep(broker, stream, subject, reason);
}

unsigned ind_broker_take(struct ind_broker *broker, int milliseconds)
{
    (void)broker;
    (void)milliseconds;
    return 0;
}

struct ind_broker_taken ind_broker_at(const struct ind_broker *broker, unsigned number)
{
    (void)broker;
    (void)number;
    return (struct ind_broker_taken){.id = "", .origin = ""};
}

void ind_broker_go_on(struct ind_broker *broker, unsigned number)
{
    (void)broker;
    (void)number;
}

void ind_broker_settle(struct ind_broker *broker, unsigned number, enum ind_broker_settling settling)
{
    (void)broker;
    (void)number;
    (void)settling;
}

void ind_broker_let_go(struct ind_broker *broker)
{
    (void)broker;
}

bool ind_broker_has_enough(const struct ind_broker *broker)
{
    (void)broker;
    return true;
}

bool ind_broker_lives(struct ind_broker *broker)
{
    (void)broker;
    return false;
}

const char *ind_broker_reason(const struct ind_broker *broker)
{
    (void)broker;
    return "";
}

#endif
