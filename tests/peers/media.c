/* The guard on a real kernel: a guest with many disks, whose root lies on a volume on a RAID, and
 * our program inside.  Every refused disk is as it was; what was written is the image. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>
#include <time.h>

static const char board[] =
    "mosaicum: 1\nboard: curlew\n"
    "hardware: {media: {card: {kind: sd, size: {at-least: 64 MiB, at-most: 64 GiB}}}}\n"
    "rom: {order: [card], first-stage: {card: {at: 32 KiB}}}\n"
    "stages: {first: {piece: first, by: rom}}\n"
    "pieces: {first: {file: pieces/first.bin, license: MIT}}\n"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      first: {stage: first}\n"
    "      root: {number: 1, size: rest, grows: true, volume: {kind: ext4, label: root, fills: "
    "{base: {folder: files}}}}\n";

/* What is asked of each disk: exit status, rules found, and whether its file must be as before. */
static const struct {
    const char *role;
    int status;
    const char *rules, *stays; /* the disk's name; NULL: it changes, or is no file */
} rows[] = {
    {"raida", 4, "in-use system-disk ", NULL}, /* its own running changes it */
    {"raidb", 4, "in-use system-disk ", NULL},
    {"raid", 4, "in-use system-disk ", NULL},
    {"root", 4, "mounted not-removable system-disk ", NULL},
    {"virtio", 4, "not-removable ", "virtio"},
    {"nvme", 4, "not-removable ", "nvme"},
    {"sata", 4, "not-removable ", "sata"},
    {"nvme4k", 4, "sector-size ", "nvme4k"},
    {"ro", 4, "read-only ", "ro"},
    {"swap", 4, "mounted ", "swap"},
    {"open", 4, "in-use ", "open"},
    {"mapped", 4, "in-use ", "mapped"},
    {"member", 4, "in-use ", "member"},
    {"mounted", 4, "mounted ", "mounted"},
    {"elsewhere", 4, "mounted ", "elsewhere"},
    {"small", 4, "too-small ", "small"},
    {"large", 4, "too-large ", NULL}, /* 300 GiB are not hashed */
    {"loop", 4, "not-removable too-small ", NULL},
    {"partition", 4, "partition too-small ", "twin"},
    {"stick", 0, "twin ", NULL},
    {"reader", 0, "twin ", NULL},
    {"slot", 0, "twin ", NULL},
    {"again", 0, "twin ", NULL},
};
enum { ROWS = sizeof rows / sizeof *rows };

static char *sum_of(const char *w, const char *disk) {
    struct outcome o = run_shell("cd '%s' && sha256sum d-%s", w, disk);
    char *sum = keep(o.out);
    outcome_free(&o);
    return sum;
}

/* Its rules in the order of their names, as the table has them. */
static void in_order(const char *line, char *out, size_t room) {
    struct outcome o =
        run_shell("echo '%s' | tr ' ' '\\n' | grep . | sort -u | tr '\\n' ' '", line);
    snprintf(out, room, "%s", o.out);
    outcome_free(&o);
}

