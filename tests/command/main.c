#include "support.h"

/* Long ones first. */
/* clang-format off */
#define SUITES(X)                                                                                  \
    X(structure) X(planted) X(everywhere) X(guides) X(jobs) X(program) X(hostile) X(golden)        \
    X(again) X(faults) X(rules) X(foreign) X(content) X(corners) X(chain) X(boards) X(images)      \
    X(acceptance) X(listen) X(learn) X(ledger) X(drivers) X(claims) X(bindings) X(trees)           \
    X(wrong) X(root) X(parts) X(send) X(serve) X(rehearse) X(verdicts) X(safe) X(bytes) X(edges)   \
    X(borders) X(session) X(modules) X(trial) X(squashfs) X(dialect) X(firmware) X(access)         \
    X(kconfig)
/* clang-format on */

#define DECLARE(name) extern const struct test name##_suite[];
SUITES(DECLARE)
DECLARE(judge)
void judge_builds(void);

int main(void) {
#define ROW(name) {#name, name##_suite, false},
    const struct suite suites[] = {SUITES(ROW){"judge", judge_suite, true}, {NULL, NULL, false}};
    judge_builds();
    return run_suites(suites);
}
