/* The boot chain on real loaders: trees chosen at boot, stored environments, signatures, counted
 * starts. */
#include "peers.h"

#include "boot/parcel.h"
#include "loaders/u-boot/lock.h"

#include <stdlib.h>
#include <string.h>

static bool to_prompt(struct machine *m) {
    bool ok = machine_expect(m, "autoboot", 60);
    machine_type(m, "\003\003");
    machine_type(m, "\recho sy''nc\r");
    return ok && machine_expect(m, "\nsync", 20) && machine_expect(m, "\n=> ", 20);
}

static void edit_board(const char *w, const char *script) {
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && sed -i -e \"%s\" boards/curlew.yaml", w, script));
}

static void build(const char *w) {
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
}

/* ---- a choice of trees ---- */

static void a_variable_chooses_the_tree(void) {
    const char *w = keep(test_folder("trees"));
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && sed 's/Saltmarsh Curlew tide gauge/Saltmarsh Curlew of "
                              "the second revision/' tree/curlew.dts > tree/second.dts",
                              w));
    edit_board(w, "s/^    main: {base: tree.*/&\\n    second: {base: tree\\/second.dts}/; "
                  "s/^boot:/boot:\\n  trees: {variable: board_rev, values: {b: second}}/");
    build(w);
    for (int second = 0; second < 2; second++) {
        struct machine *m =
            machine_start("arm64", path_in(w, "out/curlew/card.img"), "virtio-blk-pci");
        bool ok = to_prompt(m);
        machine_type(m, second ? "setenv board_rev b; run bootcmd_virtio0\r"
                               : "run bootcmd_virtio0\r");
        ok = ok && machine_expect(m,
                                  second ? "model: Saltmarsh Curlew of the second revision"
                                         : "model: Saltmarsh Curlew tide gauge",
                                  30);
        CU_ASSERT_TRUE(ok);
        machine_stop(m);
    }
    proved("a tree chosen by a loader variable", "both trees, in the real loader");
}

/* ---- a stored environment ---- */

void make_flash_workspace(const char *w) {
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm64\n"
               "  ram: {main: {start: 0x40000000, sizes: [512 MiB]}}\n"
               "  held: {loader: {top: 40 MiB}}\n"
               "  media:\n"
               "    card: {kind: disk, size: 64 MiB, loader: virtio 0, kernel: vda}\n"
               "    flash: {kind: nor, size: 64 MiB, erase: 256 KiB, loader: sf 0}\n"
               "pieces:\n  kernel: {file: pieces/Image}\n"
               "tree: {blobs: {main: tree/curlew.dts}}\n"
               "loader:\n  dialect: u-boot\n  environments:\n"
               "    main: {base: none, size: 256 KiB, values: {bootdelay: 0}}\n"
               "boot:\n  via: environment\n  entries:\n    main: {kernel: kernel, tree: main, "
               "arguments: {root: <root>, quoted: 'a;b'}}\n"
               "layout:\n  flash: {regions: {env: {at: 0 B, size: 256 KiB, environment: main}}}\n"
               "  card:\n    table: {kind: gpt}\n    regions:\n"
               "      boot: {number: 1, size: 48 MiB, volume: {kind: fat32, label: BOOT, fills: "
               "{boot: {made: boot}}}}\n"
               "      root: {number: 2, size: rest, volume: {kind: ext4, label: root}}\n");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && mkdir -p pieces tree && zstd -dc "
                              "'%s/demo/saltmarsh/pieces/linux.tar.zst' | tar -xO ./boot/Image > "
                              "pieces/Image && cp '%s/demo/saltmarsh/tree/curlew.dts' "
                              "'%s/demo/saltmarsh/tree/tern64.dtsi' tree/",
                              w, MOSAICUM_SOURCE, MOSAICUM_SOURCE, MOSAICUM_SOURCE));
    build(w);
}

