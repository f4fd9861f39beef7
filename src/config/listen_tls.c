/* config/listen_tls.c: certificates of listeners, our own and those of who may come. The files are opened by
 * whoever listens, or checks (collect/input/listener_tls.h): reading a configuration touches no others. */
#include "config/load.h"

#include "core/base/address.h"

static const char *const file_keys[IND_LISTEN_FILES] = {"certificate", "key", "clients", "revoked"};

static void read_file(struct ind_loader *loader, const struct ind_node *value, enum ind_listen_file file,
                      struct ind_listen_tls *tls)
{
    if (!value || !ind_expect_text(loader, value, "the path of a file in PEM form"))
        return;
    tls->files[file].path = ind_resolve_path(loader, value);
    tls->files[file].source = value->source;
    tls->files[file].offset = value->offset;
    tls->files[file].length = value->length;
}

/* The items of a list, or the one that stands for it. */
static size_t count_of(const struct ind_node *value)
{
    return value->kind == IND_NODE_LIST ? value->part_count : 1;
}

static const struct ind_node *item_of(const struct ind_node *value, size_t number)
{
    return value->kind == IND_NODE_LIST ? value->parts[number] : value;
}

static void read_fingerprints(struct ind_loader *loader, const struct ind_node *value,
                              struct ind_listen_tls *tls)
{
    size_t count = value ? count_of(value) : 0;
    tls->fingerprints = count ? ind_keep_room(loader, count * sizeof *tls->fingerprints) : NULL;
    if (value && count == 0)
        ind_wrong(loader, value, "an empty list lets nobody in; leave \"fingerprints\" out");
    for (size_t i = 0; tls->fingerprints && i < count; i++) {
        const struct ind_node *item = item_of(value, i);
        if (!ind_expect_text(loader, item, "a fingerprint such as \"sha-256:AB:CD:…\""))
            continue;
        if (ind_fingerprint_read(item->text, &tls->fingerprints[tls->fingerprint_count]))
            tls->fingerprint_count++;
        else
            ind_wrong(
                loader, item,
                "this is no fingerprint of a certificate; write \"sha-256:\" and 32 bytes in hexadecimal "
                "with colons between them, as \"openssl x509 -in FILE -noout -fingerprint -sha256\" "
                "prints them");
    }
}

static void read_names(struct ind_loader *loader, const struct ind_node *value, struct ind_listen_tls *tls)
{
    size_t count = value ? count_of(value) : 0;
    tls->names = count ? ind_keep_room(loader, count * sizeof *tls->names) : NULL;
    if (value && count == 0)
        ind_wrong(loader, value, "an empty list lets nobody in; leave \"names\" out");
    for (size_t i = 0; tls->names && i < count; i++) {
        const struct ind_node *item = item_of(value, i);
        if (!ind_expect_text(loader, item, "a name such as pier1-rtr.skerry.example"))
            continue;
        if (memchr(item->text.at, '*', item->text.length))
            ind_wrong(loader, item, "a name is compared as it stands; write each whole name, without a star");
        else if ((tls->names[tls->name_count] = ind_keep(loader, item->text)))
            tls->name_count++;
    }
}

/* Settings that only say more about clients, where no certificate is asked of them. */
static void look_at_clients(struct ind_loader *loader, const struct ind_listen_tls_text *text)
{
    const struct ind_node *const *files = text->files;
    if (!files[IND_LISTEN_CLIENTS] && files[IND_LISTEN_REVOKED])
        ind_wrong(
            loader, files[IND_LISTEN_REVOKED],
            "\"revoked\" goes with \"clients\": without authorities there is nothing to revoke; add them, "
            "or leave it out");
    if (!files[IND_LISTEN_CLIENTS] && !text->fingerprints && text->names)
        ind_wrong(loader, text->names,
                  "\"names\" goes with \"clients\" or \"fingerprints\": without them nobody is asked for a "
                  "certificate; add one of them, or leave it out");
}

bool ind_load_listen_tls(struct ind_loader *loader, const struct ind_node *node,
                         const struct ind_listen_tls_text *text, struct ind_listen_item *item)
{
    size_t mistakes = loader->diagnostics->mistakes;
    const struct ind_node *first = text->fingerprints ? text->fingerprints : text->names;
    for (int i = IND_LISTEN_FILES; i-- > 0;)
        first = text->files[i] ? text->files[i] : first;
    bool wanted = item->kind == IND_LISTEN_TLS || (item->kind == IND_LISTEN_INHERITED && first);
    if (first && !wanted) {
        ind_wrong(loader, first, "certificates go with tls; write \"tls: ADDRESS:PORT\", or leave them out");
        return false;
    }
    for (int i = IND_LISTEN_CERTIFICATE; wanted && i <= IND_LISTEN_KEY; i++)
        if (!text->files[i])
            ind_wrong(loader, node, "tls needs \"%s\"; add \"%s: FILE\"", file_keys[i], file_keys[i]);
    struct ind_listen_tls *tls = wanted ? ind_keep_room(loader, sizeof *tls) : NULL;
    if (!tls)
        return !wanted;
    for (int i = 0; i < IND_LISTEN_FILES; i++)
        read_file(loader, text->files[i], (enum ind_listen_file)i, tls);
    read_fingerprints(loader, text->fingerprints, tls);
    read_names(loader, text->names, tls);
    look_at_clients(loader, text);
    item->tls = tls;
    return loader->diagnostics->mistakes == mistakes;
}
