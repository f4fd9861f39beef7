#include "support/support.h"

#include "core/pattern/fields.h"
#include "core/pattern/pattern.h"

/* ---- Types ---- */

static void every_type_takes_what_it_should_and_no_more(void **state)
{
    (void)state;
    /* Of the text, `takes` is taken; NULL: it does not fit. */
    static const struct {
        enum ind_type type;
        const char *text, *takes;
    } cases[] = {
        {IND_TYPE_TIME, "04:45:00 x", "04:45:00"},
        {IND_TYPE_TIME, "04:45:00.123456, x", "04:45:00.123456"},
        {IND_TYPE_TIME, "2026-11-23T04:45:00.5Z", "2026-11-23T04:45:00.5Z"},
        {IND_TYPE_TIME, "2026-11-23 04:45:00+01:00 x", "2026-11-23 04:45:00+01:00"},
        {IND_TYPE_TIME, "2026-11-23", "2026-11-23"},
        {IND_TYPE_TIME, "2026/11/23 04:45:00", "2026/11/23 04:45:00"},
        {IND_TYPE_TIME, "Nov 23 04:45:00 UTC x", "Nov 23 04:45:00 UTC"},
        {IND_TYPE_TIME, "Nov  3 2026 04:45:00", "Nov  3 2026 04:45:00"},
        {IND_TYPE_TIME, "Mon Nov 23 04:45:00 2026", "Mon Nov 23 04:45:00 2026"},
        {IND_TYPE_TIME, "23 Nov 2026 04:45:00", "23 Nov 2026 04:45:00"},
        {IND_TYPE_TIME, "Nov 23", NULL},
        {IND_TYPE_TIME, "2026-13-23", NULL},
        {IND_TYPE_TIME, "25:00:00", NULL},
        {IND_TYPE_TIME, "4:45", NULL},
        {IND_TYPE_IP, "192.0.2.9", "192.0.2.9"},
        {IND_TYPE_IP, "192.0.2.9:4022 and a longer text", "192.0.2.9"},
        {IND_TYPE_IP, "255.255.255.255.", "255.255.255.255"},
        {IND_TYPE_IP, "192.0.2.256 and a longer text", NULL},
        {IND_TYPE_IP, "192.0.2.256", NULL},
        {IND_TYPE_IP, "192.0.2", NULL},
        {IND_TYPE_IP, "192.0.02.9 and a longer text", NULL},
        {IND_TYPE_IP, "2001:db8::1: x", "2001:db8::1"},
        {IND_TYPE_IP, "2001:db8::", "2001:db8::"},
        {IND_TYPE_IP, "fe80::1%ge0 x", "fe80::1%ge0"},
        {IND_TYPE_IP, "::ffff:192.0.2.9", "::ffff:192.0.2.9"},
        {IND_TYPE_IP, "02:00:5e:10:00:01", NULL},
        {IND_TYPE_IP, "up", NULL},
        {IND_TYPE_MAC, "02:00:5e:10:00:0A.", "02:00:5e:10:00:0A"},
        {IND_TYPE_MAC, "02-00-5e-10-00-01", "02-00-5e-10-00-01"},
        {IND_TYPE_MAC, "0200.5e10.0001)", "0200.5e10.0001"},
        {IND_TYPE_MAC, "0200-5e10-0001", "0200-5e10-0001"},
        {IND_TYPE_MAC, "02:00:5e:10:00", NULL},
        {IND_TYPE_MAC, "02:00:5e:10:00:01:02", NULL},
        {IND_TYPE_MAC, "02:00:5e-10:00:01", NULL},
        {IND_TYPE_INT, "-17,", "-17"},
        {IND_TYPE_INT, "4022", "4022"},
        {IND_TYPE_INT, "x4022", NULL},
        {IND_TYPE_INT, "-", NULL},
        {IND_TYPE_DECIMAL, "0.25 s", "0.25"},
        {IND_TYPE_DECIMAL, "-3.", "-3"},
        {IND_TYPE_DECIMAL, ".5", NULL},
        {IND_TYPE_HEX, "0x1fG", "0x1f"},
        {IND_TYPE_HEX, "5E10 ", "5E10"},
        {IND_TYPE_HEX, "0x", "0"},
        {IND_TYPE_DURATION, "3d04h, x", "3d04h"},
        {IND_TYPE_DURATION, "1h2m3s", "1h2m3s"},
        {IND_TYPE_DURATION, "00:05:12 x", "00:05:12"},
        {IND_TYPE_DURATION, "35ms", "35ms"},
        {IND_TYPE_DURATION, "5 minutes later", "5 minutes"},
        {IND_TYPE_DURATION, "2 days, 3:04:05", "2 days, 3:04:05"},
        {IND_TYPE_DURATION, "600 s after", "600 s"},
        {IND_TYPE_DURATION, "15 ms", "15 ms"},
        {IND_TYPE_DURATION, "5 x", NULL},
        {IND_TYPE_DURATION, "5", NULL},
        {IND_TYPE_INTERFACE, "ge0/24:", "ge0/24"},
        {IND_TYPE_INTERFACE, "xe-0/0/0:1.100,", "xe-0/0/0:1.100"},
        {IND_TYPE_INTERFACE, "Port-channel1.", "Port-channel1"},
        {IND_TYPE_INTERFACE, "MgmtEth0/RP0/CPU0/0 x", "MgmtEth0/RP0/CPU0/0"},
        {IND_TYPE_INTERFACE, "1/0/24", "1/0/24"},
        {IND_TYPE_INTERFACE, "eth0", "eth0"},
        {IND_TYPE_INTERFACE, "24", NULL},
        {IND_TYPE_INTERFACE, "uplink", NULL},
        {IND_TYPE_PATH, "/var/log/x.", "/var/log/x"},
        {IND_TYPE_PATH, "flash:/startup.cfg)", "flash:/startup.cfg"},
        {IND_TYPE_PATH, "~/x", "~/x"},
        {IND_TYPE_PATH, "../x", "../x"},
        {IND_TYPE_PATH, "C:\\x y", "C:\\x"},
        {IND_TYPE_PATH, "x/y", NULL},
        {IND_TYPE_HOST, "pier1-rtr.skerry.example. x", "pier1-rtr.skerry.example"},
        {IND_TYPE_HOST, "192.0.2.9,", "192.0.2.9"},
        {IND_TYPE_HOST, "42", NULL},
        {IND_TYPE_HOST, "-x", NULL},
        {IND_TYPE_QUOTED, "\"a \\\" b\" c", "\"a \\\" b\""},
        {IND_TYPE_QUOTED, "'a b'", "'a b'"},
        {IND_TYPE_QUOTED, "\"a", NULL},
        {IND_TYPE_PAIRS, "a=1 b=\"c d\", e= f", "a=1 b=\"c d\", e="},
        {IND_TYPE_PAIRS, "x a=1", NULL},
        {IND_TYPE_JSON, "{\"a\": {\"b\": \"}\"}} x", "{\"a\": {\"b\": \"}\"}}"},
        {IND_TYPE_JSON, "{a}", NULL},
        {IND_TYPE_JSON, "{\"a\": 1", NULL},
        {IND_TYPE_WORD, "a:b c", "a:b"},
        {IND_TYPE_WORD, " a", NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *at = cases[i].text, *end = ind_type_scan(cases[i].type, at, at + strlen(at));
        if ((end == NULL) != (cases[i].takes == NULL) ||
            (end && (size_t)(end - at) != strlen(cases[i].takes)))
            print_error("%s of \"%s\": \"%.*s\"\n", ind_type_name(cases[i].type).at, at,
                        end ? (int)(end - at) : 0, at);
        assert_int_equal(end != NULL, cases[i].takes != NULL);
        if (end)
            assert_int_equal(end - at, strlen(cases[i].takes));
    }
}

/* ---- Layouts and their mistakes ---- */

static void a_wrong_layout_is_told_with_its_place_and_what_could_stand_there(void **state)
{
    (void)state;
    static const struct {
        const char *layout;
        size_t at, length;
        const char *says;
    } cases[] = {
        {"port {port:integer}", 11, 7, "unknown type \"integer\"; did you mean \"int\"?"},
        {"port {port:xyzzy}", 11, 5, "unknown type \"xyzzy\"; the types are time, ip, mac, int"},
        {"port {port}", 5, 6, "a field has a name and a type: write {port:word}"},
        {"port {}", 5, 2, "write {name:word}"},
        {"port {port:}", 11, 0, "which type?"},
        {"port { :int}", 6, 1, "an empty name; write {name:int}, or {:int}"},
        {"port {a b:int}", 6, 3, "a field's name is a letter"},
        {"{a:int} and {a:word}", 13, 1, "the field \"a\" is in this layout already"},
        {"{a:int}{b:word}", 0, 15, "nothing stands between these two fields"},
        {"{a:text}{:remainder}", 0, 20, "nothing stands between these two fields"},
        {"{:remainder} x", 0, 12, "a remainder takes all there is; put it last"},
        {"a {b:int", 2, 1, "this brace has no partner"},
        {"a } b", 2, 1, "this brace closes nothing"},
        {"  ", 0, 2, "an empty layout"},
        {"", 0, 0, "an empty layout"},
        {"{a:re(x}", 0, 1, "the brackets of this re(…) are not balanced"},
        {"{a:re()}", 3, 4, "with something in its brackets"},
        {"{a:re(x[)} y", 0, 1, "the brackets of this re(…)"},
        {"{a:re(x{2,1})} y", 11, 1, "the regular expression breaks off here"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_patterns *set = ind_patterns_new();
        struct ind_mistake mistake = {0};
        uint32_t number;
        assert_true(ind_patterns_add(set, IND_SLICE("p"), NULL, 0, &number));
        assert_false(ind_patterns_add_syntax(set, number, ind_slice_of(cases[i].layout), &mistake));
        if (!strstr(mistake.text, cases[i].says) || mistake.offset != cases[i].at)
            print_error("%s: %zu+%zu %s\n", cases[i].layout, mistake.offset, mistake.length, mistake.text);
        assert_non_null(strstr(mistake.text, cases[i].says));
        assert_int_equal(mistake.offset, cases[i].at);
        assert_int_equal(mistake.length, cases[i].length);
        ind_patterns_free(set);
    }
}

/* ---- Sets ---- */

static struct ind_patterns *set;
static struct ind_matcher *matcher;

/* Layouts "NAME|LAYOUT" or "NAME/APP|LAYOUT", ended by NULL; each a pattern of its own. */
static void make_set(const char *const *layouts)
{
    set = ind_patterns_new();
    for (; *layouts; layouts++) {
        struct ind_mistake mistake = {0};
        const char *bar = strchr(*layouts, '|'), *slash = memchr(*layouts, '/', (size_t)(bar - *layouts));
        struct ind_slice name = {*layouts, (size_t)((slash ? slash : bar) - *layouts)}, app = IND_NOTHING;
        uint32_t number;
        if (slash)
            app = (struct ind_slice){slash + 1, (size_t)(bar - slash) - 1};
        assert_true(ind_patterns_add(set, name, &app, slash != NULL, &number));
        bool good = ind_patterns_add_syntax(set, number, ind_slice_of(bar + 1), &mistake);
        if (!good)
            print_error("%s: %s\n", *layouts, mistake.text);
        assert_true(good);
    }
    assert_true(ind_patterns_compile(set));
    matcher = ind_matcher_new(set);
    assert_non_null(matcher);
}

static void free_set(void)
{
    ind_matcher_free(matcher);
    ind_patterns_free(set);
}

/* "NAME: field=value field=value", or "". */
static const char *match(const char *text, const char *app)
{
    static char out[1000];
    struct ind_buffer buffer = ind_buffer_on(out, sizeof out - 1);
    const struct ind_pattern_syntax *layout =
        ind_match(matcher, ind_slice_of(text), ind_slice_of(app), false);
    if (layout)
        ind_buffer_slice(&buffer, ind_pattern_name(set, layout->pattern));
    for (size_t i = 0; layout && i < layout->field_count; i++) {
        if (layout->fields[i].name.length == 0)
            continue;
        ind_buffer_byte(&buffer, ' ');
        ind_buffer_slice(&buffer, layout->fields[i].name);
        ind_buffer_byte(&buffer, '=');
        ind_buffer_slice(&buffer, ind_match_field(matcher, &layout->fields[i]));
    }
    out[buffer.length] = '\0';
    return out;
}

static void a_layout_takes_the_whole_text_and_blanks_are_one(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|port {port:int} is {state:word}", "b|braces {{{n:int}}} end",
                                          NULL};
    make_set(layouts);
    assert_string_equal(match("port 7 is up", NULL), "a port=7 state=up");
    assert_string_equal(match("  port \t 7   is  up ", NULL), "a port=7 state=up");
    assert_string_equal(match("port 7 is up now", NULL), "");
    assert_string_equal(match("port 7 is", NULL), "");
    assert_string_equal(match("port7 is up", NULL), "");
    assert_string_equal(match("braces {17} end", NULL), "b n=17");
    assert_string_equal(match("", NULL), "");
    free_set();
}

static void a_field_ends_only_at_a_boundary(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|port {port:int}{:remainder}", "b|wait {n:int}ms",
                                          "c|{a:ip}/{len:int} x", NULL};
    make_set(layouts);
    assert_string_equal(match("port 4022", NULL), "a port=4022");
    assert_string_equal(match("port 4022, ssh2", NULL), "a port=4022");
    assert_string_equal(match("port 4022x", NULL), "");
    assert_string_equal(match("port 4022.5", NULL), "");
    assert_string_equal(match("wait 35ms", NULL), "b n=35"); /* the layout itself says what follows */
    assert_string_equal(match("192.0.2.0/24 x", NULL), "c a=192.0.2.0 len=24");
    free_set();
}

