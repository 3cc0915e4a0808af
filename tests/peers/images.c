/* Images that others made, or that a kernel wrote into, read and changed by us. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

/* File systems as the operating system's own tools make them. */
static const struct {
    const char *name, *make;
    bool fat, refused;
} kinds[] = {
    {"ext4", "mkfs.ext4 -q -F", false, false},
    {"ext4 of 1 KiB blocks", "mkfs.ext4 -q -F -b 1024", false, false},
    {"ext4 of small inodes", "mkfs.ext4 -q -F -I 128", false, false},
    {"ext4 without sums", "mkfs.ext4 -q -F -O ^metadata_csum,^64bit", false, false},
    {"ext4 with group sums", "mkfs.ext4 -q -F -O ^metadata_csum,uninit_bg", false, false},
    {"ext4 with meta groups", "mkfs.ext4 -q -F -O meta_bg,^resize_inode", false, false},
    {"ext4 without flex groups", "mkfs.ext4 -q -F -O ^flex_bg", false, false},
    {"ext4 with two superblocks", "mkfs.ext4 -q -F -O sparse_super2", false, false},
    {"ext4 with a stored seed", "mkfs.ext4 -q -F -O metadata_csum_seed", false, false},
    {"ext3", "mkfs.ext3 -q -F", false, false},
    {"ext2", "mkfs.ext2 -q -F", false, false},
    {"ext4 with inline data", "mkfs.ext4 -q -F -O inline_data", false, true},
    {"ext4 of clusters", "mkfs.ext4 -q -F -O bigalloc", false, true},
    {"FAT32", "mkfs.fat -F 32 -s 1", true, false},
    {"FAT16", "mkfs.fat -F 16", true, false},
    {"FAT12", "mkfs.fat -F 12 -s 16", true, false},
};

/* Source tree, volume of one kind with it, and what it shall be after the changes. */
static void prepare(const char *w, size_t k) {
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && rm -rf * && mkdir -p src/etc 'src/many of them' && i=0 && while [ $i -lt %d ]; "
        "do head -c $((i * 97 %% 9000)) /dev/urandom > \"src/many of them/File number $i with a "
        "long name.txt\"; i=$((i+1)); done && head -c 700000 /dev/urandom > src/kernel && echo one "
        "> src/etc/fstab && head -c 1500000 /dev/urandom > new && echo small > small && truncate "
        "-s %dM a.img && %s a.img >/dev/null",
        w, kinds[k].fat ? 40 : 300, kinds[k].fat && strstr(kinds[k].make, "12") ? 16 : 64,
        kinds[k].make));
    CU_ASSERT_TRUE_FATAL(
        kinds[k].fat ? runs(0, "cd '%s' && mcopy -s -i a.img src/* ::", w)
                     : runs(0,
                            "cd '%s' && ln -s /etc src/conf && ln src/etc/fstab src/etc/other && "
                            "mkdir m && mount -o loop a.img m && cp -a src/. m/ && umount m",
                            w));
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && cp -a src want && cp new want/kernel && mkdir -p 'want/a new/folder' && cp "
        "small 'want/a new/folder/with a file' && rm 'want/many of them/File number 7 with a long "
        "name.txt' && i=0 && while [ $i -lt 12 ]; do cp small \"want/many of them/one more, number "
        "$i\"; i=$((i+1)); done",
        w));
    if (!kinds[k].fat)
        CU_ASSERT(runs(
            0, "cd '%s' && rm want/etc/other && cp small want/etc/other && cp small want/etc/hosts",
            w));
}

/* The files of two folders are equal; names and content only. */
static bool same_files(const char *w, const char *other) {
    return runs(0, "cd '%s' && diff -r --no-dereference -x lost+found want '%s'", w, other);
}

