/* Between the files of amend: amend.c, amend-folder.c, amend-stale.c. */
#ifndef MOS_API_AMEND_INTERNAL_H
#define MOS_API_AMEND_INTERNAL_H

#include "api/survey.h"

/* One change, as it was asked for: REGION=FILE, REGION:PATH=FILE, REGION:~PATH; in an environment
 * REGION:NAME=VALUE, REGION:~NAME. */
struct change {
    const char *text, *region, *path, *from;
    bool removes;
    const struct survey_span *span;
};

struct amend {
    mosaicum *m;
    struct mos_vec touched; /* of struct amend_touched: files that were put or removed, in order */
    struct mos_vec stale;   /* of struct amend_stale */
    struct survey s, made;  /* of the image that is there, and of the new one */
    const char *to, *part;
    int file;
    struct mos_io io;       /* of the new image */
    struct mos_vec changes; /* of struct change */
    struct report_table report;
};

/* What no longer fits. */
struct amend_stale {
    const char *thing, *why;
};
/* A file of a volume that is another one now. */
struct amend_touched {
    const struct survey_span *span;
    const char *path; /* without a leading slash */
    bool removed;
};

/* amend-folder.c: every file below a folder of the host, or of the volume, in order of names. */
struct amend_file {
    const char *path; /* below the folder */
    const char *from; /* of the host; NULL: of the volume */
};
/* false with ctx->error; links and other things that are no files are an error, too. */
bool amend_list_folder(struct amend *a, const struct change *c, struct mos_vec *out);
bool amend_list_volume(struct amend *a, const struct survey_span *x, const char *path,
                       struct mos_vec *out);

/* amend-stale.c: what hung on a file that was changed.  Renewed, once the volume's other changes
 * are finished: the index of modules (false with ctx->error) … */
bool amend_renew_index(struct amend *a, const struct survey_span *x);
/* … and what only people can renew: found while the new image (a->made) is looked at (false with
 * ctx->error), and told at the end. */
bool amend_find_stale(struct amend *a);
void amend_report_stale(struct amend *a);

#endif
