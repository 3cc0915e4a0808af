/* The inside of a run, for the files of this folder. */
#ifndef MOS_API_RUN_H
#define MOS_API_RUN_H

#include "base/ctx.h"
#include "model/model.h"
#include "mosaicum/mosaicum.h"
#include "plan/plan.h"

struct mosaicum {
    struct mosaicum_options options;
    jmp_buf out_of_memory;
    struct mos_arena *arena;
    struct mos_ctx ctx;
    struct mos_error error;
    struct mos_workspace *workspace;
    struct mosaicum_finding *findings;
    size_t finding_count, board_count;
    struct mos_vec tables;   /* of struct mosaicum_table */
    bool damaged;            /* what was inspected is not as it should be */
    struct mos_build *build; /* being made: to be given up on failure */
};

/* run.c */
bool run_open(mosaicum *m); /* loads the workspace once */
enum mosaicum_status run_status(mosaicum *m);
/* The names asked for, or all boards; NULL with an error when one is not there. */
const char *const *run_boards(mosaicum *m, const char *const *names, size_t *count);

/* report.c: building tables */
struct report_table {
    struct mosaicum_table table;
    struct mos_vec cells;
};
struct report_table report_start(mosaicum *m, const char *key, const char *title,
                                 const struct mosaicum_column *columns, size_t count);
void report_end(mosaicum *m, struct report_table *t);
void report_text(mosaicum *m, const char *key, const char *title, const char *text);
void cell_text(struct report_table *t, const char *text); /* NULL: empty */
void cell_size(struct report_table *t, uint64_t bytes);   /* exact */
void cell_about(struct report_table *t, uint64_t bytes);  /* rounded */
void cell_address(struct report_table *t, uint64_t address);
void cell_number(struct report_table *t, uint64_t number);

/* show.c */
bool show_part(mosaicum *m, const struct mos_plan *plan, const char *part);
/* resolved.c: the resolved definition as YAML */
const char *show_resolved(mosaicum *m, const struct mos_board *board);
/* inspect.c */
bool inspect_image(mosaicum *m, const char *path);

#endif
