#include "support.h"

/* Long ones first. */
/* clang-format off */
#define SUITES(X)                                                                                  \
    X(media) X(carried) X(volumes) X(disk) X(programming) X(rehearse) X(base) X(model) X(tree)     \
    X(cpp) X(fs) X(boot) X(kconfig) X(content) X(plan) X(contents) X(build) X(resolve) X(parcel)   \
    X(linux) X(indexes) X(containers) X(shared) X(io) X(kernel_build) X(units) X(watch)            \
    X(serial) X(xmodem) X(links) X(network) X(shell) X(learning)
/* clang-format on */

#define DECLARE(name) extern const struct test name##_suite[];
SUITES(DECLARE)

int main(void) {
#define ROW(name) {#name, name##_suite, false},
    const struct suite suites[] = {SUITES(ROW){NULL, NULL, false}};
    return run_suites(suites);
}
