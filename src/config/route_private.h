/* config/route_private.h: routes as they were written, for the checks that need all of them. */
#ifndef IND_CONFIG_ROUTE_PRIVATE_H
#define IND_CONFIG_ROUTE_PRIVATE_H

#include "config/load.h"

/* A route with the nodes of its keys; NULL where a key is not there. */
struct ind_route_text {
    struct ind_route *route;
    const struct ind_node *name, *when, *file, *to, *archive, *mode, *folder_mode, *group, *layout;
};

/* Makes config->routes_by_name; names given twice are mistakes. */
void ind_routes_order_names(struct ind_loader *loader, const struct ind_route_text *texts, size_t count);
/* Routes that write one file in two ways. */
void ind_routes_check_files(struct ind_loader *loader, const struct ind_route_text *texts, size_t count);
/* Routes that no message comes to; needs the compiled router. */
void ind_routes_check_reachable(struct ind_loader *loader, const struct ind_route_text *texts);
/* Routes whose lines edits can make too long. */
/* Labels in paths and lines that no device has and no edit gives. */
void ind_routes_check_labels(struct ind_loader *loader, const struct ind_route_text *texts, size_t count);
void ind_routes_check_lengths(struct ind_loader *loader, const struct ind_route_text *texts, size_t count);

#endif
