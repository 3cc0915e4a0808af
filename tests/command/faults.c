#define _GNU_SOURCE
/* Nothing lost: whatever fails, the earlier output stays and nothing half-made has a final name. */
#include "support.h"

#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

/* A host that behaves like the real one until its disk is full, or a call fails. */
static struct {
    struct mos_host host;
    const struct mos_host *real;
    uint64_t room;            /* bytes that may still be written */
    unsigned long reads_left; /* reads before one fails; 0: never */
    unsigned long writes_left, writes;
    const char *changes;        /* a file that changes … */
    unsigned long change_reads; /* … before this many more reads of it */
    bool keeps_time, changed;   /* its time of change in content stays; it happened */
    ino_t inode;
} faulty;

/* The file gets other bytes of the same number, in place. */
static void change_file(const char *path, bool keeps_time) {
    struct stat st;
    int fd = open(path, O_RDWR | O_CLOEXEC);
    char byte;
    if (fd < 0 || fstat(fd, &st) || pread(fd, &byte, 1, st.st_size / 2) != 1)
        abort();
    byte ^= 0x55;
    if (pwrite(fd, &byte, 1, st.st_size / 2) != 1)
        abort();
    if (keeps_time)
        futimens(fd, (struct timespec[]){st.st_atim, st.st_mtim});
    close(fd);
}

static int faulty_pwrite(const struct mos_host *h, int file, const void *from, size_t length,
                         uint64_t offset) {
    (void)h;
    faulty.writes++;
    if (faulty.writes_left && --faulty.writes_left == 0)
        return EIO;
    if (length > faulty.room)
        return ENOSPC;
    faulty.room -= length;
    return faulty.real->pwrite(faulty.real, file, from, length, offset);
}

static int faulty_pread(const struct mos_host *h, int file, void *to, size_t length,
                        uint64_t offset, size_t *got) {
    (void)h;
    struct stat st;
    if (faulty.changes && fstat(file, &st) == 0 && st.st_ino == faulty.inode &&
        __atomic_sub_fetch(&faulty.change_reads, 1, __ATOMIC_SEQ_CST) == 0) {
        change_file(faulty.changes, faulty.keeps_time);
        faulty.changed = true;
    }
    unsigned long left = __atomic_load_n(&faulty.reads_left, __ATOMIC_SEQ_CST);
    if (left && __atomic_sub_fetch(&faulty.reads_left, 1, __ATOMIC_SEQ_CST) == 0)
        return EIO;
    return faulty.real->pread(faulty.real, file, to, length, offset, got);
}

static const struct mos_host *faulty_host(uint64_t room, unsigned long reads) {
    faulty.real = mos_platform_host();
    faulty.host = *faulty.real;
    faulty.host.pwrite = faulty_pwrite;
    faulty.host.pread = faulty_pread;
    faulty.room = room;
    faulty.reads_left = reads;
    faulty.writes_left = faulty.writes = 0;
    faulty.changes = NULL;
    faulty.changed = false;
    return &faulty.host;
}

static int build(const struct mos_host *host, const char *workspace, const char *out, char *error,
                 size_t size) {
    struct mosaicum_options o = {.host = host, .workspace = workspace};
    mosaicum *m = mosaicum_new(&o);
    int status = mosaicum_build(m, NULL, 0, out);
    snprintf(error, size, "%s", mosaicum_error(m) ? mosaicum_error(m) : "");
    mosaicum_free(m);
    return status;
}

/* The content of everything under a folder, names included. */
static char *fingerprint(const char *folder) {
    struct outcome o =
        run_shell("cd '%s' && find . -type f ! -name .lock | sort | xargs cksum", folder);
    char *text = strdup(o.out);
    outcome_free(&o);
    return text;
}

static char *workspace(void) {
    static char *copy;
    if (!copy) {
        copy = test_folder("faults");
        copy_demo(copy);
        /* a card so small that its image can be hashed some hundred times */
        CU_ASSERT(runs(
            0,
            "sed -i 's/size: 960 MiB, erase: 4 MiB/size: 20 MiB/; s/size: 64 MiB/size: 4 MiB/; "
            "s/fat32/fat16/' '%s/boards/curlew.yaml'",
            copy));
    }
    return copy;
}

