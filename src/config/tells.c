/* config/tells.c: whom alerts are told, and the section `mail`. */
#include "config/tells.h"

#include "config/quantity.h"

#include <stdlib.h>

enum { MOST_ADDRESS = 254 };

/* An address as RFC 5321 section 4.1.2 has it, without quotes and comments: nothing in it can end the line of
 * a header, or add another recipient. */
static bool is_mail_address(struct ind_slice text)
{
    size_t at = 0, count = 0;
    for (size_t i = 0; i < text.length; i++) {
        const unsigned char c = (unsigned char)text.at[i];
        if (c <= ' ' || c >= 0x7f || strchr("()<>[]:;\\,\"", c))
            return false;
        if (c == '@') {
            at = i;
            count++;
        }
    }
    return count == 1 && at > 0 && at + 1 < text.length && text.length <= MOST_ADDRESS;
}

const char *ind_read_mail_address(struct ind_loader *loader, const struct ind_node *value)
{
    if (!ind_expect_text(loader, value, "the address of a mail, such as noc@skerry.example"))
        return NULL;
    if (is_mail_address(value->text))
        return ind_keep(loader, value->text);
    ind_wrong(loader, value, "\"%.*s\" is not the address of a mail; write one such as noc@skerry.example",
              IND_ARG(value->text));
    return NULL;
}

static void read_mail_to(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_tell *tell = into;
    tell->kind = IND_TELL_MAIL;
    tell->to = ind_read_mail_address(loader, value);
}

static void read_post_to(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_tell *tell = into;
    tell->kind = IND_TELL_POST;
    tell->to = ind_read_http_address(loader, value, "https://desk.skerry.example/hook");
}

static void read_tell_program(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_tell *tell = into;
    tell->kind = IND_TELL_PROGRAM;
    tell->program = ind_read_program(loader, value);
    tell->to = tell->program ? tell->program[0] : NULL;
}

static void read_terminals(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_tell *tell = into;
    tell->kind = IND_TELL_TERMINALS;
    tell->to = ind_read_users(loader, value);
}

static void read_tell_zone(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_tell *tell = into;
    struct ind_zone *zone = ind_read_zone(loader, value);
    if (zone)
        tell->zone = ind_keep(loader, value->text);
    ind_zone_free(zone);
}

static void read_tell_plain(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)ind_read_yes(loader, value, &((struct ind_tell *)into)->plain);
}

/* Whether an HTTP address is one of this machine (RFC 3986 section 3.2). One with a user before the host is
 * not taken for it: "http://127.0.0.1:1@elsewhere.example". */
static bool is_of_this_machine(const char *address)
{
    const char *authority = strstr(address, "://");
    authority = authority ? authority + 3 : address;
    const struct ind_slice whole = {authority, strcspn(authority, "/?#\\")};
    return !memchr(whole.at, '@', whole.length) && ind_host_is_loopback(ind_host_of(whole));
}

/* What is told holds messages. */
static void check_encryption(struct ind_loader *loader, const struct ind_node *node,
                             const struct ind_tell *tell)
{
    if (tell->kind == IND_TELL_POST && tell->to && !tell->plain && !is_of_this_machine(tell->to) &&
        ind_slice_starts_nocase(ind_slice_of(tell->to), IND_SLICE("http:")))
        ind_wrong(
            loader, node,
            "this would go without encryption; write https://, or add \"plain: yes\" where all who are on "
            "the way may read it");
}

static void load_tell(struct ind_loader *loader, const struct ind_node *node, struct ind_tell *tell)
{
    static const struct ind_key keys[] = {{"mail", read_mail_to},         {"post", read_post_to},
                                          {"program", read_tell_program}, {"terminals", read_terminals},
                                          {"zone", read_tell_zone},       {"plain", read_tell_plain}};
    if (node->kind == IND_NODE_MAP) {
        size_t ways = 0;
        for (size_t i = 0; i + 1 < node->part_count; i += 2)
            ways += !ind_slice_equal(node->parts[i]->text, IND_SLICE("zone")) &&
                    !ind_slice_equal(node->parts[i]->text, IND_SLICE("plain"));
        if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, tell))
            return;
        if (ways != 1)
            ind_wrong(loader, node, "one way each; write [{mail: …}, {post: …}]");
        else
            check_encryption(loader, node, tell);
        return;
    }
    if (!ind_expect_text(loader, node,
                         "{mail: ADDRESS}, {post: ADDRESS}, {program: […]}, terminals or message"))
        return;
    if (ind_slice_equal(node->text, IND_SLICE("terminals")))
        tell->kind = IND_TELL_TERMINALS;
    else if (ind_slice_equal(node->text, IND_SLICE("message")))
        tell->kind = IND_TELL_MESSAGE;
    else
        ind_wrong(
            loader, node,
            "unknown \"%.*s\"; expected {mail: ADDRESS}, {post: ADDRESS}, {program: [PROGRAM, ARGUMENT, "
            "…]}, terminals, {terminals: [USER, …]} or message",
            IND_ARG(node->text));
}