static const char disks[] =
    "-drive if=none,format=raw,id=a,file=d-raida -device virtio-blk-pci,drive=a "
    "-drive if=none,format=raw,id=b,file=d-raidb -device virtio-blk-pci,drive=b "
    "-drive if=none,format=raw,id=c,file=d-virtio -device virtio-blk-pci,drive=c "
    "-drive if=none,format=raw,id=n,file=d-nvme -device nvme,serial=n1,drive=n -drive "
    "if=none,format=raw,id=n4,file=d-nvme4k "
    "-device nvme,serial=n4,drive=n4,logical_block_size=4096,physical_block_size=4096 "
    "-drive if=none,format=raw,id=s,file=d-sata -device ide-hd,drive=s,bus=ide.0 -device "
    "qemu-xhci,id=x,p2=15,p3=15 "
    "-drive if=none,format=raw,id=u1,file=d-stick -device usb-storage,bus=x.0,drive=u1,serial=S1 "
    "-drive if=none,format=raw,id=l0,file=d-reader -drive "
    "if=none,format=raw,id=l1,file=d-elsewhere -device usb-uas,id=uas,bus=x.0,serial=U1 "
    "-device scsi-hd,bus=uas.0,scsi-id=0,lun=0,drive=l0 "
    "-device scsi-hd,bus=uas.0,scsi-id=0,lun=1,drive=l1 "
    "-drive if=none,format=raw,id=ro,file=d-ro,readonly=on -device usb-storage,bus=x.0,drive=ro "
    "-drive if=none,format=raw,id=sw,file=d-swap -device usb-storage,bus=x.0,drive=sw -drive "
    "if=none,format=raw,id=op,file=d-open -device usb-storage,bus=x.0,drive=op "
    "-drive if=none,format=raw,id=dm,file=d-mapped -device usb-storage,bus=x.0,drive=dm -drive "
    "if=none,format=raw,id=me,file=d-member -device usb-storage,bus=x.0,drive=me -drive "
    "if=none,format=raw,id=tw,file=d-twin -device usb-storage,bus=x.0,drive=tw "
    "-drive if=none,format=raw,id=mo,file=d-mounted -device usb-storage,bus=x.0,drive=mo -drive "
    "if=none,format=raw,id=sm,file=d-small -device usb-storage,bus=x.0,drive=sm -drive "
    "if=none,format=raw,id=la,file=d-large -device usb-storage,bus=x.0,drive=la "
    "-device sdhci-pci -drive if=none,format=raw,id=sd,file=d-slot -device sd-card,drive=sd";

/* All that the image defines is on the disk, as the kernel and the file system's own tool read it.
 */
static void check_written(const char *w, const char *disk) {
    CU_ASSERT_TRUE(
        runs(0, "cd '%s' && cmp -n 60000 -i 32768 d-%s ws/out/curlew/card.img", w, disk));
    CU_ASSERT_TRUE(runs(0, "cd '%s' && sfdisk --verify d-%s 2>&1 | grep -q 'No errors'", w, disk));
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && '%s' --no-cache -q take d-%s 1 -o part && e2fsck -fn part && "
                        "rm part",
                        w, MOSAICUM_PROGRAM, disk));
    struct outcome o = run_shell("'%s' --no-cache compare '%s/ws/out/curlew/card.img' '%s/d-%s'",
                                 MOSAICUM_PROGRAM, w, w, disk);
    CU_ASSERT(!strstr(o.out, "changed") && !strstr(o.out, "removed"));
    outcome_free(&o);
}

/* A workspace with an image of 64 MiB. */
static void make_image(const char *w) {
    write_text(path_in(w, "ws/mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "ws/boards/curlew.yaml"), board);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s/ws' && mkdir pieces files && head -c 100000 /dev/urandom > "
                              "pieces/first.bin && for i in 1 2 3 4; do head -c 3000000 "
                              "/dev/urandom > files/f$i; done && '%s' --no-cache -q build curlew",
                              w, MOSAICUM_PROGRAM));
}

static void the_guard_on_a_real_kernel(void) {
    char *w = keep(test_folder("computer")), *sums[ROWS] = {0};
    size_t right = 0, same = 0;
    if (!exists(path_in(peers_cache(), "x86/complete"))) {
        proved("guard on a real kernel", "NOT DONE: its kernel could not be fetched");
        return;
    }
    make_image(w);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s/tests/peers/computer/prepare' '%s' '%s' '%s'",
                              MOSAICUM_SOURCE, peers_cache(), MOSAICUM_PROGRAM, w));
    for (size_t i = 0; i < ROWS; i++)
        if (rows[i].stays)
            sums[i] = sum_of(w, rows[i].stays);
    struct outcome o = guest_run(w, disks);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "marker-end"));
    for (size_t i = 0; i < ROWS; i++) {
        char rules[300] = "", line[300];
        int status = guest_result(o.out, rows[i].role, line, sizeof line);
        in_order(line, rules, sizeof rules);
        bool good = status == rows[i].status && strcmp(rules, rows[i].rules) == 0;
        if (!good)
            fprintf(stderr, "\n%s: status %d, %s\n", rows[i].role, status, rules);
        CU_ASSERT_TRUE(good);
        right += good;
        if (sums[i]) {
            CU_ASSERT_STRING_EQUAL(sums[i], sum_of(w, rows[i].stays));
            same++;
        }
    }
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "kernel ")); /* it sees the new partitions */
    check_written(w, "stick");
    check_written(w, "reader");
    check_written(w, "slot");
    proved("guard on a real kernel",
           "%zu of %d verdicts as expected, %zu refused disks hashed outside: unchanged; three "
           "written (USB, USB reader, SD slot)",
           right, (int)ROWS, same);
    outcome_free(&o);
    remove_folder(w);
}

