/* cli/watch_view.h: what somebody wants to see of it, and the frame that shows it. */
#ifndef IND_CLI_WATCH_VIEW_H
#define IND_CLI_WATCH_VIEW_H

#include "cli/watch_frame.h"
#include "cli/watch_model.h"

struct ind_watch_view {
    enum ind_watch_order order;
    unsigned severity; /* messages of this, and worse ones, are shown */
    char when[400];    /* and for which this holds; "": all */
    char device[80];   /* devices whose names hold this, and their messages */
    size_t first;      /* the first device that is shown */
    bool paused, help;
    const char *asking; /* a line is typed: for what; NULL: none is */
    char typed[400];
    char said[200]; /* what is said of the last key, until the next */
};

/* The whole screen. */
void ind_watch_draw(struct ind_watch_model *model, struct ind_watch_view *view, struct ind_frame *frame);

#endif
