/* config/config.h: a whole configuration, read and compiled (docs/configuration.md).
 *
 * Reading touches nothing but the files it reads. A configuration never changes once loaded and may be shared
 * by threads. */
#ifndef IND_CONFIG_CONFIG_H
#define IND_CONFIG_CONFIG_H

#include "config/relay.h"
#include "config/source.h"
#include "core/alert/rule.h"
#include "core/archive/archive_name.h"
#include "core/archive/retention.h"
#include "core/archive/rotation.h"
#include "core/base/fingerprint.h"
#include "core/edit/edit.h"
#include "core/message/device.h"
#include "core/pattern/pattern.h"
#include "core/route/route.h"
#include "core/trap/usm.h"

struct ind_policy {
    char *name;
    struct ind_rotation_rule rotate;
    struct ind_retention_rule keep;
    enum ind_compression compress;
    int level;                /* of the compression */
    int64_t recompress_after; /* seconds since the rotation; 0: never */
    enum ind_compression recompress;
    int recompress_level;
    bool chain;                           /* its archives are proven (store/disk/chain.h) */
    char *second_place;                   /* path of a folder; NULL: none */
    const struct ind_source *sign_source; /* the place of the next one */
    size_t sign_offset, sign_length;
    char *sign; /* path of the private key that signs the links; NULL: none does */
};

enum ind_listener_kind {
    IND_LISTEN_UDP,
    IND_LISTEN_TCP,
    IND_LISTEN_TLS,
    IND_LISTEN_UNIX,
    IND_LISTEN_INHERITED, /* a socket that the service manager has opened */
    IND_LISTEN_NATS,      /* a message system, from which messages are taken */
    IND_LISTEN_TRAPS      /* of SNMP, over UDP */
};

/* The files of a TLS listener. */
enum ind_listen_file {
    IND_LISTEN_CERTIFICATE,
    IND_LISTEN_KEY,
    IND_LISTEN_CLIENTS, /* authorities */
    IND_LISTEN_REVOKED,
    IND_LISTEN_FILES
};

/* RFC 5425. */
struct ind_listen_tls {
    struct {
        char *path; /* NULL: not given */
        const struct ind_source *source;
        size_t offset, length; /* where it is written */
    } files[IND_LISTEN_FILES];
    struct ind_fingerprint *fingerprints;
    size_t fingerprint_count;
    const char **names;
    size_t name_count;
};

/* Of a message system (docs/scale.md). */
struct ind_listen_nats {
    const char *host, *port;
    const char *subject, *stream, *group;
    const char *trust, *certificate, *key, *login; /* paths; NULL: not given */
    int64_t again_after; /* ns: what was not acknowledged is given to somebody else */
};

/* A file with a secret, and where it is written. */
struct ind_key_file {
    const char *path; /* NULL: not given */
    const struct ind_source *source;
    size_t offset, length;
};

/* One who may send traps of version 3, and how they are secured (core/trap/usm.h). */
struct ind_trap_user {
    const char *name;
    enum ind_usm_authentication authentication;
    enum ind_usm_privacy privacy;
    struct ind_key_file key, privacy_key;
};

/* Who may send traps, and what they are called (docs/traps.md). */
struct ind_listen_traps {
    const char **communities; /* of v1 and v2c */
    size_t community_count;
    struct ind_trap_user *users;
    size_t user_count;
    struct ind_trap_names *table;
};

struct ind_listen_item {
    enum ind_listener_kind kind;
    char *text;                       /* "udp 0.0.0.0:514": what messages carry as their listener */
    char *address;                    /* numeric; the path of a local socket; the name of an inherited one */
    uint16_t port;                    /* 0: any free one */
    bool stream;                      /* connections, not datagrams; of an inherited one: not known yet */
    unsigned mode;                    /* permissions of a local socket */
    const struct ind_listen_tls *tls; /* NULL: none */
    const struct ind_listen_nats
        *nats; /* likewise; `address` is then the local socket through which they come */
    const struct ind_listen_traps *traps; /* likewise */
    bool drop; /* when there is no room what comes is lost, and counted; otherwise senders wait */
    bool join; /* a line that begins with a blank belongs to the message before */
};

