#include "peers.h"

#include <stdlib.h>
#include <string.h>

extern const struct test judges_suite[], boots_suite[], schema_suite[], images_suite[],
    loader_suite[], rehearsed_suite[], chain_suite[], ramdisk_suite[], modules_suite[],
    watch_suite[], guest_suite[], mistakes_suite[], squashfs_suite[], access_suite[], trees_suite[],
    bindings_suite[], stacks_suite[], debug_suite[], conflicts_suite[], kconfig_suite[],
    built_suite[], drivers_suite[];

static char rows[256][300];
static size_t row_count;

const char *peers_cache(void) {
    const char *folder = getenv("MOSAICUM_PEERS_CACHE");
    return folder ? folder : "/nowhere";
}

bool peers_all(void) {
    const char *which = getenv("MOSAICUM_PEERS");
    return which && strcmp(which, "all") == 0;
}

void proved(const char *what, const char *format, ...) {
    static unsigned failures; /* up to the last row */
    char text[220];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    bool failed = CU_get_number_of_failures() != failures;
    failures = CU_get_number_of_failures();
    CU_ASSERT_FATAL(row_count < sizeof rows / sizeof *rows); /* none is lost */
    snprintf(rows[row_count++], sizeof rows[0], "| %-44s | %-90s |", what,
             failed ? "FAILED" : text);
}

int main(void) {
    const struct test *const suites[] = {judges_suite,    boots_suite,   images_suite,
                                         schema_suite,    loader_suite,  rehearsed_suite,
                                         chain_suite,     ramdisk_suite, modules_suite,
                                         watch_suite,     guest_suite,   mistakes_suite,
                                         squashfs_suite,  access_suite,  trees_suite,
                                         bindings_suite,  stacks_suite,  debug_suite,
                                         conflicts_suite, kconfig_suite, drivers_suite,
                                         built_suite,     NULL};
    const char *const names[] = {
        "judges",  "boots", "images",    "schema",   "loader",   "rehearsed", "chain", "ramdisk",
        "modules", "watch", "guest",     "mistakes", "squashfs", "access",    "trees", "bindings",
        "stacks",  "debug", "conflicts", "kconfig",  "drivers",  "built"};
    int status = run_suites(suites, names);
    puts("\n| proof | result |\n|---|---|");
    for (size_t i = 0; i < row_count; i++)
        puts(rows[i]);
    return status;
}
