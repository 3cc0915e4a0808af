#include "peers.h"

#include "base/hash.h"
#include "platform/platform.h"

#include <arpa/inet.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

/* Long ones first. */
/* clang-format off */
#define SUITES(X)                                                                                  \
    X(learned) X(served) X(accepted) X(listened) X(media) X(nand) X(programming) X(deaths)         \
    X(images) X(kconfig) X(chain) X(judges) X(modules) X(squashfs) X(mistakes) X(access)           \
    X(rehearsed) X(boots) X(schema) X(loader) X(ramdisk) X(watch) X(guest) X(trees) X(bindings)    \
    X(stacks) X(debug) X(conflicts) X(drivers) X(built) X(cuts) X(lines)
/* clang-format on */

#define DECLARE(name) extern const struct test name##_suite[];
SUITES(DECLARE)

enum { MOST_ROWS = 256, FIRST_PORT = 20000, PORTS = 12000 /* below those the system gives */ };

/* The table of results, of the processes of all suites. */
static struct table {
    struct row {
        size_t suite; /* in the order of the suites, whenever they ended */
        char text[300];
    } rows[MOST_ROWS];
    size_t count;
    unsigned port; /* the next one */
} * table;

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

static const struct suite suites[] = {
#define ROW(name) {#name, name##_suite, false},
    SUITES(ROW){NULL, NULL, false}};

static void add_row(const char *what, const char *text) {
    size_t i = __atomic_fetch_add(&table->count, 1, __ATOMIC_RELAXED);
    const char *suite = CU_get_current_suite()->pName;
    CU_ASSERT_FATAL(i < MOST_ROWS); /* none is lost */
    while (strcmp(suites[table->rows[i].suite].name, suite) != 0)
        table->rows[i].suite++;
    snprintf(table->rows[i].text, sizeof table->rows[i].text, "| %-44s | %-90s |", what, text);
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

unsigned peers_port(void) {
    struct sockaddr_in a = {.sin_family = AF_INET, .sin_addr = {htonl(INADDR_LOOPBACK)}};
    for (unsigned tried = 0; tried < PORTS; tried++) {
        unsigned port = FIRST_PORT + __atomic_fetch_add(&table->port, 1, __ATOMIC_RELAXED) % PORTS;
        int fd = socket(AF_INET, SOCK_STREAM, 0);
        a.sin_port = htons((uint16_t)port);
        bool free = fd >= 0 && bind(fd, (struct sockaddr *)&a, sizeof a) == 0;
        close(fd);
        if (free)
            return port;
    }
    abort();
}

/* no_timer_check: on a computer that is busy the emulated timer may be late for the kernel's test
 * of it, which then gives up. */
struct outcome guest_run(const char *folder, const char *devices) {
    struct outcome o =
        run_shell("cd '%s' && timeout 1800 qemu-system-x86_64 -M q35 -accel tcg -m 1536 -display "
                  "none -monitor none -no-reboot -nic none -kernel vmlinuz -initrd initrd -append "
                  "'console=ttyS0 quiet panic=-1 no_timer_check' -serial stdio %s",
                  folder, devices);
    size_t length = strlen(o.out);
    if (!strstr(o.out, "marker-end"))
        fprintf(stderr, "\nThe guest did not come to its end (status %d): …%s%s\n", o.status,
                o.out + (length > 1500 ? length - 1500 : 0), o.err);
    return o;
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
    table = shared_memory(sizeof *table);
    table->port = (unsigned)getpid() % PORTS;
    int status = run_suites(suites);
    puts("\n| proof | result |\n|---|---|");
    for (size_t k = 0; suites[k].name; k++)
        for (size_t i = 0; i < table->count; i++)
            if (table->rows[i].suite == k)
                puts(table->rows[i].text);
    return status;
}
