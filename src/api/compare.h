/* Two images, or an image and a medium that it was written on: what differs, and why. */
#ifndef MOS_API_COMPARE_H
#define MOS_API_COMPARE_H

#include "api/survey.h"

/* One thing that differs between a and b. */
struct difference {
    const char *region, *change;  /* as they are shown */
    const char *thing, *a, *b;    /* NULL: nothing is to be said */
    const struct survey_span *at; /* of a; NULL: the table, or what a has not */
    bool equal_files;             /* a volume's bytes differ, and all of its files were equal */
    bool larger;                  /* b has more room */
};

/* compare-device.c: what was edited on the medium b, how to keep it in the definition, and what
 * came by running, as tables; the job has findings only where something was edited.  list: of
 * struct difference; image: of a, with the ledger of its build beside it or not. */
void compare_report_device(mosaicum *m, const struct mos_vec *list, struct survey *image,
                           struct survey *device);

#endif