static void the_environment_comes_from_flash(void) {
    const char *w = keep(test_folder("flash"));
    make_flash_workspace(w);
    machine_with(NULL, keep(path_in(w, "out/curlew/flash.img")));
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "virtio-blk-pci");
    CU_ASSERT_TRUE(machine_expect(m, "Entry main", 60) &&
                   machine_expect(m, "stand-in kernel: started", 30) &&
                   machine_expect(m, "quoted=a;b", 20));
    machine_stop(m);
    int status;
    json_t *d = run_json(&status, "-w '%s' rehearse curlew", w);
    (void)d; /* its root is empty: the rehearsal says so, the stand-in does not look */
    CU_ASSERT_EQUAL(status, 1);
    json_decref(d);
    proved("an environment in flash", "the real loader boots from variables that we stored");
}

/* ---- signatures ---- */

/* The machine's own tree with our public key in it. */
static const char *tree_with_key(const char *folder) {
    struct core c;
    size_t length, tree_length;
    const char *problem, *to = keep(path_in(folder, "with-key.dtb"));
    core_start(&c);
    char *pem = read_whole(path_in(MOSAICUM_SOURCE, "demo/saltmarsh/keys/mast.pem"), &length);
    char *tree = read_whole(path_in(MOSAICUM_SOURCE, "tests/data/machine-arm64.dtb"), &tree_length);
    struct mos_dt *dt = mos_dt_read_blob(&c.ctx, "machine", tree, tree_length);
    struct mos_buf out = {.arena = c.ctx.arena};
    CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
    CU_ASSERT_TRUE_FATAL(mos_parcel_add_key(&c.ctx, dt, "mast", pem, length, &problem));
    mos_dt_write_blob(&c.ctx, dt, false, &out);
    write_file(to, out.data, out.length);
    free(pem);
    free(tree);
    core_end(&c);
    return to;
}

static bool boots_signed(const char *image, const char *tree, const char *expected) {
    machine_with(tree, NULL);
    struct machine *m = machine_start("arm64", image, "virtio-blk-pci");
    bool ok = to_prompt(m);
    machine_type(m, "run bootcmd_virtio0\r");
    ok = ok && machine_expect(m, expected, 30);
    machine_stop(m);
    return ok;
}

static void only_signed_parcels_start(void) {
    const char *w = keep(test_folder("signed")), *folder = keep(test_folder("signed-key"));
    const char *tree = tree_with_key(folder), *image = keep(path_in(w, "out/curlew/card.img"));
    size_t refused = 0, tried = peers_all() ? 40 : 3;
    uint64_t seed = 3;
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "mkdir -p '%s/keys' && cp '%s/demo/saltmarsh/keys/mast.pem' '%s/keys/'", w,
             MOSAICUM_SOURCE, w));
    edit_board(w, "s/via: script/via: parcel/");
    build(w);
    CU_ASSERT_TRUE(boots_signed(image, tree, "Bad Data Hash")); /* not signed at all */
    edit_board(w, "s/^boot:/boot:\\n  parcel: {key: keys\\/mast.pem}/");
    build(w);
    CU_ASSERT_TRUE(boots_signed(image, tree, "sha256,rsa2048:mast+ OK"));
    CU_ASSERT_TRUE(boots_signed(image, tree, "stand-in kernel: started"));
    size_t length;
    char *parcel = read_whole(path_in(w, "out/curlew/boot.parcel"), &length);
    static const char begin[] = "/\0/configurations/main", end[] = "/hash-1\0\0";
    const char *list = NULL;
    size_t list_length = 0;
    for (size_t i = 0; i + sizeof begin < length && !list; i++)
        list = memcmp(parcel + i, begin, sizeof begin) == 0 ? parcel + i : NULL;
    for (size_t i = 0; list && !list_length; i++)
        if (memcmp(list + i, end, sizeof end - 1) == 0)
            list_length = i + sizeof end;
    CU_ASSERT_TRUE(list_length > 40 && list_length < 400);
    const char *changed = keep(path_in(folder, "boot.parcel")),
               *to = keep(path_in(folder, "c.img"));
    for (size_t i = 0; i < tried; i++) { /* bytes that some node of the choice holds */
        struct core c;
        const char *problem, *names, *why;
        core_start(&c);
        struct mos_dt *keys = NULL;
        size_t tree_length, at;
        do /* this loader makes the list of what is signed itself; we read it, and are stricter */
            at = 56 + (size_t)random_below(&seed, length - 60);
        while (list && at >= (size_t)(list - parcel) && at < (size_t)(list - parcel) + list_length);
        char *bytes = read_whole(tree, &tree_length);
        keys = mos_dt_read_blob(&c.ctx, "keys", bytes, tree_length);
        parcel[at] ^= 0x04;
        struct mos_parcel *p = mos_parcel_read(&c.ctx, parcel, length, &problem);
        const struct mos_parcel_choice *x = p ? mos_parcel_choice(p, "main") : NULL;
        bool good =
            x && mos_parcel_check_choice(c.ctx.arena, p, x, keys, &why) == MOS_PARCEL_TRUSTED;
        for (size_t k = 0; good && k < p->parts.count; k++)
            good = mos_parcel_check_part(c.ctx.arena, mos_vec_at(&p->parts, k), &names);
        write_file(changed, parcel, length);
        CU_ASSERT_TRUE(runs(0, "rm -f '%s'; '%s' -q amend '%s' 'boot:boot.parcel=%s' -o '%s'", to,
                            MOSAICUM_PROGRAM, image, changed, to));
        bool starts = boots_signed(to, tree, good ? "stand-in kernel: started" : "did not start");
        CU_ASSERT_TRUE(starts);
        if (!starts)
            fprintf(stderr, "byte %zu of %zu is %s for us\n", at, length, good ? "good" : "bad");
        refused += !good && starts;
        parcel[at] ^= 0x04;
        free(bytes);
        core_end(&c);
    }
    free(parcel);
    proved(
        "a loader that requires signatures",
        "starts our signed parcel, not the unsigned one; %zu of %zu with a flipped bit refused by "
        "both, the others taken by both",
        refused, tried);
}