static void narrow_comes_before_wide_whatever_the_order_of_writing(void **state)
{
    (void)state;
    static const char *const one[] = {"text|from {x:text}", "word|from {x:word}", "ip|from {x:ip}",
                                      "literal|from here",  "int|from {x:int}",   NULL};
    static const char *const other[] = {"int|from {x:int}",   "literal|from here",  "ip|from {x:ip}",
                                        "word|from {x:word}", "text|from {x:text}", NULL};
    for (int i = 0; i < 2; i++) {
        make_set(i ? one : other);
        assert_string_equal(match("from here", NULL), "literal");
        assert_string_equal(match("from 192.0.2.9", NULL), "ip x=192.0.2.9");
        assert_string_equal(match("from 17", NULL), "int x=17");
        assert_string_equal(match("from heron", NULL), "word x=heron");
        assert_string_equal(match("from here on", NULL), "text x=here on");
        free_set();
    }
}

static void a_failure_further_on_goes_back_and_tries_the_next(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|user {u:int} left",
                                          "b|user {u:word} came",
                                          "c|user 17 stayed",
                                          "d|user {u:text} by {p:ip}",
                                          "e/sshd|user {u:word} went",
                                          "f|user {u:word} {x:word}",
                                          NULL};
    make_set(layouts);
    assert_string_equal(match("user 17 left", NULL), "a u=17");
    assert_string_equal(match("user 17 came", NULL), "b u=17");
    assert_string_equal(match("user 17 stayed", NULL), "c");
    assert_string_equal(match("user by by by 192.0.2.9", NULL), "d u=by by p=192.0.2.9");
    assert_string_equal(match("user 17 went", "sshd"), "e u=17");
    assert_string_equal(match("user 17 went", "ftpd"), "f u=17 x=went"); /* the app fails at the leaf */
    free_set();
}

