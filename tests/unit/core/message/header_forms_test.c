/* docs/headers.md is the data of this test: under each message there stands what is read from it.
 * IND_REWRITE=1 writes what is read now into the page; look at the difference before it is kept. */
#include "support/moment.h"
#include "support/support.h"

#include "core/base/escape.h"
#include "core/message/header.h"
#include "core/message/names.h"

static struct ind_zone *utc;

/* "\xef" and the like in the page stand for those bytes. */
static size_t undo_escapes(const char *line, size_t length, char *bytes)
{
    size_t used = 0;
    for (size_t i = 0; i < length; i++) {
        unsigned value;
        if (line[i] == '\\' && i + 3 < length && sscanf(line + i, "\\x%2x", &value) == 1) {
            bytes[used++] = (char)value;
            i += 3;
        } else {
            bytes[used++] = line[i];
        }
    }
    return used;
}

static void say(struct ind_buffer *out, const char *name, struct ind_slice value)
{
    if (value.length == 0)
        return;
    ind_buffer_text(out, "    ");
    ind_buffer_text(out, name);
    for (size_t i = strlen(name); i < 11; i++)
        ind_buffer_byte(out, ' ');
    ind_escape_shown(out, value);
    ind_buffer_byte(out, '\n');
}

static void write_parts(const char *line, size_t length, struct ind_buffer *out)
{
    static const char *const marks[] = {"", "never set", "not synchronised", "uptime"};
    char bytes[1024], time[IND_TIME_WIDTH], pri[64];
    struct ind_message m;
    struct ind_buffer sent = ind_buffer_on(time, sizeof time), both = ind_buffer_on(pri, sizeof pri);
    ind_header_read(bytes, undo_escapes(line, length, bytes), at("2026-11-23T04:45:00Z"), utc, &m);
    if (m.sent != IND_TIME_NONE)
        ind_time_write(&sent, m.sent);
    ind_buffer_slice(&both, ind_facility_name(m.facility));
    ind_buffer_byte(&both, ' ');
    ind_buffer_slice(&both, ind_severity_name(m.severity));
    say(out, "form", ind_form_name(m.form));
    say(out, "malformed", ind_malformed_name(m.malformed));
    say(out, "PRI", ind_buffer_view(&both));
    say(out, "sent", ind_buffer_view(&sent));
    say(out, "clock", ind_slice_of(marks[m.mark]));
    say(out, "sequence", m.sequence);
    say(out, "location", m.location);
    say(out, "host", m.host);
    say(out, "app", m.app);
    say(out, "procid", m.procid);
    say(out, "msgid", m.msgid);
    say(out, "data", m.data);
    say(out, "text", m.text);
}

/* The page with the parts under each message as they are read now. */
static char *written_anew(const char *page)
{
    struct ind_buffer out = ind_buffer_on(malloc(1 << 20), (1 << 20) - 1);
    bool fenced = false;
    while (*page) {
        size_t length = strcspn(page, "\n");
        bool fence = length == 3 && memcmp(page, "```", 3) == 0;
        if (!fenced || fence || *page != ' ') {
            ind_buffer_add(&out, page, length);
            ind_buffer_byte(&out, '\n');
        }
        if (fenced && !fence && *page != ' ')
            write_parts(page, length, &out);
        fenced ^= fence;
        page += length + (page[length] == '\n');
    }
    assert_false(out.full);
    out.at[out.length] = '\0';
    return out.at;
}

static void the_page_of_headers_says_what_is_read(void **state)
{
    const char *path = IND_SOURCE_FOLDER "/docs/headers.md";
    char *page = ind_read_file(path, NULL);
    (void)state;
    assert_non_null(page);
    char *now = written_anew(page);
    if (getenv("IND_REWRITE"))
        ind_write_file(path, now);
    else
        assert_string_equal(now, page);
    free(now);
    free(page);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(the_page_of_headers_says_what_is_read)};
    utc = ind_zone_fixed(0);
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_zone_free(utc);
    return failed;
}
