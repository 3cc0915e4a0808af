/* The operating system's own tools and kernel judge what we wrote. */
#define _GNU_SOURCE
#include "generated.h"
#include "peers.h"

#include "content/attributes.h"
#include "content/content.h"
#include "fs/fs.h"
#include "platform/platform.h"

#include <dirent.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

/* ---- the demo image ---- */

/* Copies a partition out of an image, sparsely. */
static char *cut_partition(const char *image, const char *folder, uint64_t start, uint64_t size) {
    char *path = path_in(folder, "part-%llu", (unsigned long long)start);
    CU_ASSERT(runs(
        0,
        "dd if='%s' of='%s' bs=1M iflag=skip_bytes,count_bytes skip=%llu count=%llu conv=sparse "
        "status=none && truncate -s %llu '%s'",
        image, path, (unsigned long long)start, (unsigned long long)size, (unsigned long long)size,
        path));
    return path;
}

/* Every volume of an image, by the ledger, before its checker. */
static size_t judge_volumes(const char *folder, const char *image, json_t *regions) {
    json_t *r;
    size_t i, judged = 0;
    json_array_foreach(regions, i, r) {
        const char *holds = json_string_value(json_object_get(r, "holds"));
        bool ext4 = strcmp(holds, "ext4") == 0;
        if (!ext4 && strcmp(holds, "fat32") != 0)
            continue;
        char *part = keep(
            cut_partition(image, folder, (uint64_t)json_integer_value(json_object_get(r, "offset")),
                          (uint64_t)json_integer_value(json_object_get(r, "length"))));
        CU_ASSERT(runs(0, "%s '%s'", ext4 ? "$JUDGE e2fsck -fn" : "$JUDGE fsck.fat -n", part));
        remove_folder(part);
        judged++;
    }
    return judged;
}

static void tools_accept_the_demo_images(void) {
    static const char *const selectors[] = {"curlew", "curlew+bench", "avocet", "dunlin+field"};
    const char *out = test_folder("demo");
    size_t volumes = 0, tables = 0;
    for (size_t s = 0; s < 4; s++) {
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "'%s' --no-cache -q -w '%s/demo/saltmarsh' build %s --out '%s'",
                                  MOSAICUM_PROGRAM, MOSAICUM_SOURCE, selectors[s], out));
        char *folder = keep(path_in(out, "%s", selectors[s]));
        json_t *ledger = json_load_file(path_in(folder, "ledger.json"), 0, NULL), *image;
        size_t i;
        json_array_foreach(json_object_get(ledger, "images"), i, image) {
            char *file =
                keep(path_in(folder, "%s", json_string_value(json_object_get(image, "file"))));
            size_t n = judge_volumes(folder, file, json_object_get(image, "regions"));
            volumes += n;
            if (!n)
                continue; /* raw flash and boot areas have no table */
            CU_ASSERT(runs(0, "sfdisk --verify '%s' | grep -q 'No errors detected'", file));
            tables++;
        }
        json_decref(ledger);
    }
    CU_ASSERT_EQUAL(tables, 4);
    CU_ASSERT_EQUAL(volumes, 10);
    proved("demo images of 4 selections",
           "sfdisk --verify on %zu tables (GPT, MBR), fsck.fat -n and e2fsck -fn on %zu volumes: "
           "silent",
           tables, volumes);
}

/* ---- generated volumes ---- */