void ind_load_tells(struct ind_loader *loader, const struct ind_node *value, struct ind_alert_rule *rule)
{
    const bool list = value->kind == IND_NODE_LIST;
    const size_t count = list ? value->part_count : 1;
    if (count == 0 || count > IND_MOST_TELLS) {
        ind_wrong(loader, value, "\"tell\" names 1 to %d ways", IND_MOST_TELLS);
        return;
    }
    struct ind_tell *tells = ind_keep_room(loader, count * sizeof *tells);
    for (size_t i = 0; tells && i < count; i++)
        load_tell(loader, list ? value->parts[i] : value, &tells[i]);
    rule->tells = tells;
    rule->tell_count = tells ? count : 0;
}

/* ---- mail ---- */

struct mail_text {
    struct ind_mail *mail;
    const struct ind_node *plain;
};

static void read_server(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_mail *mail = ((struct mail_text *)into)->mail;
    const struct ind_slice schemes[] = {IND_SLICE("smtps://"), IND_SLICE("smtp://")};
    if (!ind_expect_text(loader, value, "a server such as smtp.skerry.example:587"))
        return;
    struct ind_slice rest = value->text;
    mail->tls_at_once = ind_slice_starts(rest, schemes[0]);
    for (int i = 0; i < 2; i++)
        if (ind_slice_starts(rest, schemes[i]))
            rest = ind_slice_from(rest, schemes[i].length);
    bool good = rest.length > 0 && rest.length <= 300;
    for (size_t i = 0; i < rest.length; i++)
        good &= ind_is_alpha(rest.at[i]) || ind_is_digit(rest.at[i]) || memchr("-._:[]", rest.at[i], 6);
    if (good)
        mail->server = ind_keep(loader, rest);
    else
        ind_wrong(loader, value,
                  "\"%.*s\" is no mail server; write one such as smtp.skerry.example:587, or "
                  "smtps://smtp.skerry.example where TLS begins at once",
                  IND_ARG(value->text));
}

static void read_from(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    ((struct mail_text *)into)->mail->from = ind_read_mail_address(loader, value);
}

static void read_mail_login(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    if (ind_expect_text(loader, value, "the path of a file with a user and a password"))
        ((struct mail_text *)into)->mail->login = ind_resolve_path(loader, value);
}

static void read_mail_trust(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    if (ind_expect_text(loader, value, "the path of a file in PEM form"))
        ((struct mail_text *)into)->mail->trust = ind_resolve_path(loader, value);
}

static void read_plain(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct mail_text *text = into;
    text->plain = value;
    (void)ind_read_yes(loader, value, &text->mail->plain);
}

static void read_most(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    const struct ind_slice unit = IND_SLICE(" an hour");
    struct ind_mail *mail = ((struct mail_text *)into)->mail;
    if (!ind_expect_text(loader, value, "how many, such as 20 an hour"))
        return;
    struct ind_slice number = value->text;
    number.length -= number.length > unit.length ? unit.length : 0;
    if (!ind_slice_equal(ind_slice_from(value->text, number.length), unit) ||
        !ind_read_count(number, 1, 1000, &mail->at_most))
        ind_wrong(loader, value, "\"%.*s\" is no such number; write one from 1 to 1000, such as 20 an hour",
                  IND_ARG(value->text));
}

void ind_load_mail(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {{"server", read_server},    {"from", read_from},
                                          {"login", read_mail_login}, {"trust", read_mail_trust},
                                          {"plain", read_plain},      {"at most", read_most}};
    struct mail_text text = {.mail = into};
    text.mail->at_most = IND_MAILS_AN_HOUR;
    if (!ind_read_map(loader, value, keys, sizeof keys / sizeof *keys, &text))
        return;
    if (!text.mail->server && loader->diagnostics->mistakes == 0)
        ind_wrong(loader, value, "which server takes the mails? add \"server: smtp.skerry.example:587\"");
    if (!text.mail->from && loader->diagnostics->mistakes == 0)
        ind_wrong(loader, value, "whom are the mails from? add \"from: indagator@skerry.example\"");
    if (text.mail->plain && text.mail->login)
        ind_wrong(loader, text.plain,
                  "with \"plain: yes\" the password would go over the line for all to read; leave out "
                  "\"plain\" or \"login\"");
}

void ind_check_mail(struct ind_loader *loader)
{
    const struct ind_config *config = loader->config;
    for (size_t i = 0; i < config->alerts.count && !config->mail.server; i++)
        for (size_t k = 0; k < config->alerts.list[i].tell_count; k++)
            if (config->alerts.list[i].tells[k].kind == IND_TELL_MAIL) {
                ind_wrong(loader, loader->alerts[i],
                          "the alert \"%s\" is told by mail, and no server takes mails; add \"mail: {server: "
                          "\"smtp.skerry.example:587\", from: indagator@skerry.example}\"",
                          config->alerts.list[i].name);
                return;
            }
    for (size_t i = 0; i < config->report_count && !config->mail.server; i++)
        if (config->reports[i].mail) {
            ind_wrong(loader, loader->reports[i],
                      "the report \"%s\" goes by mail, and no server takes mails; add \"mail: {server: "
                      "\"smtp.skerry.example:587\", from: indagator@skerry.example}\"",
                      config->reports[i].name);
            return;
        }
}