/* The full run goes through every one of many. */
static bool thorough(void) {
    return getenv("MOSAICUM_FULL") != NULL;
}

/* Bytes that a whole build writes. */
static uint64_t bytes_of_a_build(void) {
    char error[1024];
    const char *out = test_folder("measure");
    CU_ASSERT_EQUAL_FATAL(build(faulty_host(UINT64_MAX, 0), workspace(), out, error, sizeof error),
                          0);
    return UINT64_MAX - faulty.room;
}

static void a_full_disk_loses_nothing(void) {
    const uint64_t SIZES = thorough() ? 100 : 20;
    char error[1024];
    uint64_t all = bytes_of_a_build();
    const char *out = test_folder("full");
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), workspace(), out, error, sizeof error), 0);
    char *before = fingerprint(out);
    for (uint64_t i = 0; i < SIZES; i++) {
        int status = build(faulty_host(all * i / SIZES, 0), workspace(), out, error, sizeof error);
        char *after = fingerprint(out);
        CU_ASSERT_EQUAL(status, MOSAICUM_SYSTEM);
        CU_ASSERT_PTR_NOT_NULL(strstr(error, "No space left"));
        CU_ASSERT_STRING_EQUAL(before, after);
        free(after);
    }
    free(before);
}

static void a_read_error_loses_nothing(void) {
    char error[1024];
    const char *out = test_folder("unreadable");
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), workspace(), out, error, sizeof error), 0);
    char *before = fingerprint(out);
    unsigned failed = 0;
    for (unsigned long n = 1; n < 200; n += n < 40 ? 1 : 17) {
        int status = build(faulty_host(UINT64_MAX, n), workspace(), out, error, sizeof error);
        char *after = fingerprint(out);
        CU_ASSERT(status == 0 || status == MOSAICUM_SYSTEM || status == MOSAICUM_USAGE ||
                  status == MOSAICUM_FINDINGS);
        CU_ASSERT_STRING_EQUAL(before, after);
        failed += status != 0;
        free(after);
    }
    CU_ASSERT(failed > 20);
    free(before);
}

static void a_write_error_loses_nothing(void) {
    char error[1024];
    const char *out = test_folder("unwritable");
    CU_ASSERT_EQUAL_FATAL(build(faulty_host(UINT64_MAX, 0), workspace(), out, error, sizeof error),
                          0);
    unsigned long all = faulty.writes;
    char *before = fingerprint(out);
    CU_ASSERT(all > 30);
    for (unsigned long n = 1; n <= all; n += thorough() ? 1 : 5) {
        const struct mos_host *host = faulty_host(UINT64_MAX, 0);
        faulty.writes_left = n;
        CU_ASSERT_EQUAL(build(host, workspace(), out, error, sizeof error), MOSAICUM_SYSTEM);
        char *after = fingerprint(out);
        CU_ASSERT_STRING_EQUAL(before, after);
        free(after);
    }
    free(before);
}

/* Looking into an image and changing one: every read and write that can fail does so once. */
static int look(const struct mos_host *host, const char *image) {
    struct mosaicum_options o = {.host = host};
    mosaicum *m = mosaicum_new(&o);
    int status = mosaicum_inspect(m, image, true);
    mosaicum_free(m);
    return status;
}

enum { TOLD = 64 };

/* The status of a comparison; TOLD: it says of an error or a problem. */
static int differ(const struct mos_host *host, const char *a, const char *b) {
    struct mosaicum_options o = {.host = host};
    mosaicum *m = mosaicum_new(&o);
    int status = mosaicum_compare(m, a, b);
    status |= mosaicum_error(m) ? TOLD : 0;
    for (size_t i = 0; i < mosaicum_table_count(m); i++)
        status |= strcmp(mosaicum_table_at(m, i)->key, "problems") == 0 ? TOLD : 0;
    mosaicum_free(m);
    return status;
}