/* ---- loop devices ---- */

/* A file of that many MiB as a device; NULL: this computer has no loop devices for us. */
static char *loop_device(const char *w, unsigned mib) {
    struct outcome o = run_shell("cd '%s' && rm -f medium && truncate -s %uM medium && losetup -f "
                                 "--show medium",
                                 w, mib);
    char *path = o.status ? NULL : keep(o.out);
    if (path)
        path[strcspn(path, "\n")] = 0;
    outcome_free(&o);
    return path;
}

static const char token_of[] =
    "t=$('%s' --no-cache devices --json | sed -n 's|.*\"device\": \"%s\".*\"token\": "
    "\"\\([A-Z]*\\)\".*|\\1|p')";

/* A write with consent, ended after so many milliseconds (0: not at all). */
static int write_for(const char *w, const char *device, unsigned ms, const char *options) {
    char token[600], limit[60] = "";
    snprintf(token, sizeof token, token_of, MOSAICUM_PROGRAM, device);
    if (ms)
        snprintf(limit, sizeof limit, "timeout -s KILL %u.%03u", ms / 1000, ms % 1000);
    struct outcome o = run_shell("cd '%s/ws' && %s && %s '%s' --no-cache -q write "
                                 "out/curlew/card.img %s --yes $t --also $t %s",
                                 w, token, limit, MOSAICUM_PROGRAM, device, options);
    int status = o.status;
    if (!ms && status)
        fprintf(stderr, "\n%s%s", o.out, o.err);
    outcome_free(&o);
    return status;
}

static bool is_equal(const char *w, const char *device, const char *options) {
    struct outcome o = run_shell("cmp -s %s %s '%s/ws/out/curlew/card.img'", options, device, w);
    bool equal = o.status == 0;
    outcome_free(&o);
    return equal;
}

static uint64_t milliseconds(void) {
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000 + (uint64_t)now.tv_nsec / 1000000;
}

/* Killed at any moment, a medium is as it was, whole, or has no table; the same command goes on. */
static void killed_at_any_moment(void) {
    char *w = keep(test_folder("killed"));
    unsigned count = peers_all() ? 100 : 16, half = 0, whole = 0;
    uint64_t seed = 18, longest = 0, from = 0;
    make_image(w);
    char *device = loop_device(w, 64);
    if (!device) {
        proved("writes killed at any moment", "NOT DONE: there are no loop devices");
        return;
    }
    for (unsigned i = 0; i < count; i++) {
        CU_ASSERT_TRUE(runs(0,
                            "dd if=/dev/zero of=%s bs=1M status=none conv=fsync 2>/dev/null; "
                            "printf 'label: dos\n2048,,L' | sfdisk -q %s",
                            device, device));
        from = milliseconds();
        write_for(w, device,
                  i ? (unsigned)(longest * 2 / 5 + random_below(&seed, longest * 3 / 5)) : 0,
                  i % 3 ? "" : "--changed");
        if (i == 0) { /* how long a whole one takes, without asking for the token */
            longest = milliseconds() - from;
            from = milliseconds();
            CU_ASSERT_TRUE(runs(0, "'%s' --no-cache devices --json", MOSAICUM_PROGRAM));
            longest -= milliseconds() - from;
        }
        struct outcome o = run_shell("sfdisk -d %s 2>/dev/null | grep label", device);
        bool is_old = strstr(o.out, "dos") != NULL, is_new = strstr(o.out, "gpt") != NULL;
        bool same = is_equal(w, device, "");
        /* with a new table everything is there but what the ROM starts */
        CU_ASSERT(!is_new || same || is_equal(w, device, "-i 1048576"));
        half += !is_old && !is_new;
        whole += same;
        outcome_free(&o);
        CU_ASSERT_EQUAL(write_for(w, device, 0, i % 2 ? "" : "--changed"), 0);
        CU_ASSERT_TRUE(is_equal(w, device, ""));
    }
    CU_ASSERT(whole > 0 && (half > 0 || !peers_all())); /* of a few, all may be early */
    proved("writes killed at any moment",
           "%u moments: %u half-written without a table, %u whole, the others as before; each went "
           "on to the same bytes",
           count, half, whole);
    runs(0, "losetup -d %s", device);
    remove_folder(w);
}