static void words_and_texts_are_the_shortest_that_lets_the_rest_fit(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|{if:word}: {s:text}", "b|({d:text}) {u:word}",
                                          "c|<{g:word}> {r:word}{:remainder}", NULL};
    make_set(layouts);
    assert_string_equal(match("xe-0/0/0:1: down: why", NULL), "a if=xe-0/0/0:1 s=down: why");
    assert_string_equal(match("(a) b) c", NULL), "b d=a) b u=c");
    assert_string_equal(match("<x> y z", NULL), "c g=x r=y");
    free_set();
}

static void two_layouts_that_fit_just_the_same_are_a_mistake(void **state)
{
    (void)state;
    struct ind_mistake mistake = {0};
    const struct ind_slice app = IND_SLICE("sshd");
    uint32_t a, b, c;
    set = ind_patterns_new();
    assert_true(ind_patterns_add(set, IND_SLICE("a"), NULL, 0, &a));
    assert_true(ind_patterns_add(set, IND_SLICE("b"), NULL, 0, &b));
    assert_true(ind_patterns_add(set, IND_SLICE("c"), &app, 1, &c));
    assert_true(ind_patterns_add_syntax(set, a, IND_SLICE("x {u:word}  y"), &mistake));
    assert_true(ind_patterns_add_syntax(set, c, IND_SLICE("x {u:word} y"), &mistake));
    assert_false(ind_patterns_add_syntax(set, b, IND_SLICE("x {other:word} y "), &mistake));
    assert_non_null(strstr(mistake.text, "fits just what \"x {u:word}  y\" of the pattern \"a\" fits"));
    ind_patterns_free(set);
}