static int change(const struct mos_host *host, const char *image, const char *change,
                  const char *to) {
    struct mosaicum_options o = {.host = host};
    mosaicum *m = mosaicum_new(&o);
    int status = mosaicum_amend(m, image, &change, 1, to);
    mosaicum_free(m);
    return status;
}

static void images_and_faults(void) {
    char error[1024];
    const char *out = test_folder("looked-into");
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), workspace(), out, error, sizeof error), 0);
    const char *image = keep(path_in(out, "curlew/card.img")), *to = keep(path_in(out, "new.img"));
    const char *root = keep(path_in(out, "root.img")), *one = keep(path_in(out, "one"));
    const char *text = keep(path_in(out, ":etc/issue=%s", one) + strlen(out) + 1);
    write_text(one, "one\n");
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' -q take '%s' root -o '%s'", MOSAICUM_PROGRAM, image, root));
    CU_ASSERT_EQUAL_FATAL(look(faulty_host(UINT64_MAX, 1000000), root), 0);
    unsigned long reads = 1000000 - faulty.reads_left;
    CU_ASSERT(reads > 30);
    for (unsigned long n = 1; n <= reads; n++)
        CU_ASSERT_NOT_EQUAL(look(faulty_host(UINT64_MAX, n), root), 0);
    CU_ASSERT_EQUAL_FATAL(change(faulty_host(UINT64_MAX, 1000000), root, text, to), 0);
    reads = 1000000 - faulty.reads_left;
    unsigned long writes = faulty.writes;
    unlink(to);
    for (unsigned long n = 1; n <= reads + writes; n += thorough() ? 1 : 5) {
        const struct mos_host *host = faulty_host(UINT64_MAX, n <= reads ? n : 0);
        faulty.writes_left = n > reads ? n - reads : 0;
        int status = change(host, root, text, to);
        bool fails = status == MOSAICUM_SYSTEM || status == MOSAICUM_USAGE;
        CU_ASSERT(fails || (n <= reads && status == 0));
        CU_ASSERT_EQUAL(exists(to), status == 0);
        CU_ASSERT(!exists(path_in(out, "new.img.part")));
        unlink(to);
    }
}

/* Bytes that cannot be read are neither equal nor different: each read of a comparison fails once,
 * and it is told. */
static void no_read_fails_unseen(const char *a, const char *b, int differs, unsigned long least) {
    CU_ASSERT_EQUAL_FATAL(differ(faulty_host(UINT64_MAX, 1000000), a, b), differs);
    unsigned long reads = 1000000 - faulty.reads_left;
    CU_ASSERT(reads >= least);
    for (unsigned long n = 1; n <= reads; n++)
        CU_ASSERT(differ(faulty_host(UINT64_MAX, n), a, b) & TOLD);
}

static void comparing_and_faults(void) {
    static uint8_t bytes[3 << 20];
    char text[200];
    static const char *const documents[] = {
        "{\"board\": \"rig\", \"images\": [], \"made\": %d}",
        "{\"command\": \"listen\", \"report\": [{\"key\": \"acceptance\", \"rows\": [{"
        "\"check\": \"cores\", \"result\": \"passes\", \"found\": \"%d\"}]}]}"};
    uint64_t seed = 30;
    const char *w = test_folder("compared"), *a = keep(path_in(w, "a")), *b = keep(path_in(w, "b"));
    for (size_t i = 0; i < sizeof bytes; i++)
        bytes[i] = (uint8_t)random_next(&seed);
    for (int same = 0; same < 2; same++) {
        write_file(a, bytes, sizeof bytes);
        bytes[sizeof bytes - 1] ^= (uint8_t)!same;
        write_file(b, bytes, sizeof bytes);
        no_read_fails_unseen(a, b, !same, 6);
        for (size_t i = 0; i < sizeof documents / sizeof *documents; i++) {
            snprintf(text, sizeof text, documents[i], 4);
            write_text(a, text);
            snprintf(text, sizeof text, documents[i], same ? 4 : 2);
            write_text(b, text);
            no_read_fails_unseen(a, b, !same, 4);
        }
    }
}