/* Fills a volume of the seed; returns how many bytes were missing (0: it fits). */
static uint64_t make_volume(const struct mos_fs_driver *d, uint64_t seed, uint64_t size,
                            const char *path, uint64_t *entries) {
    struct core c;
    core_start(&c);
    const struct mos_host *h = c.ctx.host;
    int file = -1;
    unlink(path);
    CU_ASSERT_EQUAL_FATAL(h->open(h, path, MOS_OPEN_NEW, &file), 0);
    h->resize(h, file, size);
    struct mos_io io = mos_io_file(c.ctx.arena, h, file, size);
    struct mos_volume_wish w = {.size = size, .sector = 512, .label = "GAUGE", .date = 1767225600};
    mos_uuid_from_name("volume", w.uuid);
    struct mos_volume_base *v = d->begin(&c.ctx, &io, &w);
    struct generator g = {
        .seed = seed, .sink = d->sink(v), .arena = c.ctx.arena, .fat = d != &mos_fs_ext4};
    static const size_t counts[] = {0, 1, 10, 100, 1000, 5000};
    g.entries = counts[random_below(&g.seed, d == &mos_fs_fat12 ? 3 : d == &mos_fs_fat16 ? 4 : 6)];
    if (d == &mos_fs_ext4 && seed % 150000 == 7) /* now and then a very full one */
        g.entries = 200000;
    generate_tree(&g);
    struct mos_volume_result r;
    CU_ASSERT_TRUE(d->finish(v, &r));
    h->close(h, file);
    *entries += r.entries;
    core_end(&c);
    return r.missing;
}

struct tally {
    uint64_t entries, full;
};

/* A full run can be interrupted: volumes that have been judged are remembered. */
static bool judged_before(const char *file, const char *kind, uint64_t i, struct tally *t) {
    FILE *f = peers_all() ? fopen(file, "r") : NULL;
    char line[100], name[20];
    unsigned long long n, entries, full;
    bool found = false;
    while (f && !found && fgets(line, sizeof line, f))
        found = sscanf(line, "%19s %llu %llu %llu", name, &n, &entries, &full) == 4 &&
                strcmp(name, kind) == 0 && n == i;
    if (f)
        fclose(f);
    if (found) {
        t->entries += entries;
        t->full += full;
    }
    return found;
}

static void remember(const char *file, const char *kind, uint64_t i, const struct tally *t) {
    FILE *f = peers_all() ? fopen(file, "a") : NULL;
    if (!f)
        return;
    fprintf(f, "%s %llu %llu %llu\n", kind, (unsigned long long)i, (unsigned long long)t->entries,
            (unsigned long long)t->full);
    fclose(f);
}

/* Makes and judges the i-th volume of a kind, growing it to where it just fits. */
static bool judge_volume(const struct mos_fs_driver *d, const char *judge, uint64_t smallest,
                         uint64_t i, const char *path, struct tally *t) {
    uint64_t seed = i * 1000 + 7, state = seed, missing;
    unsigned doublings = d == &mos_fs_ext4 ? 14 : d == &mos_fs_fat12 ? 8 : 4;
    uint64_t size = smallest << random_below(&state, doublings);
    if (d == &mos_fs_ext4 && seed % 150000 == 7)
        size = 8ull << 30;
    size += random_below(&state, 1000) * 1024;
    while ((missing = make_volume(d, seed, size, path, &t->entries))) {
        size += missing; /* volumes full to the last block */
        t->full++;
    }
    bool good = runs(0, "$JUDGE %s '%s'", judge, path);
    if (!good)
        fprintf(stderr, "%s seed %llu size %llu\n", d->name, (unsigned long long)seed,
                (unsigned long long)size);
    return good;
}

