/* What all tests share: folders of their own, running programs, a core context without a program.
 */
#ifndef MOS_TESTS_SUPPORT_H
#define MOS_TESTS_SUPPORT_H

#include "base/ctx.h"

#include <CUnit/Basic.h>
#include <jansson.h>

/* ---- files ---- */
char *test_folder(const char *name); /* a new empty folder; removed at the end; borrowed */
char *path_in(const char *folder, const char *format, ...) __attribute__((format(printf, 2, 3)));
/* A copy of a text that lives as long as the test program. */
char *keep(const char *text);
void write_file(const char *path, const void *bytes, size_t length); /* folders are made */
void write_text(const char *path, const char *text);
char *read_whole(const char *path, size_t *length); /* malloc'ed, NULL if it cannot be read */
bool exists(const char *path);
void remove_folder(const char *path);
void copy_folder(const char *from, const char *to);
/* A copy of the demo workspace with one board, curlew, all of it in one file (tests/data). */
void copy_demo(const char *to);

/* ---- programs ---- */
struct outcome {
    int status; /* exit status, 128 + signal */
    char *out, *err;
};
/* Called after each of them with its text and status; NULL: nothing is. */
extern void (*after_command)(const char *command, int status);
/* The folder that all test folders lie in; NULL: there is none yet. */
const char *test_root(void);
/* Runs a shell command line; free with outcome_free. */
struct outcome run_shell(const char *format, ...) __attribute__((format(printf, 1, 2)));
void outcome_free(struct outcome *o);
/* The same, only for its status; prints output when it is not `expected`. */
bool runs(int expected, const char *format, ...) __attribute__((format(printf, 2, 3)));
/* The built program with --no-cache; then its JSON document (NULL when it printed none). */
json_t *run_json(int *status, const char *format, ...) __attribute__((format(printf, 2, 3)));

/* A text is as it is kept in tests/data/golden/NAME.txt; MOSAICUM_GOLDEN=write makes it so. */
void hold_golden(const char *name, const char *text);
/* Under the sanitizers, where all is several times slower, a large table is gone through in part:
 * is this row (from 0) taken?  Without them, and with MOSAICUM_FULL, all are. */
bool row_is_taken(size_t row);
bool all_rows_are_taken(void);
/* A golden text, of which only the lines of the rows that were taken are there. */
void hold_golden_rows(const char *name, const char *text);
/* A golden text anywhere. */
void hold_file(const char *name, const char *path, const char *text);

/* ---- the core by itself ---- */
struct core {
    jmp_buf out_of_memory;
    struct mos_error error;
    struct mos_ctx ctx;
};
/* A context on the real host.  Use: struct core c; core_start(&c); … core_end(&c); */
void core_start(struct core *c);
void core_end(struct core *c);
size_t count_rule(const struct core *c, enum mos_rule_id rule);

/* A board from the text of its definition; references resolved. */
struct mos_board *board_from_text(struct core *c, const char *text);

/* ---- random numbers that can be repeated ---- */
uint64_t random_next(uint64_t *state);
uint64_t random_below(uint64_t *state, uint64_t n);

/* ---- suites: runner.c ---- */
struct test {
    const char *name;
    void (*run)(void);
};
#define SUITE(symbol, ...) const struct test symbol[] = {__VA_ARGS__, {NULL, NULL}}
struct suite {
    const char *name; /* NULL behind the last */
    const struct test *tests;
    bool after_all; /* starts when all others have ended */
};
/* Runs each suite in a process of its own, as many at a time as this computer has cores
 * (MOSAICUM_WORKERS: another number); those in front start first, so the long ones belong there.
 * What a suite prints comes at once when it has ended.  MOSAICUM_SUITE and MOSAICUM_TEST name one
 * of them, which then runs in this process, for a debugger.  The program's exit status: 0 when all
 * of them ran and none failed. */
int run_suites(const struct suite *suites);
/* Memory, all zero, that the processes of all suites share; to be asked for before they are run. */
void *shared_memory(size_t length);

#endif