/* ---- counted starts on the board with a real ROM ---- */

static void write_counting_board(const char *w) {
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), CARD_BOARD
               "  kernel-a: {file: pieces/a, license: GPL-2.0-only, cpu: arm}\n"
               "  kernel-b: {file: pieces/b, license: GPL-2.0-only, cpu: arm}\n"
               "loader: {dialect: u-boot, version: \"2023.01\"}\n"
               "boot:\n  via: script\n  tries: 3\n  entries:\n"
               "    slot-a: {kernel: kernel-a, arguments: {root: <root>, panic: 10}}\n"
               "    slot-b: {kernel: kernel-b, arguments: {root: <root>, panic: 10}}\n"
               "system: {confirm: inittab}\n"
               "layout:\n  card:\n    table: {kind: gpt, partition-entries: 56}\n    regions:\n"
               "      first: {stage: first}\n"
               "      boot: {number: 1, size: 48 MiB, volume: {kind: fat32, label: BOOT, fills: "
               "{boot: {made: boot}}}}\n"
               "      root: {number: 2, size: rest, volume: {kind: ext4, label: root}}\n");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "mkdir -p '%s/pieces' && cp "
             "'%s/sunxi/usr/lib/u-boot/orangepi_plus/u-boot-sunxi-with-spl.bin' "
             "'%s/pieces/first.bin' && cp '%s/demo/saltmarsh/pieces/dunlin-zImage' '%s/pieces/a' "
             "&& (cat '%s/pieces/a'; echo b) > '%s/pieces/b'",
             w, peers_cache(), w, MOSAICUM_SOURCE, w, w, w));
}

static bool starts_entry(struct machine *m, const char *count, const char *entry) {
    machine_type(m, "run bootcmd_mmc0\r");
    return machine_expect(m, entry, 60) && machine_expect(m, "\n=> ", 60) &&
           (machine_type(m, "printenv boot_tries\r"), machine_expect(m, count, 20)) &&
           machine_expect(m, "\n=> ", 20);
}