static void expressions_have_limits_which_are_counted(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|x {e:re((a+)+b)} {:remainder}",
                                          "b|n {e:re([A-Z]{2}(?:\\d+))}-{r:re([)}]+)}", NULL};
    char text[80] = "x ";
    make_set(layouts);
    assert_string_equal(match("x aab y", NULL), "a e=aab");
    assert_string_equal(match("n AB12-)}", NULL), "b e=AB12 r=)}");
    assert_int_equal(ind_matcher_gave_up(matcher), 0);
    memset(text + 2, 'a', 60);
    memcpy(text + 62, "c b y", 6);
    assert_string_equal(match(text, NULL), "");
    assert_int_equal(ind_matcher_gave_up(matcher), 1);
    free_set();
}

static void hostile_texts_take_bounded_steps(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|{a:text} x {b:text} x {c:text} x {d:text} x {e:text} y",
                                          "b|{a:word}.{b:word}.{c:word}.{d:word}.{e:word}!",
                                          "c|{a:text}/{p:path}z{q:path} q",
                                          "d|{a:text} {b:quoted} {c:quoted} w", NULL};
    static const char *const pieces[] = {"x ", ".", "/", "\" ", "x. /\""};
    static char text[20001];
    make_set(layouts);
    for (size_t i = 0; i < sizeof pieces / sizeof *pieces; i++) {
        size_t steps[2];
        for (size_t size = 0; size < 2; size++) {
            size_t length = size ? 20000 : 5000;
            for (size_t at = 0; at < length; at++)
                text[at] = pieces[i][at % strlen(pieces[i])];
            (void)ind_match(matcher, (struct ind_slice){text, length}, IND_NOTHING, true);
            steps[size] = ind_matcher_steps(matcher);
            assert_true(steps[size] <= 2 * IND_MATCH_STEPS(length));
        }
        assert_true(steps[1] <= 5 * steps[0]);
    }
    free_set();
}

