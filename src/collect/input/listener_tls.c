#include "collect/input/listener_tls.h"

#include <stdio.h>
#include <unistd.h>

_Static_assert((int)IND_LISTEN_CERTIFICATE == (int)IND_TLS_CERTIFICATE &&
                   (int)IND_LISTEN_KEY == (int)IND_TLS_KEY &&
                   (int)IND_LISTEN_CLIENTS == (int)IND_TLS_AUTHORITIES &&
                   (int)IND_LISTEN_REVOKED == (int)IND_TLS_REVOKED &&
                   (int)IND_LISTEN_FILES == (int)IND_TLS_PARTS,
               "the files of a configuration are those of a context");

static struct ind_tls *make(const struct ind_listen_item *item, struct ind_tls_fault *fault)
{
    const struct ind_listen_tls *tls = item->tls;
    const struct ind_tls_settings settings = {.certificate = tls->files[IND_LISTEN_CERTIFICATE].path,
                                              .key = tls->files[IND_LISTEN_KEY].path,
                                              .authorities = tls->files[IND_LISTEN_CLIENTS].path,
                                              .revoked = tls->files[IND_LISTEN_REVOKED].path,
                                              .fingerprints = tls->fingerprints,
                                              .fingerprint_count = tls->fingerprint_count,
                                              .names = tls->names,
                                              .name_count = tls->name_count};
    return ind_tls_server_new(&settings, fault);
}

static void write_reason(const struct ind_listen_tls *tls, int part, const char *text, char *reason,
                         size_t room)
{
    struct ind_place place = {0};
    ind_place_find(&place, tls->files[part].source, tls->files[part].offset);
    snprintf(reason, room, "%s:%zu:%zu: %s %s", place.source->path, place.line, place.column,
             tls->files[part].path, text);
}

struct ind_tls *ind_listener_tls_new(const struct ind_listen_item *item, char *reason, size_t room)
{
    struct ind_tls_fault fault;
    struct ind_tls *tls = make(item, &fault);
    if (tls)
        return tls;
    if (fault.part == IND_TLS_ITSELF) {
        snprintf(reason, room, "%s: %s", item->text, fault.text);
        return NULL;
    }
    write_reason(item->tls, (int)fault.part, fault.text, reason, room);
    return NULL;
}

bool ind_listener_tls_readable(const struct ind_config *config, char *reason, size_t room)
{
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listen_tls *tls = config->listeners[i].tls;
        for (int part = 0; tls && part < IND_LISTEN_FILES; part++)
            if (tls->files[part].path && access(tls->files[part].path, R_OK) != 0) {
                write_reason(tls, part,
                             "can be read by root, but not by the user that is taken on; a reload could "
                             "not read it again: give that user the right to read it",
                             reason, room);
                return false;
            }
    }
    return true;
}

void ind_tls_end_write(const struct ind_tls_expiries *expiries, enum ind_tls_part part, ind_time now,
                       struct ind_buffer *text)
{
    char day[IND_TIME_WIDTH];
    struct ind_buffer time = ind_buffer_on(day, sizeof day);
    const char *name = expiries->names[part];
    bool over = expiries->ends[part] <= now;
    ind_time_write(&time, expiries->ends[part]);
    ind_buffer_text(text, part == IND_TLS_REVOKED ? "the revocation list of" : "the certificate of");
    ind_buffer_text(text, " \"");
    ind_buffer_text(text, name);
    ind_buffer_text(text, part == IND_TLS_REVOKED ? (over ? "\" was due anew on " : "\" is due anew on ")
                                                  : (over ? "\" has expired on " : "\" expires on "));
    ind_buffer_add(text, day, sizeof "2026-11-29" - 1);
}

static void warn_of_ends(const struct ind_listen_item *item, const struct ind_tls *tls, ind_time now,
                         struct ind_diagnostics *diagnostics)
{
    const struct ind_tls_expiries *expiries = ind_tls_expiries(tls);
    for (int i = 0; i < IND_TLS_PARTS; i++) {
        char text[200];
        struct ind_buffer out = ind_buffer_on(text, sizeof text);
        if (!ind_tls_expires_soon(expiries->ends[i], now))
            continue;
        ind_tls_end_write(expiries, (enum ind_tls_part)i, now, &out);
        ind_diagnostic_add(diagnostics, true, item->tls->files[i].source, item->tls->files[i].offset,
                           item->tls->files[i].length, "%.*s; put a new one in its place, and reload",
                           (int)out.length, text);
    }
}

void ind_listener_tls_check(const struct ind_config *config, ind_time now,
                            struct ind_diagnostics *diagnostics)
{
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listen_item *item = &config->listeners[i];
        struct ind_tls_fault fault;
        struct ind_tls *tls = item->tls ? make(item, &fault) : NULL;
        if (tls)
            warn_of_ends(item, tls, now, diagnostics);
        else if (item->tls && fault.part == IND_TLS_ITSELF)
            ind_diagnostic_add(diagnostics, false, NULL, 0, 0, "%s: %s", item->text, fault.text);
        else if (item->tls)
            ind_diagnostic_add(diagnostics, false, item->tls->files[fault.part].source,
                               item->tls->files[fault.part].offset, item->tls->files[fault.part].length,
                               "%s %s", item->tls->files[fault.part].path, fault.text);
        ind_tls_release(tls);
    }
}
