/* report/html.h: text in a page. */
#ifndef IND_REPORT_HTML_H
#define IND_REPORT_HTML_H

#include <stdio.h>

/* Writes it so that it is text wherever it stands in HTML, also in the value of an attribute. */
void ind_html_put(const char *text, FILE *out);

#endif
