#include "peers.h"

#include "base/hash.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>

extern const struct test judges_suite[], boots_suite[], schema_suite[], images_suite[],
    loader_suite[], rehearsed_suite[], chain_suite[], ramdisk_suite[], modules_suite[],
    watch_suite[], guest_suite[], mistakes_suite[], squashfs_suite[], access_suite[], trees_suite[],
    bindings_suite[], stacks_suite[], debug_suite[], conflicts_suite[], kconfig_suite[],
    built_suite[], drivers_suite[], media_suite[], cuts_suite[], nand_suite[], programming_suite[],
    listened_suite[], deaths_suite[], served_suite[], accepted_suite[], lines_suite[],
    learned_suite[];

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

const char *peers_progress(const char *kind) {
    static const char *const programs[] = {"/proc/self/exe", MOSAICUM_PROGRAM};
    struct mos_error error = {0};
    uint8_t hash[2][32] = {0};
    char hex[65];
    for (size_t i = 0; i < 2; i++)
        mos_hash_file(mos_platform_host(), programs[i], hash[i], &error);
    for (size_t i = 0; i < 32; i++)
        hash[0][i] ^= hash[1][i];
    mos_sha256_hex(hash[0], hex);
    hex[16] = 0;
    return keep(path_in(peers_cache(), "%s-%s", kind, hex));
}

static void add_row(const char *what, const char *text) {
    CU_ASSERT_FATAL(row_count < sizeof rows / sizeof *rows); /* none is lost */
    snprintf(rows[row_count++], sizeof rows[0], "| %-44s | %-90s |", what, text);
}

bool proved_before(const char *what) {
    FILE *f = peers_all() ? fopen(peers_progress("proved"), "r") : NULL;
    char line[400];
    size_t n = strlen(what);
    bool found = false;
    while (f && !found && fgets(line, sizeof line, f))
        found = strncmp(line, what, n) == 0 && line[n] == '\t';
    if (f)
        fclose(f);
    if (found) {
        line[strcspn(line, "\n")] = 0;
        add_row(what, line + n + 1);
    }
    return found;
}

static void remember(const char *what, const char *text) {
    FILE *f = peers_all() ? fopen(peers_progress("proved"), "a") : NULL;
    if (!f)
        return;
    fprintf(f, "%s\t%s\n", what, text);
    fclose(f);
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
    if (!failed)
        remember(what, text);
    add_row(what, failed ? "FAILED" : text);
}

struct outcome guest_run(const char *folder, const char *devices) {
    return run_shell(
        "cd '%s' && timeout 900 qemu-system-x86_64 -M q35 -accel tcg -m 1536 -display "
        "none -monitor none -no-reboot -nic none -kernel vmlinuz -initrd initrd -append "
        "'console=ttyS0 quiet panic=-1' -serial stdio %s",
        folder, devices);
}

int guest_result(const char *said, const char *what, char *words, size_t room) {
    char start[60];
    int status = -1, length = 0;
    snprintf(start, sizeof start, "result %s ", what);
    const char *at = strstr(said, start);
    *words = 0;
    if (at && sscanf(at + strlen(start), "%d%n", &status, &length) == 1) {
        at += strlen(start) + (size_t)length;
        snprintf(words, room, "%.*s", (int)strcspn(at, "\r\n"), at);
    }
    return status;
}

int main(void) {
    const struct test *const suites[] = {judges_suite,    boots_suite,       images_suite,
                                         schema_suite,    loader_suite,      rehearsed_suite,
                                         chain_suite,     ramdisk_suite,     modules_suite,
                                         watch_suite,     guest_suite,       mistakes_suite,
                                         squashfs_suite,  access_suite,      trees_suite,
                                         bindings_suite,  stacks_suite,      debug_suite,
                                         conflicts_suite, kconfig_suite,     drivers_suite,
                                         built_suite,     media_suite,       cuts_suite,
                                         nand_suite,      programming_suite, listened_suite,
                                         deaths_suite,    served_suite,      accepted_suite,
                                         lines_suite,     learned_suite,     NULL};
    const char *const names[] = {
        "judges",  "boots",    "images", "schema", "loader",      "rehearsed", "chain",
        "ramdisk", "modules",  "watch",  "guest",  "mistakes",    "squashfs",  "access",
        "trees",   "bindings", "stacks", "debug",  "conflicts",   "kconfig",   "drivers",
        "built",   "media",    "cuts",   "nand",   "programming", "listened",  "deaths",
        "served",  "accepted", "lines",  "learned"};
    int status = run_suites(suites, names);
    puts("\n| proof | result |\n|---|---|");
    for (size_t i = 0; i < row_count; i++)
        puts(rows[i]);
    return status;
}
