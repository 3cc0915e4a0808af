/* What is asked of a board that runs, from what was built and what its definition states. */
#ifndef MOS_API_ACCEPTANCE_H
#define MOS_API_ACCEPTANCE_H

#include "link/shell.h"
#include "plan/plan.h"
#include "rehearse/rehearse.h"

enum acceptance_kind {
    ACCEPTS_TEXT,   /* it prints exactly that */
    ACCEPTS_LINE,   /* one of its lines fits a text with {} */
    ACCEPTS_RANGE,  /* it prints a number of that range */
    ACCEPTS_STATUS, /* it ends with that status */
};

struct acceptance_check {
    const char *name;     /* "kernel release" */
    const char *command;  /* for a shell */
    const char *expected; /* in words, for the table */
    const char *text;     /* TEXT, LINE */
    uint64_t least, most; /* RANGE */
    int status;           /* STATUS, LINE */
    enum acceptance_kind kind;
    unsigned seconds;
    struct mos_place place; /* who says so */
    bool stated;            /* its command is the definition's */
    /* what came of it */
    bool asked, good;
    const char *found;
};

/* All checks of a board, of struct acceptance_check; what cannot be told is added to *unknown, of
 * const char *. */
struct mos_vec acceptance_checks(struct mos_arena *arena, const struct mos_plan *plan,
                                 const struct mos_rehearsal *boot, struct mos_vec *unknown);
/* A command has ended: is it as it must be? */
void acceptance_judge(struct mos_arena *arena, struct acceptance_check *check,
                      const struct mos_shell *shell);

#endif
