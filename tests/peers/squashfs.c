/* Squashfs: the kernel mounts what we wrote, the system's own unpacker takes it apart, and we read
 * what the system's own maker wrote. */
#include "generated.h"
#include "peers.h"

#include "fs/fs.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* ---- generated trees ---- */

static const char *const compressions[] = {"gz", "xz", "zst"};
static const uint32_t units[] = {0, 4096, 32768, 1 << 20};

static struct generator generator_of(struct core *c, struct mos_sink sink, uint64_t seed) {
    static const size_t counts[] = {0, 1, 30, 300, 1500, 6000};
    struct generator g = {.seed = seed, .sink = sink, .arena = c->ctx.arena, .seconds = true};
    g.entries = counts[random_below(&g.seed, 6)];
    return g;
}

/* The tree of a seed as one more volume; how many entries it has. */
static uint64_t make_volume(const struct mos_fs_driver *d, uint64_t seed, const char *path) {
    const uint64_t size = 1ull << 30;
    struct core c;
    core_start(&c);
    const struct mos_host *h = c.ctx.host;
    int file = -1;
    unlink(path);
    CU_ASSERT_EQUAL_FATAL(h->open(h, path, MOS_OPEN_NEW, &file), 0);
    h->resize(h, file, size);
    struct mos_io io = mos_io_file(c.ctx.arena, h, file, size);
    struct mos_volume_wish w = {.size = size, .sector = 512, .label = "", .date = 1767225600};
    if (d == &mos_fs_squashfs) {
        w.compress = compressions[seed % 3];
        w.unit = units[seed / 3 % 4];
    }
    struct mos_volume_base *v = d->begin(&c.ctx, &io, &w);
    struct generator g = generator_of(&c, d->sink(v), seed);
    generate_tree(&g);
    if (d->contents) {
        g = generator_of(&c, d->contents(v), seed);
        generate_tree(&g);
    }
    struct mos_volume_result r;
    CU_ASSERT_TRUE(d->finish(v, &r) && r.fits);
    CU_ASSERT_EQUAL(v->inventory->refusal_count, 0);
    h->close(h, file);
    core_end(&c);
    return r.entries;
}

static void the_kernel_mounts_generated_trees(void) {
    const char *w = test_folder("squashfs");
    uint64_t entries = 0, count = peers_all() ? 300 : 4;
    size_t compared = 0;
    CU_ASSERT_TRUE_FATAL(runs(0, "mkdir -p '%s/s' '%s/e'", w, w));
    for (uint64_t seed = 1; seed <= count; seed++) {
        entries += make_volume(&mos_fs_squashfs, seed, path_in(w, "squashfs"));
        make_volume(&mos_fs_ext4, seed, path_in(w, "ext4"));
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && mount -t squashfs -o loop,ro squashfs s && mount -o "
                                  "loop,ro ext4 e && rm -rf e.lost",
                                  w));
        size_t n = compare_folders(keep(path_in(w, "s")), keep(path_in(w, "e")));
        compared += n;
        CU_ASSERT(n > 0);
        if (seed % 4 == 0) /* its own unpacker finds the same */
            CU_ASSERT(
                runs(0, "cd '%s' && rm -rf u && unsquashfs -q -n -d u squashfs >/dev/null", w) &&
                compare_folders(keep(path_in(w, "s")), keep(path_in(w, "u"))) == n);
        CU_ASSERT(runs(0, "umount '%s/s' '%s/e'", w, w));
    }
    proved(
        "generated trees as squashfs, mounted by the kernel",
        "%llu trees (3 compressions, 4 sizes of blocks), %zu entries as on ext4 in all; every 4th "
        "through the system's unpacker",
        (unsigned long long)count, compared);
    CU_ASSERT(entries > 100);
    remove_folder(w);
}

/* ---- a real root ---- */

