/* The inside of the job that writes media, for its own files. */
#ifndef MOS_API_WRITE_H
#define MOS_API_WRITE_H

#include "api/media.h"
#include "content/content.h"
#include "ledger/ledger.h"
#include "media/write.h"

/* What is written. */
struct write_image {
    const char *path, *name;     /* the file; the image's name in its ledger */
    bool piped;                  /* it came on standard input, and its path leads to nothing */
    struct mos_unpacked file;    /* open: … */
    struct mos_file_info before; /* … as it was then */
    struct mos_io *io;           /* its bytes */
    bool has_ledger;             /* there is one beside it that knows it: */
    const char *ledger_path;
    struct mos_ledger_image_last ledger;
    const struct mos_table_driver *driver; /* NULL: no table */
    struct mos_table_data table;
    struct mos_table_span table_spans[8]; /* what the table takes of the image */
    size_t table_span_count;
    bool volume;     /* one file system, which belongs into a partition */
    uint32_t sector; /* bytes; 0: it does not tell */
    uint64_t least;  /* bytes that a device must have */
    bool pattern;    /* it is none: a pattern, as large as the device */
    char hash[65];   /* of the list of its chunks' hashes; "": it was not made */
};

/* A device that is to be written. */
struct write_device {
    struct media_device d;
    bool refused, given_up;        /* by a rule; nobody consented, or it cannot be opened */
    int device;                    /* open; -1: not */
    bool carries;                  /* it has the image's layout already */
    bool goes_on;                  /* an earlier write of this image was interrupted */
    bool had_going;                /* … or one of any image */
    uint64_t done_before;          /* … after so many bytes */
    const char *token_before;      /* … which this token had allowed */
    const char *folder;            /* where what was on it is saved; NULL: there is no workspace */
    const char *saved;             /* … by what was on it then */
    const char *key;               /* of its identity, a few digits */
    const char *why;               /* … why; set by whoever finds that it fails */
    struct mos_vec keep;           /* of const struct mos_ledger_region_last *: regions that stay */
    struct mos_vec patches, voids; /* of struct mos_media_patch */
    const char *lost;              /* what is on it and goes, in words */
    uint64_t rate;                 /* bytes a second that it will take, about; 0: not known */
};

struct write_job {
    mosaicum *m;
    const struct mosaicum_write *request;
    struct mos_storage storage;
    struct write_image image;
    struct write_device *devices;
    size_t count;
    uint32_t grain;        /* bytes of the largest sector: what is written begins and ends there */
    struct mos_io content; /* the image, in whole grains */
    struct mos_vec spans;  /* of struct mos_media_span */
    size_t proved;         /* devices that are whole */
};

/* write.c: all of mosaicum_write() but its status; how many devices are whole. */
size_t write_all(mosaicum *m, const struct mosaicum_write *request);

/* write-image.c: opens the image that is meant (a file, or a selector's); false with an error or a
 * finding.  Close it in any case that was true. */
bool write_open(struct write_job *w);
void write_close(struct write_job *w);
/* Is it what its ledger says?  A finding, and false, where not. */
bool write_proves_image(struct write_job *w);

/* write-unit.c: what --unit's board has of its own is put into the image, from here on.  false with
 * an error. */
bool write_suits_unit(struct write_job *w);
/* Rules about it: write.no-unit. */
void write_judge_unit(struct write_job *w);
/* Does it change a region? */
bool write_sets(const struct write_job *w, const struct mos_ledger_region_last *r);
/* What it sets, "ethaddr=02:00:00:00:00:07"; NULL: nothing. */
const char *write_unit_text(const struct write_job *w);

/* write-lost.c: what is on a device and goes, as x->lost; what was edited there is a finding:
 * write.edits-lost. */
void write_look_what_is_lost(struct write_job *w, struct write_device *x);
/* Regions that stay, and hold something else than the layout says: write.old-signatures. */
void write_judge_what_stays(struct write_job *w, const struct write_device *x);

/* write-pattern.c: a pattern that tells of each sector where it belongs, as large as the device. */
void write_make_pattern(struct write_job *w, uint64_t size);
/* How large a device really is whose pattern came back wrong at an offset; 0: it cannot be told. */
uint64_t write_true_size(struct write_job *w, const struct write_device *x, uint64_t differs_at);

/* write-spans.c: what is written where.  false with an error. */
bool write_make_spans(struct write_job *w);
/* A device's own bytes: its table, as large as it is, and what makes it invalid meanwhile. */
bool write_make_patches(struct write_job *w, struct write_device *x);
/* Has the device the image's layout already: the same partitions in the same places? */
bool write_carries(const struct write_image *image, const struct media_device *d);
/* Is it a region that stays on a device which carries the image's layout? */
bool write_may_stay(const struct write_job *w, const struct mos_ledger_region_last *r);

/* write-record.c: what is kept in the workspace. */
/* The folder of what is kept of a device, and what an interrupted write left there. */
void write_find_record(struct write_job *w, struct write_device *x);
/* Saves the old table and the regions of owner factory, and notes that a write begins.  false with
 * an error. */
bool write_begin_record(struct write_job *w, struct write_device *x);
void write_mark_record(struct write_job *w, struct write_device *x, uint64_t done);
/* Appends the outcome to written.jsonl; whole: the notes of the interrupted write go. */
bool write_end_record(struct write_job *w, struct write_device *x, const char *result, bool whole,
                      uint64_t seconds_tenths, uint64_t bytes);
/* Rules about what was written before: write.stale. */
void write_judge_record(struct write_job *w);

#endif