static void tools_accept_generated_volumes(void) {
    static const struct {
        const char *name, *judge;
        uint64_t smallest, count, sample;
    } kinds[] = {{"ext4", "e2fsck -fn", 256 << 10, 600, 20},
                 {"fat32", "fsck.fat -n", 34 << 20, 150, 5},
                 {"fat16", "fsck.fat -n", 3 << 20, 150, 8},
                 {"fat12", "fsck.fat -n", 64 << 10, 100, 8}};
    static const char *const names[] = {"generated ext4 volumes", "generated FAT32 volumes",
                                        "generated FAT16 volumes", "generated FAT12 volumes"};
    const char *folder = test_folder("volumes"), *file = peers_progress("judged");
    for (size_t k = 0; k < sizeof kinds / sizeof *kinds; k++) {
        const struct mos_fs_driver *d = mos_fs_find(kinds[k].name);
        uint64_t count = peers_all() ? kinds[k].count : kinds[k].sample;
        struct tally all = {0};
        for (uint64_t i = 0; i < count; i++) {
            struct tally one = {0};
            if (judged_before(file, kinds[k].name, i, &all))
                continue;
            bool good = judge_volume(d, kinds[k].judge, kinds[k].smallest, i,
                                     path_in(folder, "volume"), &one);
            CU_ASSERT(good);
            if (good)
                remember(file, kinds[k].name, i, &one);
            all.entries += one.entries;
            all.full += one.full;
        }
        proved(names[k],
               "%llu volumes, %llu entries, %llu times grown to just fit; %s finds nothing",
               (unsigned long long)count, (unsigned long long)all.entries,
               (unsigned long long)all.full, kinds[k].judge);
    }
    remove(file); /* a run that came to its end begins anew next time */
}

/* ---- a real root tree, mounted by the kernel ---- */

static size_t compared;
static bool whole_seconds;

void compare_whole_seconds(bool on) {
    whole_seconds = on;
}

static bool same_bytes(const char *a, const char *b) {
    struct outcome o = run_shell("cmp '%s' '%s'", a, b);
    bool same = o.status == 0;
    outcome_free(&o);
    return same;
}

static bool same_content(const char *a, const char *b, uint64_t size) {
    size_t x, y;
    if (size > 64 << 20)
        return same_bytes(a, b);
    char *p = read_whole(a, &x), *q = read_whole(b, &y);
    bool same = p && q && x == y && memcmp(p, q, x) == 0;
    free(p);
    free(q);
    return same;
}

static const char *difference(const char *a, const char *b, const struct stat *s,
                              const struct stat *t, bool top) {
    char x[4096], y[4096];
    if (s->st_mode != t->st_mode && !(S_ISLNK(s->st_mode) && S_ISLNK(t->st_mode)))
        return "type or mode"; /* the mode of a link means nothing */
    if (s->st_uid != t->st_uid || s->st_gid != t->st_gid)
        return "owner";
    if (!top && (s->st_mtim.tv_sec != t->st_mtim.tv_sec ||
                 (!whole_seconds && s->st_mtim.tv_nsec != t->st_mtim.tv_nsec)))
        return "time";
    if (!S_ISDIR(s->st_mode) && (s->st_size != t->st_size || s->st_nlink != t->st_nlink))
        return "size or links";
    if ((S_ISCHR(s->st_mode) || S_ISBLK(s->st_mode)) && s->st_rdev != t->st_rdev)
        return "device number";
    if (S_ISREG(s->st_mode) && !same_content(a, b, (uint64_t)s->st_size))
        return "content";
    if (S_ISLNK(s->st_mode)) {
        ssize_t n = readlink(a, x, sizeof x), m = readlink(b, y, sizeof y);
        if (n != m || memcmp(x, y, (size_t)n) != 0)
            return "target";
    }
    return NULL;
}

/* Extended attributes, in order of names, as one text. */
static char *attributes_of(const char *path) {
    char names[4096], value[4096], *text = NULL;
    size_t size = 0;
    FILE *out = open_memstream(&text, &size);
    ssize_t n = llistxattr(path, names, sizeof names);
    const char *list[64];
    size_t count = 0;
    for (ssize_t at = 0; at < n && count < 64; at += (ssize_t)strlen(names + at) + 1)
        list[count++] = names + at;
    for (size_t i = 0; i < count; i++)
        for (size_t k = i + 1; k < count; k++)
            if (strcmp(list[k], list[i]) < 0) {
                const char *swap = list[i];
                list[i] = list[k];
                list[k] = swap;
            }
    for (size_t i = 0; i < count; i++) {
        ssize_t m = lgetxattr(path, list[i], value, sizeof value);
        fprintf(out, "%s=", list[i]);
        for (ssize_t k = 0; k < m; k++)
            fprintf(out, "%02x", (unsigned char)value[k]);
        fputc('\n', out);
    }
    fclose(out);
    return text;
}

