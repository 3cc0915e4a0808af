#include "support.h"

extern const struct test structure_suite[], rules_suite[], program_suite[], faults_suite[],
    ledger_suite[], trees_suite[], content_suite[], wrong_suite[], boards_suite[], root_suite[],
    parts_suite[], everywhere_suite[], images_suite[], rehearse_suite[], chain_suite[],
    verdicts_suite[], safe_suite[], bytes_suite[], hostile_suite[], judge_suite[];

void judge_builds(void);

int main(void) {
    judge_builds();
    const struct test *const suites[] = {structure_suite, rules_suite,    program_suite,
                                         faults_suite,    ledger_suite,   trees_suite,
                                         content_suite,   wrong_suite,    boards_suite,
                                         root_suite,      parts_suite,    everywhere_suite,
                                         images_suite,    rehearse_suite, chain_suite,
                                         verdicts_suite,  safe_suite,     bytes_suite,
                                         hostile_suite,   judge_suite,    NULL};
    const char *const names[] = {"structure", "rules",      "program", "faults",   "ledger",
                                 "trees",     "content",    "wrong",   "boards",   "root",
                                 "parts",     "everywhere", "images",  "rehearse", "chain",
                                 "verdicts",  "safe",       "bytes",   "hostile",  "judge"};
    return run_suites(suites, names);
}
