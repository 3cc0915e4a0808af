/* Files over serial lines: to and from programs that others wrote, over lines that lose, double,
 * change and delay bytes, and to real loaders at their prompts. */
#define _GNU_SOURCE
#include "cable.h"
#include "peers.h"

#include "base/hash.h"

#include <arpa/inet.h>
#include <poll.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { SIZE = 8000, ONE_IN = 10000 };

/* ---- a bad line between two terminals ---- */

struct cable {
    struct cable_end ends[2];
    pid_t joins;
};

static void plug(struct cable *c, uint64_t seed) {
    cable_end_open(&c->ends[0]);
    cable_end_open(&c->ends[1]);
    struct cable_noise noise = {seed, ONE_IN};
    c->joins = cable_plug(c->ends[0].board, c->ends[1].board, cable_noise, &noise);
}

static void unplug(struct cable *c) {
    cable_unplug(c->joins);
    cable_end_close(&c->ends[0]);
    cable_end_close(&c->ends[1]);
}

/* How each of them is started, with its terminal as $T; and how ours, with $M and $P. */
static const struct {
    const char *what, *theirs, *ours;
    bool padded; /* nobody tells the size: the last block is filled up */
} kinds[] = {
    {"rb", "rb -q", "$M send a.bin $P --by ymodem", false},
    {"rx", "rx -q a.got", "$M send a.bin $P --by xmodem", true},
    {"rx with CRC", "rx -q -c a.got", "$M send a.bin $P --by xmodem-1k", true},
    {"sb", "sb -q ../a.bin", "$M send -o a.got $P --by ymodem", false},
    {"sx", "sx -q ../a.bin", "$M send -o a.got $P --by xmodem", true},
    {"sx of 1 KiB", "sx -q -k ../a.bin", "$M send -o a.got $P --by xmodem-1k", true},
};

/* 1: the file came whole; 2: ours says that it did not; 3: it did, and ours says that its end was
 * not confirmed (rx flushes its terminal when it leaves, and its last answer with that); 0:
 * neither. */
static int carry(size_t kind, uint64_t seed) {
    struct cable c;
    const char *w = keep(test_folder("carried"));
    plug(&c, seed);
    struct outcome o =
        run_shell("cd '%s' && M='%s' && P=%s && T=%s && mkdir theirs && head -c %d /dev/urandom > "
                  "a.bin && (cd theirs && "
                  "timeout 150 %s <$T >$T 2>../said) & cd '%s' && M='%s' && P=%s && until test -d "
                  "theirs && test -s a.bin; "
                  "do sleep 0.1; done; sleep 0.5; timeout 160 %s --bench none >ours 2>&1; s=$?; "
                  "wait; exit $s",
                  w, MOSAICUM_PROGRAM, c.ends[0].port, c.ends[1].port, (int)SIZE,
                  kinds[kind].theirs, w, MOSAICUM_PROGRAM, c.ends[0].port, kinds[kind].ours);
    int status = o.status;
    outcome_free(&o);
    unplug(&c);
    o = run_shell("cd '%s' && f=$(ls a.got theirs/a.got theirs/a.bin 2>/dev/null | head -n 1) && "
                  "cmp -n %d a.bin $f "
                  "&& n=$(stat -c %%s $f) && test $n -ge %d -a $n -le %d",
                  w, (int)SIZE, (int)SIZE, kinds[kind].padded ? SIZE + 1024 : SIZE);
    int told = status != 0 && status < 124 ? 2 : 0;
    int result = o.status != 0 ? told : status == 0 ? 1 : told ? 3 : 0;
    if (result != 1) {
        char *said = read_whole(path_in(w, "ours"), NULL);
        fprintf(stderr, "\n%s, %llu: status %d, file %d: %s\n", kinds[kind].what,
                (unsigned long long)seed, status, o.status, said ? said : "");
        free(said);
    }
    outcome_free(&o);
    remove_folder(w);
    return result;
}

static void files_cross_bad_lines(void) {
    static const char proof[] = "files over bad lines to and from rb, rx, sb, sx";
    enum { KINDS = sizeof kinds / sizeof *kinds };
    unsigned runs = peers_all() ? 24 : 6, whole = 0, told = 0, unconfirmed = 0;
    if (proved_before(proof))
        return;
    for (unsigned i = 0; i < runs; i++) {
        int came = carry(i % KINDS, 77 + i * 1000);
        whole += came == 1;
        told += came == 2;
        unconfirmed += came == 3;
    }
    whole += unconfirmed;
    CU_ASSERT(whole + told == runs && whole + runs / 8 >= runs);
    proved(proof,
           "%u of %u whole (of %u the last answer was lost, and that was said), %u told that they "
           "were not; 8 kB, one error in 10,000 bytes each way "
           "(lost, twice, changed, late)",
           whole, runs, unconfirmed, told);
}

/* ---- real loaders ---- */

static int connect_to(unsigned port) {
    struct sockaddr_in to = {.sin_family = AF_INET,
                             .sin_port = htons((uint16_t)port),
                             .sin_addr = {htonl(INADDR_LOOPBACK)}};
    for (int i = 0; i < 100; i++) {
        int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (connect(fd, (struct sockaddr *)&to, sizeof to) == 0)
            return fd;
        close(fd);
        nanosleep(&(struct timespec){0, 100000000}, NULL);
    }
    return -1;
}

