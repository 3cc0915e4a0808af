/* A board is asked about itself: a made-up loader with a real one's answers, a shell of this
 * computer, and what was stored of either. */
#define _GNU_SOURCE
#include "cable.h"
#include "support.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <unistd.h>

#define STORED MOSAICUM_SOURCE "/tests/data/learned/loader.txt"

/* ---- a loader ---- */

/* Answers as the stored one did; every command is also put into a file. */
static void be_loader(int line, const char *stored, const char *typed) {
    char command[1000];
    size_t length = 0;
    const char *first = strstr(stored, "\n=> ");
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    FILE *out = fopen(typed, "a"), *to = fdopen(dup(line), "w");
    fprintf(to, "%.*s\n=> ", (int)(first - stored), stored);
    for (char c; fflush(to) == 0 && read(line, &c, 1) == 1;) {
        if (c == 3) {
            fputs("<INTERRUPT>\r\n=> ", to);
            length = 0;
        } else if (c != '\r' && length + 1 < sizeof command) {
            command[length++] = c;
            fputc(c, to);
        } else {
            char wanted[1100];
            command[length] = 0;
            length = 0;
            fprintf(out, "%s\n", command);
            fflush(out);
            snprintf(wanted, sizeof wanted, "\n=> %s\n", command);
            const char *answer = strstr(stored, wanted), *end;
            answer = answer ? answer + strlen(wanted) : NULL;
            end = answer ? strstr(answer - 1, "\n=> ") : NULL;
            fputs("\r\n", to);
            if (answer)
                fprintf(to, "%.*s", (int)(end ? end + 1 - answer : (int)strlen(answer)), answer);
            fputs("=> ", to);
        }
    }
    _exit(0);
}

/* The files of a draft but its own name. */
static bool same_drafts(const char *a, const char *b) {
    return runs(
        0,
        "cd '%s' && for f in boards/told.yaml loader/told.config loader/told-variables.txt; "
        "do cmp $f '%s'/$f || exit 1; done",
        a, b);
}

static void a_loader_tells(void) {
    const char *w = keep(test_folder("told")), *s = keep(test_folder("stored"));
    char *stored = read_whole(STORED, NULL);
    struct cable_end line;
    CU_ASSERT_PTR_NOT_NULL_FATAL(stored);
    cable_end_open(&line);
    pid_t pid = fork();
    if (pid == 0)
        be_loader(line.board, stored, path_in(w, "typed"));
    struct outcome o = run_shell("'%s' --no-cache -w '%s' learn told %s --bench none </dev/null",
                                 MOSAICUM_PROGRAM, w, line.port);
    CU_ASSERT_EQUAL(o.status, 0);
    static const char *const facts[] = {"version                  2023.01",
                                        "processor                arm64",
                                        "size of the environment  256 KiB, one copy",
                                        "256 MiB at 0x40000000",
                                        "Flash: what is compiled in is used",
                                        "at its end",
                                        "16 at most",
                                        "960 MiB, gpt, 2 partitions"};
    for (size_t i = 0; i < sizeof facts / sizeof *facts; i++)
        if (!strstr(o.out, facts[i])) {
            fprintf(stderr, "\nit does not tell: %s\n%s\n", facts[i], o.out);
            CU_FAIL("a fact is missing");
        }
    outcome_free(&o);
    cable_unplug(pid);
    cable_end_close(&line);
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' learn told --stored '%s'", MOSAICUM_PROGRAM, s,
                   STORED));
    CU_ASSERT(same_drafts(w, s));
    CU_ASSERT(runs(0,
                   "cd '%s' && ! grep -v '^[a-z]' typed && ! sort typed | uniq -u | grep -v "
                   "'scan$\\|^fdt addr'",
                   w)); /* all that is read is asked twice */
    o = run_shell("'%s' --no-cache -w '%s' check -v && '%s' --no-cache -q -w '%s' build",
                  MOSAICUM_PROGRAM, w, MOSAICUM_PROGRAM, w);
    CU_ASSERT(o.status == 0 && !strstr(o.out, "what the loader can do"));
    outcome_free(&o);
    free(stored);
}

