/* cli/doctor.h: what `doctor` has found, and the parts of it that look. */
#ifndef IND_CLI_DOCTOR_H
#define IND_CLI_DOCTOR_H

#include "config/config.h"

#include <jansson.h>

enum ind_finding_kind {
    IND_FINDING_BAD,   /* keeps messages from arriving or from being filed */
    IND_FINDING_ADVICE /* does not, but asks for somebody */
};

struct ind_findings;

/* NULL where memory is out; the other calls accept NULL. */
struct ind_findings *ind_findings_new(void);
void ind_findings_free(struct ind_findings *findings);

/* One more thing that was looked at. */
void ind_findings_looked(struct ind_findings *findings);
/* What was found; `check`: a word for scripts; `mend`: the command or setting that does it. */
void ind_findings_add(struct ind_findings *findings, enum ind_finding_kind kind, const char *check,
                      const char *mend, const char *format, ...) __attribute__((format(printf, 5, 6)));
/* Those that keep messages away first. Returns how many of these there are. */
size_t ind_findings_print(const struct ind_findings *findings, bool json);

/* This machine: folders, file systems, its clock, the kernel's counters. `status`: of the collector that
 * runs; NULL: none does. */
void ind_doctor_machine(struct ind_findings *findings, const struct ind_config *config, const json_t *status);
/* What the kernel does with packets and datagrams, over a third of a second. */
void ind_doctor_kernel(struct ind_findings *findings, const struct ind_config *config, const json_t *status);
/* Whether a listener takes UDP. */
bool ind_doctor_has_udp(const struct ind_config *config);
/* Each port that nobody of ours holds: whether it can be had, and who has it. */
void ind_doctor_ports(struct ind_findings *findings, const struct ind_config *config);
/* Shows what arrives for so long: at the running collector, or, where none runs, at its ports. Returns the
 * exit code: 1 where nothing does. */
int ind_doctor_listen(const struct ind_config *config, long milliseconds, bool json);
struct ind_heard;
/* Listens at the ports of the configuration for so long. False, reported, where none could be opened. */
bool ind_doctor_listen_here(const struct ind_config *config, long milliseconds, struct ind_heard *heard);
/* Why a file below the store is, or is not, written to. Returns the exit code: 1 where none of the last
 * messages went there. */
int ind_doctor_file(const struct ind_config *config, const char *path, bool json);
/* What a running collector says of itself. */
void ind_doctor_collector(struct ind_findings *findings, const struct ind_loaded *loaded,
                          const json_t *status);

#endif
