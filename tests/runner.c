/* Suites of tests, several at a time, each in a process of its own. */
#define _GNU_SOURCE
#include "support.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

enum { MOST_SUITES = 64, MOST_TESTS = 1024, SLOWEST = 10 };

/* What the processes report to the one that started them. */
static struct report {
    struct {
        unsigned tests, failed_tests, asserts, failed_asserts;
        bool complete; /* it came to its end */
    } suites[MOST_SUITES];
    struct timed {
        char name[96];
        double seconds;
    } tests[MOST_TESTS];
    unsigned test_count;
} * report;

static struct run {
    pid_t pid;
    FILE *said;
    double started;
} runs_of[MOST_SUITES];

static const struct suite *all;
static double test_started;

static double now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static double seconds_of(struct timeval t) {
    return (double)t.tv_sec + (double)t.tv_usec / 1e6;
}

void *shared_memory(size_t length) {
    void *m = mmap(NULL, length, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (m == MAP_FAILED)
        abort();
    return m;
}

/* ---- one suite, in the process at hand ---- */

static void test_starts(const CU_pTest test, const CU_pSuite suite) {
    (void)suite;
    printf("  %s … ", test->pName);
    fflush(stdout);
    test_started = now();
}

static void test_ends(const CU_pTest test, const CU_pSuite suite, const CU_pFailureRecord failure) {
    double seconds = now() - test_started;
    unsigned i = __atomic_fetch_add(&report->test_count, 1, __ATOMIC_RELAXED);
    if (i < MOST_TESTS) {
        report->tests[i].seconds = seconds;
        snprintf(report->tests[i].name, sizeof report->tests[i].name, "%s: %s", suite->pName,
                 test->pName);
    }
    printf("%s (%.1f s)\n", failure ? "FAILED" : "passed", seconds);
    for (const CU_FailureRecord *f = failure; f; f = f->pNext)
        printf("    %s:%u: %s\n", f->strFileName, f->uiLineNumber, f->strCondition);
}

/* 0: all passed; 2: there is no such test. */
static int run_suite(size_t index, const char *one) {
    if (CU_initialize_registry() != CUE_SUCCESS)
        return 1;
    CU_pSuite suite = CU_add_suite(all[index].name, NULL, NULL);
    unsigned count = 0;
    for (const struct test *t = all[index].tests; t->name; t++)
        if (!one || strcmp(one, t->name) == 0) {
            if (!CU_add_test(suite, t->name, t->run))
                return 1;
            count++;
        }
    CU_set_test_start_handler(test_starts);
    CU_set_test_complete_handler(test_ends);
    if (count)
        CU_run_all_tests();
    report->suites[index].tests = CU_get_number_of_tests_run();
    report->suites[index].failed_tests = CU_get_number_of_tests_failed();
    report->suites[index].asserts = CU_get_number_of_asserts();
    report->suites[index].failed_asserts = CU_get_number_of_failures();
    report->suites[index].complete = CU_get_number_of_tests_run() == count;
    CU_cleanup_registry();
    return count ? report->suites[index].failed_asserts != 0 : 2;
}

/* ---- all of them ---- */

static void start(size_t index) {
    struct run *r = &runs_of[index];
    r->said = tmpfile();
    r->started = now();
    fflush(NULL);
    if (!r->said || (r->pid = fork()) < 0)
        abort();
    if (r->pid)
        return;
    if (dup2(fileno(r->said), 1) < 0 || dup2(fileno(r->said), 2) < 0)
        abort();
    prctl(PR_SET_PDEATHSIG, SIGTERM);
    setvbuf(stdout, NULL, _IOLBF, 0); /* in order with what goes to the other one */
    exit(run_suite(index, NULL));
}

/* One of them has ended: what it said. */
static void finish(void) {
    int status;
    struct rusage used;
    pid_t pid = wait4(-1, &status, 0, &used);
    size_t i = 0, n;
    while (all[i].name && (!runs_of[i].said || runs_of[i].pid != pid))
        i++;
    if (pid < 0 || !all[i].name)
        abort();
    struct run *r = &runs_of[i];
    char text[65536];
    printf("\n%s, %.0f s, %.0f s of the processor\n", all[i].name, now() - r->started,
           seconds_of(used.ru_utime) + seconds_of(used.ru_stime));
    rewind(r->said);
    while ((n = fread(text, 1, sizeof text, r->said)) > 0)
        fwrite(text, 1, n, stdout);
    if (WIFSIGNALED(status))
        printf("\n%s was ended by a signal: %s\n", all[i].name, strsignal(WTERMSIG(status)));
    else if (!report->suites[i].complete)
        printf("\n%s did not come to its end, and left with status %d\n", all[i].name,
               WEXITSTATUS(status));
    else if (WEXITSTATUS(status) && !report->suites[i].failed_asserts) { /* a sanitizer's word */
        printf("\n%s left with status %d\n", all[i].name, WEXITSTATUS(status));
        report->suites[i].complete = false;
    }
    fflush(stdout);
    fclose(r->said);
    r->said = NULL;
}

static int by_seconds(const void *a, const void *b) {
    double x = ((const struct timed *)a)->seconds, y = ((const struct timed *)b)->seconds;
    return (x < y) - (x > y);
}

static int summary(double seconds) {
    unsigned tests = 0, failed_tests = 0, asserts = 0, failed_asserts = 0, suites = 0, broken = 0;
    for (size_t i = 0; all[i].name; i++) {
        suites++;
        broken += !report->suites[i].complete;
        tests += report->suites[i].tests;
        failed_tests += report->suites[i].failed_tests;
        asserts += report->suites[i].asserts;
        failed_asserts += report->suites[i].failed_asserts;
    }
    unsigned timed = report->test_count < MOST_TESTS ? report->test_count : MOST_TESTS;
    qsort(report->tests, timed, sizeof *report->tests, by_seconds);
    printf("\nThe longest:\n");
    for (unsigned i = 0; i < timed && i < SLOWEST; i++)
        printf("  %6.1f s  %s\n", report->tests[i].seconds, report->tests[i].name);
    printf("\n         run  failed\nsuites  %4u  %6u\ntests   %4u  %6u\nasserts %u, of which %u "
           "failed; %.0f s\n",
           suites, broken, tests, failed_tests, asserts, failed_asserts, seconds);
    return broken || failed_asserts;
}

/* The system's makers and checkers of volumes, which a plain user's PATH leaves out. */
static void find_system_tools(void) {
    char path[4096];
    const char *own = getenv("PATH");
    snprintf(path, sizeof path, "%s:/usr/sbin:/sbin", own ? own : "/usr/bin:/bin");
    setenv("PATH", path, 1);
    setenv("JUDGE", MOSAICUM_SOURCE "/tests/judge", 1); /* in front of a checker of volumes */
}

static int run_one(const char *name, const char *test) {
    int status = 2;
    for (size_t i = 0; all[i].name; i++)
        if (!name || strcmp(name, all[i].name) == 0) {
            int s = run_suite(i, test);
            status = s == 2 ? status : s;
        }
    return status;
}

int run_suites(const struct suite *suites) {
    const char *only = getenv("MOSAICUM_SUITE"), *one = getenv("MOSAICUM_TEST"), /* while working */
                                                     *wanted = getenv("MOSAICUM_WORKERS");
    long workers = wanted ? atol(wanted) : sysconf(_SC_NPROCESSORS_ONLN);
    double started = now();
    size_t count = 0, running = 0;
    all = suites;
    report = shared_memory(sizeof *report);
    find_system_tools();
    while (suites[count].name)
        count++;
    if (count > MOST_SUITES)
        abort();
    if (only || one) {
        int status = run_one(only, one);
        if (status == 2) {
            fprintf(stderr, "There is no %s %s%s%s; the suites are:", one ? "test" : "suite",
                    one ? one : only, one && only ? " in the suite " : "", one && only ? only : "");
            for (size_t i = 0; i < count; i++)
                fprintf(stderr, " %s", suites[i].name);
            fprintf(stderr, "\n");
        }
        return status;
    }
    for (int after = 0; after < 2; after++) {
        for (size_t i = 0; i < count; i++) {
            if (suites[i].after_all != after)
                continue;
            if (running >= (size_t)(workers > 1 ? workers : 1)) {
                finish();
                running--;
            }
            start(i);
            running++;
        }
        for (; running; running--)
            finish();
    }
    return summary(now() - started);
}