/* Larger devices: the table at their end, and a region that grows, by the judges. */
static void larger_devices(void) {
    static const unsigned sizes[] = {4096, 15193, 65536};
    char *w = keep(test_folder("larger"));
    size_t done = 0;
    make_image(w);
    for (size_t i = 0; i < 2 * sizeof sizes / sizeof *sizes; i++) {
        char *device = loop_device(w, sizes[i / 2]);
        if (!device) {
            proved("writes to larger devices", "NOT DONE: there are no loop devices");
            return;
        }
        CU_ASSERT_EQUAL(write_for(w, device, 0, i % 2 ? "--grow" : ""), 0);
        CU_ASSERT_TRUE(runs(0, "sfdisk --verify %s 2>&1 | grep -q 'No errors'", device));
        struct outcome o = run_shell("sfdisk -J %s", device);
        json_t *d = json_loads(o.out, 0, NULL), *table = json_object_get(d, "partitiontable");
        json_t *p = json_array_get(json_object_get(table, "partitions"), 0);
        uint64_t end = (uint64_t)json_integer_value(json_object_get(p, "start")) +
                       (uint64_t)json_integer_value(json_object_get(p, "size"));
        uint64_t last = (uint64_t)json_integer_value(json_object_get(table, "lastlba"));
        CU_ASSERT_EQUAL(last, sizes[i / 2] * 2048ull - 34);
        CU_ASSERT_EQUAL(end == last + 1, i % 2);
        json_decref(d);
        outcome_free(&o);
        CU_ASSERT_TRUE(is_equal(w, device, "-n 66000000 -i 32768"));
        runs(0, "losetup -d %s", device);
        done++;
    }
    proved("writes to larger devices",
           "%zu of 6: 4, 15 and 64 GiB, with and without growing; tables without errors, content "
           "equal",
           done);
    remove_folder(w);
}

/* ---- a plain user ---- */

static const struct {
    const char *how; /* the service answers */
    int status;
    const char *says;
} lenders[] = {
    {"yes", 0, "written, and read back"},
    {"no", 4, "not-removable"}, /* without its token nothing can be said twice */
    {"other", 4, "not-removable"},
    {"busy", 4, "not-removable"},
    {"none", 4, "not-removable"},
};

/* A device that this user may not open comes over D-Bus from a service. */
static void a_plain_user(void) {
    char *w = keep(test_folder("plain"));
    size_t right = 0;
    make_image(w);
    char *device = loop_device(w, 64);
    if (!device) {
        proved("a device from the storage service", "NOT DONE: there are no loop devices");
        return;
    }
    for (size_t i = 0; i < sizeof lenders / sizeof *lenders; i++) {
        struct outcome o = run_shell("'%s/tests/peers/plain' '%s' %s '%s' '%s' %s", MOSAICUM_SOURCE,
                                     w, device, MOSAICUM_PROGRAM, MOSAICUM_LENDER, lenders[i].how);
        bool good = o.status == lenders[i].status && strstr(o.out, lenders[i].says) &&
                    is_equal(w, device, "") == !lenders[i].status;
        if (!good)
            fprintf(stderr, "\n%s: %d\n%s%s", lenders[i].how, o.status, o.out, o.err);
        CU_ASSERT_TRUE(good);
        right += good;
        outcome_free(&o);
        runs(0, "head -c 67108864 /dev/zero > %s", device);
    }
    proved("a device from the storage service (D-Bus, a service of the test's own)",
           "%zu of %zu as expected: lent, refused, busy, something else, no service", right,
           sizeof lenders / sizeof *lenders);
    runs(0, "losetup -d %s", device);
    remove_folder(w);
}

SUITE(media_suite, {"the guard on a real kernel", the_guard_on_a_real_kernel},
      {"killed at any moment", killed_at_any_moment}, {"larger devices", larger_devices},
      {"a plain user", a_plain_user});