/* One byte that differs, anywhere in a disk: compare does not say that nothing does. */
static void no_flipped_byte_goes_unseen(void) {
    static const char *const images[] = {"curlew/card.img", "avocet/emmc.img", "dunlin/card.img",
                                         "dunlin/flash.img"};
    const int FLIPS = thorough() ? 400 : 60;
    uint64_t seed = 31;
    const char *out = keep(test_folder("flipped"));
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && '%s' --no-cache -q -w '%s/demo/saltmarsh' build curlew avocet dunlin "
             "--out . && for f in */*.img; do cp --sparse=always $f $f.new; done",
             out, MOSAICUM_PROGRAM, MOSAICUM_SOURCE));
    for (size_t i = 0; i < sizeof images / sizeof *images; i++) {
        const char *a = keep(path_in(out, "%s", images[i])),
                   *b = keep(path_in(out, "%s.new", images[i]));
        int fd = open(b, O_RDWR | O_CLOEXEC);
        CU_ASSERT_FATAL(fd >= 0);
        off_t size = lseek(fd, 0, SEEK_END);
        CU_ASSERT_EQUAL(differ(mos_platform_host(), a, b), 0);
        for (int n = 0; n < FLIPS; n++) {
            static const off_t front[] = {512, 17408, 4 << 20, 80 << 20};
            off_t reach = n % 6 < 4 ? front[n % 6] : size, at;
            uint8_t byte, other;
            reach = reach < size ? reach : size;
            at = (off_t)random_below(&seed, (uint64_t)reach);
            at = n % 12 < 6 ? at : size - 1 - at % (n % 6 < 4 ? 40 * 512 : size);
            CU_ASSERT_EQUAL(pread(fd, &byte, 1, at), 1);
            other = byte ^ (uint8_t)(1 + random_below(&seed, 255));
            CU_ASSERT_EQUAL(pwrite(fd, &other, 1, at), 1);
            int said = differ(mos_platform_host(), a, b);
            if (said != MOSAICUM_FINDINGS && said != (MOSAICUM_FINDINGS | TOLD))
                fprintf(stderr, "\n%s, byte %lld: %d\n", images[i], (long long)at, said);
            CU_ASSERT((said & ~TOLD) == MOSAICUM_FINDINGS);
            CU_ASSERT_EQUAL(pwrite(fd, &byte, 1, at), 1);
        }
        close(fd);
    }
}

static void a_missing_piece_loses_nothing(void) {
    char error[1024];
    const char *copy = test_folder("missing");
    const char *out = keep(path_in(copy, "out"));
    copy_folder(workspace(), copy);
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), copy, out, error, sizeof error), 0);
    char *before = fingerprint(out);
    unlink(path_in(copy, "pieces/loader.bin"));
    CU_ASSERT_EQUAL(build(mos_platform_host(), copy, out, error, sizeof error), MOSAICUM_FINDINGS);
    char *after = fingerprint(out);
    CU_ASSERT_STRING_EQUAL(before, after);
    free(before);
    free(after);
}

/* A kill at any moment leaves the old output or the new one, never something in between. */
static void a_kill_loses_nothing(void) {
    const int KILLS = thorough() ? 100 : 20;
    char error[1024];
    uint64_t seed = 20261123;
    char *copy = test_folder("killed"), *out = keep(path_in(copy, "out"));
    copy_folder(workspace(), copy);
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), copy, out, error, sizeof error), 0);
    char *first = fingerprint(path_in(out, "curlew"));
    write_text(path_in(copy, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-two\n");
    char *other = test_folder("other");
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), copy, other, error, sizeof error), 0);
    char *second = fingerprint(path_in(other, "curlew"));
    unsigned killed = 0;
    for (int i = 0; i < KILLS; i++) {
        pid_t pid = fork();
        if (pid == 0) {
            execl(MOSAICUM_PROGRAM, "mosaicum", "-q", "--no-cache", "-w", copy, "build", "--out",
                  out, (char *)NULL);
            _exit(127);
        }
        int status;
        usleep((useconds_t)random_below(&seed, 40000));
        kill(pid, SIGKILL);
        waitpid(pid, &status, 0);
        killed += WIFSIGNALED(status);
        char *now = fingerprint(path_in(out, "curlew"));
        CU_ASSERT(strcmp(now, first) == 0 || strcmp(now, second) == 0);
        free(now);
    }
    CU_ASSERT(killed > 3);
    CU_ASSERT_EQUAL(build(mos_platform_host(), copy, out, error, sizeof error), 0);
    char *now = fingerprint(path_in(out, "curlew"));
    CU_ASSERT_STRING_EQUAL(now, second);
    CU_ASSERT(!exists(path_in(out, "curlew.part")));
    free(now);
    free(first);
    free(second);
}

