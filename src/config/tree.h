/* config/tree.h: a YAML file as a tree of nodes, each with its place.
 *
 * Only plain data is taken: anchors, aliases, tags, duplicate keys and further documents are mistakes. The
 * first mistake of YAML ends a file; it is reported in the words of somebody who writes conditions and paths,
 * not of a YAML parser. */
#ifndef IND_CONFIG_TREE_H
#define IND_CONFIG_TREE_H

#include "config/source.h"

enum ind_node_kind { IND_NODE_SCALAR, IND_NODE_LIST, IND_NODE_MAP };

struct ind_node {
    enum ind_node_kind kind;
    bool quoted; /* a scalar in quotes, or a block */
    bool flow;   /* a list in [ ] or a map in { } */
    const struct ind_source *source;
    size_t offset, length;   /* bytes of the source */
    struct ind_slice text;   /* a scalar's value */
    struct ind_node **parts; /* items of a list; key, value, key, value of a map */
    size_t part_count;
};

/* New; NULL where the file is no such YAML, which *diagnostics then tells, or is empty, which it does not. */
struct ind_node *ind_tree_read(const struct ind_source *source, struct ind_diagnostics *diagnostics);
void ind_tree_free(struct ind_node *node);

/* Where byte `offset` of a scalar's value stands in its source: right through quotes, escapes and folded
 * lines. */
size_t ind_node_locate(const struct ind_node *scalar, size_t offset);

/* "a map", "a list", "text": for messages. */
const char *ind_node_kind_name(const struct ind_node *node);

#endif
