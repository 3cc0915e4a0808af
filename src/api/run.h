/* The inside of a run, for the files of this folder. */
#ifndef MOS_API_RUN_H
#define MOS_API_RUN_H

#include "base/ctx.h"
#include "model/model.h"
#include "mosaicum/mosaicum.h"
#include "plan/bytes.h"

/* A finding in its public form, and what sorting needs. */
struct run_finding {
    struct mosaicum_finding f;
    enum mos_rule_id rule;
    bool unparsable;
    size_t order;       /* of discovery */
    size_t task;        /* which selection; 0: the workspace */
    const char *waiver; /* the place that a waiver for it names */
};

/* Tables and texts in the order of telling. */
struct report {
    struct mos_arena *arena;
    struct mos_vec tables; /* of struct mosaicum_table */
};

/* What one selection, or one file of many, gave. */
struct run_result {
    const struct mos_selection *selection; /* NULL: it is a file */
    const char *name;
    struct mos_vec findings; /* of struct run_finding * */
    struct mos_vec not_proved, used_waivers, all_waivers;
    struct mos_error error;
    const char *checked, *built; /* list: what is known of it */
    struct report report;        /* build: what was made of it, and … */
    struct mos_vec made;         /* … pieces that commands made: of struct run_made */
};

/* A piece that a command made, and where its log is. */
struct run_made {
    const char *piece, *file, *log;
};

struct mosaicum {
    struct mosaicum_options options;
    jmp_buf out_of_memory;
    struct mos_arena *arena; /* of the run: what is read once, and what comes of it */
    struct mos_ctx ctx;
    struct mos_error error;
    struct mos_workspace *workspace;
    struct mos_vec published; /* of struct run_finding * */
    struct mos_vec not_proved;
    struct mosaicum_finding *findings;
    size_t finding_count, board_count, waived;
    bool accepts;            /* findings become waivers: each needs its place */
    bool complete;           /* every selection of the workspace is looked at */
    struct report report;    /* what the last job has to tell */
    size_t failed_devices;   /* that could not be written: status 3 */
    bool refused;            /* errors found are reasons not to do it: status 4 */
    bool damaged;            /* what was inspected is not as it should be, or differs */
    const char *out;         /* where builds go */
    struct mos_arena **kept; /* arenas of tasks, given back at the end */
    size_t kept_count;
    unsigned long fail_after; /* tests: the n-th allocation of each task fails */
};

/* One selection being worked on: an arena and a context of its own. */
struct run_task {
    mosaicum *m;
    const struct mos_selection *selection;
    struct mos_arena *arena, *results; /* results outlives the task */
    struct mos_error error;
    struct mos_ctx ctx;
    struct mos_plan *plan;
    struct mos_build *build; /* being made: to be given up on failure */
    struct run_result *result;
    size_t index; /* of its selection or file */
    void *job;    /* run_files: what was given */
    void **kept;  /* the same for all tasks of one hand, in `results`; at first NULL */
};

/* run.c */
bool run_open(mosaicum *m); /* loads the workspace once */
/* The same for a job that writes into the workspace, too. */
bool run_open_to_write(mosaicum *m);
/* A file or folder that the user named for this job (NULL: none) may be touched: bits of enum
 * mos_reach.  Nothing else outside of the workspace ever is. */
void run_allow(mosaicum *m, const char *path, unsigned reach);
enum mosaicum_status run_status(mosaicum *m);
enum mosaicum_status run_no_memory(mosaicum *m);
/* The selections asked for: `count` selectors, else those of `usual:`, else all (with `variants`,
 * each combination; without, the plain boards).  NULL with an error. */
struct mos_vec *run_select(mosaicum *m, const char *const *selectors, size_t count, bool variants);

/* The one selection that is meant; NULL with an error that shows the use. */
const struct mos_selection *run_select_one(mosaicum *m, const char *selector, const char *use);

/* tasks.c */
/* Runs `work` on each selection, on all cores; what is found is merged in order. */
struct run_result *run_tasks(mosaicum *m, const struct mos_vec *selections,
                             bool (*work)(struct run_task *task));
/* Runs `work` on each of `count` files in the same way; their reports come in order. */
void run_files(mosaicum *m, const char *const *files, size_t count,
               bool (*work)(struct run_task *task), void *job);
/* One selection in the run's own arena, for reports that need its plan. */
struct run_task *run_one(mosaicum *m, const struct mos_selection *selection);
void run_finish(struct run_task *task); /* publishes what it found */
/* Resolves and plans, and runs the rules about that (alone: it does not); NULL after an error. */
struct mos_plan *run_plan(struct run_task *task);
struct mos_plan *run_plan_alone(struct run_task *task);
bool run_fill(struct mos_plan *plan, bool only_unread, const struct mos_plan_target *target);
bool run_check(struct run_task *task);
/* Once volumes are counted: the rules about them, and where they find no error, the trial. */
void run_judge(struct run_task *task);
/* The hash of everything that the board is made of; NULL: not known.  Once a task. */
const char *run_stamp(struct run_task *task);

