/* What conditions compare with, and nothing around them bears: labels and their values, devices, listeners,
 * networks that `allow` excludes; and stars that are taken for a sign. Each is well-formed and
 * would be false without a word. */
#include "core/condition/condition_private.h"
#include "core/message/device.h"
#include "core/message/names.h"

enum { NEAR_MOST = 512 };

/* What is gone through, and where mistakes go. */
struct walk {
    const struct ind_conditions *set;
    const struct ind_surroundings *around;
    void (*report)(void *context, const struct ind_mistake *mistake);
    void *context;
};

static void say(const struct walk *walk, const struct ind_condition_node *node, const char *before,
                struct ind_slice name, const char *between, struct ind_slice other, const char *after)
{
    struct ind_mistake mistake = {0};
    ind_mistake_say(&mistake, node->at, node->length, before, name, between, other, after);
    walk->report(walk->context, &mistake);
}

/* The name that was probably meant, of so many; empty where there is none. */
static struct ind_slice meant(struct ind_slice name, const char *const *names, size_t count)
{
    const char *near = ind_near(name, names, count);
    return near ? ind_slice_of(near) : IND_NOTHING;
}

/* ---- Labels ---- */

/* Calls `visit` with each label that a device or an edit may give, until it returns true. */
static bool any_label(const struct ind_surroundings *around,
                      bool (*visit)(void *context, struct ind_slice name, const struct ind_slice *value),
                      void *context)
{
    for (size_t i = 0; i < around->label_count; i++)
        if (visit(context, around->labels[i].name,
                  around->labels[i].any_value ? NULL : &around->labels[i].value))
            return true;
    for (size_t i = 0; i < ind_devices_count(around->devices); i++) {
        const struct ind_device *device = ind_devices_at(around->devices, i);
        for (size_t k = 0; k < device->label_count; k++) {
            struct ind_slice value = ind_slice_of(device->labels[k].value);
            if (visit(context, ind_slice_of(device->labels[k].name), &value))
                return true;
        }
    }
    return false;
}

struct label_search {
    const struct ind_conditions *set;
    struct ind_slice name;
    const struct ind_test *test; /* NULL: any value will do */
    size_t index;                /* of its value, where it asks for equality */
    const char *near[NEAR_MOST]; /* names, or values of that name */
    size_t near_count;
};

static bool is_label(void *context, struct ind_slice name, const struct ind_slice *value)
{
    struct label_search *search = context;
    const struct ind_test *test = search->test;
    (void)value;
    if (ind_slice_equal(name, search->name) && !test)
        return true;
    if (!test && search->near_count < NEAR_MOST)
        search->near[search->near_count++] = name.at;
    return false;
}

static bool has_value(void *context, struct ind_slice name, const struct ind_slice *value)
{
    struct label_search *search = context;
    const struct ind_test *test = search->test;
    if (!ind_slice_equal(name, search->name))
        return false;
    if (!value)
        return true;
    if (test->op == IND_OP_IS ? (test->nocase ? ind_slice_equal_nocase(*value, test->texts[search->index])
                                              : ind_slice_equal(*value, test->texts[search->index]))
                              : ind_value_fits(search->set, test, *value, NULL))
        return true;
    if (search->near_count < NEAR_MOST)
        search->near[search->near_count++] = value->at;
    return false;
}

static void look_at_label(const struct walk *walk, const struct ind_condition_node *node,
                          const struct ind_test *test)
{
    struct label_search search = {.set = walk->set, .name = test->name};
    if (!any_label(walk->around, is_label, &search)) {
        struct ind_slice near = meant(test->name, search.near, search.near_count);
        say(walk, node, "no device has the label \"", test->name, near.length ? "\"; did you mean \"" : "\"",
            near, near.length ? "\"?" : ", and no edit gives it");
        return;
    }
    const unsigned ops = IND_OP_IS | IND_OP_CONTAINS | IND_OP_STARTS | IND_OP_ENDS | IND_OP_MENTIONS;
    for (size_t i = 0; (test->op & ops) && test->texts && i < (test->op == IND_OP_IS ? test->count : 1);
         i++) {
        search = (struct label_search){.set = walk->set, .name = test->name, .test = test, .index = i};
        if (any_label(walk->around, has_value, &search))
            continue;
        struct ind_slice near =
            test->op == IND_OP_IS ? meant(test->texts[i], search.near, search.near_count) : IND_NOTHING;
        say(walk, node, "no device bears the value \"", test->texts[i],
            near.length ? "\" of this label; did you mean \"" : "\" of this label", near,
            near.length ? "\"?" : "");
    }
}

/* ---- Devices, listeners ---- */

static void look_at_device(const struct walk *walk, const struct ind_condition_node *node,
                           const struct ind_test *test)
{
    const struct ind_devices *devices = walk->around->devices;
    const char *names[NEAR_MOST];
    size_t all = ind_devices_count(devices), count = all < NEAR_MOST ? all : NEAR_MOST;
    for (size_t i = 0; i < count; i++)
        names[i] = ind_devices_at(devices, i)->name;
    for (size_t i = 0; all && i < test->count; i++) {
        if (ind_devices_by_name(devices, test->texts[i]))
            continue;
        struct ind_slice near = meant(test->texts[i], names, count);
        say(walk, node, "no device is called \"", test->texts[i],
            near.length ? "\"; did you mean \""
                        : "\" under devices:; only a sender that is not configured and calls "
                          "itself so would be meant",
            near, near.length ? "\"?" : "");
    }
}

