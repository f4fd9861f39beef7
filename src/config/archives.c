/* config/archives.c: archive policies. */
#include "config/load.h"
#include "config/quantity.h"
#include "core/message/names.h"

#include <stdlib.h>

static const struct ind_rotation_rule default_rotation = {IND_PERIOD_DAY, UINT64_C(256) << 20, 0};
static const struct ind_retention_rule default_retention = {INT64_C(30) * IND_DAY_SECONDS, 0, 0, 80, 0};
enum { DEFAULT_LEVEL = 3, DEFAULT_GZIP_LEVEL = 6 };

static const char *const period_names[] = {"", "hour", "day", "week", "month"};

static bool read_period(struct ind_slice text, enum ind_period *period)
{
    for (int i = IND_PERIOD_HOUR; i <= IND_PERIOD_MONTH; i++)
        if (ind_slice_equal(text, ind_slice_of(period_names[i]))) {
            *period = (enum ind_period)i;
            return true;
        }
    return false;
}

static void read_every(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_rotation_rule *rule = into;
    if (ind_expect_text(loader, value, "hour, day, week or month") && !read_period(value->text, &rule->every))
        ind_wrong(loader, value, "unknown period \"%.*s\"; expected hour, day, week or month",
                  IND_ARG(value->text));
}

static void read_rotate_size(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_rotation_rule *rule = into;
    if (!ind_expect_text(loader, value, "a size such as 256 MiB"))
        return;
    if (!ind_read_size(value->text, &rule->size))
        ind_wrong(loader, value, "\"%.*s\" is not a size; write one such as 256 MiB", IND_ARG(value->text));
    else if (rule->size < 4096)
        ind_wrong(loader, value, "too small: a file holds at least 4 KiB");
}

static void read_rotate_messages(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_rotation_rule *rule = into;
    if (ind_expect_text(loader, value, "a number of messages") &&
        !ind_read_count(value->text, 1, UINT64_C(1) << 40, &rule->messages))
        ind_wrong(loader, value, "\"%.*s\" is not a number of messages; write one such as 100000",
                  IND_ARG(value->text));
}

static void read_rotate(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {
        {"every", read_every}, {"size", read_rotate_size}, {"messages", read_rotate_messages}};
    struct ind_policy *policy = into;
    policy->rotate = (struct ind_rotation_rule){0};
    if (value->kind == IND_NODE_MAP) {
        ind_read_map(loader, value, keys, 3, &policy->rotate);
        return;
    }
    if (!ind_expect_text(loader, value, "when to rotate, such as \"every day\""))
        return;
    bool every = ind_slice_starts(value->text, IND_SLICE("every "));
    if (!every || !read_period(ind_slice_from(value->text, 6), &policy->rotate.every))
        ind_wrong(loader, value,
                  "\"%.*s\" does not say when to rotate; write every hour, day, week or month, or a map "
                  "such as "
                  "{every: hour, size: 256 MiB}",
                  IND_ARG(value->text));
}

/* A span of time in whole seconds; `such_as`: what to write, for example. */
static void read_seconds(struct ind_loader *loader, const struct ind_node *value, const char *such_as,
                         int64_t *seconds)
{
    int64_t span = 0;
    if (!ind_expect_text(loader, value, such_as))
        return;
    if (!ind_read_span(value->text, &span) || (*seconds = span / IND_SECOND) == 0)
        ind_wrong(loader, value, "\"%.*s\" is not a span of time from 1 s to 100 years; " IND_SPAN_HINT,
                  IND_ARG(value->text));
}

static void read_keep_for(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_retention_rule *rule = into;
    read_seconds(loader, value, "a span of time such as 30 days", &rule->age);
}

static void read_keep_number(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_retention_rule *rule = into;
    if (ind_expect_text(loader, value, "a number of archives") &&
        !ind_read_count(value->text, 1, 1000000000, &rule->number))
        ind_wrong(loader, value, "\"%.*s\" is not a number of archives; write one such as 14",
                  IND_ARG(value->text));
}