static void compare_trees(const char *a, const char *b, bool top) {
    struct stat s, t;
    if (lstat(a, &s) || lstat(b, &t)) {
        fprintf(stderr, "\nonly in one: %s\n", a);
        CU_FAIL("an entry is missing");
        return;
    }
    const char *what = difference(a, b, &s, &t, top);
    char *x_a = attributes_of(a), *x_b = attributes_of(b);
    if (!what && !top && strcmp(x_a, x_b) != 0)
        what = "extended attributes";
    free(x_a);
    free(x_b);
    if (what)
        fprintf(stderr, "\n%s differs: %s\n", what, a);
    CU_ASSERT_PTR_NULL(what);
    compared++;
    DIR *d = S_ISDIR(s.st_mode) ? opendir(a) : NULL;
    for (struct dirent *e; d && (e = readdir(d));) {
        if (strcmp(e->d_name, ".") == 0 || strcmp(e->d_name, "..") == 0)
            continue;
        char *x, *y;
        if (asprintf(&x, "%s/%s", a, e->d_name) < 0 || asprintf(&y, "%s/%s", b, e->d_name) < 0)
            abort();
        if (!(top && strcmp(e->d_name, "lost+found") == 0))
            compare_trees(x, y, false);
        free(x);
        free(y);
    }
    if (d)
        closedir(d);
}

size_t compare_folders(const char *a, const char *b) {
    compared = 0;
    compare_trees(a, b, true);
    size_t forth = compared;
    compare_trees(b, a, true);
    return forth;
}

static void write_root_workspace(const char *w) {
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\nhardware:\n  media: {card: {kind: sd, size: 1 GiB}}\n"
               "pieces: {rootfs: {file: pieces/rootfs.tar.zst}}\nlayout:\n  card:\n    table: "
               "{kind: gpt}\n"
               "    regions:\n      root: {number: 1, at: 1 MiB, size: rest, volume: {kind: ext4, "
               "label: root, "
               "fills: {base: {archive: rootfs}}}}\n");
}

static void the_kernel_reads_a_real_tree(void) {
    const char *w = test_folder("root"), *copy = keep(path_in(w, "copy"));
    const char *mounted = keep(path_in(w, "mounted"));
    write_root_workspace(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "mkdir -p '%s/extra/dev' '%s/pieces' '%s' '%s' && cd '%s/extra' && "
        "mknod dev/console c 5 1 && mknod dev/sda b 8 0 && mknod -m 600 dev/big c 300 70000 && "
        "mkfifo dev/pipe && echo x > one && ln one two && ln one three && "
        "truncate -s 300M sparse && printf end | dd of=sparse bs=1M seek=250 conv=notrunc "
        "2>/dev/null && "
        "head -c 150M /dev/urandom > large && chmod 6755 two && chown 12345:70000 two && "
        "ln -s %0200d long-link && touch -d '1969-05-06 07:08:09.123456789' old && "
        "touch -d '2101-05-06 07:08:09.5' new && : > empty && i=0 && mkdir many && while [ $i -lt "
        "3000 ]; do : > many/name-$i-of-many; i=$((i+1)); done && python3 -c \"import os; x = "
        "os.setxattr; x('large', 'security.capability', bytes.fromhex('0100000200240000') + "
        "bytes(12)); "
        "x('empty', 'user.note', b'n' * 900); x('empty', 'security.selinux', "
        "b'system_u:object_r'); "
        "x('dev', 'trusted.origin', b'jetty'); x('old', 'system.posix_acl_access', "
        "bytes.fromhex('0200000001000600ffffffff02000400e8030000' + "
        "'04000400ffffffff10000400ffffffff20000000ffffffff')); x('many', "
        "'system.posix_acl_default', bytes.fromhex('0200000001000700ffffffff04000500ffffffff"
        "20000500ffffffff'))\"",
        w, w, copy, mounted, w, 7));
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && tar --numeric-owner --sparse --format=posix --acls --xattrs "
             "'--xattrs-include=*' -cf - -C '%s/root' . -C '%s/extra' ./dev ./one ./two ./three "
             "./sparse ./large ./long-link ./old ./new ./empty ./many | zstd -q -1 -o "
             "pieces/rootfs.tar.zst && tar --acls --xattrs '--xattrs-include=*' -xpf "
             "pieces/rootfs.tar.zst -C '%s'",
             w, peers_cache(), w, copy));
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "dd if='%s/out/curlew/card.img' of='%s/part' bs=1M skip=1 count=1022 conv=sparse "
             "status=none && $JUDGE e2fsck -fn '%s/part'",
             w, w, w));
    CU_ASSERT_TRUE_FATAL(runs(0, "mount -o loop,ro '%s/part' '%s'", w, mounted));
    size_t forth = compare_folders(copy, mounted);
    CU_ASSERT(runs(0, "umount '%s'", mounted));
    CU_ASSERT(forth > 6000);
    proved("a Debian root tree, mounted by the kernel",
           "%zu entries equal in type, owner, mode, time, size, content, target, device, links, "
           "extended attributes",
           forth);
    remove_folder(w);
}