/* A bad line makes nothing of what was told another thing: it is told again, or is not known. */
static void a_line_is_noisy(void) {
    static const unsigned one_in[] = {20000, 8000, 3000};
    const char *quiet = keep(test_folder("quiet"));
    char *stored = read_whole(STORED, NULL);
    size_t whole = 0;
    CU_ASSERT_PTR_NOT_NULL_FATAL(stored);
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' learn told --stored '%s'", MOSAICUM_PROGRAM,
                   quiet, STORED));
    for (size_t i = 0; i < sizeof one_in / sizeof *one_in; i++) {
        const char *w = keep(test_folder("damaged"));
        struct cable_noise noise = {i, one_in[i]};
        struct cable_end line;
        int ends[2];
        CU_ASSERT_EQUAL_FATAL(socketpair(AF_UNIX, SOCK_STREAM, 0, ends), 0);
        cable_end_open(&line);
        pid_t cable = cable_plug(line.board, ends[0], cable_noise, &noise), pid = fork();
        if (pid == 0)
            be_loader(ends[1], stored, path_in(w, "typed"));
        struct outcome o =
            run_shell("'%s' --no-cache -w '%s' learn told %s --bench none </dev/null",
                      MOSAICUM_PROGRAM, w, line.port);
        cable_unplug(pid);
        cable_unplug(cable);
        cable_end_close(&line);
        close(ends[0]);
        close(ends[1]);
        /* what the loader says as it starts is said once: there noise makes it unknown */
        bool said = strstr(o.out, "line is noisy") || strstr(o.out, "no answer") ||
                    strstr(o.out, "when it hears the loader start");
        CU_ASSERT_EQUAL(o.status, 0);
        CU_ASSERT(said || same_drafts(quiet, w));
        whole += !said;
        CU_ASSERT(runs(0,
                       "cd '%s' && for f in loader/told.config loader/told-variables.txt; do [ ! "
                       "-e $f ] || ! grep -v \"^# The loader's variables\" $f | grep -vxFf '%s'/$f "
                       "|| exit 1; done",
                       w, quiet));
        outcome_free(&o);
    }
    CU_ASSERT(whole > 0);
    /* in what was stored it is seen as well, where a question was asked again at once */
    char *second = strstr(strstr(stored, "=> printenv") + 1, "=> printenv");
    strstr(second, "bootdelay=2")[10] = '3';
    write_text(path_in(quiet, "stored.txt"), stored);
    struct outcome o = run_shell("cd '%s' && '%s' --no-cache learn other --stored stored.txt",
                                 quiet, MOSAICUM_PROGRAM);
    CU_ASSERT(o.status == 0 &&
              strstr(o.out, "what \"printenv\" tells: it came differently each time") &&
              !strstr(o.out, "other-variables.txt"));
    outcome_free(&o);
    free(stored);
}

/* It never writes over anything, and of a board that is known it writes nothing by itself. */
static void nothing_is_written_over(void) {
    const char *w = keep(test_folder("kept"));
    char command[1000];
    snprintf(command, sizeof command, "cd '%s' && '%s' --no-cache learn", w, MOSAICUM_PROGRAM);
    CU_ASSERT(runs(0, "%s -q told --stored '%s'", command, STORED));
    CU_ASSERT(runs(0, "cd '%s' && cp -r . ../kept-before", w));
    struct outcome o = run_shell("%s told --stored '%s'", command, STORED);
    CU_ASSERT(o.status == 0 && strstr(o.out, "values of told were compared, 0 differ") &&
              !strstr(o.out, "Written"));
    outcome_free(&o);
    o = run_shell("%s tolt --stored '%s' -o near", command, STORED);
    CU_ASSERT(o.status == 0 && strstr(o.err, "tolt is not a board of this workspace, and told is"));
    outcome_free(&o);
    CU_ASSERT(runs(0, "rm -r '%s/near'", w));
    CU_ASSERT(runs(4, "%s told --stored '%s' -o .", command, STORED));
    CU_ASSERT(runs(0, "%s told --stored '%s' -o apart -q", command, STORED));
    CU_ASSERT(runs(0,
                   "cd '%s' && cmp apart/boards/told.yaml boards/told.yaml && rm -r apart && diff "
                   "-r . ../kept-before && rm -r ../kept-before",
                   w));
    CU_ASSERT(runs(0, "cd '%s' && rm boards/told.yaml && echo mine > loader/told.config", w));
    CU_ASSERT(runs(0, "cd '%s' && rm -r learned loader/told-variables.txt", w));
    CU_ASSERT(runs(4, "%s told --stored '%s'", command, STORED));
    CU_ASSERT(runs(0,
                   "cd '%s' && grep -qx mine loader/told.config && [ ! -e learned ] && [ ! -e "
                   "loader/told-variables.txt ]",
                   w));
    CU_ASSERT(runs(2, "%s 'no name' --stored '%s'", command, STORED));
    CU_ASSERT(runs(2, "%s told /dev/null --stored '%s'", command, STORED));
    CU_ASSERT(runs(2, "%s other --stored '%s/mosaicum.yaml'", command, w));
    CU_ASSERT(runs(2, "%s other /dev/null", command));
}

