/* Edits one by one, in their order, and against a walk that asks each of them. */
#include "support/moment.h"

#include "core/edit/edit.h"
#include "core/edit/edit_state.h"
#include "core/message/framing.h"
#include "core/message/header.h"
#include "support/random.h"

enum { MOST = 16 };

static struct {
    struct ind_conditions *set;
    struct ind_edits edits;
    struct ind_edit list[MOST];
    struct ind_route rules[MOST];
    struct ind_change_text changes[MOST];
    struct ind_template templates[MOST];
    size_t change_count;
    struct ind_editor *editor;
    struct ind_answers answers;
    struct ind_zone *utc;
    char scratch[IND_DEVICE_SCRATCH];
    struct ind_devices *devices;
    struct ind_message message;
} world;

static int begin(void **state)
{
    (void)state;
    memset(&world, 0, sizeof world);
    world.utc = ind_zone_fixed(0);
    world.devices = ind_devices_new(IND_NOTHING);
    world.set = ind_conditions_new(IND_NOTHING, world.utc, NULL);
    world.edits = (struct ind_edits){.list = world.list, .rules = world.rules, .default_zone = world.utc};
    return world.set && world.devices && world.utc ? 0 : 1;
}

static int end(void **state)
{
    (void)state;
    ind_editor_free(world.editor);
    ind_answers_free(&world.answers);
    ind_router_free(world.edits.router);
    for (size_t i = 0; i < world.edits.count; i++)
        for (struct ind_regex **regex = world.list[i].regexes; regex && *regex; regex++)
            ind_regex_free(*regex);
    ind_conditions_free(world.set);
    ind_devices_free(world.devices);
    ind_zone_free(world.utc);
    return 0;
}

static struct ind_edit *add(const char *when, enum ind_edit_kind kind)
{
    static const char *const names[] = {"e0", "e1", "e2",  "e3",  "e4",  "e5",  "e6",  "e7",
                                        "e8", "e9", "e10", "e11", "e12", "e13", "e14", "e15"};
    struct ind_mistake mistake = {0};
    size_t number = world.edits.count++;
    world.rules[number] = (struct ind_route){.name = names[number]};
    assert_true(!when ||
                ind_condition_read(world.set, ind_slice_of(when), NULL, &world.rules[number].when, &mistake));
    world.list[number] =
        (struct ind_edit){.name = names[number], .when_text = when, .kind = kind, .stars = true};
    return &world.list[number];
}

static void change(struct ind_edit *edit, enum ind_place_in_message in, const char *name, const char *value)
{
    struct ind_mistake mistake = {0};
    struct ind_change_text *added = &world.changes[world.change_count];
    *added = (struct ind_change_text){.in = in, .name = ind_slice_of(name)};
    if (value) {
        assert_true(ind_template_read(ind_slice_of(value), IND_TEMPLATE_LINE,
                                      &world.templates[world.change_count], &mistake));
        added->template = &world.templates[world.change_count];
    }
    edit->changes = edit->change_count ? edit->changes : added;
    edit->change_count++;
    world.change_count++;
}

static void mask(const char *when, unsigned kinds)
{
    add(when, IND_EDIT_MASK)->kinds = kinds;
}

static void compile(void)
{
    assert_true(ind_conditions_compile(world.set) && ind_edits_compile(&world.edits, world.set));
    assert_true(ind_answers_begin(&world.answers, world.set) &&
                ind_router_prepare(world.edits.router, &world.answers));
    world.editor = ind_editor_new(&world.edits);
    assert_non_null(world.editor);
}

static const struct ind_edit *apply(struct ind_slice bytes, const struct ind_edit_call *call)
{
    const ind_time received = at("2026-11-23T04:45:02Z");
    if (!world.editor)
        compile();
    const struct ind_header_context context = {.devices = world.devices,
                                               .sender = IND_SLICE("192.0.2.9"),
                                               .reference = received,
                                               .zone = world.utc,
                                               .scratch = world.scratch};
    ind_header_read_with_device(&context, bytes, &world.message);
    world.message.received = world.message.time = received;
    return ind_edits_apply(&world.edits, world.editor, &world.message, &world.answers, received, call);
}

