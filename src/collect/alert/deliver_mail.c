/* Mails, by libcurl (RFC 5321, RFC 3207, RFC 5322). */
#include "collect/alert/courier.h"
#include "collect/alert/deliver_private.h"

#include "net/broker_login.h"

#include <stdio.h>
#include <string.h>
#include <time.h>

enum { HEADER = 1200 };

/* As RFC 2047 section 4.2 has it, in words of whole characters, where there is anything but ASCII: no byte of
 * it can end the header. */
static void write_words(const char *text, struct ind_buffer *out)
{
    bool plain = true;
    size_t in_word = 0;
    for (const char *at = text; *at; at++)
        plain &= *at >= ' ' && *at < 0x7f;
    if (plain && !strstr(text, "=?")) {
        ind_buffer_text(out, text);
        return;
    }
    for (const char *at = text; *at; at++) {
        char hex[4];
        const unsigned char c = (unsigned char)*at;
        const bool begins = (c & 0xc0) != 0x80;
        if (in_word == 0 || (begins && in_word > 40)) {
            ind_buffer_text(out, in_word ? "?= =?utf-8?Q?" : "=?utf-8?Q?");
            in_word = 0;
        }
        if (ind_is_alpha(*at) || ind_is_digit(*at))
            ind_buffer_byte(out, *at);
        else if (snprintf(hex, sizeof hex, "=%02X", c) == 3)
            ind_buffer_text(out, hex);
        in_word += ind_is_alpha(*at) || ind_is_digit(*at) ? 1 : 3;
    }
    ind_buffer_text(out, "?=");
}

static bool add_header(struct curl_slist **headers, const char *name, const char *before, const char *value,
                       const char *after)
{
    char text[HEADER];
    snprintf(text, sizeof text, "%s: %s%s%s", name, before, value, after);
    struct curl_slist *grown = curl_slist_append(*headers, text);
    *headers = grown ? grown : *headers;
    return grown != NULL;
}

static struct curl_slist *headers_of(const struct ind_courier_mail *mail, const struct ind_parcel *parcel)
{
    struct curl_slist *headers = NULL;
    char subject[HEADER - 16], date[80], at_host[300];
    struct ind_buffer words = ind_buffer_on(subject, sizeof subject - 1);
    const time_t now = time(NULL);
    struct tm civil;
    write_words(parcel->subject, &words);
    subject[words.length] = '\0';
    gmtime_r(&now, &civil);
    (void)strftime(date, sizeof date, "%a, %d %b %Y %H:%M:%S +0000", &civil);
    snprintf(at_host, sizeof at_host, "@%.250s>", mail->host);
    bool good = add_header(&headers, "Date", "", date, "") &&
                add_header(&headers, "From", "<", mail->from, ">") &&
                add_header(&headers, "To", "<", parcel->to, ">") &&
                add_header(&headers, "Subject", "", subject, "") &&
                add_header(&headers, "Message-ID", "<", parcel->id, at_host) &&
                add_header(&headers, "Auto-Submitted", "", "auto-generated", ""); /* RFC 3834 */
    if (good && parcel->thread)
        good = add_header(&headers, "References", "<alert.", parcel->thread, at_host);
    if (good)
        return headers;
    curl_slist_free_all(headers);
    return NULL;
}

static bool add_part(curl_mime *mime, const char *text, const char *type)
{
    curl_mimepart *part = curl_mime_addpart(mime);
    return part && curl_mime_data(part, text, CURL_ZERO_TERMINATED) == CURLE_OK &&
           curl_mime_type(part, type) == CURLE_OK && curl_mime_encoder(part, "quoted-printable") == CURLE_OK;
}

static bool attach(curl_mime *whole, const struct ind_parcel *parcel)
{
    if (!parcel->attachment)
        return true;
    curl_mimepart *part = curl_mime_addpart(whole);
    return part && curl_mime_data(part, parcel->attachment, CURL_ZERO_TERMINATED) == CURLE_OK &&
           curl_mime_type(part, "text/html; charset=utf-8") == CURLE_OK &&
           curl_mime_filename(part, parcel->attached ? parcel->attached : "report.html") == CURLE_OK &&
           curl_mime_encoder(part, "base64") == CURLE_OK;
}

/* The same twice: as text, and as a page. */
static curl_mime *body_of(CURL *curl, const struct ind_parcel *parcel)
{
    curl_mime *whole = curl_mime_init(curl), *both = curl_mime_init(curl);
    curl_mimepart *part = whole ? curl_mime_addpart(whole) : NULL;
    if (both && part && add_part(both, parcel->text, "text/plain; charset=utf-8") &&
        add_part(both, parcel->page, "text/html; charset=utf-8") &&
        curl_mime_subparts(part, both) == CURLE_OK) {
        (void)curl_mime_type(part, "multipart/alternative");
        if (attach(whole, parcel))
            return whole;
        curl_mime_free(whole);
        return NULL;
    }
    curl_mime_free(both);
    curl_mime_free(whole);
    return NULL;
}

static bool set_up(CURL *curl, const struct ind_courier_mail *mail, const struct ind_broker_login *login,
                   struct curl_slist *to, struct curl_slist *headers, curl_mime *body)
{
    char url[400], from[300];
    const bool bare =
        mail->plain || (ind_host_is_loopback(ind_host_of(ind_slice_of(mail->server))) && !mail->trust);
    snprintf(url, sizeof url, "%s://%s", mail->tls_at_once ? "smtps" : "smtp", mail->server);
    snprintf(from, sizeof from, "<%s>", mail->from);
    bool good = curl_easy_setopt(curl, CURLOPT_URL, url) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_PROTOCOLS_STR, "smtp,smtps") == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_MAIL_FROM, from) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_MAIL_RCPT, to) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_HTTPHEADER, headers) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_MIMEPOST, body) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_USE_SSL,
                                 bare ? (long)CURLUSESSL_NONE : (long)CURLUSESSL_ALL) == CURLE_OK;
    if (good && mail->trust)
        good = curl_easy_setopt(curl, CURLOPT_CAINFO, mail->trust) == CURLE_OK;
    if (good && login->user[0])
        good = curl_easy_setopt(curl, CURLOPT_USERNAME, login->user) == CURLE_OK &&
               curl_easy_setopt(curl, CURLOPT_PASSWORD, login->password) == CURLE_OK;
    return good;
}

bool ind_deliver_mail(const struct ind_courier_mail *mail, const struct ind_parcel *parcel,
                      const struct ind_delivery_limits *limits, char *reason, size_t room)
{
    struct ind_broker_login login = {.user = ""};
    char recipient[300];
    if (!mail->server || !mail->from) {
        snprintf(reason, room, "no server takes mails: the configuration has no \"mail\"");
        return false;
    }
    if (mail->login && !ind_broker_login_read(mail->login, &login, reason, room))
        return false;
    snprintf(recipient, sizeof recipient, "<%s>", parcel->to);
    struct ind_delivery delivery;
    CURL *curl = ind_deliver_curl(&delivery, limits);
    struct curl_slist *headers = headers_of(mail, parcel), *to = curl_slist_append(NULL, recipient);
    curl_mime *body = curl ? body_of(curl, parcel) : NULL;
    bool good = curl && headers && to && body && set_up(curl, mail, &login, to, headers, body);
    if (good)
        good = ind_deliver_perform(curl, reason, room, NULL);
    else
        snprintf(reason, room, "out of memory");
    curl_easy_cleanup(curl);
    curl_mime_free(body);
    curl_slist_free_all(headers);
    curl_slist_free_all(to);
    return good;
}