/* findings.c */
/* Turns what a task found into its public form: waived and outside ones go. */
void run_publish(struct run_task *task, const struct mos_board *board);
void run_publish_workspace(mosaicum *m);
/* All results in one list. */
void run_collect(mosaicum *m, struct run_result *results, size_t count, bool complete);
/* Sorts that list into what is shown: the same finding of several selections once. */
void run_merge(mosaicum *m);
/* Findings of a severity that no waiver accepts and that are not wholly in files from outside. */
size_t run_count(const struct mos_ctx *ctx, const struct mos_board *board,
                 enum mos_severity severity);
bool run_has_errors(const mosaicum *m, const struct mos_ctx *ctx, const struct mos_board *board);

/* accept.c */
bool run_accept(mosaicum *m);

/* report.c: building tables */
struct report_table {
    struct mosaicum_table table;
    struct mos_vec cells;
};
struct report_table report_start(struct report *to, const char *key, const char *title,
                                 const struct mosaicum_column *columns, size_t count);
void report_end(struct report *to, struct report_table *t);
/* Makes the rows of a table when they are asked for, as often as that is. */
struct mosaicum_rows {
    bool (*make)(mosaicum *m, const struct mosaicum_rows *rows,
                 bool (*row)(void *to, const struct mosaicum_cell *cells), void *to);
};
/* The same for rows that are not cells yet. */
void report_end_later(struct report *to, struct report_table *t, const struct mosaicum_rows *rows,
                      size_t row_count);
/* What a task told, behind what was told so far; its arena must stay. */
void report_add(struct report *to, const struct report *more);
void report_text(struct report *to, const char *key, const char *title, const char *text);
void cell_text(struct report_table *t, const char *text);                  /* NULL: empty */
void cell_alarm(struct report_table *t, const char *text);                 /* bad news */
void cell_size(struct report_table *t, uint64_t bytes);                    /* exact */
void cell_about(struct report_table *t, uint64_t bytes);                   /* rounded */
void cell_bytes(struct report_table *t, uint64_t bytes, const char *text); /* in words of its own */
void cell_address(struct report_table *t, uint64_t address);
void cell_number(struct report_table *t, uint64_t number);
void cell_extent(struct report_table *t, uint32_t from, uint32_t to); /* in 1/65535 */

/* emulator.c: a line that starts an emulated machine, as a text; or the run's error. */
void show_emulator(mosaicum *m, const struct mos_plan *plan);
/* show-drivers.c: who serves each node of the tree */
void show_drivers(mosaicum *m, const struct mos_plan *plan);
/* show.c */
bool show_part(mosaicum *m, const struct mos_plan *plan, const char *part, bool trail);
/* resolved.c: the resolved definition as YAML */
const char *show_resolved(struct mos_arena *arena, const struct mos_board *board);
/* trail.c: the resolved definition as paths, values and places */
struct resolved_value {
    const char *path; /* "hardware.console.baud" */
    const char *text;
    const struct mos_node *stated;
    bool removed; /* it was taken out: `stated` did it */
};
struct mos_vec resolved_values(struct mos_arena *arena, const struct mos_board *board);
void show_trail(mosaicum *m, const struct mos_board *board, const char *part); /* "": all */
/* tree-report.c: every node and property of the built trees, and the line or overlay that set it */
void show_tree_trail(mosaicum *m, const struct mos_plan *plan);
const char *place_text(struct mos_arena *arena, struct mos_place place); /* "boards/x.yaml:4" */
/* inspect.c */
bool inspect_image(mosaicum *m, const char *path, bool files);
/* compare-images.c */
void compare_images(mosaicum *m, const char *a, const char *b);

/* Writes a file that can be made again; never over anything, "-" is standard output.  false with
 * ctx->error. */
bool run_put(struct mos_ctx *ctx, const char *path, const void *bytes, size_t length);

/* One of the jobs of a command that has several. */
struct run_verb {
    const char *name, *use;
    size_t least, most; /* words behind it */
    bool writes;        /* it needs an output */
    void (*run)(void *job);
};
/* The one that is asked for; NULL: the error says how they are called.  `known`: their names in a
 * sentence. */
const struct run_verb *run_verb(mosaicum *m, const char *command, const struct run_verb *verbs,
                                size_t verb_count, const char *known, const char *asked,
                                size_t words, bool has_output);

#endif
