/* config/listen_traps.c: who may send traps, and what they are called. The files of keys are read by whoever
 * listens, or checks (collect/intake/trap_rules.h). */
#include "config/csv.h"
#include "core/trap/ber.h"

#include <stdlib.h>

/* "sha-256": in the order of enum ind_usm_authentication and enum ind_usm_privacy. */
static const char *const authentications[] = {"none", "sha-1", "sha-256"};
static const char *const privacies[] = {"none", "aes-128"};

struct user_text {
    const struct ind_node *name, *authentication, *key, *privacy, *privacy_key;
};
IND_KEEP_NODE(user_text, name)
IND_KEEP_NODE(user_text, authentication)
IND_KEEP_NODE(user_text, key)
IND_KEEP_NODE(user_text, privacy)
IND_KEEP_NODE(user_text, privacy_key)

static unsigned read_choice(struct ind_loader *loader, const struct ind_node *value,
                            const char *const *choices, size_t count, const char *what)
{
    if (!value || !ind_expect_text(loader, value, what))
        return 0;
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal_nocase(value->text, ind_slice_of(choices[i])))
            return (unsigned)i;
    ind_wrong(loader, value, "\"%.*s\" is not known here; it is %s", IND_ARG(value->text), what);
    return 0;
}

static void read_key(struct ind_loader *loader, const struct ind_node *user, const struct ind_node *value,
                     const char *key, bool wanted, const char *goes_with, struct ind_key_file *file)
{
    if (wanted && !value)
        ind_wrong(loader, user, "\"%s\" is missing: the file whose first line is the password", key);
    else if (!wanted && value)
        ind_wrong(loader, value, "\"%s\" goes with \"%s\"; add that, or leave it out", key, goes_with);
    else if (value && ind_expect_text(loader, value, "the path of a file with a password"))
        *file = (struct ind_key_file){ind_resolve_path(loader, value), value->source, value->offset,
                                      value->length};
}

static void read_user(struct ind_loader *loader, const struct ind_node *node, struct ind_listen_traps *traps)
{
    static const struct ind_key keys[] = {{"name", keep_name},
                                          {"authentication", keep_authentication},
                                          {"key", keep_key},
                                          {"privacy", keep_privacy},
                                          {"privacy key", keep_privacy_key}};
    struct user_text text = {0};
    struct ind_trap_user user = {0};
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    if (!text.name) {
        ind_wrong(loader, node, "a user without a name; add one such as \"name: ops\"");
        return;
    }
    if (!ind_expect_text(loader, text.name, "the name of a user"))
        return;
    if (text.name->text.length == 0 || text.name->text.length > IND_USM_USER)
        ind_wrong(loader, text.name, "a name of 1 to %d bytes is expected", IND_USM_USER);
    for (size_t i = 0; i < traps->user_count; i++)
        if (ind_slice_equal(ind_slice_of(traps->users[i].name), text.name->text))
            ind_wrong(loader, text.name, "there is a user \"%.*s\" already", IND_ARG(text.name->text));
    user.name = ind_keep(loader, text.name->text);
    user.authentication = (enum ind_usm_authentication)read_choice(
        loader, text.authentication, authentications, 3, "sha-1, sha-256 or none");
    user.privacy = (enum ind_usm_privacy)read_choice(loader, text.privacy, privacies, 2, "aes-128 or none");
    if (user.privacy && !user.authentication)
        ind_wrong(loader, text.privacy,
                  "\"privacy\" goes with \"authentication\" (RFC 3414 section 1.4.3); add that");
    read_key(loader, node, text.key, "key", user.authentication != 0, "authentication", &user.key);
    read_key(loader, node, text.privacy_key, "privacy key", user.privacy != 0, "privacy", &user.privacy_key);
    if (user.name)
        traps->users[traps->user_count++] = user;
}

static void read_users(struct ind_loader *loader, const struct ind_node *value,
                       struct ind_listen_traps *traps)
{
    if (!ind_expect_list(loader, value, "users such as {name: ops, authentication: sha-256, key: ops.key}"))
        return;
    traps->users = ind_keep_room(loader, (value->part_count + 1) * sizeof *traps->users);
    for (size_t i = 0; traps->users && i < value->part_count; i++)
        read_user(loader, value->parts[i], traps);
}

static void read_communities(struct ind_loader *loader, const struct ind_node *value,
                             struct ind_listen_traps *traps)
{
    if (!ind_expect_list(loader, value, "communities such as [skerry]"))
        return;
    traps->communities = ind_keep_room(loader, (value->part_count + 1) * sizeof *traps->communities);
    for (size_t i = 0; traps->communities && i < value->part_count; i++)
        if (ind_expect_text(loader, value->parts[i], "the name of a community") &&
            (traps->communities[traps->community_count] = ind_keep(loader, value->parts[i]->text)))
            traps->community_count++;
}

/* ---- Names ---- */

enum { OID, NAME, SEVERITY, VALUES, COLUMNS };
static const char *const columns[COLUMNS] = {"oid", "name", "severity", "values"};

/* Which of our columns stands where; false, reported, where one has no place. */
static bool read_columns(struct ind_loader *loader, const struct ind_node *cells, size_t count,
                         size_t places[COLUMNS])
{
    for (int i = 0; i < COLUMNS; i++)
        places[i] = count;
    for (size_t i = 0; i < count; i++) {
        int column = 0;
        while (column < COLUMNS && !ind_slice_equal_nocase(cells[i].text, ind_slice_of(columns[column])))
            column++;
        if (column == COLUMNS)
            ind_wrong(loader, &cells[i], "unknown column \"%.*s\"; they are oid, name, severity and values",
                      IND_ARG(cells[i].text));
        else
            places[column] = i;
    }
    if (places[OID] < count && places[NAME] < count)
        return true;
    ind_wrong(loader, &cells[0],
              "the first line names the columns: oid, name and, where there are such, severity and values");
    return false;
}

