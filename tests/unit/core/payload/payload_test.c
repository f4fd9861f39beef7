#include "support/support.h"

#include "core/payload/payload.h"

static struct ind_payload payload;
static char scratch[IND_PAYLOAD_SCRATCH];

static void read(const char *text)
{
    struct ind_message message = {.text = ind_slice_of(text)};
    ind_payload_read(&message, scratch, sizeof scratch, &payload);
}

/* All fields as "name=value|name=value". */
static const char *fields(void)
{
    static char text[8192];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    for (size_t i = 0; i < payload.count; i++) {
        ind_buffer_text(&out, i ? "|" : "");
        ind_buffer_slice(&out, payload.fields[i].name);
        ind_buffer_byte(&out, '=');
        ind_buffer_slice(&out, payload.fields[i].value);
    }
    text[out.length] = '\0';
    return text;
}

struct example {
    const char *text, *fields;
};

static void check(const struct example *examples, size_t count)
{
    for (size_t i = 0; i < count; i++) {
        read(examples[i].text);
        if (strcmp(fields(), examples[i].fields) != 0)
            print_error("%s\n", examples[i].text);
        assert_string_equal(fields(), examples[i].fields);
    }
}

#define CHECK(examples) check(examples, sizeof(examples) / sizeof *(examples))

static void event_codes_in_all_their_forms(void **state)
{
    static const struct example examples[] = {
        {"%LINK-3-CHANGE: Interface ge0/1, changed state to down",
         "code_group=LINK|code_severity=3|code_name=CHANGE"},
        {"%PKT-LINK-3-CHANGE : down", "code_group=PKT|code_subgroup=LINK|code_severity=3|code_name=CHANGE"},
        {"%A-B-C-3-NAME: x", "code_group=A|code_subgroup=B-C|code_severity=3|code_name=NAME"},
        {"#PORT-4-FLAP: x", "code_group=PORT|code_severity=4|code_name=FLAP"},
        {"%%01PORTS/4/LINK_STATE(l)[12]:x", "code_group=PORTS|code_severity=4|code_name=LINK_STATE"},
        {"%SESSION-6-OPENED: Built src=192.0.2.7",
         "code_group=SESSION|code_severity=6|code_name=OPENED|src=192.0.2.7"},
        {"%STACK-W-MEMBER: x", "code_group=STACK|code_severity=W|code_name=MEMBER"},
        {"%A-B-E-MEMBER: x", "code_group=A|code_subgroup=B|code_severity=E|code_name=MEMBER"},
        {"%A-I-3-MEMBER: x", "code_group=A|code_subgroup=I|code_severity=3|code_name=MEMBER"},
        {"%A-X-MEMBER: x", ""},
        {"%A-w-MEMBER: x", ""},
        {"#A-W-MEMBER: x", ""},
        {"%LINK-8-CHANGE: x", ""},
        {"%LINK-3-: x", ""},
        {"%-3-X: x", ""},
        {"%LINK-3-CHANGE x", ""},
        {"%%PORTS/4/: x", ""},
        {"%%01PORTS/9/X: x", ""},
        {"% complete: 12", ""},
        {"%", ""},
    };
    (void)state;
    CHECK(examples);
}

static void pairs_bare_and_quoted(void **state)
{
    static const struct example examples[] = {
        {"SRC=192.0.2.7\tDPT=22,23\tMSG=a;b\t X=1,\tY=2", "SRC=192.0.2.7|DPT=22,23|MSG=a;b|X=1|Y=2"},
        {"DENY IN=ge0 OUT= SRC=203.0.113.7 LEN=44 SYN URGP=0", "IN=ge0|OUT=|SRC=203.0.113.7|LEN=44|URGP=0"},
        {"user=\"a b\" msg=\"say \\\"hi\\\"\" n='1 2'", "user=a b|msg=say \"hi\"|n=1 2"},
        {"a=1,b=2, c=3; d=4;", "a=1|b=2|c=3|d=4"},
        {"flags=A,B,C x=y", "flags=A,B,C|x=y"},
        {"(rate=5 of=10) [k=v]", "rate=5|of=10|k=v"},
        {"f=g(x) h=[1]", "f=g(x)|h=[1]"},
        {"http://h/?a=b&c=d", ""},
        {"a==b 1=2 =x -y=z _q=1", "a==b|_q=1"},
        {"open=\"never closed x=1", "open=\"never|x=1"},
        {"q=\"x\"y z=1", "q=\"x\"y|z=1"},
        {"no fields at all", ""},
        {"src:\"192.0.2.7\"; dst.port:\"22\"; action:\"drop x=y\";",
         "src=192.0.2.7|dst.port=22|action=drop x=y"},
        {"[a:\"1\"; m:\"say \\\"no\\\"; b=c\"; ] k=v", "a=1|m=say \"no\"; b=c|k=v"},
        {"he said:\"hello\" and went", ""},
        {"a:\"b\", c:\"d\"", ""},
        {"a:\"b; c=d", "c=d"},
        {"\"a\":\"b\";", ""},
        {":\"b\"; a=1", "a=1"},
        {"", ""},
        {"=", ""},
        {"a=", "a="},
    };
    (void)state;
    CHECK(examples);
}