/* ---- what others made ---- */

static void inspect_reads_what_others_made(void) {
    const char *folder = test_folder("others");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && truncate -s 300M disk && printf 'label: gpt\\nstart=2048, size=81920, "
             "name=first\\n"
             "start=83968, size=204800, name=second\\n' | sfdisk -q disk && truncate -s 40M a && "
             "mkfs.fat -F 32 -n TIDES a >/dev/null && truncate -s 100M b && "
             "mkfs.ext4 -q -L gauge -U 01234567-89ab-cdef-0123-456789abcdef b && "
             "dd if=a of=disk bs=1M seek=1 conv=notrunc status=none && "
             "dd if=b of=disk bs=1M seek=41 conv=notrunc status=none",
             folder));
    int status;
    json_t *d = run_json(&status, "inspect '%s/disk'", folder);
    json_t *rows = json_object_get(json_array_get(json_object_get(d, "report"), 0), "rows");
    CU_ASSERT_EQUAL(status, 0);
    CU_ASSERT_EQUAL_FATAL(json_array_size(rows), 2);
    json_t *a = json_array_get(rows, 0), *b = json_array_get(rows, 1);
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(a, "name")), "first");
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(a, "label")), "TIDES");
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(b, "holds")), "ext4");
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(b, "id")),
                           "01234567-89ab-cdef-0123-456789abcdef");
    json_decref(d);
    /* an MBR with logical partitions, read back and drafted into a definition */
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && truncate -s 200M mbr && printf 'label: dos\nlabel-id: 0x1234abcd\nstart=2048, "
        "size=40960, type=c, bootable\nstart=43008, size=300000, type=5\nstart=45056, size=20480, "
        "type=83\nstart=67584, size=20480, type=83\nstart=90112, size=4096, type=82\n' | sfdisk -q "
        "mbr",
        folder));
    d = run_json(&status, "inspect '%s/mbr'", folder);
    rows = json_object_get(json_array_get(json_object_get(d, "report"), 0), "rows");
    CU_ASSERT_EQUAL(status, 0);
    static const struct {
        int number;
        uint64_t start;
    } logical[] = {{1, 2048}, {2, 43008}, {5, 45056}, {6, 67584}, {7, 90112}};
    size_t found = 0, i;
    json_t *r;
    json_array_foreach(rows, i, r) for (size_t k = 0; k < 5; k++) found +=
        json_integer_value(json_object_get(r, "number")) == logical[k].number &&
        (uint64_t)json_integer_value(json_object_get(r, "start")) == logical[k].start * 512;
    CU_ASSERT_EQUAL(found, 5);
    json_decref(d);
    CU_ASSERT(
        runs(0,
             "'%s' --no-cache -w '%s/w' --from '%s/mbr' new drafted && '%s' --no-cache -w '%s/w' "
             "check && '%s' --no-cache -w '%s/w' --from '%s/disk' new gpt && '%s' --no-cache -w "
             "'%s/w' -q build gpt && sfdisk -d '%s/w/out/gpt/card.img' | grep name= | sed "
             "'s/.*start/start/' > '%s/x' && sfdisk -d '%s/disk' | grep name= | sed "
             "'s/.*start/start/' > '%s/y' && cmp '%s/x' '%s/y'",
             MOSAICUM_PROGRAM, folder, folder, MOSAICUM_PROGRAM, folder, MOSAICUM_PROGRAM, folder,
             folder, MOSAICUM_PROGRAM, folder, folder, folder, folder, folder, folder, folder));
    proved("disks made by others",
           "inspect: GPT, MBR with logical ones, FAT32, ext4; new --from gives "
           "the same table");
}