static void read_keep_space(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_retention_rule *rule = into;
    if (!ind_expect_text(loader, value, "a size such as 40 GiB or 80 %"))
        return;
    if (ind_read_percent(value->text, &rule->percent))
        return;
    rule->percent = 0;
    if (!ind_read_size(value->text, &rule->space) || rule->space == 0)
        ind_wrong(loader, value,
                  "\"%.*s\" is not a size; write one such as 40 GiB, or 80 %% of the file system",
                  IND_ARG(value->text));
}

static void read_keep_least(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_retention_rule *rule = into;
    read_seconds(loader, value, "a span of time such as 90 days", &rule->least);
}

static void read_keep(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {{"for", read_keep_for},
                                          {"number", read_keep_number},
                                          {"space", read_keep_space},
                                          {"never less than", read_keep_least}};
    struct ind_policy *policy = into;
    policy->keep = (struct ind_retention_rule){0};
    if (value->kind == IND_NODE_MAP)
        ind_read_map(loader, value, keys, sizeof keys / sizeof *keys, &policy->keep);
    else
        read_keep_for(loader, value, &policy->keep);
    if (policy->keep.age && policy->keep.least > policy->keep.age)
        ind_wrong(loader, value,
                  "\"never less than\" is longer than \"for\": an archive goes when it is that old; make "
                  "it shorter, or leave it out");
    if (!policy->keep.space && !policy->keep.percent)
        policy->keep.percent = default_retention.percent;
}

/* "zstd", "gzip 9" or "none"; false, and said, where it is none of them. */
static bool read_method(struct ind_loader *loader, const struct ind_node *value,
                        enum ind_compression *compression, int *at_level)
{
    if (!ind_expect_text(loader, value, "zstd, gzip or none"))
        return false;
    struct ind_slice word = value->text, level = IND_NOTHING;
    const char *blank = memchr(word.at, ' ', word.length);
    if (blank) {
        level = ind_slice_from(word, (size_t)(blank - word.at) + 1);
        word.length = (size_t)(blank - word.at);
    }
    bool zstd = ind_slice_equal(word, IND_SLICE("zstd")), gzip = ind_slice_equal(word, IND_SLICE("gzip"));
    uint64_t number = zstd ? DEFAULT_LEVEL : DEFAULT_GZIP_LEVEL;
    if (!zstd && !gzip && !(ind_slice_equal(word, IND_SLICE("none")) && !blank)) {
        ind_wrong(loader, value, "unknown compression \"%.*s\"; expected zstd, gzip or none",
                  IND_ARG(value->text));
        return false;
    }
    if (blank && !ind_read_count(level, 1, zstd ? 19 : 9, &number)) {
        ind_wrong(loader, value, "the level of %s is 1 to %d, not \"%.*s\"", zstd ? "zstd" : "gzip",
                  zstd ? 19 : 9, IND_ARG(level));
        return false;
    }
    *compression = zstd ? IND_COMPRESS_ZSTD : gzip ? IND_COMPRESS_GZIP : IND_COMPRESS_NONE;
    *at_level = (int)number;
    return true;
}

static void read_compress(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_policy *policy = into;
    (void)read_method(loader, value, &policy->compress, &policy->level);
}

static void read_recompress_after(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_policy *policy = into;
    read_seconds(loader, value, "a span of time such as 7 days", &policy->recompress_after);
}

static void read_recompress_with(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_policy *policy = into;
    if (read_method(loader, value, &policy->recompress, &policy->recompress_level) &&
        policy->recompress == IND_COMPRESS_NONE)
        ind_wrong(loader, value, "\"with\" names what is packed better than before, such as zstd 19");
}

static void read_recompress(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {{"after", read_recompress_after}, {"with", read_recompress_with}};
    struct ind_policy *policy = into;
    ind_read_map(loader, value, keys, 2, policy);
    if (!policy->recompress_after || policy->recompress == IND_COMPRESS_NONE) {
        if (value->kind == IND_NODE_MAP)
            ind_wrong(loader, value, "write both, such as {after: 7 days, with: zstd 19}");
        policy->recompress_after = 0;
    }
}

static void read_chain(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_policy *policy = into;
    (void)ind_read_yes(loader, value, &policy->chain);
}