static const struct ind_edit *edit(const char *text)
{
    static const struct ind_edit_call call = {.keep_original = true};
    return apply(ind_slice_of(text), &call);
}

static void masks_hide_and_leave_the_rest_in_place(void **state)
{
    (void)state;
    mask(NULL, IND_MASK_PHONE | IND_MASK_EMAIL);
    edit("<13>1 2026-11-23T04:45:00Z pier1-rtr app1 7 ID [x@32473 who=\"tern@skerry.example\"] call "
         "+12025550142");
    assert_slice(world.message.text, "call ************");
    assert_slice(world.message.data, "[x@32473 who=\"*******************\"]");
    assert_slice(world.message.host, "pier1-rtr");
    assert_slice(world.message.original, "<13>1 2026-11-23T04:45:00Z pier1-rtr app1 7 ID [x@32473 "
                                         "who=\"*******************\"] call ************");
    edit("<13>nothing to hide");
    assert_slice(world.message.text, "nothing to hide");
}

/* What escapes of JSON hide, a reader of its fields sees: so it is hidden where it stands. */
static void what_stands_behind_escapes_is_hidden(void **state)
{
    (void)state;
    mask(NULL, IND_MASK_PHONE | IND_MASK_EMAIL | IND_MASK_IPV4 | IND_MASK_SECRET);
    edit("<13>{\"from\":\"tern\\u0040example.com\",\"net\":\"192.0.2.9\\/24\"}");
    assert_slice(world.message.text, "{\"from\":\"*********************\",\"net\":\"*********\\/24\"}");
    edit("<13>{\"p\\u0061ssword\":\"hunter\\u0032\"}");
    assert_slice(world.message.text, "{\"p\\u0061ssword\":\"************\"}");
    edit("<13>{\"tel\":\"020\\/555\\u00200123\"}");
    assert_slice(world.message.text, "{\"tel\":\"******************\"}");
    edit("<13>C:\\users\\tern \\u00zz \\");
    assert_slice(world.message.text, "C:\\users\\tern \\u00zz \\");
}

/* A part that stands nowhere in the bytes as received may be as long as it likes. */
static void a_part_that_was_absent_can_grow_and_shrink(void **state)
{
    static char text[60000];
    (void)state;
    memset(text, 'x', sizeof text - 1);
    memcpy(text, "<13>", 4);
    change(add(NULL, IND_EDIT_SET), IND_IN_APP, NULL, "{text}");
    change(add(NULL, IND_EDIT_SET), IND_IN_APP, NULL, "short");
    edit(text);
    assert_slice(world.message.app, "short");
    assert_slice(world.message.original, text);
}

/* Whose a message is stays known, whatever host is written into it. */
static void the_device_stays_when_the_host_is_set(void **state)
{
    (void)state;
    change(add(NULL, IND_EDIT_SET), IND_IN_HOST, NULL, "somewhere-else");
    change(add(NULL, IND_EDIT_SET), IND_IN_APP, NULL, "an-app-with-a-long-name");
    edit("<13>1 2026-11-23T04:45:00Z pier1-rtr app1 - - - up");
    assert_slice(world.message.device, "pier1-rtr");
    assert_slice(world.message.host, "somewhere-else");
    assert_slice(world.message.original,
                 "<13>1 2026-11-23T04:45:00Z somewhere-else an-app-with-a-long-name - - - up");
    assert_slice(world.message.timestamp, "2026-11-23T04:45:00Z");
}

/* Each reads what the one before it wrote, and masks that find nothing leave it alone; also where nobody asks
 * for the message's bytes as received. */