/* What failed is remembered, and what cannot begin here costs nothing: long texts are no hostile ones. */
static void long_texts_are_not_given_up(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|{a:text} x {b:text} x {c:text} x {d:text} x {e:text} y",
                                          "b|{a:word}.{b:word}.{c:word}.{d:word}.{e:word}!",
                                          "c|{a:text} {b:quoted} {c:json} {d:pairs} w",
                                          "d|{a:text} {b:ip} {c:interface} {d:duration} {e:host} z", NULL};
    static const char *const pieces[] = {"x ", ".", "aa bb ", "198.51.100.1 ge0/1 3d ", "\t "};
    static char text[20001];
    make_set(layouts);
    for (size_t i = 0; i < sizeof pieces / sizeof *pieces; i++) {
        for (size_t at = 0; at < 20000; at++)
            text[at] = pieces[i][at % strlen(pieces[i])];
        assert_null(ind_match(matcher, (struct ind_slice){text, 20000}, IND_NOTHING, true));
        if (ind_matcher_gave_up(matcher))
            print_error("given up: %s\n", pieces[i]);
        assert_int_equal(ind_matcher_gave_up(matcher), 0);
    }
    assert_string_equal(match("x \"q\" {\"k\": 1} a=1 w", NULL), "c a=x b=q c={\"k\": 1} d=a=1");
    free_set();
}

