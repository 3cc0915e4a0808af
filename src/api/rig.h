/* The rig of a rehearsal: images, what is soldered on, what the loader was built with. */
#ifndef MOS_API_MACHINE_H
#define MOS_API_MACHINE_H

#include "api/survey.h"
#include "rehearse/rehearse.h"
#include "trial/trial.h"

struct machine_image {
    const char *path;
    struct mos_unpacked file;
};

struct run_rig {
    struct mos_rig rig;
    struct mos_vec images;       /* of struct machine_image: open */
    struct mos_vec media;        /* of struct mos_rig_medium */
    struct mos_vec environments; /* of struct mos_rig_environment */
    struct mos_map compiled;
    struct mos_vec notes;        /* of const char *: what was taken for granted */
    const struct mos_plan *plan; /* NULL: it is an image */
    const char *title;           /* "curlew+field", or the image's path */
    bool planned;           /* its media are those of the plan: nothing was read that was built */
    bool fallback;          /* the definition has more than one entry */
    struct mos_place claim; /* where it says so */
};

/* Opens everything; false with an error.  Close it in any case. */
bool rig_open(mosaicum *m, const struct mosaicum_rehearsal *request, struct run_rig *out);
void rig_close(struct run_rig *rig);

/* What breaking one thing at a time comes to. */
struct run_faults {
    struct report_table table; /* not ended: a row a fault, the worst first */
    const char *text;          /* a sentence, the worst first */
    size_t dead;               /* faults that the board does not survive */
};
/* faults.c: breaks one thing at a time. */
struct run_faults rehearse_faults(mosaicum *m, const struct run_rig *rig,
                                  const struct mos_rehearsal *whole);
/* rehearse.c */
const char *rehearsal_end_text(enum mos_rehearsal_end end);

#endif
