/* cli/report_text.h: a report as text. */
#ifndef IND_CLI_REPORT_TEXT_H
#define IND_CLI_REPORT_TEXT_H

#include "report/sections.h"

/* Of what span it is, and what stands out. */
void ind_report_print_summary(const struct ind_report_page *page, FILE *out);
/* For 100 columns. `top`: rows of a table at most; 0: all. */
void ind_report_print_text(const struct ind_report_page *page, size_t top, FILE *out);

#endif