/* Datagrams of UDP come to it. */
static inline bool ind_listens_on_udp(const struct ind_listen_item *item)
{
    return item->kind == IND_LISTEN_UDP || item->kind == IND_LISTEN_TRAPS;
}

/* What strangers may take at most (docs/configuration.md). Spans in nanoseconds. */
struct ind_limits {
    uint64_t connections; /* at once */
    uint64_t per_address; /* of them; 0: half */
    uint64_t handshakes;  /* that may be under way at once */
    uint64_t message;     /* bytes of one: what is longer is cut */
    uint64_t memory;      /* bytes of all messages that are not whole; 0: a quarter of the burst buffer */
    int64_t handshake;    /* one may last */
    int64_t unfinished;   /* a message may be under way */
    int64_t idle;         /* a connection may say nothing; 0: for ever */
};

/* Where anybody may ask, over HTTP, how it stands. */
struct ind_serve {
    char *address;    /* NULL: nowhere */
    uint16_t port;    /* 0: any free one */
    char *text;       /* as the configuration has it */
    uint64_t devices; /* that metrics have apart; others are put together */
};

/* Alerts, and what is asked of each message for them: two conditions of each at most, like routes. */
struct ind_alert_rules {
    struct ind_alert_rule *list;
    size_t count;
    struct ind_route *tests;
    struct ind_alert_test {
        uint16_t alert;
        bool ends; /* what holds then is the condition under `over` */
    } * of;
    size_t test_count;
    struct ind_router *router; /* NULL: there are no alerts */
};

enum { IND_MAILS_AN_HOUR = 20 };

/* How mails go out. */
struct ind_mail {
    const char *server; /* "smtp.skerry.example:587"; NULL: there is none */
    const char *from;
    const char *login, *trust; /* paths; NULL: not given */
    bool tls_at_once;          /* otherwise by STARTTLS, unless */
    bool plain;                /* it goes without encryption */
    uint64_t at_most;          /* to one recipient in an hour */
};

/* A report that is made by itself (docs/reports.md). */
enum ind_report_every { IND_REPORT_EVERY_DAY, IND_REPORT_EVERY_WEEK, IND_REPORT_EVERY_MONTH };
enum { IND_MOST_REPORTS = 64, IND_REPORT_NAME = 64 };
struct ind_report_rule {
    const char *name;
    enum ind_report_every every;
    uint32_t at;           /* seconds of the day, by the clock of the zone */
    const char *folder;    /* NULL: no file is kept */
    const char *mail;      /* NULL: nobody gets it */
    const char *when_text; /* NULL: every message */
    bool quick;            /* nothing but what the catalog knows */
};

struct ind_config {
    char *store, *state, *domain, *zone_text;
    struct ind_zone *zone;
    const struct ind_zone *times; /* of the times of stored lines: `zone`, or NULL: UTC */
    bool local_times;
    uint64_t reserve; /* bytes of the file system that are kept free; 0: none */
    char *user;       /* to be taken on once sockets are open; NULL: none */
    char **groups;
    size_t group_count;
    uint64_t open_files, burst_buffer; /* files; bytes */
    uint64_t threads;                  /* that receive; 0: one processor is left free */
    struct ind_listen_item *listeners;
    size_t listener_count;
    struct ind_trap_names **trap_names; /* of listeners for traps */
    size_t trap_names_count;
    struct ind_limits limits;
    struct ind_serve serve;
    struct ind_network *allow;
    size_t allow_count;
    bool allow_given;
    struct ind_devices *devices;
    struct ind_zone **device_zones;
    size_t device_zone_count;
    struct ind_patterns *patterns;
    struct ind_syntax_place { /* of each layout: for what is reported of it */
        const struct ind_source *source;
        size_t offset, length;
        struct ind_slice example; /* or empty */
    } * layout_places;
    size_t layout_place_count;
    struct ind_conditions *conditions;
    struct ind_named named; /* the named conditions, for conditions given elsewhere */
    ind_condition *named_conditions;
    const char **named_texts; /* as written; for sets of conditions of their own */
    struct ind_edits edits;
    struct ind_place *edit_places; /* where they are written */
    struct ind_route *routes;
    size_t route_count;
    struct ind_place *route_places; /* where they are written; source NULL: nowhere */
    uint32_t *routes_by_name;       /* in the order of their names */
    struct ind_policy *policies;    /* the first is "default" */
    size_t policy_count;
    struct ind_relay_rule *relays;
    size_t relay_count;
    struct ind_alert_rules alerts;
    struct ind_mail mail;
    struct ind_report_rule *reports;
    size_t report_count;
    struct ind_router *router;
    char *outline; /* config/outline.h */
    char **kept;   /* texts that the above borrow */
    size_t kept_count;
};

