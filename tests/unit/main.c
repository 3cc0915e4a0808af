#include "support.h"

#define SUITES(X)                                                                                  \
    X(base)                                                                                        \
    X(model)                                                                                       \
    X(tree)                                                                                        \
    X(cpp)                                                                                         \
    X(disk)                                                                                        \
    X(fs)                                                                                          \
    X(boot)                                                                                        \
    X(kconfig)                                                                                     \
    X(content)                                                                                     \
    X(plan)                                                                                        \
    X(contents)                                                                                    \
    X(build) X(resolve) X(volumes) X(parcel) X(linux) X(indexes) X(containers) X(shared) X(io)     \
        X(rehearse) X(kernel_build) X(media) X(units) X(watch) X(serial) X(xmodem) X(carried)      \
            X(programming) X(links) X(network) X(shell) X(learning)

#define DECLARE(name) extern const struct test name##_suite[];
SUITES(DECLARE)

int main(void) {
#define POINTER(name) name##_suite,
#define NAME(name) #name,
    const struct test *const suites[] = {SUITES(POINTER) NULL};
    const char *const names[] = {SUITES(NAME) NULL};
    return run_suites(suites, names);
}
