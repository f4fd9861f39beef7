#include "report/html.h"

void ind_html_put(const char *text, FILE *out)
{
    for (; *text; text++) {
        switch (*text) {
        case '&':
            fputs("&amp;", out);
            break;
        case '<':
            fputs("&lt;", out);
            break;
        case '>':
            fputs("&gt;", out);
            break;
        case '"':
            fputs("&quot;", out);
            break;
        case '\'':
            fputs("&#39;", out);
            break;
        default:
            fputc(*text, out);
        }
    }
}