static void one_mask_follows_another(void **state)
{
    static const struct ind_edit_call plain = {.go_on = false};
    static struct ind_regex *regexes[3][2];
    static const char *const expressions[] = {"bravo", "nothing here", "delta|echo"};
    struct ind_mistake mistake = {0};
    (void)state;
    mask(NULL, IND_MASK_PHONE);
    for (int i = 0; i < 3; i++) {
        struct ind_edit *edit = add(NULL, IND_EDIT_MASK);
        assert_true(ind_mask_regex_read(ind_slice_of(expressions[i]), &regexes[i][0], &mistake));
        edit->regexes = regexes[i];
        edit->stars = false;
        edit->with = i == 2 ? IND_SLICE("a much longer text") : IND_SLICE("b");
        mask(NULL, IND_MASK_MAC);
    }
    (void)apply(ind_slice_of("<13>Nov 23 04:45:00 h a: alpha +12025550142 bravo charlie delta echo foxtrot"),
                &plain);
    assert_slice(world.message.text,
                 "alpha ************ b charlie a much longer text a much longer text foxtrot");
}

/* A host that is a person is hidden, also as the device that it becomes; one that is an address is not. */
static void a_claimed_device_is_hidden_with_its_host(void **state)
{
    (void)state;
    mask(NULL, IND_MASK_EMAIL | IND_MASK_IPV4);
    edit("<13>1 2026-11-23T04:45:00Z tern@skerry.example app1 - - - up");
    assert_slice(world.message.host, "*******************");
    assert_slice(world.message.device, "*******************");
    edit("<13>1 2026-11-23T04:45:00Z 192.0.2.77 app1 - - - up");
    assert_slice(world.message.device, "192.0.2.77");
}

static void structured_data_stays_structured(void **state)
{
    (void)state;
    struct ind_mistake mistake = {0};
    static struct ind_regex *regexes[2];
    struct ind_edit *all = add(NULL, IND_EDIT_MASK);
    assert_true(ind_mask_regex_read(IND_SLICE("[a-z]\\\\.*"), &regexes[0], &mistake));
    all->regexes = regexes;
    all->stars = false;
    all->with = IND_SLICE("\"]");
    edit("<13>1 2026-11-23T04:45:00Z h a - - [x@32473 a=\"one\\\"two\\\\\" b=\"ok\"][y@32473 c=\"d\"] text");
    assert_slice(world.message.data, "[x@32473 a=\"on\\\"\\]\" b=\"\\\"\\]\"][y@32473 c=\"\\\"\\]\"]");
}

static void later_conditions_see_what_was_changed(void **state)
{
    (void)state;
    change(add("text contains \"down\"", IND_EDIT_SET), IND_IN_TEXT, NULL, "link is gone: {text}");
    change(add("text contains \"gone\"", IND_EDIT_LABEL), IND_IN_LABEL, "class", "link");
    change(add("label class is \"link\"", IND_EDIT_SET), IND_IN_SEVERITY, NULL, "debug");
    add("severity is debug and original contains \"gone\"", IND_EDIT_DROP);
    assert_ptr_equal(edit("<13>Nov 23 04:45:00 pier3-sw2 ge0/1 down"), &world.list[3]);
    assert_slice(ind_message_label(&world.message, IND_SLICE("class")), "link");
    assert_null(edit("<13>Nov 23 04:45:00 pier3-sw2 ge0/1 up"));
    assert_slice(ind_message_label(&world.message, IND_SLICE("class")), "");
}