/* A disk that is really full (a small memory file system). */
/* A disk that is surely too small is a finding; one that turns out to be is an error. */
static void a_really_full_disk(void) {
    static const struct {
        unsigned size; /* KiB */
        int status;
        const char *text, *before; /* a check, so that nothing is left to be read by the build */
    } disks[] = {{100, 1, "board.host", "check curlew"}, {60, 3, "No space left", "--version"}};
    const char *store = test_folder("tmpfs-store");
    for (size_t i = 0; i < 2; i++) {
        const char *folder = test_folder("tmpfs");
        CU_ASSERT_TRUE_FATAL(
            runs(0, "mount -t tmpfs -o size=%uk mosaicum-test '%s'", disks[i].size, folder));
        struct outcome o = run_shell("export XDG_CACHE_HOME='%s'; '%s' -w '%s/demo/saltmarsh' %s; "
                                     "'%s' -w '%s/demo/saltmarsh' build curlew --out '%s/out' 2>&1",
                                     i ? folder : store, MOSAICUM_PROGRAM, MOSAICUM_SOURCE,
                                     disks[i].before, MOSAICUM_PROGRAM, MOSAICUM_SOURCE, folder);
        CU_ASSERT_EQUAL(o.status, disks[i].status);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, disks[i].text));
        CU_ASSERT(!exists(path_in(folder, "out/curlew")));
        CU_ASSERT(!exists(path_in(folder, "out/curlew.part")));
        outcome_free(&o);
        CU_ASSERT(runs(0, "umount '%s'", folder));
    }
    proved("a full disk (tmpfs of 100 and 60 KiB)",
           "board.host where it is sure before, exit 3 where it is not; nothing left behind");
}

/* Every manual page is shown by the system's own program, without a warning of its formatter. */
static void man_shows_every_page(void) {
    struct outcome o = run_shell("ls '%s'/man/man*/*", MOSAICUM_BUILD);
    size_t pages = 0;
    char *next;
    for (char *page = strtok_r(o.out, "\n", &next); page; page = strtok_r(NULL, "\n", &next)) {
        struct outcome shown =
            run_shell("LC_ALL=C.UTF-8 MANWIDTH=80 man --warnings=all -l '%s'", page);
        bool good = shown.status == 0 && !*shown.err && strstr(shown.out, "NAME") &&
                    strstr(shown.out, "SEE ALSO");
        if (!good)
            fprintf(stderr, "\n%s: %s", page, shown.err);
        CU_ASSERT(good);
        outcome_free(&shown);
        pages++;
    }
    CU_ASSERT(pages >= 16);
    proved("manual pages", "%zu, shown by man without a warning", pages);
    outcome_free(&o);
}

SUITE(judges_suite, {"the demo images", tools_accept_the_demo_images},
      {"generated volumes", tools_accept_generated_volumes},
      {"a real root tree", the_kernel_reads_a_real_tree},
      {"a disk made by others", inspect_reads_what_others_made},
      {"manual pages", man_shows_every_page}, {"a full disk", a_really_full_disk});