static void cef_with_its_escapes(void **state)
{
    static const struct example examples[] = {
        {"CEF:0|Skerry|Harbour Gate|1.2|100|Login failed|7|src=203.0.113.7 msg=two words here suser=tern",
         "cef_version=0|cef_device_vendor=Skerry|cef_device_product=Harbour Gate|cef_device_version=1.2|"
         "cef_event_class_id=100|cef_name=Login failed|cef_severity=7|src=203.0.113.7|msg=two words "
         "here|suser=tern"},
        {"CEF:0|a\\|b|c|1|2|n\\\\m|3|k=a\\=b\\nc q=x=y",
         "cef_version=0|cef_device_vendor=a|b|cef_device_product=c|cef_device_version=1|cef_event_class_id=2|"
         "cef_name=n\\m|cef_severity=3|k=a=b\nc|q=x=y"},
        {"CEF: 0|a|b|c|d|e|5",
         "cef_version=0|cef_device_vendor=a|cef_device_product=b|cef_device_version=c|cef_event_class_id=d|"
         "cef_name=e|cef_severity=5"},
        {"CEF:0|a|b", ""},
    };
    (void)state;
    CHECK(examples);
}

static void leef_with_every_delimiter(void **state)
{
#define LEEF(version)                                                                                        \
    "leef_version=" version                                                                                  \
    "|leef_vendor=Skerry|leef_product=Harbour Gate|leef_product_version=1.2|leef_event_id=100"
    static const struct example examples[] = {
        {"LEEF:1.0|Skerry|Harbour Gate|1.2|100|src=203.0.113.7\tmsg=a=b c\t\tx=",
         LEEF("1.0") "|src=203.0.113.7|msg=a=b c|x="},
        {"LEEF:2.0|Skerry|Harbour Gate|1.2|100|^|src=203.0.113.7^msg=a b^no value^=x",
         LEEF("2.0") "|src=203.0.113.7|msg=a b"},
        {"LEEF:2.0|Skerry|Harbour Gate|1.2|100|0x5E|a=1^b=2", LEEF("2.0") "|a=1|b=2"},
        {"LEEF:2.0|Skerry|Harbour Gate|1.2|100|x7c|a=1|b=2", LEEF("2.0") "|a=1|b=2"},
        {"LEEF:2.0|Skerry|Harbour Gate|1.2|100||a=1\tb=2", LEEF("2.0") "|a=1|b=2"},
        {"LEEF:2.0|Skerry|Harbour Gate|1.2|100|a=1\tb=2|3", LEEF("2.0") "|a=1|b=2|3"},
        {"LEEF:1.0|Skerry|Harbour Gate|1.2|100", LEEF("1.0")},
        {"LEEF:1.0|Skerry|Harbour Gate|1.2", ""},
        {"LEEF:3.0|Skerry|Harbour Gate|1.2|100|a=1", "a=1"},
        {"LEEF:", ""},
    };
    (void)state;
    CHECK(examples);
}

static void json_objects_flattened(void **state)
{
    static const struct example examples[] = {
        {"{\"event\":\"login\",\"user\":{\"name\":\"tern\",\"id\":7},\"ok\":false,\"none\":null}",
         "event=login|user.name=tern|user.id=7|ok=false"},
        {"{\"a\":[1,2,{\"b\":3},4],\"c\":[]}", "a=1|a=2|a.b=3|a=4"},
        {" {\"t\":\"a\\tb\\u00e9\\ud83d\\ude00\\ud800\"} ", "t=a\tb\xC3\xA9\xF0\x9F\x98\x80\xEF\xBF\xBD"},
        {"{\"n\":{\"m\":{\"o\":-1.5e3}}}", "n.m.o=-1.5e3"},
        {"{}", ""},
        {"@cee: {\"a\":1}", "a=1"},
        {"@cee:{\"a\":1}", "a=1"},
        {"@cee: a=1", "a=1"},
        {"{\"a\":1} and more", ""},
        {"{\"a\":1", ""},
        {"{\"a\" 1}", ""},
        {"{\"a\":\"x}", ""},
        {"{a=1}", "a=1"},
        {"{\"a\":tru}", ""},
    };
    (void)state;
    CHECK(examples);
}

static void too_many_fields_are_cut_and_said(void **state)
{
    static char text[64 * 1024];
    size_t length = 0;
    (void)state;
    for (int i = 0; i < 300; i++)
        length += (size_t)snprintf(text + length, sizeof text - length, "k%d=%d ", i, i);
    read(text);
    assert_int_equal(payload.count, IND_PAYLOAD_FIELDS);
    assert_true(payload.more);
    read("a=1");
    assert_false(payload.more);
    text[0] = '{';
    for (int i = 0; i < 40; i++)
        memcpy(text + 1 + 5 * i, "\"a\":{", 5);
    text[201] = '\0';
    read(text); /* deeper than anybody nests */
    assert_int_equal(payload.count, 0);
}

static void a_field_is_found_by_its_name_each_time(void **state)
{
    size_t from = 0;
    struct ind_slice value;
    (void)state;
    read("{\"a\":[1,2],\"b\":3}");
    assert_true(ind_payload_find(&payload, IND_SLICE("a"), &from, &value));
    assert_slice(value, "1");
    assert_true(ind_payload_find(&payload, IND_SLICE("a"), &from, &value));
    assert_slice(value, "2");
    assert_false(ind_payload_find(&payload, IND_SLICE("a"), &from, &value));
    const char *near;
    assert_true(ind_payload_may_give(IND_SLICE("code_group"), &near));
    assert_true(ind_payload_may_give(IND_SLICE("SRC"), &near));
    assert_false(ind_payload_may_give(IND_SLICE("code_gruop"), &near));
    assert_string_equal(near, "code_group");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(event_codes_in_all_their_forms),
        cmocka_unit_test(pairs_bare_and_quoted),
        cmocka_unit_test(cef_with_its_escapes),
        cmocka_unit_test(leef_with_every_delimiter),
        cmocka_unit_test(json_objects_flattened),
        cmocka_unit_test(too_many_fields_are_cut_and_said),
        cmocka_unit_test(a_field_is_found_by_its_name_each_time),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