static void starts_are_counted_on_the_card(void) {
    const char *w = keep(test_folder("count")), *image = keep(path_in(w, "out/curlew/card.img"));
    const char *broken = keep(path_in(w, "broken.img")), *dead = keep(path_in(w, "dead.img"));
    write_counting_board(w);
    build(w);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "'%s' -q amend '%s' 'boot:~kernel-a' -o '%s'", MOSAICUM_PROGRAM, image, broken));
    CU_ASSERT_TRUE_FATAL(
        runs(0, "'%s' -q amend '%s' 'boot:~kernel-b' -o '%s'", MOSAICUM_PROGRAM, broken, dead));
    struct machine *m = machine_start("card board", broken, "");
    CU_ASSERT_TRUE(machine_expect(m, "Found U-Boot script /boot.scr", 90) &&
                   machine_expect(m, "Saving Environment to FAT... OK", 30) &&
                   machine_expect(m, "Entry slot-a did not start", 30) &&
                   machine_expect(m, "Entry slot-b", 30) &&
                   machine_expect(m, "Starting kernel", 60));
    machine_stop(m);
    m = machine_start("card board", dead, "");
    bool ok = to_prompt(m) && starts_entry(m, "boot_tries=1", "Entry slot-a did") &&
              starts_entry(m, "boot_tries=2", "Entry slot-a did");
    machine_type(
        m, "env default -a; fatload mmc 0:1 0x42000000 uboot.env; env import -c 0x42000000 10000; "
           "printenv boot_tries\r"); /* out of the file */
    ok = ok && machine_expect(m, "boot_tries=2", 20) && machine_expect(m, "\n=> ", 20) &&
         starts_entry(m, "boot_tries=3", "Entry slot-a did") &&
         starts_entry(m, "boot_tries=3", "Entry slot-a was started 3 times and never confirmed");
    machine_type(m, "setenv boot_tries 0; setenv boot_entry slot-b; run bootcmd_mmc0\r");
    ok = ok && machine_expect(m, "Entry slot-b did", 60) &&
         machine_expect(m, "Entry slot-a did", 30);
    CU_ASSERT_TRUE(ok);
    machine_stop(m);
    proved(
        "counted starts on a card with a real ROM",
        "a broken slot a falls back to b; the count is kept in uboot.env and leads to b after 3");
}

static bool add_mast(void *self, struct mos_dt *dt) {
    struct core *c = self;
    size_t length;
    const char *problem;
    char *pem = read_whole(path_in(MOSAICUM_SOURCE, "demo/saltmarsh/keys/mast.pem"), &length);
    bool ok = pem && mos_parcel_add_key(&c->ctx, dt, "mast", pem, length, &problem);
    free(pem);
    return ok;
}

/* Variables in the file where this loader looks for them, written by us. */
static void the_environment_comes_from_a_file(void) {
    const char *w = keep(test_folder("file"));
    write_counting_board(w);
    edit_board(w, "s/version: .*}/environments: {main: {base: none, size: 64 KiB, values: "
                  "{bootdelay: 0, note: jetty, bootcmd: 'echo stored, \\${note}; saveenv'}}}}/; "
                  "s/{boot: {made: boot}}/{boot: {made: boot}, env: {environment: main}}/; "
                  "s/^boot:/&\\n  until: loader/");
    build(w);
    struct machine *m = machine_start("card board", path_in(w, "out/curlew/card.img"), "");
    CU_ASSERT_TRUE(machine_expect(m, "Loading Environment from FAT... OK", 60) &&
                   machine_expect(m, "stored, jetty", 30) &&
                   machine_expect(m, "Saving Environment to FAT... OK", 30));
    machine_stop(m);
    proved("an environment in a file of a FAT volume",
           "the real loader on the card board takes our variables, and stores them again");
}

/* ---- overlays that the loader applies ---- */