static void read_second_place(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_policy *policy = into;
    if (ind_expect_text(loader, value, "the path of a folder, such as a mounted share"))
        policy->second_place = ind_resolve_path(loader, value);
}

static void read_sign(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_policy *policy = into;
    if (ind_expect_text(loader, value, "the path of a private key in PEM form"))
        policy->sign = ind_resolve_path(loader, value);
    policy->sign_source = value->source;
    policy->sign_offset = value->offset;
    policy->sign_length = value->length;
}

static struct ind_policy *add_policy(struct ind_loader *loader, struct ind_slice name)
{
    struct ind_config *config = loader->config;
    if (!ind_grow(loader, &config->policies, &config->policy_count, sizeof *config->policies))
        return NULL;
    struct ind_policy *policy = &config->policies[config->policy_count - 1];
    *policy = (struct ind_policy){.rotate = default_rotation,
                                  .keep = default_retention,
                                  .compress = IND_COMPRESS_ZSTD,
                                  .level = DEFAULT_LEVEL};
    policy->name = ind_keep(loader, name);
    return policy;
}

bool ind_default_policy(struct ind_loader *loader)
{
    return add_policy(loader, IND_SLICE("default")) != NULL;
}

struct ind_policy *ind_find_policy(struct ind_config *config, struct ind_slice name)
{
    for (size_t i = 0; i < config->policy_count; i++)
        if (ind_slice_equal(name, ind_slice_of(config->policies[i].name)))
            return &config->policies[i];
    return NULL;
}

static bool is_policy_name(struct ind_slice name)
{
    bool good = name.length > 0 && name.length <= 100;
    for (size_t i = 0; i < name.length; i++)
        good &=
            ind_is_alpha(name.at[i]) || ind_is_digit(name.at[i]) || name.at[i] == '-' || name.at[i] == '_';
    return good;
}

static void read_policy(struct ind_loader *loader, const struct ind_node *value, struct ind_policy *policy)
{
    static const struct ind_key keys[] = {{"rotate", read_rotate},
                                          {"keep", read_keep},
                                          {"compress", read_compress},
                                          {"recompress", read_recompress},
                                          {"chain", read_chain},
                                          {"sign", read_sign},
                                          {"second place", read_second_place}};
    ind_read_map(loader, value, keys, sizeof keys / sizeof *keys, policy);
    if (policy->recompress_after && policy->compress != IND_COMPRESS_NONE &&
        policy->compress != policy->recompress)
        ind_wrong(loader, value,
                  "\"recompress\" stays with what \"compress\" names (or compress: none): what reads "
                  "these archives today must be able to tomorrow");
    if (policy->sign && !policy->chain)
        ind_wrong(loader, value, "\"sign\" signs the links of a chain: add \"chain: yes\"");
}

void ind_load_archives(struct ind_loader *loader)
{
    bool default_given = false;
    for (size_t i = 0; i + 1 < loader->archive_count; i += 2) {
        const struct ind_node *key = loader->archives[i], *value = loader->archives[i + 1];
        struct ind_policy *policy = ind_find_policy(loader->config, key->text);
        bool is_default = ind_slice_equal(key->text, IND_SLICE("default"));
        if (!is_policy_name(key->text))
            ind_wrong(loader, key, "an archive policy's name is made of letters, digits, - and _");
        else if (policy && (!is_default || default_given))
            ind_wrong(loader, key, "the archive policy \"%.*s\" appears twice; give this one another name",
                      IND_ARG(key->text));
        else if ((policy = policy ? policy : add_policy(loader, key->text)) != NULL)
            read_policy(loader, value, policy);
        default_given |= is_default;
    }
}

void ind_finish_archives(struct ind_loader *loader)
{
    const struct ind_config *config = loader->config;
    bool *used = calloc(config->policy_count + 1, sizeof *used);
    if (!used)
        ind_no_memory(loader);
    for (size_t i = 0; used && i < config->route_count; i++)
        used[config->routes[i].policy] = true;
    for (size_t i = 0; used && i + 1 < loader->archive_count; i += 2) {
        const struct ind_node *key = loader->archives[i];
        const struct ind_policy *policy = ind_find_policy(loader->config, key->text);
        if (policy && policy != config->policies && !used[policy - config->policies])
            ind_warn(loader, key,
                     "no route names the archive policy \"%.*s\"; leave it out, or add \"archive: %.*s\" to "
                     "a route",
                     IND_ARG(key->text), IND_ARG(key->text));
    }
    free(used);
}

