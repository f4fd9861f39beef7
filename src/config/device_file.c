#include "config/csv.h"
#include "config/device_private.h"

#include "core/message/device.h"
#include <errno.h>
#include <string.h>

/* Each word of a cell: several addresses or names are separated by spaces or semicolons. */
static void each_word(struct ind_csv *file, const struct ind_node *cell, struct ind_device *device,
                      void (*tie)(struct ind_loader *, const struct ind_node *, const struct ind_device *))
{
    struct ind_slice text = cell->text;
    for (size_t at = 0; at < text.length;) {
        while (at < text.length && (ind_csv_is_blank(text.at[at]) || text.at[at] == ';'))
            at++;
        size_t start = at;
        while (at < text.length && !ind_csv_is_blank(text.at[at]) && text.at[at] != ';')
            at++;
        if (at == start)
            continue;
        struct ind_node word = *cell;
        word.text = (struct ind_slice){text.at + start, at - start};
        if (cell->length == text.length) { /* not in quotes: its place is known */
            word.offset += start;
            word.length = at - start;
        }
        tie(file->loader, &word, device);
    }
}

/* What a column is for; all others are labels. */
static void apply_cell(struct ind_csv *file, const struct ind_node *column, const struct ind_node *cell,
                       struct ind_device *device)
{
    struct ind_slice name = column->text;
    if (cell->text.length == 0 || ind_slice_equal(name, IND_SLICE("name")))
        return;
    if (ind_slice_equal(name, IND_SLICE("address")))
        each_word(file, cell, device, ind_tie_address);
    else if (ind_slice_equal(name, IND_SLICE("host")))
        each_word(file, cell, device, ind_tie_host);
    else if (ind_slice_equal(name, IND_SLICE("zone")))
        ind_read_device_zone(file->loader, cell, device);
    else if (ind_slice_equal(name, IND_SLICE("relay")))
        (void)ind_read_yes(file->loader, cell, &device->relay);
    else if (!ind_device_add_label(device, name, cell->text))
        ind_no_memory(file->loader);
}

static void read_device_row(struct ind_csv *file, const struct ind_node *columns, size_t column_count,
                            const struct ind_node *cells, size_t count, size_t name)
{
    if (count == 1 && cells[0].text.length == 0)
        return; /* an empty line */
    if (count != column_count) {
        struct ind_node row = cells[0];
        row.length = cells[count - 1].offset + cells[count - 1].length - row.offset;
        ind_wrong(file->loader, &row,
                  "%zu cells, but %zu columns; put a cell that holds the separator in quotes", count,
                  column_count);
        return;
    }
    struct ind_device *device = ind_add_device(file->loader, &cells[name]);
    for (size_t i = 0; device && i < count; i++)
        apply_cell(file, &columns[i], &cells[i], device);
}

static void check_columns(struct ind_csv *file, struct ind_node *columns, size_t count, size_t *name)
{
    *name = count;
    for (size_t i = 0; i < count; i++) {
        if (columns[i].text.length == 0)
            ind_wrong(file->loader, &columns[i], "a column without a name");
        for (size_t j = 0; j < i; j++)
            if (ind_slice_equal(columns[i].text, columns[j].text))
                ind_wrong(file->loader, &columns[i], "two columns are called \"%.*s\"",
                          IND_ARG(columns[i].text));
        if (ind_slice_equal(columns[i].text, IND_SLICE("name")))
            *name = i;
    }
}

/* The column that was probably meant by one that is none of ours; NULL: it is a label's. */
static const char *column_meant(struct ind_slice name)
{
    static const struct {
        const char *written, *meant;
    } others[] = {{"ip", "address"},    {"ips", "address"},           {"ip address", "address"},
                  {"addr", "address"},  {"addresses", "address"},     {"ipv4", "address"},
                  {"ipv6", "address"},  {"management ip", "address"}, {"hostname", "host"},
                  {"hosts", "host"},    {"host name", "host"},        {"fqdn", "host"},
                  {"timezone", "zone"}, {"time zone", "zone"},        {"tz", "zone"},
                  {"device", "name"},   {"device name", "name"},      {"is relay", "relay"}};
    static const char *const ours[] = {"name", "address", "host", "zone", "relay"};
    for (size_t i = 0; i < sizeof ours / sizeof *ours; i++)
        if (ind_slice_equal(name, ind_slice_of(ours[i])))
            return NULL;
    for (size_t i = 0; i < sizeof ours / sizeof *ours; i++)
        if (ind_slice_equal_nocase(name, ind_slice_of(ours[i])))
            return ours[i];
    for (size_t i = 0; i < sizeof others / sizeof *others; i++)
        if (ind_slice_equal_nocase(name, ind_slice_of(others[i].written)))
            return others[i].meant;
    const char *near = ind_near(name, ours, sizeof ours / sizeof *ours);
    return near && name.length > 4 ? near : NULL; /* "role" is near to "zone" */
}