/* The hash that a ledger states for a piece. */
static char *ledger_hash(const char *out, const char *piece) {
    json_t *d = json_load_file(path_in(out, "curlew/ledger.json"), 0, NULL), *input;
    const char *hash = "";
    size_t i;
    json_array_foreach(json_object_get(d, "inputs"), i, input) {
        if (strcmp(json_string_value(json_object_get(input, "file")), piece) == 0 &&
            !json_object_get(input, "path"))
            hash = json_string_value(json_object_get(input, "sha256"));
    }
    char *copy = keep(hash);
    json_decref(d);
    return copy;
}

/* A piece that changes at any moment of a build: the build says so and changes nothing, or its
 * ledger tells the bytes that are in the image. */
static void a_changing_piece_is_noticed(void) {
    static const char *const pieces[] = {"pieces/first.bin", "pieces/loader.bin",
                                         "pieces/rootfs.tar.zst", "pieces/linux.tar.zst"};
    char error[1024], *w = test_folder("changing"), *out = test_folder("changing-out");
    copy_folder(workspace(), w);
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), w, out, error, sizeof error), 0);
    char *before = fingerprint(out);
    unsigned noticed = 0;
    for (size_t p = 0; p < sizeof pieces / sizeof *pieces; p++) {
        char *path = keep(path_in(w, "%s", pieces[p])), *hash = ledger_hash(out, pieces[p]);
        CU_ASSERT_EQUAL(strlen(hash), 64);
        for (unsigned long n = 1; n < 40; n++) {
            struct stat st;
            size_t length;
            char *bytes = read_whole(path, &length);
            const struct mos_host *h = faulty_host(UINT64_MAX, 0);
            CU_ASSERT_EQUAL(stat(path, &st), 0);
            faulty.changes = path;
            faulty.inode = st.st_ino;
            faulty.change_reads = n;
            faulty.keeps_time = n % 2;
            int status = build(h, w, out, error, sizeof error);
            char *after = fingerprint(out);
            bool changed = faulty.changed;
            noticed += status == MOSAICUM_SYSTEM || status == MOSAICUM_FINDINGS;
            if (status == 0 && !changed) {
                CU_ASSERT_STRING_EQUAL(before, after);
            } else if (status == 0) { /* all of it is the old, or all of it the new */
                bool old = strcmp(hash, ledger_hash(out, pieces[p])) == 0;
                char *again = test_folder("changing-again");
                if (old)
                    write_file(path, bytes, length);
                CU_ASSERT_EQUAL(build(mos_platform_host(), w, again, error, sizeof error), 0);
                char *fresh = fingerprint(again);
                CU_ASSERT_STRING_EQUAL(fresh, after);
                free(fresh);
            } else {
                CU_ASSERT_STRING_EQUAL(before, after);
            }
            write_file(path, bytes, length);
            if (status == 0 && changed)
                CU_ASSERT_EQUAL(build(mos_platform_host(), w, out, error, sizeof error), 0);
            free(bytes);
            free(after);
            if (!changed)
                break;
        }
    }
    CU_ASSERT(noticed > 4);
    free(before);
}