static void fields_are_set_and_forgotten(void **state)
{
    size_t from = 0;
    struct ind_slice value;
    (void)state;
    change(add(NULL, IND_EDIT_SET), IND_IN_FIELD, "user", "<{field user}>");
    change(add(NULL, IND_EDIT_FORGET), IND_IN_FIELD, "SRC", NULL);
    change(add("field user is \"<tern>\" and field SRC is absent", IND_EDIT_SET), IND_IN_APP, NULL, "seen");
    edit("<13>Nov 23 04:45:00 harbour-fw kernel: user=tern SRC=192.0.2.9 DPT=22");
    assert_slice(world.message.app, "seen");
    const struct ind_payload *payload = ind_answers_payload(&world.answers, &world.message);
    assert_true(ind_payload_find(payload, IND_SLICE("user"), &from, &value));
    assert_slice(value, "<tern>");
    assert_false(ind_payload_find(payload, IND_SLICE("user"), &from, &value));
    from = 0;
    assert_false(ind_payload_find(payload, IND_SLICE("SRC"), &from, &value));
}

static void structured_data_is_forgotten_in_parts(void **state)
{
    (void)state;
    change(add("app is \"a\"", IND_EDIT_FORGET), IND_IN_DATA, "origin", NULL);
    change(add("app is \"b\"", IND_EDIT_FORGET), IND_IN_DATA, "origin", NULL);
    world.changes[1].param = IND_SLICE("ip");
    change(add("app is \"c\"", IND_EDIT_FORGET), IND_IN_DATA, NULL, NULL);
    static const char data[] = "[origin ip=\"192.0.2.9\" n=\"1\"][y@32473 c=\"d\\]\"]";
    char text[200];
    static const char *const expected[] = {"[y@32473 c=\"d\\]\"]", "[origin n=\"1\"][y@32473 c=\"d\\]\"]",
                                           ""};
    for (int i = 0; i < 3; i++) {
        snprintf(text, sizeof text, "<13>1 2026-11-23T04:45:00Z h %c - - %s text", 'a' + i, data);
        edit(text);
        assert_slice(world.message.data, expected[i]);
    }
    assert_slice(world.message.original, "<13>1 2026-11-23T04:45:00Z h c - - - text");
}

static void times_are_read_in_another_zone_or_from_a_field(void **state)
{
    (void)state;
    struct ind_zone *east = ind_zone_fixed(5 * 3600);
    add("app is \"a\"", IND_EDIT_TIME)->zone = east;
    add("app is \"b\"", IND_EDIT_TIME)->field = IND_SLICE("when");
    edit("<13>Nov 23 04:45:00 h a: x");
    assert_true(world.message.sent == at("2026-11-22T23:45:00Z"));
    edit("<13>1 2026-11-23T04:45:00+01:00 h a - - - says its own zone");
    assert_true(world.message.sent == at("2026-11-23T03:45:00Z"));
    static const char *const forms[] = {"1795409100", "1795409100.250", "1795409100250", "1795409100250000",
                                        "2026-11-23T04:45:00.250Z"};
    for (size_t i = 0; i < sizeof forms / sizeof *forms; i++) {
        char text[200];
        snprintf(text, sizeof text, "<13>Nov 23 01:00:00 h b: when=%s n=1", forms[i]);
        edit(text);
        assert_true(world.message.sent == at(i == 0 ? "2026-11-23T04:45:00Z" : "2026-11-23T04:45:00.25Z"));
    }
    edit("<13>Nov 23 01:00:00 h b: when=soon n=1");
    assert_true(world.message.sent == at("2026-11-23T01:00:00Z"));
    ind_zone_free(east);
}

/* Characters are hidden whole, bytes that are none do no harm, and what grows too long is cut. */
static void odd_bytes_and_long_texts(void **state)
{
    (void)state;
    struct ind_mistake mistake = {0};
    static struct ind_regex *regexes[2];
    static char text[IND_MESSAGE_LIMIT], key[9000];
    struct ind_edit *cafe = add("app is \"a\"", IND_EDIT_MASK), *twice;
    assert_true(ind_mask_regex_read(IND_SLICE("caf."), &regexes[0], &mistake));
    cafe->regexes = regexes;
    mask("app is \"a\"", IND_MASK_PHONE);
    twice = add("app is \"b\"", IND_EDIT_SET);
    change(twice, IND_IN_TEXT, NULL, "{text}{text}");
    edit("<13>Nov 23 04:45:00 h a: \xff\xfe"
         "caf\xc3\xa9 +12025550142\xc3");
    assert_slice(world.message.text, "\xff\xfe**** ************\xc3");
    memset(key, 'k', sizeof key - 1);
    int length = snprintf(text, sizeof text, "<13>Nov 23 04:45:00 h b: %s%s%s%s", key, key, key, key);
    assert_null(
        apply((struct ind_slice){text, (size_t)length}, &(struct ind_edit_call){.keep_original = true}));
    assert_int_equal(world.message.text.length, IND_MESSAGE_LIMIT);
    assert_int_equal(world.message.malformed, IND_MALFORMED_CUT);
}