static void look_at_listener(const struct walk *walk, const struct ind_condition_node *node,
                             const struct ind_test *test)
{
    const struct ind_surroundings *around = walk->around;
    for (size_t i = 0; i < test->count; i++) {
        bool found = ind_slice_equal(test->texts[i], IND_SLICE("internal"));
        for (size_t k = 0; k < around->listener_count; k++)
            found |= ind_slice_equal(test->texts[i], ind_slice_of(around->listeners[k]));
        if (found)
            continue;
        struct ind_slice near = meant(test->texts[i], around->listeners, around->listener_count);
        near = near.length || !around->listener_count ? near : ind_slice_of(around->listeners[0]);
        say(walk, node, "nothing listens as \"", test->texts[i],
            near.length ? "\"; a listener is written as \"" : "\"", near, near.length ? "\"" : "");
    }
}

/* ---- Networks ---- */

static bool overlap(const struct ind_network *a, const struct ind_network *b)
{
    return ind_network_holds(a, &b->address) || ind_network_holds(b, &a->address);
}

bool ind_is_allowed_in_part(const struct ind_surroundings *around, const struct ind_network *network)
{
    bool any = !around->allow_given;
    for (size_t i = 0; i < around->allow_count; i++)
        any |= overlap(network, &around->allow[i]);
    return any;
}

static void look_at_sender(const struct walk *walk, const struct ind_condition_node *node,
                           const struct ind_test *test)
{
    struct ind_network network;
    for (size_t i = 0; i < test->count; i++) {
        if (test->op == IND_OP_WITHIN)
            network = test->networks[i];
        else if (test->op != IND_OP_IS || ind_network_read(test->texts[i], &network) != IND_NETWORK_OK)
            continue;
        if (ind_is_allowed_in_part(walk->around, &network))
            continue;
        char text[IND_ADDRESS_WIDTH + 8];
        struct ind_buffer out = ind_buffer_on(text, sizeof text);
        ind_network_write(&out, &network);
        say(walk, node, "allow: refuses ", ind_buffer_view(&out), ": no message has such a sender",
            IND_NOTHING, "");
    }
}

/* ---- Stars ---- */

static void look_at_stars(const struct walk *walk, const struct ind_condition_node *node,
                          const struct ind_test *test)
{
    const unsigned ops = IND_OP_IS | IND_OP_STARTS | IND_OP_ENDS;
    const bool names = test->field == IND_FIELD_HOST || test->field == IND_FIELD_DEVICE ||
                       test->field == IND_FIELD_APP || test->field == IND_FIELD_LABEL ||
                       test->field == IND_FIELD_SENDER || test->field == IND_FIELD_PATTERN;
    if (!(test->op & ops) || !test->texts || (!names && test->op != IND_OP_IS))
        return;
    for (size_t i = 0; i < test->count; i++)
        if (test->texts[i].length && memchr(test->texts[i].at, '*', test->texts[i].length)) {
            say(walk, node, "a star is only a star: \"", test->texts[i],
                "\" is compared as it stands; did you mean starts with, ends with, contains, or matches '…'?",
                IND_NOTHING, "");
            return;
        }
}

static void look_at_test(const struct walk *walk, const struct ind_condition_node *node)
{
    const struct ind_test *test = &walk->set->tests[node->test];
    struct ind_mistake mistake = {0};
    look_at_stars(walk, node, test);
    ind_warn_of_text(walk->set, node, test, walk->around, &mistake);
    if (mistake.made)
        walk->report(walk->context, &mistake);
    if (test->field == IND_FIELD_LABEL)
        look_at_label(walk, node, test);
    else if (test->field == IND_FIELD_SENDER)
        look_at_sender(walk, node, test);
    else if (test->op != IND_OP_IS || !test->texts)
        return;
    else if (test->field == IND_FIELD_DEVICE)
        look_at_device(walk, node, test);
    else if (test->field == IND_FIELD_LISTENER)
        look_at_listener(walk, node, test);
}

static void look(const struct walk *walk, uint32_t number)
{
    const struct ind_condition_node *node = &walk->set->nodes[number];
    if (node->kind == IND_CONDITION_NODE_TEST)
        look_at_test(walk, node);
    else if (node->kind == IND_CONDITION_NODE_NOT)
        look(walk, node->first);
    else if (node->kind == IND_CONDITION_NODE_ANY || node->kind == IND_CONDITION_NODE_ALL)
        for (uint32_t part = node->first; part; part = walk->set->nodes[part].next)
            look(walk, part);
}

void ind_condition_find_unknown(const struct ind_conditions *set, ind_condition condition,
                                const struct ind_surroundings *around,
                                void (*report)(void *context, const struct ind_mistake *mistake),
                                void *context)
{
    const struct walk walk = {set, around, report, context};
    look(&walk, condition);
}

void ind_label_find_unknown(struct ind_slice name, const struct ind_surroundings *around, size_t at,
                            size_t length, struct ind_mistake *mistake)
{
    struct label_search search = {.name = name};
    if (any_label(around, is_label, &search))
        return;
    struct ind_slice near = meant(name, search.near, search.near_count);
    ind_mistake_say(mistake, at, length, "no device has the label \"", name,
                    near.length ? "\"; did you mean \"" : "\"", near,
                    near.length ? "\"?" : ", and no edit gives it");
}
