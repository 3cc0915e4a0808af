/* Modules as the system's own tool would load them, and kernels that find their root by them. */
#include "peers.h"

#include "linux/module-index.h"

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
                   {"full arm64", "full", "ext4 nvme mmc_block vfat", 0, 72},
                   {"32-bit arm", "arm", "ext4 sunxi_mmc mmc_block", 4, 72}};
    size_t compared = 0, same = 0, tried = 0;
    for (size_t k = 0; k < sizeof kernels / sizeof *kernels; k++) {
        if (!kernels[k].sample && !peers_all())
            continue;
        tried++;
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
           "%zu modules of %zu kernels: exactly what modprobe --show-depends lists", compared,
           tried);
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
        "      modules: {in: modules, names: [nvme, ext4]}\n" BUSYBOX_FILES "END\n"
        "sed -i s/-cloud-arm64/-arm64/ boards/curlew.yaml kernel/curlew.config\n",
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

void make_card_workspace(const char *w) {
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
               "layout:\n  card:\n    table: {kind: gpt, partition-entries: 56}\n    regions:\n"
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
}

static void a_root_on_a_card_behind_modules(void) {
    const char *w = keep(test_folder("card-modules"));
    make_card_workspace(w);
    struct machine *m = machine_start("card board", path_in(w, "out/curlew/card.img"), "");
    CU_ASSERT_TRUE(machine_expect(m, "Found U-Boot script /boot.scr", 90) &&
                   machine_expect(m, "Starting kernel", 60) &&
                   machine_expect(m, "marker-root /dev/mmcblk0p2 / ext4", 180));
    machine_stop(m);
    proved("a root on a card behind modules",
           "the card board: its card's driver and ext4 as modules, from its ROM to /sbin/init");
    remove_folder(w);
}

/* ---- an index of our own ---- */

/* The values of an index file, a line each, sorted; those of modules.dep.bin with their needs
 * sorted, too, for more than one order of loading is right. */
static void list_index(struct core *c, const char *path, struct mos_buf *out) {
    struct mos_vec values = mos_vec_make(c->ctx.arena, sizeof(struct mos_trie_value));
    size_t length;
    char *bytes = read_whole(path, &length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(bytes);
    CU_ASSERT_TRUE_FATAL(mos_trie_read(c->ctx.arena, (const uint8_t *)bytes, length, &values));
    for (size_t i = 0; i < values.count; i++) {
        const struct mos_trie_value *v = mos_vec_at(&values, i);
        mos_buf_printf(out, "%s %s\n", v->key, v->value);
    }
    free(bytes);
}

/* All that both say, but for values that theirs has twice. */
static size_t compare_indexes(const char *w, const char *ours, const char *theirs) {
    static const char *const names[] = {"modules.dep.bin", "modules.alias.bin",
                                        "modules.symbols.bin", "modules.builtin.bin",
                                        "modules.builtin.alias.bin"};
    size_t values = 0;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        struct core c;
        core_start(&c);
        struct mos_buf a = {.arena = c.ctx.arena}, b = {.arena = c.ctx.arena};
        list_index(&c, path_in(ours, "%s", names[i]), &a);
        list_index(&c, path_in(theirs, "%s", names[i]), &b);
        write_file(path_in(w, "a"), a.data, a.length);
        write_file(path_in(w, "b"), b.data, b.length);
        CU_ASSERT_TRUE(runs(0,
                            "cd '%s' && for f in a b; do tr ' ' '\\001' < $f | %s sort -u > $f.s; "
                            "done && cmp a.s b.s",
                            w,
                            i ? ""
                              : "while IFS=$(printf '\\001') read -r k l; do echo $k $(echo \"$l\" "
                                "| tr '\\001' '\\n' | sort); done |"));
        for (size_t k = 0; k < a.length; k++)
            values += a.data[k] == '\n';
        core_end(&c);
    }
    return values;
}