/* However little was told: what is written checks, and what was not told is open. */
static void little_is_told(void) {
    const char *w = keep(test_folder("little"));
    size_t length;
    char *stored = read_whole(STORED, &length);
    size_t drafts = 0, refused = 0;
    CU_ASSERT_PTR_NOT_NULL_FATAL(stored);
    for (size_t n = 1; n < length; n += 509) {
        char end = stored[n];
        stored[n] = 0;
        write_text(path_in(w, "cut.txt"), stored);
        stored[n] = end;
        struct outcome o = run_shell(
            "cd '%s' && rm -rf boards loader learned && '%s' --no-cache learn told --stored "
            "cut.txt && '%s' --no-cache check -v",
            w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
        bool told = o.status == 0 && strstr(o.out, "Nothing to complain about") &&
                    strstr(o.out, "could not be known");
        if (!told && o.status != 2)
            fprintf(stderr, "\n%zu bytes: %d\n%s%s\n", n, o.status, o.out, o.err);
        CU_ASSERT(told || o.status == 2);
        drafts += told;
        refused += o.status == 2;
        outcome_free(&o);
    }
    CU_ASSERT(drafts > 30 && refused >= 1 && refused < 8);
    free(stored);
}

/* ---- a system ---- */

/* What a shell of the demo's board would answer, as it is stored. */
static void store_system(const char *w, const char *tree) {
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && '%s' -q tree compile '%s' -o plain.dtb && sed -n 1,20p "
        "'%s/kernel/start.config' > "
        "config && {\n"
        "a() { printf 'board# %%s\\n' \"$1\"; }\n"
        "a 'uname -r'; echo 6.1.0-curlew\n"
        "a 'uname -m'; echo aarch64\n"
        "a 'uname -n'; echo curlew\n"
        "a 'cat /proc/cmdline'; echo root=/dev/mmcblk0p2 console=ttyAMA0,115200 rootwait ro\n"
        "a tty; echo /dev/console\n"
        "a 'cat /proc/consoles'; echo 'tty0 -WU (E  p) 4:7'; echo 'ttyAMA0 -W- (EC p) 204:64'\n"
        "a 'grep -c ^processor /proc/cpuinfo'; echo 2\n"
        "a \"$(cat '%s')\"; echo 'disk mmcblk0 1966080 512 SD /sys/devices/mmc_host/mmc0/mmc0:1'; "
        "echo "
        "'part mmcblk0 1 8192 131072 179:1 boot'; echo 'part mmcblk0 2 139264 1824768 179:2 tide "
        "root'; echo 'disk mmcblk0boot0 8192 512 - /sys/x'\n"
        "a 'dd if=/dev/mmcblk0 bs=512 count=1 2>/dev/null | od -An -v -tx1 -j446 -N66'; echo ' 00 "
        "00 "
        "02 00 ee ff ff ff 01 00 00 00 ff ff ff 00'; echo ' 00 00 00 00 00 00 00 00 00 00 00 00 00 "
        "00 "
        "00 00'; echo ' 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00'; echo ' 00 00 00 00 00 00 "
        "00 "
        "00 00 00 00 00 00 00 00 00'; echo ' 55 aa'\n"
        "a 'cat /proc/self/mountinfo'; echo '22 1 179:2 / / ro - ext4 /dev/root ro'; echo '23 22 "
        "179:1 "
        "/ /boot rw - vfat /dev/mmcblk0p1 rw'\n"
        "a 'for t in base64 gzip; do command -v $t; done'; echo /bin/base64; echo /bin/gzip\n"
        "a 'cat /sys/firmware/fdt 2>/dev/null | gzip -9c | base64'; gzip -9c plain.dtb | base64\n"
        "a '(zcat /proc/config.gz || cat /boot/config-$(uname -r)) 2>/dev/null | gzip -9c | "
        "base64'; "
        "gzip -9c config | base64\nprintf 'board# '\n} > system.txt",
        w, MOSAICUM_PROGRAM, tree, w, path_in(w, "disks")));
}