/* What an expression gives up on is hidden whole; one that fits nothing is refused. */
static void an_expression_that_gives_up_hides_all(void **state)
{
    (void)state;
    struct ind_mistake mistake = {0};
    static struct ind_regex *regexes[2];
    struct ind_regex *nothing = NULL;
    char text[400] = "<13>Nov 23 04:45:00 h a: ";
    size_t start = strlen(text);
    assert_true(ind_mask_regex_read(IND_SLICE("(a|aa)+$"), &regexes[0], &mistake));
    add(NULL, IND_EDIT_MASK)->regexes = regexes;
    memset(text + start, 'a', 300);
    memcpy(text + start + 300, "!", 2);
    edit(text);
    assert_int_equal(world.message.text.length, 301);
    assert_int_equal(world.message.text.at[300], '*');
    assert_int_equal(ind_editor_gave_up(world.editor), 1);
    assert_false(ind_mask_regex_read(IND_SLICE("x*"), &nothing, &mistake));
    assert_non_null(strstr(mistake.text, "fits nothing at all"));
    ind_regex_free(nothing);
}

static void on_asked(void *context, uint32_t number, bool holds, const struct ind_message *message,
                     struct ind_answers *answers)
{
    (void)message, (void)answers, (void)number;
    *(size_t *)context += holds;
}

/* The router finds the same edits as a walk through all of them, whatever they change on the way. */
static void finding_them_is_the_same_as_asking_all(void **state)
{
    static const char *const whens[] = {NULL,
                                        "text contains \"a\"",
                                        "text contains \"*\"",
                                        "severity at least error",
                                        "severity is debug",
                                        "host is \"pier1\"",
                                        "app is \"one\" or label l is \"x\"",
                                        "original contains \"bb\"",
                                        "field k is \"v\""};
    static const char *const texts[] = {"a k=v n=1", "bb 192.0.2.9", "k=w m=2 a", "plain", "a bb k=v x=1"};
    uint64_t random = IND_RANDOM_START;
    for (int round = 0; round < 300; round++) {
        assert_int_equal(begin(state), 0);
        for (unsigned i = 0; i < 8; i++) {
            const char *when = whens[ind_random(&random, 9)];
            switch (ind_random(&random, 6)) {
            case 0:
                mask(when, IND_MASK_IPV4);
                break;
            case 1:
                change(add(when, IND_EDIT_SET), IND_IN_SEVERITY, NULL,
                       ind_random(&random, 2) ? "debug" : "alert");
                break;
            case 2:
                change(add(when, IND_EDIT_SET), IND_IN_TEXT, NULL,
                       ind_random(&random, 2) ? "a {text}" : "k=w {app}");
                break;
            case 3:
                change(add(when, IND_EDIT_LABEL), IND_IN_LABEL, "l", ind_random(&random, 2) ? "x" : "{host}");
                break;
            case 4:
                change(add(when, IND_EDIT_SET), IND_IN_APP, NULL, ind_random(&random, 2) ? "one" : "two");
                break;
            default:
                add(when, ind_random(&random, 3) ? IND_EDIT_LIMIT : IND_EDIT_DROP);
            }
        }
        for (int m = 0; m < 20; m++) {
            char bytes[200], plain[2][400];
            size_t holding = 0;
            const struct ind_edit_call quick = {.keep_original = true, .go_on = m % 2 == 0},
                                       slow = {.keep_original = true,
                                               .go_on = m % 2 == 0,
                                               .asked = on_asked,
                                               .context = &holding};
            snprintf(bytes, sizeof bytes, "<%u>Nov 23 04:45:00 pier%u %s: %s", ind_random(&random, 192),
                     ind_random(&random, 2), ind_random(&random, 2) ? "one" : "two",
                     texts[ind_random(&random, 5)]);
            const struct ind_edit *dropped[2];
            for (int k = 0; k < 2; k++) {
                struct ind_line_clock clock = {0};
                struct ind_buffer line = ind_buffer_on(plain[k], sizeof plain[k] - 1);
                dropped[k] = apply(ind_slice_of(bytes), k ? &slow : &quick);
                (void)ind_line_write(IND_LAYOUT_PLAIN, &world.message, &clock, &line);
                ind_buffer_slice(&line, world.message.original);
                ind_buffer_slice(&line, ind_message_label(&world.message, IND_SLICE("l")));
                plain[k][line.length] = '\0';
            }
            struct ind_pris may_change = {{0}};
            const unsigned pri = ind_header_pri(bytes, strlen(bytes));
            ind_edits_pris(&world.edits, &may_change);
            assert_true(ind_pris_have(&may_change, pri) || world.message.severity == pri % 8);
            assert_ptr_equal(dropped[0], dropped[1]);
            assert_string_equal(plain[0], plain[1]);
        }
        end(state);
    }
    assert_int_equal(begin(state), 0);
}

