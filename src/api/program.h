/* The inside of the job that programs boards, for its own files. */
#ifndef MOS_API_PROGRAM_H
#define MOS_API_PROGRAM_H

#include "api/write.h"
#include "plan/plan.h"
#include "programming/programmer.h"

/* A step, on the board that is being programmed. */
struct program_step {
    const struct mos_program_step *def;
    const char *image;  /* what it writes, a file; NULL: nothing */
    const char *hash;   /* … of its chunks, once it is proved to be what was built; NULL */
    const char *result; /* in words; NULL: not done */
    bool failed;
};

struct program_job {
    mosaicum *m;
    const struct mosaicum_program *request;
    const struct mos_plan *plan;
    const struct mos_programming *way;
    const char *folder; /* of what was built */
    bool unit_judged;
    struct program_step *steps;
    size_t count;
    unsigned board, boards; /* the one that is being programmed, from 1; of so many */
    char token[MOS_TOKEN_LETTERS + 1];
    uint32_t own_address;
    const char *board_address, *netmask; /* in dots */
    struct mos_talk talk;
    bool talks; /* the line is open */
    struct mos_server *server;
    bool serves;
    const char *medium_was;    /* of the last step that wrote: what the loader says of it */
    struct mos_storage before; /* this computer's devices when the steps began, … */
    bool knows_before;         /* … if they could be listed */
};

/* program-line.c: a step went wrong; false. */
bool program_fails(struct program_step *s, const char *why);
/* What it may take. */
uint64_t program_seconds(const struct program_step *s);
int64_t program_time(const struct program_step *s); /* ns */
/* The line to the board, opened; false with the step's failure. */
bool program_opens_line(struct program_job *j, struct program_step *s);
/* What is written by it, as `write` would be asked. */
struct mosaicum_write *program_request(struct program_job *j, const struct program_step *s);

/* The step's image, open: what was built, and of the build that was consented to.  false with the
 * step's failure; else close it. */
bool program_opens_image(struct program_job *j, struct program_step *s, struct write_job *w);

/* program-steps.c: what a step does, in words. */
const char *program_step_text(struct program_job *j, const struct program_step *s);
/* Does them all, those that set it back at the end whatever came before; false: one failed. */
bool program_do_steps(struct program_job *j);

/* program-write.c: the step's image onto the board, however.  false with the step's failure, a
 * finding, or an error. */
bool program_write(struct program_job *j, struct program_step *s);
/* What the step writes, looked at: its size in words, and its hash.  false with an error or a
 * finding. */
bool program_looks_at_image(struct program_job *j, struct program_step *s, const char **size);

/* program-usb.c: the same onto the disk that it has become, and by Device Firmware Upgrade. */
bool program_to_disk(struct program_job *j, struct program_step *s);
bool program_by_dfu(struct program_job *j, struct program_step *s);

#endif
