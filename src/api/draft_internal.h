/* Between the files that write a draft: draft.c, draft-image.c, draft-boot.c, learn-draft.c. */
#ifndef MOS_API_DRAFT_INTERNAL_H
#define MOS_API_DRAFT_INTERNAL_H

#include "api/survey.h"

/* What a draft calls the medium of a kind: flash, or card. */
const char *draft_medium(const char *kind);

struct draft_unknown {
    const char *name, *text, *answer; /* answer: the key that would tell; or NULL */
};

struct draft {
    mosaicum *m;
    const struct mosaicum_draft *d;
    struct mos_buf text;
    struct mos_vec unknown;    /* of struct draft_unknown: what could not be known */
    struct mos_map adopted;    /* path in the workspace -> the file that it was copied from */
    const char *folder;        /* of the workspace */
    const char *shown;         /* the definition, below it */
    const char *held;          /* what the loader has of RAM, "40 MiB"; NULL: not known */
    const char *more_ram;      /* ranges beside the first, ", second: {…}"; NULL: none */
    const char *cpu, *console; /* where the command line does not say them; NULL: not known */
    struct mos_vec written;    /* of const char * */
};

/* What came out of an image, one for each of its spans. */
struct draft_taken {
    const char *name; /* of the region */
    const char *file; /* below the workspace; NULL: it holds nothing, or is not a region */
    bool skipped;     /* an extended partition: made again around the logical ones */
};

/* draft.c.  Begins a definition below `folder`; false with an error: the name is none, or is taken.
 * In the end questions, files and what is told of them; false with an error. */
bool draft_begin(struct draft *x, mosaicum *m, const struct mosaicum_draft *d, const char *folder);
bool draft_finish(struct draft *x);
/* A file of the workspace that is not there yet; false with an error. */
bool draft_put_file(struct draft *x, const char *shown, const struct mos_buf *text);

/* draft-parts.c.  A question that stays open; names that are taken get a number. */
void draft_unknown(struct draft *x, const char *name, const char *answer, const char *text);
/* A line of the definition. */
void draft_line(struct draft *x, const char *format, ...) __attribute__((format(printf, 2, 3)));
/* A text as YAML, quoted where it must be; as a comment, whatever an image holds. */
const char *draft_quoted(struct draft *x, const char *text);
const char *draft_harmless(struct draft *x, const char *text);
/* A file that was named becomes one of the workspace: its path there.  One that lies inside is
 * used where it is, others are copied to pieces/ (trees to tree/) under a name of their own.  NULL:
 * none was named, or ctx->error. */
const char *draft_adopt(struct draft *x, const char *path, const char *into);
void draft_put_hardware(struct draft *x, const char *media);
/* taken: pieces that came out of an image, of struct draft_taken; boot: what starts it, or NULL. */
struct draft_boot;
void draft_put_pieces(struct draft *x, const char *kernel, const char *root, const char *tree,
                      const struct mos_vec *taken, const struct draft_boot *boot);
void draft_put_loader(struct draft *x);

/* draft-image.c */
void draft_from_image(struct draft *x);

/* draft-boot.c: how an image starts, as a rehearsal of it tells. */
struct draft_part {
    const char *role;      /* "kernel", "tree", "ramdisk" */
    const char *name;      /* of the piece */
    const char *path, *in; /* in the volume whose archive is the piece `in` */
    unsigned partition;
};
struct draft_entry {
    const char *name, *arguments;
    const struct draft_part *kernel, *tree, *ramdisk; /* NULL: none */
};
struct draft_boot {
    struct mos_vec parts;   /* of struct draft_part *, each once */
    struct mos_vec entries; /* of struct draft_entry, the first that starts first; none: *why_not */
    const char *file;       /* the menu or script that starts it, in its volume */
    const char *to;         /* the folder that it lies in as the loader looks for it; "": none */
    unsigned partition;     /* of that volume */
    bool menu;
    const char *why_not; /* what could not be found, for a question */
};
/* taken: of struct draft_taken, one for each span.  Also sets x->cpu and x->console.  false with
 * ctx->error. */
bool draft_read_boot(struct draft *x, struct survey *s, const struct mos_vec *taken,
                     struct draft_boot *out);
void draft_put_boot(struct draft *x, const struct survey *s, const struct mos_vec *taken,
                    const struct draft_boot *boot);
/* What the fills of a partition's volume are: all that it held, but for what boots. */
const char *draft_fills(struct draft *x, const struct draft_boot *boot, const char *name,
                        unsigned partition);

#endif