static bool read_name(struct ind_csv *file, const struct ind_node *cells, size_t count,
                      const size_t places[COLUMNS], struct ind_trap_name *name)
{
    char room[IND_OID_BYTES];
    struct ind_loader *loader = file->loader;
    struct ind_buffer oid = ind_buffer_on(room, sizeof room);
    const struct ind_node *cell = &cells[places[OID]];
    struct ind_slice text = cell->text;
    if (text.length && text.at[0] == '.')
        text = ind_slice_from(text, 1);
    *name = (struct ind_trap_name){.facility = -1, .severity = -1};
    if (!ind_oid_read(text, &oid)) {
        ind_wrong(loader, cell, "\"%.*s\" is no object identifier; write one such as 1.3.6.1.4.1.32473.1.7",
                  IND_ARG(cell->text));
        return false;
    }
    cell = &cells[places[NAME]];
    if (!ind_trap_name_is_good(cell->text)) {
        ind_wrong(
            loader, cell,
            "\"%.*s\" cannot be a name here: letters, digits, \"-\", \"_\" and \".\", a letter first, 100 "
            "at most",
            IND_ARG(cell->text));
        return false;
    }
    name->name = cell->text;
    cell = places[SEVERITY] < count ? &cells[places[SEVERITY]] : NULL;
    if (cell && cell->text.length) {
        name->severity = (int8_t)ind_severity_read(cell->text);
        if (name->severity < 0)
            ind_wrong(loader, cell,
                      "unknown severity \"%.*s\"; they are emergency, alert, critical, error, "
                      "warning, notice, info and debug",
                      IND_ARG(cell->text));
    }
    cell = places[VALUES] < count ? &cells[places[VALUES]] : NULL;
    if (cell && !ind_trap_values_are_good(cell->text))
        ind_wrong(loader, cell, "\"%.*s\" does not say what numbers mean; write \"1=open;2=closed\"",
                  IND_ARG(cell->text));
    else if (cell)
        name->values = cell->text;
    const char *kept = ind_keep(loader, ind_buffer_view(&oid));
    name->oid = (struct ind_slice){kept, oid.length};
    return kept != NULL;
}

static void read_names(struct ind_loader *loader, const struct ind_node *value,
                       struct ind_listen_traps *traps)
{
    struct ind_csv file = {0};
    struct ind_node cells[IND_CSV_COLUMNS];
    struct ind_trap_name *names = NULL;
    size_t name_count = 0, places[COLUMNS];
    const bool given =
        value && ind_expect_text(loader, value, "the path of a CSV file: oid,name,severity,values");
    if (given && ind_csv_begin(&file, loader, value)) {
        const char separator = ind_csv_separator(&file, "oid");
        const size_t count = ind_csv_row(&file, separator ? separator : ',', cells);
        bool good = read_columns(loader, cells, count, places);
        while (good && file.at < file.source->length) {
            struct ind_trap_name name;
            const size_t found = ind_csv_row(&file, separator, cells);
            if (found == 1 && cells[0].text.length == 0)
                continue; /* an empty line */
            if (found != count)
                ind_wrong(loader, &cells[0], "%zu cells, but %zu columns", found, count);
            else if (read_name(&file, cells, count, places, &name) &&
                     ind_grow(loader, &names, &name_count, sizeof *names))
                names[name_count - 1] = name;
        }
    }
    struct ind_config *config = loader->config;
    if (ind_grow(loader, &config->trap_names, &config->trap_names_count, sizeof(struct ind_trap_names *))) {
        traps->table = ind_trap_names_new(names, name_count);
        config->trap_names[config->trap_names_count - 1] = traps->table;
        if (!traps->table)
            ind_no_memory(loader);
    }
    free(names);
    ind_csv_end(&file);
}

static bool expect_none(struct ind_loader *loader, const struct ind_listen_traps_text *text)
{
    const struct ind_node *own[] = {text->communities, text->users};
    static const char *const names[] = {"communities", "users"};
    bool good = true;
    for (int i = 0; i < 2; i++)
        if (own[i]) {
            ind_wrong(loader, own[i], "\"%s\" goes with traps; leave it out", names[i]);
            good = false;
        }
    return good;
}

bool ind_load_listen_traps(struct ind_loader *loader, const struct ind_node *value,
                           const struct ind_listen_traps_text *text, struct ind_listen_item *item)
{
    const size_t mistakes = loader->diagnostics->mistakes;
    if (item->kind != IND_LISTEN_TRAPS)
        return expect_none(loader, text);
    struct ind_listen_traps *traps = ind_keep_room(loader, sizeof *traps);
    if (!traps)
        return false;
    item->traps = traps;
    if (!text->communities && !text->users)
        ind_wrong(
            loader, value,
            "nobody may send traps here: add \"communities: [NAME]\" (SNMP v1 and v2c), or \"users\" (v3)");
    if (text->communities)
        read_communities(loader, text->communities, traps);
    if (text->users)
        read_users(loader, text->users, traps);
    read_names(loader, text->names, traps);
    return loader->diagnostics->mistakes == mistakes;
}