/* Types it, and waits for what must come. */
static bool answers(int fd, const char *text, const char *mark, int seconds) {
    static char heard[65536];
    size_t n = 0;
    time_t end = time(NULL) + seconds;
    CU_ASSERT(write(fd, text, strlen(text)) == (ssize_t)strlen(text));
    while (time(NULL) <= end && n + 1 < sizeof heard) {
        struct pollfd p = {fd, POLLIN, 0};
        if (poll(&p, 1, 500) <= 0)
            continue;
        ssize_t got = read(fd, heard + n, sizeof heard - 1 - n);
        if (got <= 0)
            return false;
        for (ssize_t i = 0; i < got; i++)
            heard[n + (size_t)i] = heard[n + (size_t)i] ? heard[n + (size_t)i] : '?';
        n += (size_t)got;
        heard[n] = 0;
        if (strstr(heard, mark))
            return true;
    }
    fprintf(stderr, "\nno \"%s\":\n%s\n", mark, n > 600 ? heard + n - 600 : heard);
    return false;
}

static void loaders_take_files(void) {
    static const char proof[] = "files over the line to real loaders at their prompts";
    static const struct {
        const char *cpu, *device, *by, *address;
    } rows[] = {{"arm64", "virtio-blk-pci", "ymodem", "0x44000000"},
                {"arm64", "virtio-blk-pci", "xmodem", "0x44000000"},
                {"arm64", "virtio-blk-pci", "xmodem-1k", "0x44000000"},
                {"arm", "virtio-blk-pci", "ymodem", "0x42000000"},
                {"riscv64", "virtio-blk-pci", "ymodem", "0x84000000"}};
    enum { COUNT = sizeof rows / sizeof *rows };
    unsigned whole = 0;
    const char *w = keep(test_folder("taken"));
    CU_ASSERT(runs(0, "cd '%s' && truncate -s 1M disk && head -c 200000 /dev/urandom > piece", w));
    size_t length;
    char *bytes = read_whole(path_in(w, "piece"), &length), sum[20], command[100], serial[80];
    snprintf(sum, sizeof sum, "==> %08x", mos_crc32(0, bytes, length));
    free(bytes);
    for (size_t i = 0; i < COUNT; i++) {
        unsigned port = peers_port();
        snprintf(serial, sizeof serial, "tcp:127.0.0.1:%u,server=on,wait=off", port);
        machine_speaks_at(serial);
        struct machine *m = machine_start(rows[i].cpu, path_in(w, "disk"), rows[i].device);
        int fd = connect_to(port);
        bool ok =
            fd >= 0 && answers(fd, "", "autoboot", 60) && answers(fd, "\003\003\r", "\n=> ", 20);
        close(fd);
        ok =
            ok &&
            runs(0, "'%s' send '%s/piece' tcp:127.0.0.1:%u --by %s --to %s --bench none >/dev/null",
                 MOSAICUM_PROGRAM, w, port, rows[i].by, rows[i].address);
        fd = connect_to(port);
        snprintf(command, sizeof command, "crc32 %s 0x%zx\r", rows[i].address, length);
        bool back = false; /* what is typed while it puts its input away is lost */
        for (int k = 0; ok && k < 5 && !back; k++)
            back = usleep(500000) == 0 && answers(fd, "\r", "=> ", 4);
        ok = back && answers(fd, command, sum, 30);
        close(fd);
        machine_stop(m);
        whole += ok;
    }
    remove_folder(w);
    CU_ASSERT_EQUAL(whole, COUNT);
    proved(proof,
           "%u of %d whole by the loaders' own sums: YMODEM to three loaders, XMODEM with short "
           "and long "
           "blocks",
           whole, (int)COUNT);
}

/* ---- whole boots on a pseudo-terminal ---- */

/* Every landmark that must come has come, with its time; how many there are, 0: they have not. */
static size_t watched(const char *w, const char *cpu, const char *device) {
    struct cable_end end;
    int status;
    struct machine *m = machine_start(cpu, path_in(w, "out/curlew/card.img"), device);
    cable_end_open(&end);
    pid_t pid = cable_plug(machine_line(m), end.board, NULL, NULL);
    json_t *d =
        run_json(&status, "-w '%s' listen curlew %s --judge --bench none --first-start </dev/null",
                 w, end.port);
    size_t i, k, reached = 0;
    const json_t *table, *row;
    json_array_foreach(json_object_get(d, "report"), i, table)
        json_array_foreach(json_object_get(table, "rows"), k, row) reached +=
        json_is_string(json_object_get(row, "landmark")) &&
        json_is_string(json_object_get(row, "time"));
    if (status) {
        char *text = json_dumps(d, JSON_INDENT(1));
        fprintf(stderr, "\n%s: %d\n%.3000s\n", cpu, status, text ? text : "");
        free(text);
    }
    json_decref(d);
    cable_unplug(pid);
    machine_stop(m);
    cable_end_close(&end);
    return status ? 0 : reached;
}

static void boots_are_watched(void) {
    const char *w = keep(test_folder("watched"));
    make_log_in_workspace(w);
    size_t arm64 = watched(w, "arm64", "nvme,serial=x");
    remove_folder(w);
    w = keep(test_folder("card-watched"));
    make_card_workspace(w);
    CU_ASSERT(runs(0,
                   "printf 'landmarks:\\n  log-in: {text: marker-root, within: 200}\\n' >> "
                   "'%s/boards/curlew.yaml'",
                   w));
    size_t card = watched(w, "card board", "");
    remove_folder(w);
    CU_ASSERT(arm64 >= 8 && card >= 5);
    proved("whole boots on a pseudo-terminal, watched",
           "arm64 with Debian's kernel to its log-in: %zu landmarks with their times; the card "
           "board from its "
           "real ROM to /sbin/init: %zu",
           arm64, card);
}

SUITE(lines_suite, {"boots are watched", boots_are_watched},
      {"files cross bad lines", files_cross_bad_lines}, {"loaders take files", loaders_take_files});