static void a_system_tells(void) {
    const char *w = keep(test_folder("system"));
    copy_demo(w);
    write_text(
        path_in(w, "more.dts"),
        "/dts-v1/;\n/ { compatible = \"saltmarsh,tern\"; #address-cells = <2>; #size-cells = "
        "<2>; memory@40000000 { device_type = \"memory\"; reg = <0 0x40000000 0 0x20000000 1 0 "
        "0 0x10000000>; };\nchosen { bootargs = \"x\"; rng-seed = <1 2 3>; stdout-path = \"/u\"; "
        "};\nu: u { compatible = \"none,none\"; local-mac-address = [02 00 5e 00 00 01]; }; };\n");
    /* the longest of its questions, as it is asked */
    CU_ASSERT(runs(0,
                   "cd '%s' && sed -n '/for b in .sys.block/,/learn_disks/p' "
                   "'%s/src/learning/linux.c' | tr -d '\\n' | sed 's/^ *{*\"//; s/\",  *learn_disks"
                   ".*//; s/\"  *\"//g; s/\\\\\"/\"/g' > disks",
                   w, MOSAICUM_SOURCE));
    store_system(w, path_in(w, "more.dts"));
    struct outcome o =
        run_shell("cd '%s' && '%s' --no-cache learn told --stored system.txt", w, MOSAICUM_PROGRAM);
    static const char *const facts[] = {"6.1.0-curlew", "ttyAMA0", "512 MiB at 0x40000000",
                                        "256 MiB at 0x100000000", "sd, 960 MiB, gpt, 2 partitions"};
    CU_ASSERT_EQUAL(o.status, 0);
    for (size_t i = 0; i < sizeof facts / sizeof *facts; i++)
        if (!strstr(o.out, facts[i])) {
            fprintf(stderr, "\nit does not tell: %s\n%s%s\n", facts[i], o.out, o.err);
            CU_FAIL("a fact is missing");
        }
    outcome_free(&o);
    CU_ASSERT(runs(0, "cd '%s' && cmp config kernel/told.config", w));
    CU_ASSERT(runs(0,
                   "cd '%s' && '%s' tree text tree/told.dtb > told.dts && ! grep "
                   "'seed\\|bootargs\\|mac-address' told.dts && grep -q stdout-path told.dts",
                   w, MOSAICUM_PROGRAM));
    o = run_shell(
        "cd '%s' && '%s' --no-cache check told && '%s' --no-cache -q build told && grep -c "
        "'root: {number: 2, at: 68 MiB.*ext4' boards/told.yaml",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 0);
    if (o.status)
        fprintf(stderr, "\n%s%s\n", o.out, o.err);
    outcome_free(&o);
    /* the demo's own board: what it told is another one in some places */
    o = run_shell("cd '%s' && '%s' --no-cache learn curlew --stored system.txt", w,
                  MOSAICUM_PROGRAM);
    static const char *const differ[] = {"another compatible than stated", "another command line",
                                         "another range of RAM than stated", "another tree: node"};
    CU_ASSERT_EQUAL(o.status, 1);
    for (size_t i = 0; i < sizeof differ / sizeof *differ; i++)
        if (!strstr(o.out, differ[i])) {
            fprintf(stderr, "\nit does not find: %s\n%s%s\n", differ[i], o.out, o.err);
            CU_FAIL("a difference is missing");
        }
    CU_ASSERT(strstr(o.out, "more symbols of the kernel's configuration") ||
              strstr(o.out, "another CONFIG_"));
    outcome_free(&o);
}

/* A shell of this computer is asked over a line: what it says is true. */
static void this_computer_tells(void) {
    const char *w = keep(test_folder("here")), *programs = keep(test_folder("programs"));
    char path[400];
    struct cable_end line;
    write_text(path_in(programs, "dmesg"), "#!/bin/sh\n:\n");
    CU_ASSERT(runs(0, "chmod 755 '%s/dmesg'", programs));
    snprintf(path, sizeof path, "%s:/usr/bin:/bin", programs);
    cable_end_open(&line);
    pid_t pid = cable_shell(line.board, path);
    struct outcome o =
        run_shell("'%s' --no-cache --json -w '%s' learn told %s --bench none </dev/null",
                  MOSAICUM_PROGRAM, w, line.port);
    cable_unplug(pid);
    cable_end_close(&line);
    CU_ASSERT_EQUAL(o.status, 0);
    if (o.status)
        fprintf(stderr, "\n%s%s\n", o.out, o.err);
    outcome_free(&o);
    CU_ASSERT(runs(0,
                   "cd '%s' && grep -qxF \"  release: $(uname -r)\" boards/told.yaml && grep -qF "
                   "\"$(cat /proc/cmdline)\" learned/told.txt",
                   w));
}

SUITE(learn_suite, {"a loader tells", a_loader_tells}, {"a line is noisy", a_line_is_noisy},
      {"nothing is written over", nothing_is_written_over}, {"little is told", little_is_told},
      {"a system tells", a_system_tells}, {"this computer tells", this_computer_tells});