/* A label's name is a word wherever it is asked for. */
static bool is_word(struct ind_slice name)
{
    for (size_t i = 0; i < name.length; i++)
        if (!ind_is_alpha(name.at[i]) && !ind_is_digit(name.at[i]) && name.at[i] != '-' && name.at[i] != '_')
            return false;
    return true;
}

static void warn_of_columns(struct ind_csv *file, const struct ind_node *columns, size_t count)
{
    for (size_t i = 0; i < count; i++) {
        const char *near = column_meant(columns[i].text);
        if (near)
            ind_warn(file->loader, &columns[i],
                     "the column \"%.*s\" is taken for a label; did you mean \"%s\"?",
                     IND_ARG(columns[i].text), near);
        else if (!is_word(columns[i].text))
            ind_warn(file->loader, &columns[i],
                     "the column \"%.*s\" is taken for a label, which no condition can ask for: write it "
                     "with letters, "
                     "digits, - and _",
                     IND_ARG(columns[i].text));
    }
}

static void read_csv(struct ind_csv *file, char separator)
{
    struct ind_node columns[IND_CSV_COLUMNS], cells[IND_CSV_COLUMNS];
    size_t name, count = ind_csv_row(file, separator, columns);
    check_columns(file, columns, count, &name);
    if (name == count) {
        ind_wrong(file->loader, &columns[0],
                  "the first line names the columns, and one of them is \"name\"; the others are address, "
                  "host, zone, relay and labels of your own");
        return;
    }
    warn_of_columns(file, columns, count);
    const struct ind_devices *devices = file->loader->config->devices;
    size_t first = ind_devices_count(devices);
    while (file->at < file->source->length) {
        size_t found = ind_csv_row(file, separator, cells);
        read_device_row(file, columns, count, cells, found, name);
    }
    size_t addresses = 0, all = ind_devices_count(devices);
    for (size_t i = first; i < all; i++)
        addresses += ind_devices_at(devices, i)->network.address.bits > 0;
    if (all > first && addresses == 0)
        ind_warn(file->loader, &columns[name],
                 "no device of this file has an address: only what comes through a relay or from a file can "
                 "be theirs; "
                 "name the column \"address\"");
}

/* ---- Hosts files ---- */

static struct ind_node read_word(struct ind_csv *file)
{
    const char *bytes = file->source->bytes;
    while (!ind_csv_at_line_end(file) && ind_csv_is_blank(bytes[file->at]))
        file->at++;
    size_t start = file->at;
    while (!ind_csv_at_line_end(file) && !ind_csv_is_blank(bytes[file->at]) && bytes[file->at] != '#')
        file->at++;
    return ind_csv_node(file, start, file->at - start, ind_csv_keep(file, bytes + start, file->at - start));
}

/* Addresses that are of no device: this machine's own, and groups. */
static bool is_of_nobody(const struct ind_address *address)
{
    static const uint8_t one[16] = {[15] = 1}, local[16] = {127, 0, 0, 1};
    if (address->bits == 32)
        return memcmp(address->bytes, local, 4) == 0 || address->bytes[0] >= 224;
    return memcmp(address->bytes, one, 16) == 0 || address->bytes[0] == 0xff ||
           (address->bytes[0] == 0xfe && address->bytes[1] == 0);
}

/* The device of that name; the first name of its line is its name, and a further line adds an address. */
static const struct ind_device *device_for(struct ind_csv *file, const struct ind_node *name)
{
    const struct ind_devices *devices = file->loader->config->devices;
    struct ind_node plain = *name;
    plain.text = ind_without_domain(name->text, ind_devices_domain(devices));
    const struct ind_device *known = ind_devices_by_name(devices, plain.text);
    return known ? known : ind_add_device(file->loader, &plain);
}

static void read_hosts(struct ind_csv *file)
{
    while (file->at < file->source->length) {
        struct ind_node address = read_word(file), name = read_word(file);
        struct ind_address parsed;
        bool good = ind_address_read(address.text, &parsed);
        if (address.text.length && !good)
            ind_wrong(file->loader, &address,
                      "expected an address and names, as in a hosts file; for CSV the first line names the "
                      "columns");
        else if (address.text.length && name.text.length == 0)
            ind_wrong(file->loader, &address, "an address without a name");
        if (good && name.text.length && !is_of_nobody(&parsed)) {
            const struct ind_device *device = device_for(file, &name);
            if (device)
                ind_tie_address(file->loader, &address, device);
            for (name = read_word(file); device && name.text.length; name = read_word(file))
                ind_tie_host(file->loader, &name, device);
        }
        ind_csv_next_line(file);
    }
}

/* ---- ---- */

void ind_load_device_file(struct ind_loader *loader, const struct ind_node *path)
{
    struct ind_csv file;
    if (!ind_csv_begin(&file, loader, path))
        return;
    const char separator = ind_csv_separator(&file, "name");
    if (separator)
        read_csv(&file, separator);
    else
        read_hosts(&file);
    ind_csv_end(&file);
}
