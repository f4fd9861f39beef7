/* cli/status_view.h: the parts of what `status` shows, for its own files. */
#ifndef IND_CLI_STATUS_VIEW_H
#define IND_CLI_STATUS_VIEW_H

#include "cli/answer.h"
#include "cli/table.h"

/* "3 min 10 s", of nanoseconds. */
void ind_status_span(int64_t time, char text[40]);
/* "3 min 10 s ago", of the member "last"; "-" where nothing has come. */
void ind_status_ago(const json_t *status, const json_t *object, char text[48]);
void ind_status_heading(const char *text);
/* What became of messages, as eight cells of a row: received, stored, handed on, dropped, unrouted, refused,
 * lost, waiting. */
void ind_status_add_ledger(struct ind_table *table, const json_t *ledger);
/* Messages that we lost, of a ledger. */
uint64_t ind_status_lost(const json_t *ledger);

/* Of a device; and of a sender that is none. */
bool ind_status_has_wrong_clock(const json_t *device);
bool ind_status_is_refused(const json_t *sender);

/* "rfc3164", or "rfc5424 12, bare 3" of a device that sends more than one. */
void ind_status_forms(const json_t *device, char *text, size_t room);

enum ind_summary_kind { IND_SUMMARY_WELL, IND_SUMMARY_BAD, IND_SUMMARY_ALERTS, IND_SUMMARY_LOOK };
typedef void ind_tell_summary(void *context, enum ind_summary_kind kind, const char *text);
/* Whether all is well, what is not, worst first, and what somebody should look at: a call for each line. */
void ind_status_summary(const json_t *status, ind_tell_summary *tell, void *context);

/* Whether all is well, what is not, worst first, and what somebody should look at; how much comes. */
void ind_show_summary(const json_t *status);

/* Devices, those with trouble first; then senders that are none. At most `most` of each; 0: all. */
void ind_show_devices(const json_t *status, size_t most);
void ind_show_strangers(const json_t *status, size_t most);

#endif
