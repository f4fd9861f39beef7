/* config/load.h: what the readers of the sections share. Internal to config/. */
#ifndef IND_CONFIG_LOAD_H
#define IND_CONFIG_LOAD_H

#include "config/config.h"
#include "config/tree.h"

struct ind_named_text {
    const struct ind_node *key, *value;
    bool used;
    enum { IND_NAMED_UNREAD, IND_NAMED_READING, IND_NAMED_READ, IND_NAMED_BROKEN } state;
};

/* A setting of one value, where it goes and where it was set. */
struct ind_setting_seen {
    const void *place;
    const struct ind_node *value;
};

struct ind_loader {
    struct ind_loaded *loaded;
    struct ind_config *config;
    struct ind_diagnostics *diagnostics;
    struct ind_node **trees; /* kept until the end: sections point into them */
    size_t tree_count;
    /* Items of the sections in the order in which they act, over all files. */
    const struct ind_node **devices, **patterns, **edits, **routes, **relays, **alerts, **reports;
    size_t device_count, pattern_count, edit_count, route_count, relay_count, alert_count, report_count;
    const struct ind_node **archives; /* key, value, key, value */
    size_t archive_count;
    struct ind_named_text *named;
    size_t named_count;
    struct ind_setting_seen *seen; /* settings that may stand once only */
    size_t seen_count;
    struct ind_condition_place { /* of conditions that have been read, for what can only be seen at the end */
        const struct ind_node *node;
        ind_condition condition;
    } * conditions;
    size_t condition_count;
    int depth; /* of includes */
    int named_depth;
    bool no_memory; /* reported already: what was read is not whole, and is not looked through */
};

/* A mistake or a warning at a node. */
#define ind_wrong(loader, node, ...)                                                                         \
    ind_diagnostic_add((loader)->diagnostics, false, (node)->source, (node)->offset, (node)->length,         \
                       __VA_ARGS__)
#define ind_warn(loader, node, ...)                                                                          \
    ind_diagnostic_add((loader)->diagnostics, true, (node)->source, (node)->offset, (node)->length,          \
                       __VA_ARGS__)

/* A mistake inside a scalar's text. */
void ind_wrong_inside(struct ind_loader *loader, const struct ind_node *scalar,
                      const struct ind_mistake *mistake, bool warning);

/* A name that begins with "!" is a former one, whose reader says what it is called now: such stand last. */
struct ind_key {
    const char *name;
    void (*read)(struct ind_loader *loader, const struct ind_node *value, void *into);
};

/* A reader for ind_read_map that keeps the value's node in a member of a structure. */
#define IND_KEEP_NODE(type, member)                                                                          \
    static void keep_##member(struct ind_loader *loader, const struct ind_node *value, void *into)           \
    {                                                                                                        \
        (void)loader;                                                                                        \
        ((struct type *)into)->member = value;                                                               \
    }

/* Reads a map by a table of keys; unknown keys are reported with the nearest known one. False where the node
 * is no map. */
bool ind_read_map(struct ind_loader *loader, const struct ind_node *map, const struct ind_key *keys,
                  size_t count, void *into);

/* True where the node is a text; else reported as "expected `what`". */
bool ind_expect_text(struct ind_loader *loader, const struct ind_node *node, const char *what);
bool ind_expect_list(struct ind_loader *loader, const struct ind_node *node, const char *what);
/* A zone by its name or offset. New; NULL, reported, where there is none of that name. */
struct ind_zone *ind_read_zone(struct ind_loader *loader, const struct ind_node *node);
/* The condition of a rule, reported where it is none, or most likely not what was meant (`in_route` as for
 * ind_condition_warn). Returns its text, which is kept. */
const char *ind_read_when(struct ind_loader *loader, const struct ind_node *node, bool in_route,
                          ind_condition *when);
/* A program and its arguments, NULL behind the last; kept. NULL, reported, where it is none. */
char **ind_read_program(struct ind_loader *loader, const struct ind_node *value);
/* An address over HTTP such as `example`; kept. NULL, reported, where it is none. */
const char *ind_read_http_address(struct ind_loader *loader, const struct ind_node *value,
                                  const char *example);
/* Names of users, or one; kept, with commas between. NULL, reported, where there is none. */
const char *ind_read_users(struct ind_loader *loader, const struct ind_node *value);
bool ind_read_yes(struct ind_loader *loader, const struct ind_node *node, bool *yes);

/* Reads a file, which `from` names (NULL: the call), and keeps it for diagnostics. NULL, reported, where it
 * cannot be read or is used already. */
const struct ind_source *ind_load_source(struct ind_loader *loader, const char *path,
                                         const struct ind_node *from);

/* A relative path is relative to the file that holds it. As ind_keep. */
char *ind_resolve_path(struct ind_loader *loader, const struct ind_node *node);

/* Memory is out: a mistake, so that no configuration is used that is not whole. */
void ind_no_memory(struct ind_loader *loader);

