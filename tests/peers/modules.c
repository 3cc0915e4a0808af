/* Modules as the system's own tool would load them, and kernels that find their root by them. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

/* ---- what a module needs ---- */

enum { AT_ONCE = 12 };

/* A board whose ramdisks take one module each, out of all modules of a kernel. */
static void write_board(const char *w, char *const *names, size_t count) {
    char *text = NULL;
    size_t length = 0;
    FILE *f = open_memstream(&text, &length);
    fputs("mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm64\n  media: {card: {kind: sd, size: "
          "2 GiB}}\npieces:\n  modules: {file: pieces/modules.tar, license: GPL-2.0-only}\n",
          f);
    for (size_t i = 0; i < count; i++)
        fprintf(f, "  early-%zu: {ramdisk: {modules: {in: modules, names: [%s]}}}\n", i, names[i]);
    fputs("layout: {card: {table: {kind: gpt}, regions: {\n", f);
    for (size_t i = 0; i < count; i++)
        fprintf(f, "  r%zu: {number: %zu, size: 128 MiB, piece: early-%zu},\n", i, i + 1, i);
    fputs("}}}\n", f);
    fclose(f);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
    free(text);
}

/* The lists of paths of both, one a line: ours and what modprobe says would be loaded.  Of several
 * lines of soft needs for one module it follows only the first; they are put into one before. */
static size_t compare_lists(const char *w, const char *root, char *const *names, size_t count) {
    size_t same = 0;
    write_board(w, names, count);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    for (size_t i = 0; i < count; i++)
        same += runs(
            0,
            "cd '%s' && rm -f part && '%s' -q take out/curlew/card.img r%zu -o part && gzip -dc < "
            "part 2>/dev/null | cpio -i --quiet --to-stdout load-order 2>/dev/null | sort > ours "
            "&& "
            "v=$(ls '%s/lib/modules') && modprobe -d '%s' -S $v --show-depends '%s' > listed && "
            "sed "
            "-n 's,^insmod .*\\(/lib/modules/[^ ]*\\).*,\\1,p' listed | sort -u > theirs && diff "
            "theirs ours",
            w, MOSAICUM_PROGRAM, i, root, root, names[i]);
    return same;
}

static void what_a_module_needs(void) {
    static const struct {
        const char *name, *from, *always;
        size_t sample, all;
    } kernels[] = {{"small arm64", "kernel", "btrfs nfsd cifs", 12, 360},
                   {"full arm64", "full", "ext4 nvme mmc_block vfat", 4, 72},
                   {"32-bit arm", "arm", "ext4 sunxi_mmc mmc_block", 4, 72}};
    size_t compared = 0, same = 0;
    for (size_t k = 0; k < sizeof kernels / sizeof *kernels; k++) {
        const char *w = keep(test_folder("modules")), *root = keep(path_in(w, "root"));
        CU_ASSERT_TRUE_FATAL(runs(
            0,
            "mkdir -p '%s' '%s/pieces' && cp -r '%s/%s/lib' '%s/' && depmod -b '%s' $(ls "
            "'%s/lib/modules') && awk '/^softdep/ {n = $2; $1 = $2 = \"\"; all[n] = all[n] $0} END "
            "{for "
            "(n in all) print \"softdep\", n, all[n]}' '%s'/lib/modules/*/modules.softdep > "
            "'%s/soft' "
            "&& cp '%s/soft' '%s'/lib/modules/*/modules.softdep && tar -C '%s' --owner=0 --group=0 "
            "-cf '%s/pieces/modules.tar' lib",
            root, w, peers_cache(), kernels[k].from, root, root, root, root, w, w, root, root, w));
        struct outcome o =
            run_shell("(echo %s | tr ' ' '\\n' && sed 's,:.*,,; s,.*/,,; s,[.]ko.*,,' "
                      "'%s'/lib/modules/*/modules.dep | shuf "
                      "--random-source='%s/pieces/modules.tar') | head -n %zu",
                      kernels[k].always, root, w, peers_all() ? kernels[k].all : kernels[k].sample);
        char *names[AT_ONCE], *p = o.out;
        for (size_t n = 0; *p;) {
            char *end = strchr(p, '\n');
            *end = 0;
            names[n++] = p;
            p = end + 1;
            if (n < AT_ONCE && *p)
                continue;
            same += compare_lists(w, root, names, n);
            compared += n;
            n = 0;
        }
        outcome_free(&o);
        remove_folder(w);
    }
    CU_ASSERT_EQUAL(same, compared);
    proved("what a module needs",
           "%zu modules of three kernels: exactly what modprobe --show-depends lists", compared);
}

/* ---- kernels that have their drivers as modules ---- */

#define BUSYBOX_FILES                                                                              \
    "      files:\n"                                                                               \
    "        all: {in: rootfs, path: bin/busybox, to: /bin/busybox}\n"                             \
    "        sh: {link: busybox, to: /bin/sh}\n"                                                   \
    "        mount: {link: busybox, to: /bin/mount}\n"                                             \
    "        cat: {link: busybox, to: /bin/cat}\n"                                                 \
    "        sleep: {link: busybox, to: /bin/sleep}\n"                                             \
    "        insmod: {link: busybox, to: /bin/insmod}\n"                                           \
    "        switch: {link: busybox, to: /bin/switch_root}\n"