static void the_loader_applies_overlays(void) {
    const char *w = keep(test_folder("overlays")), *image = keep(path_in(w, "out/curlew/card.img"));
    const char *stopped = keep(path_in(w, "stopped.img"));
    write_counting_board(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && cp -r '%s/demo/saltmarsh/tree' '%s/demo/saltmarsh/overlays' . && printf "
        "'tree:\\n  blobs: {main: tree/curlew.dts}\\n  overlays:\\n    pressure: {file: "
        "overlays/pressure.dtso, when: boot}\\n    rs485: {file: overlays/rs485.dtso, when: "
        "boot}\\n' >> boards/curlew.yaml && sed -i 's/kernel: kernel-./&, tree: main/' "
        "boards/curlew.yaml && '%s' --no-cache -q build && printf nothing > none && '%s' -q "
        "amend '%s' boot:kernel-a=none boot:kernel-b=none -o '%s'",
        w, MOSAICUM_SOURCE, MOSAICUM_SOURCE, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, image, stopped));
    struct machine *m = machine_start("card board", stopped, ""); /* back at the prompt after it */
    bool ok = to_prompt(m);
    machine_type(m, "load mmc 0:1 0x43100000 boot.scr; source 0x43100000\r");
    ok =
        ok && machine_expect(m, "Entry slot-b did not start", 90) && machine_expect(m, "\n=> ", 60);
    machine_type(m, "fdt get value d /i2c@4010000/depth@76 saltmarsh,depth; echo got $d\r");
    ok = ok && machine_expect(m, "got pressure sensor on i2c0", 20);
    machine_type(m, "fdt get value g /pl011@9040000 saltmarsh,gauge; echo got $g\r");
    ok = ok && machine_expect(m, "got tide gauge on uart1", 20);
    CU_ASSERT_TRUE(ok);
    machine_stop(m);
    proved("overlays applied by the loader", "two overlays, on the board with a real ROM");
}

/* Of two alternatives the loader applies the one that its variable names, or none; and the loader
 * itself was taken apart for its lock and packed again. */
static void a_locked_loader_chooses_an_overlay(void) {
    const char *w = keep(test_folder("alternatives"));
    const char *image = keep(path_in(w, "out/curlew/card.img"));
    const char *stopped = keep(path_in(w, "stopped.img"));
    write_counting_board(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && cp -r '%s/demo/saltmarsh/tree' '%s/demo/saltmarsh/overlays' "
        "'%s/demo/saltmarsh/keys' . && sed 's/pressure sensor on i2c0/another sensor/' "
        "overlays/pressure.dtso > overlays/other.dtso && printf "
        "'tree:\\n  blobs: {main: tree/curlew.dts}\\n  overlays:\\n    pressure: {file: "
        "overlays/pressure.dtso, when: boot, one-of: depth}\\n    other: {file: "
        "overlays/other.dtso, when: boot, one-of: depth}\\n' >> boards/curlew.yaml && sed -i "
        "'s/kernel: kernel-./&, tree: main/' boards/curlew.yaml && '%s' --no-cache -q build && "
        "printf nothing > none && '%s' -q amend '%s' boot:kernel-a=none boot:kernel-b=none -o '%s'",
        w, MOSAICUM_SOURCE, MOSAICUM_SOURCE, MOSAICUM_SOURCE, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM,
        image, stopped));
    struct core c;
    size_t length, card_length;
    const char *problem;
    core_start(&c);
    struct mos_buf locked = {.arena = c.ctx.arena};
    char *loader = read_whole(path_in(w, "pieces/first.bin"), &length);
    char *card = read_whole(stopped, &card_length);
    CU_ASSERT_TRUE_FATAL(
        mos_lock_loader(&c.ctx, (const uint8_t *)loader, length, add_mast, &c, &locked, &problem));
    memcpy(card + 8192, locked.data, locked.length);
    write_file(stopped, card, card_length);
    CU_ASSERT(locked.length > length);
    struct machine *m = machine_start("card board", stopped, "");
    bool ok = to_prompt(m);
    static const char *const choices[][2] = {{"pressure", "got=pressure sensor on i2c0="},
                                             {"other", "got=another sensor="},
                                             {"", "got=="}};
    for (size_t i = 0; i < 3; i++) {
        char line[200];
        snprintf(line, sizeof line,
                 "setenv d; setenv depth %s; load mmc 0:1 0x43100000 boot.scr; source 0x43100000\r",
                 choices[i][0]);
        machine_type(m, line);
        ok = ok && machine_expect(m, "Entry slot-b did not start", 90) &&
             machine_expect(m, "\n=> ", 60);
        machine_type(m, "fdt get value d /i2c@4010000/depth@76 saltmarsh,depth; echo got=${d}=\r");
        ok = ok && machine_expect(m, choices[i][1], 20);
    }
    machine_type(m,
                 "fdt addr ${fdtcontroladdr}; fdt get value k /signature/key-mast required; echo "
                 "it is $k\r");
    ok = ok && machine_expect(m, "it is conf", 20);
    CU_ASSERT_TRUE(ok);
    machine_stop(m);
    free(loader);
    free(card);
    core_end(&c);
    proved("alternatives, and a loader packed again with a key",
           "one overlay, the other, none; the loader starts and its own tree has our key");
}

