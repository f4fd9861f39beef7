/* config/serve.c: where anybody may ask, over HTTP, how the collector stands. */
#include "config/load.h"
#include "config/quantity.h"

enum { DEVICES = 200, MOST_DEVICES = 100000 };

struct serve_text {
    const struct ind_node *address, *devices;
};

IND_KEEP_NODE(serve_text, address)
IND_KEEP_NODE(serve_text, devices)

void ind_load_serve(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {{"address", keep_address}, {"devices in metrics", keep_devices}};
    struct ind_serve *serve = into;
    struct serve_text given = {.address = value};
    serve->devices = DEVICES;
    if (value->kind == IND_NODE_MAP) {
        given.address = NULL;
        if (!ind_read_map(loader, value, keys, sizeof keys / sizeof *keys, &given))
            return;
    }
    if (!given.address) {
        ind_wrong(loader, value, "\"serve\" needs \"address\": an address and a port such as 127.0.0.1:8514");
        return;
    }
    if (ind_load_socket_address(loader, given.address, &serve->address, &serve->port))
        serve->text = ind_keep(loader, given.address->text);
    if (given.devices && ind_expect_text(loader, given.devices, "a number such as 200") &&
        !ind_read_count(given.devices->text, 0, MOST_DEVICES, &serve->devices))
        ind_wrong(loader, given.devices, "\"%.*s\" is not a number from 0 to %d",
                  IND_ARG(given.devices->text), MOST_DEVICES);
}