static void tools_accept_what_was_amended(void) {
    const char *w = test_folder("amend");
    size_t changed = 0, refused = 0;
    for (size_t k = 0; k < sizeof kinds / sizeof *kinds; k++) {
        prepare(w, k);
        struct outcome o = run_shell(
            "cd '%s' && set -- && i=0 && while [ $i -lt 12 ]; do set -- \"$@\" \":many of them/one "
            "more, number $i=small\"; i=$((i+1)); done && '%s' amend a.img :kernel=new ':a "
            "new/folder/with a file=small' ':~many of them/File number 7 with a long name.txt' %s "
            "\"$@\" -o b.img",
            w, MOSAICUM_PROGRAM, kinds[k].fat ? "" : ":etc/other=small :conf/hosts=small");
        if (o.status != (kinds[k].refused ? 2 : 0))
            fprintf(stderr, "\n%s: %s%s\n", kinds[k].name, o.out, o.err);
        CU_ASSERT_EQUAL(o.status, kinds[k].refused ? 2 : 0);
        CU_ASSERT_EQUAL(exists(path_in(w, "b.img")), !kinds[k].refused);
        outcome_free(&o);
        /* read by us, changed or not */
        CU_ASSERT(runs(0,
                       "cd '%s' && '%s' -q take a.img : -o a.tar && mkdir t && tar -xf a.tar -C t "
                       "--strip-components=0 && diff -r --no-dereference -x lost+found src t",
                       w, MOSAICUM_PROGRAM));
        refused += kinds[k].refused;
        if (kinds[k].refused)
            continue;
        changed++;
        CU_ASSERT(runs(0, "cd '%s' && %s b.img", w,
                       kinds[k].fat ? "$JUDGE fsck.fat -n" : "$JUDGE e2fsck -fn"));
        if (kinds[k].fat) {
            CU_ASSERT(runs(0, "cd '%s' && mkdir out && mcopy -s -i b.img '::*' out/", w));
            CU_ASSERT(same_files(w, "out"));
        } else {
            CU_ASSERT(runs(0, "cd '%s' && mount -o loop,ro b.img m", w));
            CU_ASSERT(same_files(w, "m"));
            CU_ASSERT(runs(0, "cd '%s' && umount m", w));
        }
        CU_ASSERT(runs(1, "cd '%s' && '%s' compare a.img b.img", w, MOSAICUM_PROGRAM));
    }
    proved("volumes made by others, read and amended",
           "%zu kinds: checked and mounted, every file as expected; %zu kinds refused as stated; "
           "all %zu read back equal",
           changed, refused, changed + refused);
}

/* A kernel writes into what we built; our readers see what it sees. */
static void we_read_what_a_kernel_wrote(void) {
    const char *w = test_folder("kernel-wrote");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 512 MiB}}}\n"
        "layout:\n  card:\n    regions:\n      root: {at: 0 B, size: 512 MiB, volume: {kind: "
        "ext4, fills: {base: {folder: base}}}}\n");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir base m t && cp -a '%s/root'/usr base/ && find base -type l -lname '/*' "
        "-delete && '%s' --no-cache -q build && mv out/curlew/card.img a.img && mount -o loop "
        "a.img m && "
        "cd m && mkdir -p deep/er/and/deeper && i=0 && while [ $i -lt 3000 ]; do echo $i > "
        "deep/name-$i-of-many; i=$((i+1)); done && rm deep/name-1*-of-many && rm -rf usr/share/doc "
        "&& mkdir -p usr/bin && ln deep/name-2-of-many hard && ln -s hard soft && mknod -m 600 "
        "dev c 5 1 && mkfifo pipe && truncate -s 5G sparse && printf end | dd of=sparse bs=1M "
        "seek=4000 conv=notrunc status=none && fallocate -l 4M unwritten && chown 12345:70000 hard "
        "&& chmod 6755 hard && touch -d '2040-05-06 07:08:09.123' hard && cd .. && "
        "python3 -c \"import os; os.setxattr('m/hard','user.note',b'n'*700); "
        "os.setxattr('m/pipe','trusted.x',b'1'); os.setxattr('m/deep','security.selinux',b's')\" "
        "&& sync && umount m",
        w, peers_cache(), MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && '%s' -q take a.img : -o a.tar.zst && tar --xattrs "
                              "'--xattrs-include=*' --sparse -xpf a.tar.zst -C t && mount -o "
                              "loop,ro a.img m",
                              w, MOSAICUM_PROGRAM));
    size_t n = compare_folders(keep(path_in(w, "m")), keep(path_in(w, "t")));
    CU_ASSERT(runs(0, "umount '%s/m'", w));
    CU_ASSERT(n > 3000);
    CU_ASSERT(runs(
        0,
        "cd '%s' && '%s' -q amend a.img :deep/name-2-of-many=mosaicum.yaml "
        ":deep/er/new=mosaicum.yaml :~deep/name-20-of-many -o b.img && $JUDGE e2fsck -fn b.img "
        "&& test $('%s' compare a.img b.img | grep -c '/deep\\|/hard') = 4",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    proved("what a kernel wrote into our ext4, read by us",
           "%zu entries equal in type, owner, mode, time, size, content, target, device, links and "
           "extended attributes",
           n);
}

/* ---- booting ---- */

static void write_card_board(const char *w, const char *table) {
    char text[3000];
    snprintf(text, sizeof text,
             CARD_BOARD
             "  kernel: {file: pieces/zImage, license: GPL-2.0-only, cpu: arm}\n"
             "loader: {dialect: u-boot, version: \"2023.01\"}\n"
             "boot: {via: script, entries: {main: {kernel: kernel, arguments: {root: <root>, "
             "console: <console>}}}}\n"
             "layout:\n  card:\n    table: {kind: gpt%s}\n    regions:\n"
             "      first: {stage: first}\n"
             "      boot: {number: 1, size: 48 MiB, volume: {kind: fat32, label: BOOT, fills: "
             "{boot: {made: boot}}}}\n"
             "      root: {number: 2, size: rest, volume: {kind: ext4, label: root}}\n",
             table);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "mkdir -p '%s/pieces' && cp "
             "'%s/sunxi/usr/lib/u-boot/orangepi_plus/u-boot-sunxi-with-spl.bin' "
             "'%s/pieces/first.bin' && cp '%s/demo/saltmarsh/pieces/dunlin-zImage' "
             "'%s/pieces/zImage'",
             w, peers_cache(), w, MOSAICUM_SOURCE, w));
}