/* ---- a real kernel on the board with a real ROM ---- */

static const char ramdisk_init[] = "#!/bin/busybox sh\n"
                                   "/bin/busybox mount -t proc proc /proc\n"
                                   "/bin/busybox mount -t sysfs sys /sys\n"
                                   "echo marker-linux $(/bin/busybox uname -m)\n"
                                   "echo marker-note $(/bin/busybox cat "
                                   "/proc/device-tree/saltmarsh,note)\n"
                                   "echo marker-arguments $(/bin/busybox cat /proc/cmdline)\n"
                                   "/bin/busybox poweroff -f\n";

static void a_kernel_starts_on_the_card(void) {
    const char *w = keep(test_folder("arm")), *image = keep(path_in(w, "out/curlew/card.img"));
    write_counting_board(w);
    write_text(path_in(w, "ramdisk/init"), ramdisk_init);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && chmod 755 ramdisk/init && mkdir -p ramdisk/bin ramdisk/proc ramdisk/sys "
        "ramdisk/dev && cp "
        "'%s/arm/bin/busybox' ramdisk/bin/ && (cd ramdisk && find . | cpio -o -H newc 2>/dev/null "
        "| "
        "gzip -9 > ../pieces/ramdisk) && cp '%s'/arm/boot/vmlinuz-* pieces/a && (cat pieces/a; "
        "echo b) > "
        "pieces/b && cp '%s'/arm/usr/lib/linux-image-*/sun8i-h3-orangepi-pc.dtb pieces/tree && sed "
        "-i -e 's/^  kernel-a: /  ramdisk: {file: pieces\\/ramdisk, license: GPL-2.0-only}\\n  "
        "tree: {file: pieces\\/tree, license: GPL-2.0-only}\\n&/' -e 's/kernel: kernel-./&, "
        "tree: main, ramdisk: ramdisk/' -e 's/panic: 10/panic: 10, console: \"ttyS0,115200\", "
        "maxcpus: 1}, flags: [quiet]/; s/flags: [[]quiet[]]}/flags: [quiet]/' boards/curlew.yaml "
        "&& "
        "printf 'tree: {blobs: {main: {piece: tree}}}\\n' >> boards/curlew.yaml && '%s' --no-cache "
        "-q build",
        w, peers_cache(), peers_cache(), peers_cache(), MOSAICUM_PROGRAM));
    struct machine *m = machine_start("card board", image, "");
    CU_ASSERT_TRUE(machine_expect(m, "Found U-Boot script /boot.scr", 90) &&
                   machine_expect(m, "Starting kernel", 60) &&
                   machine_expect(m, "marker-linux armv7l", 120) &&
                   machine_expect(m, "marker-arguments root=PARTUUID=", 20));
    machine_stop(m);
    CU_ASSERT_TRUE(runs(0, "'%s' -q -w '%s' rehearse curlew", MOSAICUM_PROGRAM, w));
    /* the same out of one parcel, which brings an overlay for its tree */
    write_text(path_in(w, "overlays/note.dtso"),
               "/dts-v1/;\n/plugin/;\n\n&{/} {\n\tsaltmarsh,note = \"by parcel\";\n};\n");
    edit_board(w, "s/via: script/via: parcel/; s/^tree: .*/tree: {blobs: {main: {piece: tree}}, "
                  "overlays: {note: {file: overlays\\/note.dtso, when: boot}}}/");
    build(w);
    m = machine_start("card board", image, "");
    CU_ASSERT_TRUE(machine_expect(m, "Found U-Boot script /boot.scr", 90) &&
                   machine_expect(m, "Verifying Hash Integrity ... sha256+ OK", 60) &&
                   machine_expect(m, "Starting kernel", 60) &&
                   machine_expect(m, "marker-note by parcel", 120));
    machine_stop(m);
    CU_ASSERT_TRUE(runs(0, "'%s' -q -w '%s' rehearse curlew", MOSAICUM_PROGRAM, w));
    /* and by a menu, whose addresses are the loader's own, read out of its binary */
    edit_board(w, "s/via: parcel/via: menu/; /tries: 3/d; /slot-b:/d; s/^system: .*//; s/version: "
                  ".*}/facts: {defaults: pieces\\/first.bin}}/");
    build(w);
    m = machine_start("card board", image, "");
    CU_ASSERT_TRUE(machine_expect(m, "Found /extlinux/extlinux.conf", 90) &&
                   machine_expect(m, "Starting kernel", 60) &&
                   machine_expect(m, "marker-note by parcel", 120));
    machine_stop(m);
    /* and behind the loader's old header, compressed, by a key of the definition */
    edit_board(
        w, "s/via: menu/via: script/; s/^  kernel-a: \\(.*\\)/  plain: \\1\\n  kernel-a: {license: "
           "GPL-2.0-only, cpu: arm, packed: {as: legacy, compress: gz, image-name: tide, parts: "
           "{kernel: plain}}}/");
    build(w);
    m = machine_start("card board", image, "");
    CU_ASSERT_TRUE(machine_expect(m, "Image Name:   tide", 90) &&
                   machine_expect(m, "ARM Linux Kernel Image (gzip compressed)", 10) &&
                   machine_expect(m, "Load Address: 40008000", 10) &&
                   machine_expect(m, "Verifying Checksum ... OK", 30) &&
                   machine_expect(m, "marker-note by parcel", 120));
    machine_stop(m);
    CU_ASSERT_TRUE(runs(0, "'%s' -q -w '%s' rehearse curlew", MOSAICUM_PROGRAM, w));
    proved(
        "a Debian 32-bit kernel on the card board",
        "from its ROM over raw first stage, loader and script to a program in the ramdisk, and by "
        "a parcel, by a menu with an overlay, and behind a legacy header; rehearsed alike");
}

