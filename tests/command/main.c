#include "support.h"

#define SUITES(X)                                                                                  \
    X(structure)                                                                                   \
    X(rules)                                                                                       \
    X(program)                                                                                     \
    X(faults)                                                                                      \
    X(ledger)                                                                                      \
    X(drivers)                                                                                     \
    X(claims)                                                                                      \
    X(bindings)                                                                                    \
    X(trees)                                                                                       \
    X(content)                                                                                     \
    X(wrong)                                                                                       \
    X(boards)                                                                                      \
    X(root)                                                                                        \
    X(parts)                                                                                       \
    X(everywhere)                                                                                  \
    X(images)                                                                                      \
    X(send)                                                                                        \
    X(serve)                                                                                       \
    X(acceptance)                                                                                  \
    X(learn)                                                                                       \
    X(listen) X(rehearse) X(chain) X(verdicts) X(safe) X(bytes) X(hostile) X(edges) X(golden)      \
        X(borders) X(session) X(foreign) X(corners) X(modules) X(planted) X(trial) X(squashfs)     \
            X(again) X(dialect) X(jobs) X(firmware) X(access) X(guides) X(kconfig)                 \
                X(judge) /* judge is last: it looks back on all of them */

#define DECLARE(name) extern const struct test name##_suite[];
SUITES(DECLARE)
void judge_builds(void);

int main(void) {
#define POINTER(name) name##_suite,
#define NAME(name) #name,
    const struct test *const suites[] = {SUITES(POINTER) NULL};
    const char *const names[] = {SUITES(NAME) NULL};
    judge_builds();
    return run_suites(suites, names);
}