static bool card_boots(const char *image) {
    struct machine *m = machine_start("card board", image, "");
    bool ok = machine_expect(m, "U-Boot SPL", 60) &&
              machine_expect(m, "Found U-Boot script /boot.scr", 90) &&
              machine_expect(m, "Entry main", 20) && machine_expect(m, "Starting kernel", 60);
    machine_stop(m);
    return ok;
}

/* A ROM that reads its first stage where a GPT usually has its entries. */
static void a_rom_starts_from_a_gpt(void) {
    static const char *const tables[] = {", partition-entries: 56",
                                         ", partition-entries-at: 1 MiB"};
    const char *w = test_folder("rom");
    for (size_t i = 0; i < 2; i++) {
        write_card_board(w, tables[i]);
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && rm -rf out && '%s' --no-cache -q build && sfdisk "
                                  "--verify out/curlew/card.img | grep -q 'No errors'",
                                  w, MOSAICUM_PROGRAM));
        CU_ASSERT_TRUE(card_boots(path_in(w, "out/curlew/card.img")));
    }
    write_card_board(w, "");
    CU_ASSERT(runs(1, "cd '%s' && '%s' --no-cache build | grep -q 'partition-entries: 56' && false",
                   w, MOSAICUM_PROGRAM));
    write_card_board(w, tables[0]);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && rm -rf out && '%s' --no-cache -q build && '%s' -q amend "
                              "out/curlew/card.img boot:kernel=pieces/zImage "
                              "boot:notes.txt=mosaicum.yaml -o new.img && fsck.fat -V >/dev/null "
                              "2>&1; test -f new.img",
                              w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(card_boots(path_in(w, "new.img")));
    proved("a card that its board's ROM starts from",
           "first stage at 8 KiB under a GPT of 56 entries, of 128 moved ones, and amended: ROM, "
           "first stage, loader, our script, kernel started");
}

/* A disk put together with the operating system's tools, its boot files exchanged by us. */
static void an_amended_disk_boots(void) {
    const char *w = test_folder("foreign");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && '%s' --no-cache -q -w '%s/demo/saltmarsh' build curlew+bench --out out && "
        "truncate -s 100M disk && printf 'label: gpt\\nstart=2048, size=102400, bootable\\n"
        "start=104448, size=98304\\n' | sfdisk -q disk && truncate -s 50M a && mkfs.fat -F 32 a "
        ">/dev/null && printf 'not a script' > boot.scr && printf 'not a kernel' > kernel && mcopy "
        "-i a boot.scr kernel :: && dd if=a of=disk bs=1M seek=1 conv=notrunc status=none && "
        "c=out/curlew+bench/card.img && for f in kernel main.dtb boot.scr; do '%s' -q take $c "
        "boot:$f -o ours.$f; done && '%s' -q amend disk 1:kernel=ours.kernel "
        "1:main.dtb=ours.main.dtb 1:boot.scr=ours.boot.scr -o new",
        w, MOSAICUM_PROGRAM, MOSAICUM_SOURCE, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    /* outside of the partition nothing changed */
    CU_ASSERT(runs(0, "cd '%s' && cmp -n 1048576 disk new && cmp -i 53477376 disk new", w));
    struct machine *m = machine_start("arm64", path_in(w, "new"), "virtio-blk-pci");
    bool ok = machine_expect(m, "Found U-Boot script /boot.scr", 60) &&
              machine_expect(m, "Entry main", 20) &&
              machine_expect(m, "stand-in kernel: started", 30);
    machine_stop(m);
    CU_ASSERT_TRUE(ok);
    proved("a disk made with the system's tools, amended",
           "kernel, tree and script exchanged; all bytes outside of the partition the same; the "
           "real loader starts it");
}

/* ---- limits ---- */

static const char *const volume_kinds[] = {"ext4", "fat16", "fat32", "fat12"};

