#include "support.h"

extern const struct test rules_suite[], program_suite[], faults_suite[], structure_suite[],
    ledger_suite[], trees_suite[], content_suite[], wrong_suite[], boards_suite[];

int main(void) {
    const struct test *const suites[] = {structure_suite, rules_suite, program_suite, faults_suite,
                                         ledger_suite,    trees_suite, content_suite, wrong_suite,
                                         boards_suite,    NULL};
    const char *const names[] = {"structure", "rules",   "program", "faults", "ledger",
                                 "trees",     "content", "wrong",   "boards"};
    return run_suites(suites, names);
}
