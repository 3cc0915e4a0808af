/* What lies where in a disk image: the table, its partitions, and what is outside of them. */
#ifndef MOS_API_SURVEY_H
#define MOS_API_SURVEY_H

#include "api/run.h"
#include "disk/table.h"
#include "fs/container.h"
#include "fs/fs.h"
#include "loaders/loaders.h"

enum { SURVEY_STEP = 4096 }; /* where no table tells, spans begin at a multiple of it */

struct survey_span {
    uint64_t start, length;
    const struct mos_partition *partition; /* NULL: outside of the table, or there is none */
    bool has_volume;
    struct mos_volume_info volume;
    const char *what;                  /* no volume: its content in words; NULL: cannot be told */
    struct mos_map variables;          /* an environment block */
    uint64_t environment_size;         /* 0: it is none */
    const struct mos_dialect *dialect; /* … whose form it has */
    bool flag_byte;
    const struct mos_contained *held; /* a volume in a container, or a part of a pack or parcel */
    const char *holder;               /* … what the span around it is called */
    const char *contains;             /* what it holds, in words; else NULL */
    size_t held_from, held_count;     /* … where in survey.held */
    const char *region;               /* what the ledger beside the image calls it; else NULL */
    bool unread;                      /* of a device: nobody has looked there */
    bool part;                        /* held: a part, which begins at `start` of the image */
};

struct survey {
    mosaicum *m;
    const char *path;
    struct mos_unpacked image;
    struct mos_io io;                      /* of the image, unpacked */
    struct mos_io_trouble trouble;         /* the first read that failed */
    const struct mos_table_driver *driver; /* NULL: no table */
    struct mos_table_data table;
    struct mos_table_span table_spans[8]; /* what the table itself takes */
    size_t table_span_count;
    bool by_ledger;          /* regions have the names and places of the ledger beside the image: */
    struct mos_vec regions;  /* of struct mos_ledger_region_last */
    bool asked_ledger;       /* … which are as survey_region() found them */
    struct mos_vec spans;    /* of struct survey_span, in order */
    struct mos_vec held;     /* of struct survey_span: volumes in containers, in order */
    struct mos_vec problems; /* of const char *: what is damaged */
};

/* Looks at an image; false with an error when it cannot be read.  Close it in any case that was
 * true. */
bool survey_open(mosaicum *m, const char *path, struct survey *out);
/* The same of another image that has the regions of `like`, where that knows them by a ledger;
 * NULL: there is none. */
bool survey_open_like(mosaicum *m, const char *path, const struct survey *like, struct survey *out);
void survey_close(struct survey *s);
/* "2 (root)", "1024 KiB": what a span is called, for people. */
const char *survey_name(struct survey *s, const struct survey_span *x);
/* The span that a text names: a partition's number or name, a volume's label, or where a span
 * outside of partitions begins ("1 MiB").  NULL with an error that lists what there is. */
struct survey_span *survey_find(struct survey *s, const char *name);
/* The spans, then the volumes in containers; NULL behind the last. */
struct survey_span *survey_at(struct survey *s, size_t index);
/* What the ledger beside the image says of the region that begins where a span does, also where the
 * image has a table; NULL: nothing, or there is none. */
const struct mos_ledger_region_last *survey_region(struct survey *s, const struct survey_span *x);
/* The bytes of a span. */
struct mos_io survey_window(struct survey *s, const struct survey_span *x);
/* Is it a volume that can be read? */
bool survey_has_files(const struct survey_span *x);
/* Streams the volume of a span; problems go to s->problems, with the span's name. */
bool survey_stream(struct survey *s, const struct survey_span *x,
                   const struct mos_read_request *request);

/* survey-parts.c: parts of a pack or parcel at the start of a span, as spans that it holds; `limit`
 * bytes from there may belong to it.  Returns its length; 0: there is none. */
uint64_t survey_parts(struct survey *s, struct survey_span *x, uint64_t limit);

/* take.c: what a span holds as a file at `path`, an archive (.tar.zst) of a volume that can be read
 * or its bytes.  *kept is false, and there is no file, when it holds nothing. */
bool survey_keep(struct survey *s, const struct survey_span *x, const char *path, bool *kept);

/* A read that failed, as one problem more. */
void survey_note_trouble(struct survey *s, struct mos_vec *problems);
/* What is wrong with an image, as a table of its own; the job has failed then. */
void survey_report_problems(struct survey *s);

/* files.c */
bool inspect_files(struct survey *s);

#endif