/* ---- What edits remember ---- */

static struct ind_edit_state *recall;
static struct ind_edit_report news;
static bool told;

static bool ask(const struct ind_edit *edit, const char *device, const char *text, double seconds)
{
    struct ind_message message = {.device = ind_slice_of(device), .text = ind_slice_of(text)};
    uint64_t key = ind_edit_state_key(edit, &message);
    bool on =
        ind_edit_state_ask(recall, key, edit, (struct ind_steady){(int64_t)(seconds * 1e9)}, &news, &told);
    if (on)
        ind_edit_state_settle(recall, key, message.device, message.text);
    return on;
}

static const char *next_news(double seconds, bool all)
{
    static char text[800];
    uint32_t from = 0;
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    if (!ind_edit_state_due(recall, (struct ind_steady){(int64_t)(seconds * 1e9)}, all, &from, &news))
        return NULL;
    ind_edit_report_write(&news, &out);
    text[out.length] = '\0';
    return text;
}

static void limits_count_within_spans(void **state)
{
    (void)state;
    const struct ind_edit limit = {.name = "calm", .kind = IND_EDIT_LIMIT, .number = 3, .span = IND_SECOND};
    recall = ind_edit_state_new(100);
    for (int i = 0; i < 10; i++)
        assert_int_equal(ask(&limit, "hq-dhcp", "x", 10 + i * 0.01), i < 3);
    assert_true(ask(&limit, "hq-mail", "x", 10.5)); /* another device */
    assert_true(ask(&limit, "hq-dhcp", "x", 11));   /* another second */
    assert_null(next_news(20, false));
    assert_string_equal(
        next_news(70.2, false),
        "edit \"calm\": hq-dhcp was over its limit of 3 a second 7 times; these messages were dropped");
    assert_null(next_news(200, true));
    assert_int_equal(ind_edit_state_count(recall), 0); /* what is over is not kept */
    ind_edit_state_free(recall);
}