/* A copy that lives as long as the configuration; NULL where memory is out, which is then reported. */
char *ind_keep(struct ind_loader *loader, struct ind_slice text);

/* Zeroed room of so many bytes, that lives as long. */
void *ind_keep_room(struct ind_loader *loader, size_t size);

/* Grows an array by one zeroed element; false where memory is out, which is then reported. */
bool ind_grow(struct ind_loader *loader, void *array, size_t *count, size_t size);

/* "192.0.2.0/24" into a network; reported where it is none. */
bool ind_read_network(struct ind_loader *loader, const struct ind_node *node, struct ind_network *network);

/* The sections, in the order in which they depend on each other. */
void ind_load_devices(struct ind_loader *loader);
bool ind_load_patterns(struct ind_loader *loader); /* false where memory is out */
void ind_load_conditions(struct ind_loader *loader);
/* A condition that was read at that node. */
void ind_keep_condition(struct ind_loader *loader, const struct ind_node *node, ind_condition condition);
/* What there is around conditions, once devices, edits and listeners are read. False where memory is out.
 * New: what is in it is freed by ind_surroundings_free. */
bool ind_surroundings_of(struct ind_loader *loader, struct ind_surroundings *around);
void ind_surroundings_free(struct ind_surroundings *around);
/* Once all that may use them is read. */
void ind_finish_conditions(struct ind_loader *loader);
void ind_load_archives(struct ind_loader *loader);
void ind_load_edits(struct ind_loader *loader);
void ind_edits_free(struct ind_config *config);
void ind_load_relays(struct ind_loader *loader);
void ind_load_alerts(struct ind_loader *loader);
void ind_load_reports(struct ind_loader *loader);
/* Once the conditions are compiled: which alerts a message concerns. False where memory is out. */
bool ind_finish_alerts(struct ind_loader *loader);
void ind_load_mail(struct ind_loader *loader, const struct ind_node *value, void *into);
void ind_load_routes(struct ind_loader *loader);
/* Archive policies that no route names. */
void ind_finish_archives(struct ind_loader *loader);
/* An address with its port, such as 0.0.0.0:514; kept. False, and told, where it is none. */
bool ind_load_socket_address(struct ind_loader *loader, const struct ind_node *value, char **address,
                             uint16_t *port);
void ind_load_serve(struct ind_loader *loader, const struct ind_node *value, void *into);
void ind_load_listen(struct ind_loader *loader, const struct ind_node *value, void *into);
void ind_limits_begin(struct ind_limits *limits); /* what holds where nothing is said */
void ind_load_limits(struct ind_loader *loader, const struct ind_node *value, void *into);
/* What a listener says of TLS: the nodes of its keys, NULL where they are not given. */
struct ind_listen_tls_text {
    const struct ind_node *files[IND_LISTEN_FILES], *fingerprints, *names;
};
/* What a listener says of a message system. */
struct ind_listen_nats_text {
    const struct ind_node *subject, *stream, *group, *again_after, *trust, *login;
};
/* What a listener says of traps. */
struct ind_listen_traps_text {
    const struct ind_node *communities, *users, *names;
};
/* Into item->traps, kept, where `value` is the address of such; else only "names" may be given, which is
 * somebody else's. False where there is a mistake. */
bool ind_load_listen_traps(struct ind_loader *loader, const struct ind_node *value,
                           const struct ind_listen_traps_text *text, struct ind_listen_item *item);
/* Into item->nats, kept, where `value` is the address of one; else nothing of it may be given. False where
 * there is a mistake. */
bool ind_load_listen_nats(struct ind_loader *loader, const struct ind_node *node,
                          const struct ind_node *value, const struct ind_listen_nats_text *text,
                          const struct ind_listen_tls_text *tls, struct ind_listen_item *item);
/* Once it is known where the state folder is: the local sockets through which such messages come. */
void ind_finish_listen_nats(struct ind_loader *loader);
/* The name of a subject; kept. NULL, reported, where it is none. */
const char *ind_load_subject(struct ind_loader *loader, const struct ind_node *value);
const char *ind_load_stream(struct ind_loader *loader, const struct ind_node *value);
/* What a stream is called where nobody says; kept. */
const char *ind_stream_of(struct ind_loader *loader, const char *subject);
/* Into item->tls, kept. `node`: the listener. False where there is a mistake. */
bool ind_load_listen_tls(struct ind_loader *loader, const struct ind_node *node,
                         const struct ind_listen_tls_text *text, struct ind_listen_item *item);
void ind_load_allow(struct ind_loader *loader, const struct ind_node *value, void *into);

/* All of it as an outline (config/outline.h). New; NULL where memory is out. */
char *ind_outline_make(struct ind_loader *loader);

bool ind_default_policy(struct ind_loader *loader);
struct ind_policy *ind_find_policy(struct ind_config *config, struct ind_slice name);

#endif