static void a_root_behind_nvme_and_ext4_modules(void) {
    const char *w = keep(test_folder("nvme"));
    make_real_workspace(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && cat '%s'/full/boot/vmlinuz-* | gzip -9n > pieces/Image.gz && rm pieces/Image "
        "&& "
        "tar "
        "-C '%s/full' --numeric-owner --owner=0 --group=0 -cf pieces/modules.tar lib/modules && "
        "sed -i -e '/^      env: /d; /^  environments:/d; /^    main: {base: defaults/d; "
        "s/pieces\\/Image/pieces\\/Image.gz/' -e 's/^      tree: "
        "main/&\\n      ramdisk: early/' -e '/^  rootfs:/r /dev/stdin' boards/curlew.yaml << "
        "'END'\n"
        "  modules: {file: pieces/modules.tar, license: GPL-2.0-only}\n"
        "  early:\n    ramdisk:\n      init: yes\n"
        "      modules: {in: modules, names: [nvme, ext4]}\n" BUSYBOX_FILES "END\n",
        w, peers_cache(), peers_cache()));
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    CU_ASSERT_TRUE(ok && machine_expect(m, "Starting kernel", 60) &&
                   machine_expect(m, "marker-root /dev/nvme0n1p2 / ext4", 120));
    machine_stop(m);
    proved("a root behind nvme and ext4 modules",
           "the full arm64 kernel of Debian: modules with their soft needs, root mounted");
    remove_folder(w);
}

static void a_root_on_a_card_behind_modules(void) {
    const char *w = keep(test_folder("card-modules"));
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "files/sbin/init"),
               "#!/bin/sh\n/bin/busybox mount -t proc proc /proc\necho marker-root $(/bin/busybox "
               "grep ' / ' /proc/mounts)\n/bin/busybox poweroff -f\n");
    write_text(path_in(w, "boards/curlew.yaml"), CARD_BOARD
               "  kernel: {file: pieces/kernel, license: GPL-2.0-only, cpu: arm}\n"
               "  tree: {file: pieces/tree, license: GPL-2.0-only}\n"
               "  rootfs: {file: pieces/rootfs.tar, license: GPL-2.0-only}\n"
               "  modules: {file: pieces/modules.tar, license: GPL-2.0-only}\n"
               "  early:\n    ramdisk:\n      init: yes\n"
               "      modules: {in: modules, names: [sunxi-mmc, mmc_block, ext4]}\n" BUSYBOX_FILES
               "loader: {dialect: u-boot, version: \"2023.01\"}\n"
               "tree: {blobs: {main: {piece: tree}}}\n"
               "boot:\n  via: script\n  entries:\n    main: {kernel: kernel, tree: main, ramdisk: "
               "early, arguments: {root: <root>, console: \"ttyS0,115200\", maxcpus: 1}, flags: "
               "[rootwait, quiet]}\n"
               "layout:\n  card:\n    table: {kind: gpt, entries: 56}\n    regions:\n"
               "      first: {stage: first}\n"
               "      boot: {number: 1, size: 48 MiB, volume: {kind: fat32, label: BOOT, fills: "
               "{boot: {made: boot}}}}\n"
               "      root: {number: 2, size: rest, volume: {kind: ext4, label: root, fills: {all: "
               "{archive: rootfs}}}}\n");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && c='%s' && mkdir -p pieces files/bin files/dev files/proc && cp "
        "$c/sunxi/usr/lib/u-boot/orangepi_plus/u-boot-sunxi-with-spl.bin pieces/first.bin && cp "
        "$c/arm/boot/vmlinuz-* pieces/kernel && cp "
        "$c/arm/usr/lib/linux-image-*/sun8i-h3-orangepi-pc.dtb pieces/tree && chmod 755 "
        "files/sbin/init && cp $c/arm/bin/busybox files/bin/ && ln -s busybox files/bin/sh && "
        "mknod "
        "-m 600 files/dev/console c 5 1 && tar --owner=0 --group=0 -cf pieces/rootfs.tar -C files "
        ". "
        "&& tar -C $c/arm --owner=0 --group=0 -cf pieces/modules.tar lib/modules && '%s' "
        "--no-cache -q build",
        w, peers_cache(), MOSAICUM_PROGRAM));
    struct machine *m = machine_start("card board", path_in(w, "out/curlew/card.img"), "");
    CU_ASSERT_TRUE(machine_expect(m, "Found U-Boot script /boot.scr", 90) &&
                   machine_expect(m, "Starting kernel", 60) &&
                   machine_expect(m, "marker-root /dev/mmcblk0p2 / ext4", 180));
    machine_stop(m);
    proved("a root on a card behind modules",
           "the card board: its card's driver and ext4 as modules, from its ROM to /sbin/init");
    remove_folder(w);
}

SUITE(modules_suite, {"what a module needs", what_a_module_needs},
      {"a root behind nvme and ext4 modules", a_root_behind_nvme_and_ext4_modules},
      {"a root on a card behind modules", a_root_on_a_card_behind_modules});
