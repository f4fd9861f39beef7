#include "collect/intake/viewer.h"

#include "collect/intake/message_reader.h"
#include "collect/intake/senders.h"
#include "collect/runtime/internal_message.h"
#include <stdlib.h>

struct ind_viewer {
    struct ind_message_reader reader;
    struct ind_answers answers;
    struct ind_editor *editor; /* NULL: there are no edits */
    struct ind_message message;
    struct ind_sender sender;
    char address[IND_ADDRESS_WIDTH];
    struct ind_device local; /* this machine, where it is not configured */
    char host[256];
};

struct ind_viewer *ind_viewer_new(const struct ind_config *config)
{
    struct ind_viewer *viewer = calloc(1, sizeof *viewer);
    if (!viewer)
        return NULL;
    ind_this_machine(viewer->host, sizeof viewer->host);
    viewer->local.name = viewer->host;
    viewer->local.name_length = strlen(viewer->host);
    bool good = ind_message_reader_begin(&viewer->reader, config);
    good &= ind_answers_begin(&viewer->answers, config->conditions) &&
            ind_router_prepare(config->router, &viewer->answers);
    if (good && config->edits.count)
        good = ind_router_prepare(config->edits.router, &viewer->answers) &&
               (viewer->editor = ind_editor_new(&config->edits)) != NULL;
    if (good)
        return viewer;
    ind_viewer_free(viewer);
    return NULL;
}

void ind_viewer_free(struct ind_viewer *viewer)
{
    if (!viewer)
        return;
    ind_message_reader_end(&viewer->reader);
    ind_answers_free(&viewer->answers);
    ind_editor_free(viewer->editor);
    free(viewer);
}

struct ind_sender *ind_viewer_sender(struct ind_viewer *viewer, const struct ind_address *address)
{
    struct ind_buffer text = ind_buffer_on(viewer->address, sizeof viewer->address);
    ind_sender_describe(viewer->reader.config, address, &viewer->local, &text, &viewer->sender);
    return &viewer->sender;
}

struct ind_message *ind_viewer_read(struct ind_viewer *viewer, enum ind_line_form form,
                                    struct ind_slice bytes, const struct ind_origin *origin)
{
    ind_message_reader_read(&viewer->reader, form, bytes, origin, &viewer->message);
    ind_answers_next(&viewer->answers);
    return &viewer->message;
}

void ind_viewer_edit(struct ind_viewer *viewer, const struct ind_origin *origin,
                     const struct ind_edit_call *call)
{
    if (viewer->editor && viewer->message.original.length)
        (void)ind_edits_apply(&viewer->reader.config->edits, viewer->editor, &viewer->message,
                              &viewer->answers, ind_origin_reference(origin), call);
}

struct ind_answers *ind_viewer_answers(struct ind_viewer *viewer)
{
    return &viewer->answers;
}