/* ---- Fields ---- */

static void fields_of_the_pattern_hide_those_of_the_payload(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|{code:word}: user={user:word} {rest:pairs}",
                                          "b|got {j:json} from {:pairs}", "c|said {what:quoted}", NULL};
    static struct ind_payload payload;
    static char scratch[IND_PAYLOAD_SCRATCH];
    static const char *const cases[][2] = {
        {"%SYS-5-X: user=tern a=1 b=2",
         "code=%SYS-5-X|user=tern|rest=a=1 "
         "b=2|rest.a=1|rest.b=2|code_group=SYS|code_severity=5|code_name=X|a=1|b=2"},
        {"got {\"k\": \"v\", \"o\": {\"p\": 1}} from x=1",
         "j={\"k\": \"v\", \"o\": {\"p\": 1}}|j.k=v|j.o.p=1|x=1"},
        {"said \"a \\\" b\"", "what=a \\\" b"}};
    make_set(layouts);
    for (size_t i = 0; i < 3; i++) {
        char text[1000];
        struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
        struct ind_message message = {.text = ind_slice_of(cases[i][0])};
        const struct ind_pattern_syntax *layout = ind_match(matcher, message.text, IND_NOTHING, true);
        assert_non_null(layout);
        ind_fields_read(&message, matcher, layout, ind_pattern_name(set, layout->pattern), scratch,
                        sizeof scratch, &payload);
        for (size_t f = 0; f < payload.count; f++) {
            ind_buffer_text(&out, f ? "|" : "");
            ind_buffer_slice(&out, payload.fields[f].name);
            ind_buffer_byte(&out, '=');
            ind_buffer_slice(&out, payload.fields[f].value);
        }
        text[out.length] = '\0';
        assert_string_equal(text, cases[i][1]);
    }
    free_set();
}

/* ---- Stops and overlaps ---- */

static void where_it_stops_is_told_with_what_would_fit(void **state)
{
    (void)state;
    static const char *const layouts[] = {
        "a|Failed for {user:word} from {peer:ip} port {port:int} {:remainder}",
        "b|Failed for {user:word} by {peer:ip}", "c/sshd|closed {why:text} now", NULL};
    static const struct {
        const char *text, *app;
        size_t at;
        const char *says;
    } cases[] = {
        {"Failed for tern from pier3-sw2 port 1 x", NULL, 21,
         "expected {peer:ip}, an address such as 192.0.2.9 or 2001:db8::1, found \"pier3-sw2\"; {peer:host} "
         "would fit"},
        {"Failed for tern from 192.0.2.9 port 40x2 x", NULL, 36,
         "{port:int} takes only \"40\" of \"40x2\"; {port:host} would fit"},
        {"Failed for tern from 192.0.2.9 port 4022", NULL, 40, "expected a space, found the end of the text"},
        {"Failed for tern by 192.0.2.9 again", NULL, 28, "expected the end of the text, found \" again\""},
        {"Failed for tern at", NULL, 16, "expected \"by \", found \"at\""},
        {"closed all of it now", "ftpd", 20, "all of it fits, but is for the app \"sshd\" only"},
        {"closed all of it nov", "sshd", 19, "expected \"w\", found \"v\""},
    };
    make_set(layouts);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_stop stops[IND_STOPS];
        char text[400];
        struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
        struct ind_slice sample = ind_slice_of(cases[i].text), app = ind_slice_of(cases[i].app);
        assert_null(ind_match(matcher, sample, app, false));
        assert_true(ind_match_stops(matcher, sample, app, false, stops) >= 1);
        ind_stop_describe(&stops[0], &out);
        text[out.length] = '\0';
        assert_string_equal(text, cases[i].says);
        assert_int_equal(stops[0].found_at, cases[i].at);
    }
    free_set();
}