static void a_real_root_is_mounted(void) {
    const char *w = test_folder("squashfs-root");
    size_t n = 0;
    compare_whole_seconds(true);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && mkdir m copy && tar --numeric-owner --xattrs "
                              "'--xattrs-include=*' -cf root.tar -C '%s/root' . && tar --xattrs "
                              "'--xattrs-include=*' -xpf root.tar -C copy",
                              w, peers_cache()));
    for (size_t i = peers_all() ? 0 : 2; i < 3; i++) {
        char text[600];
        snprintf(text, sizeof text,
                 "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 1 GiB}}}\n"
                 "pieces: {rootfs: {file: root.tar}}\nlayout: {card: {table: {kind: gpt}, regions: "
                 "{root: {number: 1, at: 1 MiB, size: 800 MiB, volume: {kind: squashfs, compress: "
                 "%s, fills: {base: {archive: rootfs}}}}}}}\n",
                 compressions[i]);
        write_text(path_in(w, "boards/curlew.yaml"), text);
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s' && '%s' --no-cache -q build && mount -t squashfs -o "
                 "loop,ro,offset=1048576,sizelimit=838860800 out/curlew/card.img m",
                 w, MOSAICUM_PROGRAM));
        n = compare_folders(keep(path_in(w, "m")), keep(path_in(w, "copy")));
        CU_ASSERT(n > 1000);
        CU_ASSERT(runs(0,
                       "cd '%s' && umount m && '%s' -q take out/curlew/card.img root: -o t.tar && "
                       "mkdir t && tar --xattrs '--xattrs-include=*' -xpf t.tar -C t",
                       w, MOSAICUM_PROGRAM));
        CU_ASSERT_EQUAL(compare_folders(keep(path_in(w, "t")), keep(path_in(w, "copy"))), n);
        CU_ASSERT(runs(0, "rm -rf '%s/t' '%s/t.tar' '%s/out'", w, w, w));
    }
    proved("a Debian root as squashfs, mounted by the kernel",
           "%zu entries equal, %s, by the kernel and by our own reader", n,
           peers_all() ? "3 compressions" : "zstd");
    compare_whole_seconds(false);
    remove_folder(w);
}

/* ---- what the system's own maker wrote ---- */

static void we_read_what_its_maker_wrote(void) {
    static const char *const ways[] = {
        "-comp gzip",
        "-comp xz",
        "-comp zstd",
        "-comp lz4",
        "-comp lz4 -Xhc",
        "-comp lzo",
        "-comp xz -Xbcj x86,arm -b 256K",
        "-comp gzip -b 4K",
        "-comp zstd -b 1M -Xcompression-level 3",
        "-comp gzip -Xcompression-level 1 -Xwindow-size 9",
        "-comp gzip -noI -noD -noF -noX",
        "-comp gzip -noId",
        "-comp xz -no-fragments",
        "-comp gzip -always-use-fragments -no-duplicates",
        "-comp zstd -no-exports -no-sparse",
        "-comp gzip -no-xattrs",
        "-comp gzip -all-root",
    };
    const char *w = test_folder("squashfs-others");
    size_t count = sizeof ways / sizeof *ways, entries = 0, done = 0;
    make_volume(&mos_fs_ext4, 35, path_in(w, "ext4")); /* a large tree */
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir e m src && mount -o loop,ro ext4 e && cp -a e/. src/ && umount e && rm "
        "-rf src/lost+found && find src -type s -delete && mkdir src/many && i=0 && while [ $i -lt "
        "4000 ]; do echo $i > "
        "src/many/a-rather-long-name-number-$i; i=$((i+1)); done && truncate -s 40M src/sparse "
        "&& echo end >> src/sparse && cp /bin/bash src/ && cp src/bash src/twin && head -c "
        "3000000 /dev/urandom > src/random && chown 70000:80000 src/random && python3 -c "
        "\"import os; [os.setxattr('src/many/a-rather-long-name-number-%%d' %% i, 'user.note', "
        "b'the same long value' * 20) for i in range(9)]\"",
        w));
    for (size_t i = 0; i < count; i += peers_all() ? 1 : 3) {
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s' && rm -rf t t.tar a.img && mksquashfs src a.img %s "
                 "-quiet -no-progress >/dev/null && mount -t squashfs -o loop,ro "
                 "a.img m && '%s' -q take a.img : -o t.tar && mkdir t && tar --xattrs "
                 "'--xattrs-include=*' --sparse -xpf t.tar -C t",
                 w, ways[i], MOSAICUM_PROGRAM));
        size_t n = compare_folders(keep(path_in(w, "m")), keep(path_in(w, "t")));
        if (n < 4000)
            fprintf(stderr, "\n%s: %zu\n", ways[i], n);
        CU_ASSERT(n > 4000);
        entries += n;
        done++;
        CU_ASSERT(runs(0, "umount '%s/m'", w));
    }
    proved("squashfs made by others, read",
           "%zu ways to make it (5 compressions, filters, options): %zu entries as the kernel has "
           "them",
           done, entries);
    remove_folder(w);
}

SUITE(squashfs_suite, {"the kernel mounts generated trees", the_kernel_mounts_generated_trees},
      {"a real root is mounted", a_real_root_is_mounted},
      {"we read what its maker wrote", we_read_what_its_maker_wrote});