/* The line that show emulator gives starts the processor in the flash's own first instruction, and
 * that program finds a part by the table of contents. */
static void firmware_starts_from_the_end_of_a_flash(void) {
    const char *w = keep(test_folder("firmware-in-flash"));
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/data/firmware"), w);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && '%s' --no-cache -q build && '%s' show curlew emulator | "
                              "tail -1 >line && grep -q ' -bios out/curlew/flash.img ' line",
                              w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && { sh -c \"exec $(cat line)\" </dev/null >said 2>&1 & p=$!; n=0; "
             "until grep -q 'tide is out, says the pack' said || [ $n = 120 ]; do sleep "
             "0.5; n=$((n + 1)); done; kill $p; [ $n -lt 120 ]; }",
             w));
    proved("firmware in stages in a flash",
           "an emulated PC processor starts at its end, and finds a part of the pack by name");
}

SUITE(chain_suite, {"a kernel starts on the card", a_kernel_starts_on_the_card},
      {"the loader applies overlays", the_loader_applies_overlays},
      {"a locked loader chooses an overlay", a_locked_loader_chooses_an_overlay},
      {"a variable chooses the tree", a_variable_chooses_the_tree},
      {"the environment comes from flash", the_environment_comes_from_flash},
      {"the environment comes from a file", the_environment_comes_from_a_file},
      {"only signed parcels start", only_signed_parcels_start},
      {"starts are counted on the card", starts_are_counted_on_the_card},
      {"firmware starts from the end of a flash", firmware_starts_from_the_end_of_a_flash});