/* A board with one region of `size` bytes and a folder of a seed's files. */
static void write_sized_board(const char *w, const char *kind, uint64_t size) {
    char text[600];
    snprintf(text, sizeof text,
             "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 256 MiB}}}\n"
             "layout:\n  card:\n    table: {kind: gpt}\n    gap-note: 1 GiB\n    regions:\n      "
             "root: {number: 1, size: %llu B, volume: {kind: %s, fills: {base: {folder: base}}}}\n",
             (unsigned long long)size, kind);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
}

static void write_files(const char *w, uint64_t seed) {
    static uint8_t bytes[200000];
    size_t count = 1 + random_below(&seed, 40);
    for (size_t i = 0; i < count; i++) {
        size_t length = random_below(&seed, random_below(&seed, 6) ? 9000 : sizeof bytes);
        for (size_t k = 0; k < length; k++)
            bytes[k] = (uint8_t)(1 + random_below(&seed, 255));
        write_file(path_in(w, "base/log/file-%02zu.txt", i), bytes, length);
    }
}

static int check_size(const char *w, const char *kind, uint64_t size) {
    write_sized_board(w, kind, size);
    struct outcome o = run_shell("'%s' --no-cache -q -w '%s' check", MOSAICUM_PROGRAM, w);
    int status = o.status;
    CU_ASSERT(status == 0 || strstr(o.out, "volume.does-not-fit") != NULL);
    outcome_free(&o);
    return status;
}

/* The smallest region that check accepts is built; a sector less is refused and leaves nothing. */
static void limits_are_exact(void) {
    enum { SECTOR = 512 };
    size_t count = peers_all() ? 200 : 8;
    for (size_t i = 0; i < count; i++) {
        const char *w = test_folder("limit"), *kind = volume_kinds[i % 4];
        uint64_t low = 64, high = strcmp(kind, "fat12") == 0 ? 32 << 11 : 80 << 11;
        write_files(w, i + 1);
        CU_ASSERT_EQUAL_FATAL(check_size(w, kind, high * SECTOR), 0);
        while (high - low > 1) {
            uint64_t middle = (low + high) / 2;
            if (check_size(w, kind, middle * SECTOR) == 0)
                high = middle;
            else
                low = middle;
        }
        write_sized_board(w, kind, high * SECTOR);
        CU_ASSERT(
            runs(0, "'%s' --no-cache -q -w '%s' build && rm -r '%s/out'", MOSAICUM_PROGRAM, w, w));
        write_sized_board(w, kind, low * SECTOR);
        CU_ASSERT(runs(1, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
        CU_ASSERT(!exists(path_in(w, "out/curlew")) && !exists(path_in(w, "out/curlew.part")));
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' check | grep -q ': it needs '",
                       MOSAICUM_PROGRAM, w));
        remove_folder(w);
    }
    proved(
        "the smallest region that check accepts",
        "%zu cases of 4 file systems: it builds; one sector less is refused with what is missing, "
        "and nothing appears",
        count);
}

/* The loader lists what we wrote. */
static void the_loader_lists_volumes(void) {
    size_t count = peers_all() ? 20 : 3, listed = 0;
    for (size_t i = 0; i < count; i++) {
        const char *w = test_folder("listed"), *kind = volume_kinds[i % 3];
        write_files(w, 1000 + i);
        write_sized_board(w, kind, 48 << 20);
        CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
        struct machine *m =
            machine_start("arm64", path_in(w, "out/curlew/card.img"), "virtio-blk-pci");
        bool ok = machine_expect(m, "stop autoboot", 40);
        machine_type(m, "\003\003\003");
        ok = ok && machine_expect(m, "=> ", 20);
        machine_type(m, "virtio scan; ls virtio 0:1 /log; echo that is all\r");
        ok = ok && machine_expect(m, "echo that is all", 20);
        for (size_t k = 0; ok && exists(path_in(w, "base/log/file-%02zu.txt", k)); k++) {
            ok = machine_expect(m, keep(path_in("", "file-%02zu.txt", k)) + 1, 20);
            listed += ok;
        }
        ok = ok && machine_expect(m, "that is all", 20);
        machine_stop(m);
        CU_ASSERT_TRUE(ok);
        remove_folder(w);
    }
    proved("volumes listed by the real loader", "%zu volumes (ext4, FAT16, FAT32), %zu files",
           count, listed);
}

SUITE(images_suite, {"amended volumes", tools_accept_what_was_amended},
      {"a kernel wrote", we_read_what_a_kernel_wrote}, {"a ROM and a GPT", a_rom_starts_from_a_gpt},
      {"an amended disk boots", an_amended_disk_boots}, {"limits", limits_are_exact},
      {"the loader lists", the_loader_lists_volumes});