enum {
    IND_OPEN_FILES = 4096,
    IND_BURST_BUFFER = 64 << 20,
    IND_MOST_LISTENERS = 64,
    IND_PROGRAM_BYTES = 16384
};

struct ind_loaded {
    struct ind_config *config;          /* NULL where there are mistakes */
    struct ind_diagnostics diagnostics; /* sorted */
    struct ind_source *sources;
};

/* Reads `path` and what it includes. */
void ind_config_load(const char *path, struct ind_loaded *loaded);

/* What holds where a file says nothing: for commands that need no file. */
void ind_config_defaults(struct ind_loaded *loaded);

void ind_loaded_free(struct ind_loaded *loaded);

/* `./indagator.yaml`, then `/etc/indagator/indagator.yaml`; NULL where there is neither. */
const char *ind_config_find(void);

/* Adds a warning for each pair of patterns that fit one text both, and one for those that could not be
 * compared. */
void ind_config_compare_patterns(struct ind_loaded *loaded);

/* Reads a condition into a set of its own, with the named conditions of this configuration; an empty one
 * holds for every message. New in *set, compiled, also where it is false with *mistake made; NULL where
 * memory is out. */
bool ind_config_condition(const struct ind_config *config, struct ind_slice text, struct ind_conditions **set,
                          ind_condition *condition, struct ind_mistake *mistake);

/* Where a route's messages go, for people: the path with its placeholders, "standard output", or "program"
 * and its words. */
void ind_route_describe(const struct ind_route *route, struct ind_buffer *buffer);

/* The alert of that name; NULL where there is none. */
const struct ind_alert_rule *ind_config_alert(const struct ind_config *config, const char *name);

/* When an alert opens and is over, for people. */
void ind_alert_describe(const struct ind_alert_rule *rule, struct ind_buffer *buffer);

/* What an edit does, for people: "mask phone, email". */
void ind_edit_describe(const struct ind_edit *edit, struct ind_buffer *buffer);

/* A program and its arguments, NULL behind the last: a copy. NULL where memory is out. ind_program_free
 * accepts NULL. */
char **ind_program_copy(char *const *program);
void ind_program_free(char **program);

/* Whether some route's messages go there. */
bool ind_config_has_to(const struct ind_config *config, enum ind_to to);

/* The route of that name; NULL where there is none. */
const struct ind_route *ind_config_route(const struct ind_config *config, const char *name);

/* Whether messages from this address are taken. */
bool ind_config_allows(const struct ind_config *config, const struct ind_address *sender);

/* Connections that one address may have; bytes that messages which are not whole may hold together. */
uint64_t ind_limits_per_address(const struct ind_limits *limits);
uint64_t ind_limits_memory(const struct ind_config *config);

/* "every day or 256 MiB" and so on, for people. */
void ind_policy_describe(const struct ind_policy *policy, struct ind_buffer *buffer);

#endif