static int (*real_rename)(const struct mos_host *h, const char *from, const char *to);
static int (*real_rename_new)(const struct mos_host *h, const char *from, const char *to);
static int (*real_exchange)(const struct mos_host *h, const char *a, const char *b);
static unsigned renames_left;

static int failing_rename(const struct mos_host *h, const char *from, const char *to) {
    return --renames_left ? real_rename(h, from, to) : EIO;
}

static int failing_exchange(const struct mos_host *h, const char *a, const char *b) {
    return --renames_left ? real_exchange(h, a, b) : EIO;
}

/* As on file systems that cannot exchange two names. */
static int no_exchange(const struct mos_host *h, const char *a, const char *b) {
    (void)h, (void)a, (void)b;
    return ENOTSUP;
}

static int failing_rename_new(const struct mos_host *h, const char *from, const char *to) {
    return --renames_left ? real_rename_new(h, from, to) : EIO;
}

/* The step that makes an output the new one fails: the former stays, and nothing half-made. */
static void a_failing_rename_loses_nothing(void) {
    char error[1024];
    const char *out = test_folder("renamed"), *image = keep(path_in(out, "curlew/card.img"));
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), workspace(), out, error, sizeof error), 0);
    char *before = fingerprint(out);
    unsigned failed = 0;
    for (unsigned n = 1; n < 12; n++) {
        struct mos_host host = *mos_platform_host();
        real_rename = host.rename;
        real_rename_new = host.rename_new;
        real_exchange = host.exchange;
        host.exchange = n % 2 ? failing_exchange : no_exchange;
        host.rename = failing_rename;
        host.rename_new = failing_rename_new;
        renames_left = (n + 1) / 2;
        int status = build(&host, workspace(), out, error, sizeof error);
        char *after = fingerprint(out);
        failed += status != 0;
        CU_ASSERT(status == 0 || status == MOSAICUM_SYSTEM);
        CU_ASSERT_STRING_EQUAL(before, after);
        CU_ASSERT(!exists(path_in(out, "curlew.part")));
        free(after);
        const char *to = keep(path_in(out, "amended.img")),
                   *text = keep(path_in(out, "boot:x=%s", image));
        renames_left = (n + 1) / 2;
        status = change(&host, image, text + strlen(out) + 1, to);
        CU_ASSERT_EQUAL(exists(to), status == 0);
        CU_ASSERT(!exists(path_in(out, "amended.img.part")));
        unlink(to);
    }
    CU_ASSERT(failed > 0);
    free(before);
}

static struct mos_worker *no_worker(const struct mos_host *h, void (*work)(void *self, void *job),
                                    void *self) {
    (void)h, (void)work, (void)self;
    return NULL;
}

/* A computer that gives no thread makes the same bytes. */
static void one_thread_makes_the_same(void) {
    char error[1024];
    const char *many = test_folder("many"), *one = test_folder("one");
    struct mos_host host = *mos_platform_host();
    host.worker_start = no_worker;
    CU_ASSERT_EQUAL_FATAL(build(mos_platform_host(), workspace(), many, error, sizeof error), 0);
    CU_ASSERT_EQUAL_FATAL(build(&host, workspace(), one, error, sizeof error), 0);
    char *a = fingerprint(many), *b = fingerprint(one);
    CU_ASSERT_STRING_EQUAL(a, b);
    free(a);
    free(b);
}

SUITE(faults_suite, {"one thread makes the same", one_thread_makes_the_same},
      {"a failing rename", a_failing_rename_loses_nothing},
      {"a changing piece is noticed", a_changing_piece_is_noticed},
      {"a full disk, many sizes", a_full_disk_loses_nothing},
      {"a read error", a_read_error_loses_nothing}, {"every write", a_write_error_loses_nothing},
      {"every read and write of inspect and amend", images_and_faults},
      {"every read of compare", comparing_and_faults},
      {"no flipped byte goes unseen", no_flipped_byte_goes_unseen},
      {"a missing piece", a_missing_piece_loses_nothing},
      {"SIGKILL, many moments", a_kill_loses_nothing});