static void repeats_are_told_once(void **state)
{
    (void)state;
    const struct ind_edit repeat = {.name = "same", .kind = IND_EDIT_REPEAT, .span = 30 * IND_SECOND};
    recall = ind_edit_state_new(100);
    assert_true(ask(&repeat, "pier3-sw2", "down", 100));
    assert_false(ask(&repeat, "pier3-sw2", "down", 101));
    assert_true(ask(&repeat, "pier3-sw2", "up", 102));
    assert_true(ask(&repeat, "pier3-sw1", "down", 102));
    assert_false(ask(&repeat, "pier3-sw2", "down", 129.9));
    assert_null(next_news(129.9, false));
    assert_true(ask(&repeat, "pier3-sw2", "down", 130)); /* the span is over */
    assert_true(told && news.count == 2);
    assert_string_equal(news.text, "down");
    assert_false(ask(&repeat, "pier3-sw2", "down", 131));
    assert_string_equal(next_news(161, false), "edit \"same\": pier3-sw2 said 1 time more within 30 s: down");
    ind_edit_state_free(recall);
}

static void one_in_so_many_is_kept_of_each_device(void **state)
{
    (void)state;
    const struct ind_edit keep = {.name = "few", .kind = IND_EDIT_THIN, .number = 4};
    recall = ind_edit_state_new(100);
    for (int i = 0; i < 12; i++)
        assert_int_equal(ask(&keep, i % 2 ? "a" : "b", "x", i), i / 2 % 4 == 0);
    ind_edit_state_free(recall);
}

/* However many devices there are: the oldest goes, is counted, and what it had to tell is told. */
static void endless_devices_find_an_end(void **state)
{
    (void)state;
    const struct ind_edit limit = {
        .name = "calm", .kind = IND_EDIT_LIMIT, .number = 1, .span = 1000 * IND_SECOND};
    char name[32];
    uint64_t dropped = 0, heard = 0;
    recall = ind_edit_state_new(64);
    for (int i = 0; i < 10000; i++) {
        snprintf(name, sizeof name, "device-%d", i);
        assert_true(ask(&limit, name, "x", 1));
        heard += told ? news.count : 0;
        dropped += !ask(&limit, name, "x", 1);
        dropped += !ask(&limit, "device-0", "x", 1); /* the one that is asked for again and again stays */
        heard += told ? news.count : 0;
    }
    assert_int_equal(ind_edit_state_count(recall), 64);
    assert_int_equal(ind_edit_state_evicted(recall), 10000 - 64);
    while (next_news(2, true))
        heard += news.count;
    assert_int_equal(heard, dropped);
    ind_edit_state_free(recall);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(masks_hide_and_leave_the_rest_in_place, begin, end),
        cmocka_unit_test_setup_teardown(what_stands_behind_escapes_is_hidden, begin, end),
        cmocka_unit_test_setup_teardown(a_part_that_was_absent_can_grow_and_shrink, begin, end),
        cmocka_unit_test_setup_teardown(the_device_stays_when_the_host_is_set, begin, end),
        cmocka_unit_test_setup_teardown(one_mask_follows_another, begin, end),
        cmocka_unit_test_setup_teardown(a_claimed_device_is_hidden_with_its_host, begin, end),
        cmocka_unit_test_setup_teardown(structured_data_stays_structured, begin, end),
        cmocka_unit_test_setup_teardown(later_conditions_see_what_was_changed, begin, end),
        cmocka_unit_test_setup_teardown(fields_are_set_and_forgotten, begin, end),
        cmocka_unit_test_setup_teardown(structured_data_is_forgotten_in_parts, begin, end),
        cmocka_unit_test_setup_teardown(times_are_read_in_another_zone_or_from_a_field, begin, end),
        cmocka_unit_test_setup_teardown(odd_bytes_and_long_texts, begin, end),
        cmocka_unit_test_setup_teardown(an_expression_that_gives_up_hides_all, begin, end),
        cmocka_unit_test_setup_teardown(finding_them_is_the_same_as_asking_all, NULL, end),
        cmocka_unit_test(limits_count_within_spans),
        cmocka_unit_test(repeats_are_told_once),
        cmocka_unit_test(one_in_so_many_is_kept_of_each_device),
        cmocka_unit_test(endless_devices_find_an_end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
