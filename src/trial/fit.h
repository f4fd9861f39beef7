/* trial/fit.h: patterns tried on samples: one that is being written, one of the configuration, or all of
 * it. The same core code as collect; nothing is stored. */
#ifndef IND_TRIAL_FIT_H
#define IND_TRIAL_FIT_H

#include "config/config.h"

struct ind_fitter;

/* What is tried, and as what. All borrowed. */
struct ind_fit_settings {
    const struct ind_config *config;
    struct ind_slice layout; /* this layout; empty: see `name` */
    struct ind_slice name;   /* this pattern; empty: all of the configuration */
    struct ind_slice app;    /* samples are texts of this app; empty: whichever the patterns name */
    ind_time now;            /* settles the year of samples that are whole messages */
};

/* New. NULL with *mistake made, of `layout`, where it is none; unmade: there is no pattern of that name, or
 * memory is out. */
struct ind_fitter *ind_fitter_new(const struct ind_fit_settings *settings, struct ind_mistake *mistake);
void ind_fitter_free(struct ind_fitter *fitter);

/* Borrowed from the fitter, until its next sample. */
struct ind_fit {
    struct ind_slice sample, text; /* the text is the sample, or where it is a whole message that message's */
    struct ind_slice app;          /* of a whole message */
    const struct ind_pattern_syntax *layout;    /* that takes it; NULL: none */
    struct ind_slice pattern;                   /* its name */
    struct ind_slice values[IND_SYNTAX_FIELDS]; /* of the layout's fields */
    struct ind_stop stops[IND_STOPS];           /* where none does: the layouts that got furthest */
    size_t stop_count;
    const struct ind_payload *fields; /* that the pattern gives; NULL where none does */
};

/* Tries one sample: a text, or a whole message that begins with a PRI. */
const struct ind_fit *ind_fit_try(struct ind_fitter *fitter, struct ind_slice sample);

/* The patterns that are tried. */
const struct ind_patterns *ind_fitter_patterns(const struct ind_fitter *fitter);

#endif