static void count_overlap(void *context, const struct ind_overlap *overlap)
{
    char *text = context;
    size_t length = strlen(text);
    snprintf(text + length, 1000 - length, "%u>%u %s;", overlap->a, overlap->b,
             overlap->kind == IND_OVERLAP ? overlap->text : "?");
}

static void overlaps_behind_a_text_are_found_too(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|{a:text} is up {b:text}", "b|{a:text} is down {b:text}",
                                          "c|{w:word}: in {i:int}", "d|{w:word}: out {i:int}", NULL};
    const struct ind_slice examples[4] = {{NULL, 0}};
    char text[1000] = "";
    make_set(layouts);
    assert_int_equal(ind_patterns_overlaps(set, examples, count_overlap, text), 0);
    assert_string_equal(text, "0>1 x is up is down x;");
    free_set();
}

static void overlaps_are_proved_with_a_text(void **state)
{
    (void)state;
    static const char *const layouts[] = {"a|link {i:interface} down",
                                          "b|link {n:word} {s:word}",
                                          "c|link {n:word} up x",
                                          "d/sshd|fail {u:word}",
                                          "e/ftpd|fail {u:int}",
                                          "f|v {x:re([0-9]{5})}",
                                          "g|v {x:int}",
                                          "h|w {a:int} x",
                                          "i|w {a:mac} x",
                                          NULL};
    struct ind_slice examples[9] = {{NULL, 0}};
    char text[1000] = "";
    make_set(layouts);
    assert_int_equal(ind_patterns_overlaps(set, examples, count_overlap, text), 0);
    assert_string_equal(text, "0>1 link x1 down;6>5 ?;"); /* 1 and 2 end otherwise, 3 and 4 have other apps, 7
                                                             and 8 no text in common */
    text[0] = '\0';
    examples[5] = IND_SLICE("v 12345");
    assert_int_equal(ind_patterns_overlaps(set, examples, count_overlap, text), 0);
    assert_string_equal(text, "0>1 link x1 down;6>5 v 12345;");
    free_set();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_type_takes_what_it_should_and_no_more),
        cmocka_unit_test(a_wrong_layout_is_told_with_its_place_and_what_could_stand_there),
        cmocka_unit_test(a_layout_takes_the_whole_text_and_blanks_are_one),
        cmocka_unit_test(a_field_ends_only_at_a_boundary),
        cmocka_unit_test(narrow_comes_before_wide_whatever_the_order_of_writing),
        cmocka_unit_test(a_failure_further_on_goes_back_and_tries_the_next),
        cmocka_unit_test(words_and_texts_are_the_shortest_that_lets_the_rest_fit),
        cmocka_unit_test(two_layouts_that_fit_just_the_same_are_a_mistake),
        cmocka_unit_test(expressions_have_limits_which_are_counted),
        cmocka_unit_test(hostile_texts_take_bounded_steps),
        cmocka_unit_test(long_texts_are_not_given_up),
        cmocka_unit_test(fields_of_the_pattern_hide_those_of_the_payload),
        cmocka_unit_test(where_it_stops_is_told_with_what_would_fit),
        cmocka_unit_test(overlaps_are_proved_with_a_text),
        cmocka_unit_test(overlaps_behind_a_text_are_found_too),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
