#include "support.h"

extern const struct test rules_suite[], program_suite[], faults_suite[], structure_suite[],
    ledger_suite[];

int main(void) {
    const struct test *const suites[] = {structure_suite, rules_suite,  program_suite,
                                         faults_suite,    ledger_suite, NULL};
    const char *const names[] = {"structure", "rules", "program", "faults", "ledger"};
    return run_suites(suites, names);
}