static void an_index_is_what_the_system_makes(void) {
    static const char *const kernels[] = {"kernel", "arm", "full"};
    size_t values = 0, asked = 0, count = peers_all() ? 3 : 2;
    for (size_t k = 0; k < count; k++) {
        const char *w = keep(test_folder("index"));
        write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
        write_text(
            path_in(w, "boards/curlew.yaml"),
            "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 2 GiB}}}\n"
            "pieces: {linux: {file: linux.tar, license: GPL-2.0-only}}\n"
            "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, "
            "volume: {kind: ext4, label: root, fills: {linux: {archive: linux}, index: {made: "
            "module-index}}}}}}}\n");
        CU_ASSERT_TRUE_FATAL(runs(
            0,
            "cd '%s' && tar -C '%s/%s' --owner=0 --group=0 -cf linux.tar lib/modules && '%s' "
            "--no-cache -q build && '%s' -q take out/curlew/card.img root:/ -o all.tar && mkdir "
            "ours "
            "theirs && tar -C ours -xf all.tar && tar -C theirs -xf linux.tar && v=$(ls "
            "ours/lib/modules) && depmod -b theirs $v && mv ours/lib/modules/$v ours/lib/modules/v "
            "&& mv theirs/lib/modules/$v theirs/lib/modules/v && ln -s v ours/lib/modules/$v && ln "
            "-s v theirs/lib/modules/$v",
            w, peers_cache(), kernels[k], MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
        const char *ours = keep(path_in(w, "ours/lib/modules/v")),
                   *theirs = keep(path_in(w, "theirs/lib/modules/v"));
        values += compare_indexes(w, ours, theirs);
        CU_ASSERT_TRUE(runs(0,
                            "cd '%s' && for f in alias symbols softdep devname; do for x in ours "
                            "theirs; do grep -v '^#' $x/lib/modules/v/modules.$f | sort -u > $x.t; "
                            "done; cmp ours.t theirs.t || exit 1; done",
                            w));
        /* the module loader itself, with the one and with the other */
        struct outcome o = run_shell(
            "cd '%s' && v=$(ls ours/lib/modules | grep -v ^v$) && sed 's,:.*,,; s,.*/,,; "
            "s,[.]ko.*,,' "
            "ours/lib/modules/v/modules.dep > names && awk '$1 == \"alias\" {print $2}' "
            "ours/lib/modules/v/modules.alias | sort -u | shuf --random-source=linux.tar -n %d > "
            "aliases && for x in ours theirs; do xargs -n 200 modprobe -d $PWD/$x -S $v -a "
            "--show-depends < names | sed \"s,$PWD/$x,,\" | sort > $x.d && xargs -n 200 modprobe "
            "-d "
            "$PWD/$x -S $v -R -a < aliases | uniq > $x.a || exit 1; done; cmp ours.d theirs.d && "
            "cmp "
            "ours.a theirs.a && cat names aliases | wc -l",
            w, peers_all() ? 100000 : 3000);
        CU_ASSERT_EQUAL(o.status, 0);
        asked += (size_t)strtoul(o.out, NULL, 10);
        outcome_free(&o);
        remove_folder(w);
    }
    CU_ASSERT(values > (peers_all() ? 50000 : 30000) && asked > (peers_all() ? 5000 : 3000));
    proved("an index of modules",
           "%zu kernels: %zu values as the system's own tool makes them, %zu names asked alike",
           count, values, asked);
}

/* The kernel asks for a module by a name that only the index knows, of kmod and of busybox. */
static void a_real_kernel_finds_modules_by_our_index(void) {
    const char *w = keep(test_folder("by-index"));
    make_real_workspace(w);
    write_text(path_in(w, "files/sbin/init"),
               "#!/bin/sh\nb=/bin/busybox\n$b mount -t proc proc /proc\n$b mount -t sysfs sys "
               "/sys\n$b mount -t devtmpfs dev /dev\n"
               "$b mount -t vfat -o ro /dev/nvme0n1p1 /mnt\n"
               "echo marker-kernel $($b grep -c '^vfat ' /proc/modules) $([ -f /mnt/boot.scr ] && "
               "echo there)\n"
               "/sbin/modprobe fs-btrfs\n"
               "echo marker-kmod $($b grep -c '^btrfs ' /proc/modules)\n"
               "$b modprobe -r btrfs\n$b modprobe fs-xfs\n"
               "echo marker-busybox $($b grep -c -e '^btrfs ' -e '^xfs ' /proc/modules)\n"
               "echo marker-end\n$b poweroff -f\n");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && r='%s/root' && mkdir -p files/lib/aarch64-linux-gnu && cp -L $r/bin/kmod "
        "files/sbin/modprobe && cp -L $r/lib/ld-linux-aarch64.so.1 files/lib/ && for l in libc "
        "liblzma libcrypto libzstd libdl libpthread; do find $r -name \"$l.so.*\" -exec cp -L {} "
        "files/lib/aarch64-linux-gnu/ ';'; done && rm -f files/mods/* && tar --numeric-owner "
        "--owner=0 --group=0 -czf pieces/rootfs.tar.gz -C files . && tar -C '%s/kernel' "
        "--numeric-owner --owner=0 --group=0 -cf pieces/modules.tar lib/modules && sed -i -e "
        "'/^  rootfs:/a\\  modules: {file: pieces/modules.tar, license: GPL-2.0-only}' -e "
        "'s/^ *base: {archive: rootfs}.*/&\\n            modules: {archive: modules, except: "
        "[boot]}\\n            index: {made: module-index}/' boards/curlew.yaml",
        w, peers_cache(), peers_cache()));
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    CU_ASSERT_TRUE(
        ok && machine_expect(m, "Starting kernel", 60) &&
        machine_expect(m, "marker-kernel 1 there", 60) && machine_expect(m, "marker-kmod 1", 60) &&
        machine_expect(m, "marker-busybox 1", 60) && machine_expect(m, "marker-end", 10));
    machine_stop(m);
    proved("a kernel's modules by our index",
           "request_module of a real kernel by kmod's binary files, busybox by the texts");
    remove_folder(w);
}

SUITE(modules_suite, {"an index is what the system makes", an_index_is_what_the_system_makes},
      {"a real kernel finds modules by our index", a_real_kernel_finds_modules_by_our_index},
      {"what a module needs", what_a_module_needs},
      {"a root behind nvme and ext4 modules", a_root_behind_nvme_and_ext4_modules},
      {"a root on a card behind modules", a_root_on_a_card_behind_modules});