static void describe_size(struct ind_buffer *buffer, uint64_t size)
{
    static const char *const units[] = {" bytes", " KiB", " MiB", " GiB", " TiB"};
    int unit = 0;
    while (size >= 1024 && size % 1024 == 0 && unit < 4) {
        size /= 1024;
        unit++;
    }
    ind_buffer_number(buffer, size);
    ind_buffer_text(buffer, units[unit]);
}

static void describe_age(struct ind_buffer *buffer, int64_t seconds)
{
    static const struct {
        int64_t length;
        const char *name;
    } units[] = {{IND_DAY_SECONDS, " days"}, {3600, " hours"}, {60, " minutes"}, {1, " seconds"}};
    int unit = 0;
    while (seconds % units[unit].length != 0)
        unit++;
    ind_buffer_number(buffer, (uint64_t)(seconds / units[unit].length));
    ind_buffer_text(buffer, units[unit].name);
}

void ind_policy_describe(const struct ind_policy *policy, struct ind_buffer *buffer)
{
    const char *joint = "";
    ind_buffer_text(buffer, "rotate ");
    if (policy->rotate.every) {
        ind_buffer_text(buffer, "every ");
        ind_buffer_text(buffer, period_names[policy->rotate.every]);
        joint = " or at ";
    }
    if (policy->rotate.size) {
        ind_buffer_text(buffer, *joint ? joint : "at ");
        describe_size(buffer, policy->rotate.size);
        joint = " or at ";
    }
    if (policy->rotate.messages) {
        ind_buffer_text(buffer, *joint ? joint : "at ");
        ind_buffer_number(buffer, policy->rotate.messages);
        ind_buffer_text(buffer, " messages");
        joint = " or ";
    }
    if (!*joint)
        ind_buffer_text(buffer, "only when asked");
    ind_buffer_text(buffer, ", keep ");
    joint = "";
    if (policy->keep.age) {
        describe_age(buffer, policy->keep.age);
        joint = ", ";
    }
    if (policy->keep.number) {
        ind_buffer_text(buffer, joint);
        ind_buffer_number(buffer, policy->keep.number);
        ind_buffer_text(buffer, " archives of each file");
        joint = ", ";
    }
    ind_buffer_text(buffer, joint);
    ind_buffer_text(buffer, "at most ");
    if (policy->keep.percent) {
        ind_buffer_number(buffer, policy->keep.percent);
        ind_buffer_text(buffer, " % of the file system");
    } else {
        describe_size(buffer, policy->keep.space);
    }
    if (policy->keep.least) {
        ind_buffer_text(buffer, ", never less than ");
        describe_age(buffer, policy->keep.least);
    }
    ind_buffer_text(buffer, ", compress ");
    ind_buffer_text(buffer, policy->compress == IND_COMPRESS_ZSTD   ? "zstd "
                            : policy->compress == IND_COMPRESS_GZIP ? "gzip "
                                                                    : "none");
    if (policy->compress != IND_COMPRESS_NONE)
        ind_buffer_number(buffer, (unsigned long long)policy->level);
    if (policy->recompress_after) {
        ind_buffer_text(buffer, policy->recompress == IND_COMPRESS_ZSTD ? ", zstd " : ", gzip ");
        ind_buffer_number(buffer, (unsigned long long)policy->recompress_level);
        ind_buffer_text(buffer, " after ");
        describe_age(buffer, policy->recompress_after);
    }
    if (policy->second_place) {
        ind_buffer_text(buffer, ", copied to ");
        ind_buffer_text(buffer, policy->second_place);
    }
    if (policy->chain)
        ind_buffer_text(buffer, policy->sign ? ", chained and signed" : ", chained");
}
