/* Whole jobs, each from a definition as its user would write it. */
#include "edits.h"

#include <stdlib.h>
#include <string.h>

/* ---- settings that a firmware reads ---- */

static const char *settings_board(const char *name) {
    const char *w = edits_workspace(name, "boot.settings");
    static const char overlay[] = "/dts-v1/; /plugin/;\n&{/} { %s { status = \"okay\"; }; };\n";
    static const char *const overlays[] = {"clock", "gauge"};
    for (size_t i = 0; i < 2; i++) {
        char text[200];
        snprintf(text, sizeof text, overlay, overlays[i]);
        write_text(path_in(w, "tree/%s.dtso", overlays[i]), text);
    }
    edits_make(
        w, "s|^tree: .*|tree:\\n  blobs: {main: tree/curlew.dts}\\n  overlays:\\n"
           "    clock: {file: tree/clock.dtso, when: boot}\\n"
           "    gauge: {file: tree/gauge.dtso, when: boot}|; "
           "s|boot: .made: boot.|boot: {made: boot, to: tide}|; "
           "s|lines: .*|lines: {files: [kernel, tree], overlays: [overlay], console: "
           "[serial], arguments: [arguments], holds: [all, curlew]}|; "
           "s|^( *)kernel=<kernel>|\\1# before anything else\\n\\1[all]\\n\\1serial=<console:port> "
           "\\n\\1baud=<console:baud>\\n\\1kernel = <kernel>\\n\\1size=<kernel:size>|; "
           "s|^( *)arguments=.*|\\1overlay=<overlays>\\n\\1names=<overlays:stem>\\n"
           "&\\n\\1[heron]\\n\\1kernel=heron/kernel\\n\\1sign=1 < 2|");
    return w;
}

static void settings_are_written_and_checked(void) {
    static const char expected[] =
        "# before anything else\n[all]\nserial=ttyAMA0 \nbaud=115200\nkernel = tide/kernel\n"
        "size=65536\ntree=tide/main.dtb\noverlay=tide/clock.dtbo\noverlay=tide/gauge.dtbo\n"
        "names=clock\nnames=gauge\n"
        "arguments=root=PARTUUID=2715ad0a-02 console=ttyAMA0,115200 rootwait\n"
        "[heron]\nkernel=heron/kernel\nsign=1 < 2\n";
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"s/<kernel:size>/<kernl:size>/", "board.reference", "nothing called <kernl:size>",
         "Choose one of"},
        {"s/<tree>/<tre>/", "board.reference", "nothing called <tre>", "Write <tree>."},
        {"s/tree=<tree>/tree=tide/", "boot.settings", "no file tide in boot", "Bring the file"},
        {"s/tree=<tree>/tree=tide\\/mian.dtb/", "boot.settings", "no file tide/mian.dtb in boot",
         "Write tide/main.dtb."},
        {"s/overlay=<overlays>/overlay=tide\\/gauge.dtbo tide\\/clock.dtbo/", "boot.settings",
         "overlay clock comes after gauge", "<overlays> for all"},
        {"s/overlay=<overlays>/overlay=gauge/", "boot.settings", "applies no overlay clock",
         "<overlays>"},
        {"s/overlay=<overlays>/overlay=clock,gauge/; s/lines: ./&separator: \",\", /", NULL, NULL,
         NULL},
        {"s/serial=<console:port>/serial=ttyS0/", "boot.settings",
         "the console is ttyAMA0, not ttyS0", "Write <console:port>."},
        {"s/serial=<console:port>/serial=ttyAMA1/", "boot.settings",
         "the console is ttyAMA0, not ttyAMA1", "Write <console:port>."},
        {"s/arguments=<arguments>/arguments=root=\\/dev\\/mmcblk0p1 console=ttyAMA0,115200/",
         "boot.settings", "root=/dev/mmcblk0p1 is not what entry main has", "<arguments>"},
        {"s/arguments=<arguments>/arguments=<arguments> quiet/", NULL, NULL, NULL},
        {"s/sign=1 < 2/wifi_psk=low water/", "access.plain-secret",
         "wifi_psk of firmware.txt stands in plain text", "Set it on the board itself"},
        {"s/holds: .all, curlew./holds: [all, heron]/", "boot.settings",
         "no file heron/kernel in boot", "Bring the file"},
        {"s/lines: ./&form: \"set <key> to <value>;\", /; s/kernel = <kernel>/set kernel to "
         "heron;/",
         "boot.settings", "no file heron in boot", "Bring the file"},
        {"s/lines: ./&comment: \"kernel\", /; s/kernel = <kernel>/kernel=heron/", NULL, NULL, NULL},
        {"s/boot: .made: boot, to: tide./boot: {made: boot}/", NULL, NULL, NULL},
        {"s/^( *)(boot: .made: boot.*)/&\\n\\1none: {to: x}/", "board.schema",
         "Fill none brings nothing", "text:"},
        {"s/^( *)(boot: .made: boot.*)/&\\n\\1two: {folder: root, made: system}/", "board.schema",
         "Fill two brings more than one", "another fill"},
        {"s/^( *)(boot: .made: boot.*)/&\\n\\1two: {folder: root, to: x, lines: {form: x}}/",
         "board.schema", "says how its text is read, and has none", "Add text:"},
    };
    EACH("settings", settings_board, rows);
    const char *w = settings_board("settings");
    CU_ASSERT_TRUE(runs(0,
                        "'%s' --no-cache -q -w '%s' build && '%s' -q take '%s/out/curlew/card.img' "
                        "1:firmware.txt -o '%s/text'",
                        MOSAICUM_PROGRAM, w, MOSAICUM_PROGRAM, w, w));
    char *text = read_whole(path_in(w, "text"), NULL);
    CU_ASSERT_STRING_EQUAL(text ? text : "", expected);
    free(text);
    CU_ASSERT_TRUE(runs(0, "'%s' -w '%s' show boot | grep -q 'Text (firmware.txt on boot)'",
                        MOSAICUM_PROGRAM, w));
}

/* ---- trying it without hardware ---- */

static void the_emulator_line_fits(void) {
    static const struct {
        const char *selector, *edit, *says[4], *not ;
        int status;
    } rows[] = {
        {"curlew",
         "",
         {"qemu-system-aarch64 ", " -m 512M ", "take out/curlew/card.img 1:kernel",
          "console=ttyAMA0,115200"},
         "no such medium",
         0},
        {"curlew+bench",
         "",
         {"out/curlew+bench/card.img", "loglevel=7", "First: mosaicum build curlew+bench",
          "-smp 2"},
         "-initrd",
         0},
        {"dunlin",
         "",
         {"qemu-system-arm ", "# flash is not there", "-kernel \"$d/kernel\"", "card.img"},
         "file=out/dunlin/flash",
         0},
        {"avocet", "", {"lies in a parcel", "emulator: {loader: PIECE}", "", ""}, "qemu", 2},
        {"curlew",
         "s/^hardware:/&\\n  emulator: {disk: nvme, loader: loader}/",
         {"-bios ", "nvme,drive=card", "-netdev user,id=net", ""},
         "-append",
         0},
        {"curlew",
         "s/^hardware:/&\\n  emulator: {disk: usb}/",
         {"usb-storage,drive=card", "", "", ""},
         "virtio-blk",
         0},
        {"curlew",
         "s/^hardware:/&\\n  emulator: {disk: floppy}/",
         {"Choose virtio, nvme or usb.", "", "", ""},
         "usb-storage",
         1},
        {"curlew",
         "s/root: <root>/root: \\/dev\\/mmcblk0p2/",
         {"/dev/mmcblk0p2 may be called "
          "otherwise",
          "", "", ""},
         "emulator:",
         0},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = keep(test_folder("emulator"));
        copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), w);
        if (*rows[i].edit)
            CU_ASSERT_TRUE(runs(0,
                                "sed -i '%s' '%s/boards/curlew.yaml' '%s/boards/dunlin.yaml' "
                                "'%s/traits/soc/tern64.yaml'",
                                rows[i].edit, w, w, w));
        struct outcome o = run_shell("cd '%s' && '%s' --no-cache show %s emulator 2>&1", w,
                                     MOSAICUM_PROGRAM, rows[i].selector);
        bool good = o.status == rows[i].status && !strstr(o.out, rows[i].not );
        for (size_t k = 0; k < 4; k++)
            good &= strstr(o.out, rows[i].says[k]) != NULL;
        if (!good)
            fprintf(stderr, "\nrow %zu, status %d:\n%s\n", i, o.status, o.out);
        CU_ASSERT(good);
        outcome_free(&o);
    }
}

/* ---- kernels that are wrapped and compressed by a key ---- */

static const char *wrapped_board(const char *name) {
    const char *w = edits_workspace(name, "boot.no-tree");
    edits_make(w,
               "s|^  kernel: .*|  plain: {file: pieces/Image, license: GPL-2.0-only}\\n"
               "  kernel: {license: GPL-2.0-only, packed: {as: legacy, parts: {kernel: plain}}}|");
    return w;
}

static void kernels_are_wrapped_by_a_key(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"s/as: legacy/&, compress: gz, image-name: tide/", NULL, NULL, NULL},
        {"s/as: legacy/&, compress: zst/", NULL, NULL, NULL},
        {"s/as: legacy/&, compress: xz/", "boot.stages", "no number for this compression",
         "another form"},
        {"s/kernel: plain/kernel: {piece: plain, load: 0x140000000}/", "boot.stages",
         "more than 32 bits", "Set load:"},
        {"s/kernel: plain/kernel: {piece: plain, entry: 0x140000000}/", "boot.stages",
         "more than 32 bits", "Set load:"},
        {"s/file: pieces.Image,/&sha256: "
         "0000000000000000000000000000000000000000000000000000000000000000, derived-from: "
         "boards\\/curlew.yaml,/",
         "board.schema", "derived-from does nothing here", "Remove it"},
        {"s/kernel: plain/kernel: {piece: plain, type: firmware}/", "boot.stages",
         "for a kernel or a ramdisk", "Set load:"},
        {"s/kernel: plain/kernel: plain, more: plain/", "boot.stages", "stands one part", "try"},
        {"s/as: legacy/&, align: 512 B/", "board.schema", "align does nothing here", "as: plain"},
        {"s/as: legacy/image-name: tide/", "board.schema", "image-name does nothing here",
         "as: legacy"},
        {"s/as: legacy/as: parcel, compress: gz/; s/kernel: plain/kernel: {piece: plain, load: "
         "0x40200000}/",
         "board.schema", "compress does nothing here", "as: plain"},
        {"s/^loader: .*//; s/via: script//", "boot.stages", "nobody says what a legacy header is",
         "dialect"},
        {"s/as: legacy/compress: gz/", NULL, NULL, NULL},
    };
    EACH("wrapped", wrapped_board, rows);
    const char *w = wrapped_board("wrapped");
    static const char *const edits[] = {
        "s/as: legacy/&, compress: gz, image-name: tide/",
        "s/as: legacy, compress: gz, image-name: tide/compress: gz/"};
    static const char *const reads[] = {
        "head -c 4 k | od -An -tx1 | grep -q '27 05 19 56' && head -c 64 k | grep -aq tide && "
        "tail -c +65 k | gzip -dc | cmp - pieces/Image && "
        "dd if=k bs=1 skip=16 count=8 status=none | od -An -tx1 | grep -q '40 20 00 00 40 20 00 "
        "00' && dd if=k bs=1 skip=28 count=4 status=none | od -An -tx1 | grep -q '05 16 02 01'",
        "gzip -dc k | cmp - pieces/Image"};
    for (size_t i = 0; i < 2; i++) {
        edits_make(w, edits[i]);
        CU_ASSERT_TRUE(runs(0,
                            "cd '%s' && rm -f k && '%s' -q build && '%s' -q take "
                            "out/curlew/card.img boot:kernel -o k && %s",
                            w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, reads[i]));
    }
}

/* What `show PART` prints about a selector, kept for the whole run. */
static const char *shown(const char *w, const char *arguments) {
    struct outcome o =
        run_shell("'%s' --no-cache -w '%s' show %s 2>&1", MOSAICUM_PROGRAM, w, arguments);
    const char *text = keep(o.out);
    outcome_free(&o);
    return text;
}

/* ---- recovery: a ramdisk from what is there ---- */

static const char *recovery_board(const char *name) {
    const char *w = edits_workspace(name, "boot.no-tree");
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && mkdir -p rescue/sbin rescue/dev rescue/share && printf "
                        "'#!/bin/tide\\n' > rescue/init && chmod 755 rescue/init && ln -s ../init "
                        "rescue/sbin/init && echo low > rescue/share/water && echo high > "
                        "rescue/share/note && ln rescue/share/note rescue/share/again && cp "
                        "rescue/init rescue/sbin/tide && tar -C rescue --owner=7 --group=8 -cf "
                        "pieces/rescue.tar . && echo by-row > row",
                        w));
    edits_make(
        w, "s|^  kernel: .*|&\\n  early: {ramdisk: {compress: none, folder: rescue, files: {row: "
           "{file: row, to: share/water}}}, license: MIT}|; s|tree: main, |&ramdisk: early, |; "
           "s|^  entries:|  until: loader\\n&|");
    return w;
}

static void ramdisks_come_from_folders_and_archives(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"s/folder: rescue,/folder: rescu,/", "piece.missing", "Ramdisk early: rescu is not there",
         "Write rescue."},
        {"s/folder: rescue,/folder: ..\\/rescue,/", "piece.path", "leaves the workspace", "try"},
        {"s/folder: rescue,/folder: rescue, init: yes,/", "piece.missing", "its /init calls",
         "{to: /bin/sh"},
        {"s/folder: rescue/archive: no/", "board.reference", "There is no piece no", "try"},
    };
    static const struct {
        const char *edit, *list; /* of cpio -t, sorted */
        const char *owner;
    } made[] = {
        {"", ". dev init sbin sbin/init sbin/tide share share/again share/note share/water ",
         "0 0"},
        {"s/folder: rescue/&, except: [sbin, share\\/note]/",
         ". dev init share share/again share/water ", "0 0"},
        {"s/folder: rescue/&, only: [init, sbin]/",
         ". init sbin sbin/init sbin/tide share share/water ", "0 0"},
        {"s/folder: rescue/archive: rescue/; s/^  early: /  rescue: {file: pieces\\/rescue.tar, "
         "license: MIT}\\n&/",
         ". dev init sbin sbin/init sbin/tide share share/again share/note share/water ", "7 8"},
    };
    EACH("recovery", recovery_board, rows);
    CU_ASSERT_PTR_NOT_NULL(strstr(shown(recovery_board("recovery"), "curlew emulator"),
                                  "1:early -o \"$d/ramdisk\" && qemu-system-aarch64"));
    CU_ASSERT_PTR_NOT_NULL(strstr(shown(recovery_board("recovery"), "curlew emulator"),
                                  "-initrd \"$d/ramdisk\" -append"));
    for (size_t i = 0; i < sizeof made / sizeof *made; i++) {
        const char *w = recovery_board("recovery");
        edits_make(w, made[i].edit);
        struct outcome o =
            run_shell("cd '%s' && export XDG_CACHE_HOME=$PWD/cache && for n in 1 2; "
                      "do '%s' -q build && '%s' -q "
                      "take out/curlew/card.img boot:early -o e$n && rm -rf out; "
                      "done && cmp e1 e2 && cpio -t "
                      "--quiet < e1 | sort | tr '\n' ' ' && cpio -i --quiet "
                      "--to-stdout share/water < e1 && cpio "
                      "-itvn --quiet < e1 | awk '$NF == \"init\" {print $1, $3, $4}'",
                      w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
        char expected[400];
        snprintf(expected, sizeof expected, "%sby-row\n-rwxr-xr-x %s\n", made[i].list,
                 made[i].owner);
        if (strcmp(o.out, expected) != 0)
            fprintf(stderr, "\nramdisk %zu:\n%s%s\n%s", i, o.out, o.err, expected);
        CU_ASSERT_STRING_EQUAL(o.out, expected);
        outcome_free(&o);
    }
}

/* ---- a capability, on and off ---- */

static void features_change_a_board_by_name(void) {
    const char *w = edits_workspace("feature", "boot.no-tree");
    write_text(path_in(w, "extra/etc/motd"), "by the feature\n");
    edits_make(
        w,
        "s/^  cpu: arm64/&\\n  console: {port: ttyAMA0, baud: 115200}/; s/arguments: .root: "
        "<root>./arguments: {root: <root>, console: <console>}/; $ a variants: {far: {axis: use, "
        "features: [radio]}, farther: {axis: use, features: [radio], hardware: {console: {port: "
        "ttyAMA2}}}}");
    static const char feature[] =
        "mosaicum: 1\nfeature: radio\nreplaces: [hardware.console.port%s]\n"
        "hardware: {console: {port: ttyAMA1}, cores: 4}\n"
        "layout: {card: {regions: {root: {volume: {fills: {more: {folder: extra}}}}}}}\n";
    char text[600];
    snprintf(text, sizeof text, feature, "");
    write_text(path_in(w, "features/radio.yaml"), text);
    /* the board's own console is replaced by name; a region that is only mentioned stays where it
     * was, and its fills come in the board's order */
    const char *off = shown(w, "curlew layout"), *on = shown(w, "curlew+far layout");
    const char *boot = strstr(on, "\nboot "), *root = strstr(on, "\nroot ");
    CU_ASSERT(boot && root && boot < root && strstr(off, "\nboot ") < strstr(off, "\nroot "));
    CU_ASSERT_PTR_NOT_NULL(strstr(shown(w, "curlew boot"), "console=ttyAMA0,115200"));
    CU_ASSERT_PTR_NOT_NULL(strstr(shown(w, "curlew+far boot"), "console=ttyAMA1,115200"));
    CU_ASSERT_PTR_NOT_NULL(strstr(shown(w, "curlew+farther boot"), "console=ttyAMA2,115200"));
    CU_ASSERT_PTR_NOT_NULL(strstr(shown(w, "curlew+far hardware --trail 2>&1"), "no part"));
    CU_ASSERT_PTR_NOT_NULL(strstr(shown(w, "curlew+far all --trail"), "feature"));
    const char *all = shown(w, "curlew+far all");
    CU_ASSERT(strstr(all, "cores: 4") && strstr(all, "folder: root") &&
              strstr(all, "folder: root") < strstr(all, "folder: extra"));
    snprintf(text, sizeof text, feature, ", hardware.cpu");
    write_text(path_in(w, "features/radio.yaml"), text);
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "Feature radio replaces hardware.cpu, and does not state "
                                         "it."));
    outcome_free(&o);
}

/* ---- slots ---- */

static const char *slots_board(const char *name) {
    const char *w = edits_workspace(name, "boot.no-tree");
    edits_make(
        w,
        "s/<root>/<root-a>/; s/^  via: script/  until: loader\\n&/; s|root: .number: 2, size: 32 "
        "MiB,|root: {number: 2, size: 16 MiB, slots: [a, b],|; s|fills: .base: .folder: "
        "root..|fills: {base: {folder: root}, system: {made: system}}|; $ a system: {mounts: "
        "{root: "
        "{at: /}, boot: {at: /dev}}}");
    return w;
}

/* A mount of a root with slots is the slot that was started, in both of them. */
static void the_running_slot_is_mounted(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"s/root: .at: ..,/root: {at: \\/sys},/", "volume.mounts",
         "root has slots, and nobody says which", "root-a or root-b"},
        {"s/root: .at: ..,/rot: {at: \\/sys},/", "volume.mounts", "no region of that name",
         "Write"},
    };
    EACH("slots", slots_board, rows);
    const char *w = slots_board("slots");
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && '%s' -q build && for s in a b; do '%s' -q take out/curlew/card.img "
             "root-$s:etc/fstab -o - ; done > t && test $(grep -c '^# /: the slot that was "
             "started' t) = 2 && test $(grep -c ' /dev vfat' t) = 2 && ! grep ' / ' t",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

/* The running system chooses the other slot, and the loader's script goes by it. */
static const char *swapped_board(const char *name) {
    const char *w = edits_workspace(name, "access.no-shell");
    edits_make(
        w, "s|^    main: .*|    a: {kernel: kernel, tree: main, flags: [rootwait], arguments: "
           "{root: <root-a>, panic: 10}}\\n    b: {kernel: kernel, tree: main, flags: "
           "[rootwait], arguments: {root: <root-b>, panic: 10}}|; s|^  via: script|&\\n  tries: "
           "3|; s|^system: .*|system: {other-slot: yes, loader-access: yes, confirm: inittab, "
           "mounts: {root: /}}|; s|env: .at: 1 MiB, |&owner: device, |; s|size: 32 MiB, "
           "volume|size: 16 MiB, slots: [a, b], volume|");
    return w;
}

static void the_other_slot_starts(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"/^  tries:/d; s/confirm: inittab, //; s/, panic: 10//", "boot.count-lost",
         "cannot be swapped", "tries: 3"},
        {"s/loader-access: yes, //", "boot.count-lost", "cannot be swapped", "loader-access: yes"},
        {"s/root: <root-b>/root: <root-a>/", "boot.count-lost", "tells by the root", "<root-b>"},
        {"/^    b: /d", "boot.count-lost", "between two entries", "two entries"},
    };
    EACH("swapped", swapped_board, rows);
    const char *w = swapped_board("swapped");
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && '%s' --no-cache -q build && '%s' -q take out/curlew/card.img "
        "root-a:usr/sbin/other-slot -o s && mkdir -p bin && printf '#!/bin/sh\\necho $* >>set\\n' "
        ">bin/fw_setenv && chmod 755 bin/fw_setenv && sed -i "
        "\"s|/usr/bin/fw_setenv|bin/fw_setenv|g; "
        "s|/proc/cmdline|line|\" s && id() { '%s' show curlew boot | grep \"^$1 \" | grep -o "
        "'root=[^ ]*'; } && echo \"$(id a) ro\" >line && sh s | grep -q 'Entry b starts next' && "
        "grep -qx "
        "'boot_entry b' set && grep -qx 'boot_tries 0' set && echo \"ro $(id b)\" >line && sh s | "
        "grep -q "
        "'Entry a starts next' && echo root=/dev/sda1 >line && ! sh s && '%s' rehearse curlew | "
        "grep -q "
        "'root curlew\\|entry a' && '%s' rehearse curlew --set boot_entry=b | grep -q 'boots: "
        "entry b' && ! "
        "'%s' rehearse curlew --set boot_entry",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM,
        MOSAICUM_PROGRAM));
}

/* ---- two images of one board ---- */

/* A long list begins with what it comes to; the sums are those of the list. */
static void comparisons_begin_with_a_summary(void) {
    const char *w = edits_workspace("summary", "boot.no-tree");
    int status;
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && mkdir -p root/lib/modules/6.1.0-tide root/usr/share/tide && for i "
             "in $(seq 20); do echo $i > root/usr/share/tide/$i; done && '%s' -q build "
             "--out a && mv root/lib/modules/6.1.0-tide root/lib/modules/6.1.9-tide && rm "
             "root/usr/share/tide/1? && echo new > root/usr/share/tide/1 && echo x > "
             "root/note && '%s' -q build --out b",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    json_t *d = run_json(&status, "compare '%s/a/curlew/card.img' '%s/b/curlew/card.img'", w, w);
    json_t *report = json_object_get(d, "report"), *rows, *row;
    CU_ASSERT_EQUAL(status, 1);
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(json_array_get(report, 0), "title")),
                           "In short; modules of kernel 6.1.0-tide there, 6.1.9-tide here");
    rows = json_object_get(json_array_get(report, 0), "rows");
    json_int_t added = 0, removed = 0, changed = 0;
    size_t i;
    json_array_foreach(rows, i, row) {
        added += json_integer_value(json_object_get(row, "added"));
        removed += json_integer_value(json_object_get(row, "removed"));
        changed += json_integer_value(json_object_get(row, "changed"));
        if (strcmp(json_string_value(json_object_get(row, "folder")), "/usr/share") == 0)
            CU_ASSERT_EQUAL(json_integer_value(json_object_get(row, "removed")), 10);
    }
    CU_ASSERT_EQUAL(removed, 11);
    CU_ASSERT_EQUAL(added, 2);
    CU_ASSERT_EQUAL(changed, 1);
    CU_ASSERT(json_array_size(json_object_get(json_array_get(report, 1), "rows")) >= 14);
    json_decref(d);
    d = run_json(&status, "compare '%s/a/curlew/card.img' '%s/a/curlew/card.img'", w, w);
    CU_ASSERT_EQUAL(json_array_size(json_object_get(d, "report")), 1);
    json_decref(d);
}

/* ---- kernel, tree and ramdisk in a flash without a file system ---- */

static const char *flash_board(const char *name) {
    const char *w = edits_workspace(name, "access.no-shell");
    write_text(path_in(w, "early/init"), "#!/bin/sh\nexec switch_root /new /sbin/init\n");
    edits_make(w,
               "s|^  media: .*|  media:\\n    card: {kind: sd, size: 128 MiB, kernel: mmcblk0}\\n"
               "    flash: {kind: nor, size: 16 MiB, erase: 64 KiB, kernel: mtd0, loader: sf 0}|; "
               "s|values: .*|values: {bootdelay: \"1\"}|; s|via: script|via: environment|; "
               "/^      (env|boot): /d; s|number: 2, size: 32 MiB|number: 1, size: rest|; "
               "s|^pieces:|&\\n  early: {license: GPL-2.0-only, ramdisk: {folder: early}}|; "
               "s|tree: main, arg|ramdisk: early, &|; s|root: <root>|&, console: <console>|; "
               "s|^layout:|&\\n  flash:\\n    regions:\\n"
               "      env: {at: 1 MiB, size: 64 KiB, environment: main}\\n"
               "      kernel: {size: 8 MiB, piece: kernel}\\n"
               "      tree: {size: 64 KiB, tree: main}\\n      early: {size: 1 MiB, piece: "
               "early}|");
    return w;
}

#define BY_HAND(command)                                                                           \
    "s|bootdelay: .1.|&, bootcmd: \"setenv bootargs root=<root> console=<console> "                \
    "rootwait; " command "\"|"
#define NAND                                                                                       \
    "s/kind: nor, /kind: nand, page: 2 KiB, /; s/loader: sf 0/loader: nand 0/; s/erase: 64 "       \
    "KiB/erase: 128 KiB/; s/64 KiB, env/128 KiB, env/; s/64 KiB, tree/128 KiB, tree/"
#define READ_ALL(kernel_at)                                                                        \
    "sf probe; sf read " kernel_at " 110000 40000; sf read 48000000 910000 10000; "

static void entries_come_from_a_flash(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {NAND, "layout.flash-spare", "no room for bad blocks", "spare"},
        {NAND "; s/size: (128 KiB|8 MiB|1 MiB), (env|tree|piece)/bad-blocks: 4%, &/", NULL, NULL,
         NULL},
        {"s/size: 64 KiB, tree: main/size: 64 KiB/", "boot.file-missing", "no volume holds",
         "into regions of a flash"},
        {"s/size: 1 MiB, piece: early/size: 1 MiB/", "boot.file-missing", "no volume holds", ""},
        {"s/via: environment/via: menu/", "boot.file-missing",
         "its parts lie in regions of flash, which only stored variables can name",
         "Set boot: {via: environment}."},
        {"s/size: 64 KiB, tree: main/tree: main/", "board.schema", "Region tree has no size",
         "Set size:"},
        {"s/size: 64 KiB, tree: main/size: 64 KiB, tree: main, piece: kernel/", "board.schema",
         "Region tree holds more than one thing", "its own region"},
        {"s/tree: .size: 64 KiB/tree: {size: 256 B/; s/erase: 64 KiB/erase: 256 B/; s/env: .size: "
         "64 KiB/env: {size: 64 KiB/",
         "volume.does-not-fit", "The content of tree does not fit", "Set size:"},
        /* written by hand: read, followed and started as the generated ones are */
        {BY_HAND(READ_ALL("40200000") "booti 40200000 - 48000000"), NULL, NULL, NULL},
        {BY_HAND(READ_ALL("47ff0000") "booti 47ff0000 - 48000000"), "start.", "", ""},
        {BY_HAND("sf read 40200000 0 40000; booti 40200000 - 48000000"), "start.", "", ""},
        {BY_HAND(READ_ALL("40200000") "booti 40200000 - 49000000"), "start.", "", ""},
    };
    EACH("flash", flash_board, rows);
    const char *w = flash_board("flash");
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && '%s' --no-cache -q build && '%s' rehearse curlew > t && grep -q 'curlew boots: "
        "entry main' t && grep -q 'bytes at 0x110000' t && grep -q 'the ramdisk' t && dd "
        "if=out/curlew/flash.img bs=64K skip=17 count=1 2>/dev/null | cmp - pieces/Image && dd "
        "if=out/curlew/flash.img bs=64K skip=145 count=1 2>/dev/null | cmp -n $(stat -c %%s "
        "out/curlew/main.dtb) - out/curlew/main.dtb && '%s' show curlew layout | grep -q 'tree "
        "main'",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

/* ---- a definition from an image ---- */

/* An image that somebody else made becomes a definition, builds again, keeps its identifiers and
 * starts the same; then it gets another kernel. */
static void an_image_becomes_a_definition(void) {
    static const char *const boards[] = {
        /* by script, the tree from a file */
        "s|fills: .boot: .made: boot..|&|; s|<root>|&, console: [tty0, <console>], note: "
        "[\"\\\\\"a b\\\\\"\"]|",
        /* two entries of a menu, a ramdisk */
        "s|via: script|via: menu|; s|values: .*|values: {bootcmd: \"sysboot mmc 0:1 any 46000000 "
        "/extlinux/extlinux.conf\", kernel_addr_r: 50000000, fdt_addr_r: 48000000, "
        "ramdisk_addr_r: 60000000}|; s|<root>|&, console: <console>|; s|^pieces:|&\\n  early: "
        "{license: GPL-2.0-only, ramdisk: {folder: early}}|; s|^    main: .kernel.*|&\\n    "
        "rescue: {kernel: kernel, tree: main, ramdisk: early, arguments: {console: <console>, "
        "rdinit: /init}}|; s|^boot:|waivers: {way: {rule: boot.fallback-unreachable, place: "
        "boot.entries.main, reason: by hand}}\\n&|",
        /* in a folder, with an MBR */
        "s|made: boot.|made: boot, to: boot}|; s|kind: gpt|kind: mbr|; s|<root>|&, console: "
        "<console>|; s|boot.scr;|boot/boot.scr;|",
    };
    for (size_t i = 0; i < sizeof boards / sizeof *boards; i++) {
        const char *w = edits_workspace("from", "access.no-shell"), *n = keep(test_folder("new"));
        write_text(path_in(w, "early/init"), "#!/bin/sh\nexec switch_root /new /sbin/init\n");
        edits_make(w, boards[i]);
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "'%s' --no-cache -q -w '%s' build && cp '%s/out/curlew/card.img' "
                                  "'%s/a.img' && cd '%s' && '%s' -q new west --from a.img "
                                  "--ram-start 0x40000000 --ram '512 MiB' && '%s' --no-cache -q "
                                  "build && cp out/west/card.img b.img",
                                  MOSAICUM_PROGRAM, w, w, n, n, MOSAICUM_PROGRAM,
                                  MOSAICUM_PROGRAM));
        /* the same identifiers and start */
        CU_ASSERT_TRUE(runs(
            0,
            "cd '%s' && for f in a b; do '%s' inspect $f.img --json | tr , '\\n' | grep -iE "
            "'\"(id|uuid|partuuid)\"' >ids-$f; '%s' rehearse $f.img --ram-start 0x40000000 --ram "
            "'512 MiB' | grep -oE 'boots: entry .*|argument .*|first program.*' >start-$f; done; [ "
            "-s ids-a ] && [ -s start-a ] && diff ids-a ids-b && diff start-a start-b",
            n, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
        CU_ASSERT_TRUE(runs(i == 1 ? 0 : 1, "grep -q '^    rescue:' '%s/boards/west.yaml'", n));
        /* and now with another kernel */
        CU_ASSERT_TRUE(runs(
            0,
            "cd '%s' && cp '%s/pieces/Image' pieces/newer && printf newer | dd of=pieces/newer "
            "bs=1 seek=60000 conv=notrunc 2>/dev/null && sed -i 's|^  kernel: {in: .*|  kernel: "
            "{file: pieces/newer}|' boards/west.yaml && '%s' --no-cache -q build && '%s' "
            "rehearse west | grep -q 'west boots: entry main' && '%s' -q take "
            "out/west/card.img 1:%skernel -o - | cmp - pieces/newer",
            n, w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, i == 2 ? "boot/" : ""));
    }
    /* an entry of the menu that does not start is not lost without a word */
    const char *old = edits_workspace("from", "access.no-shell"), *new = keep(test_folder("new"));
    edits_make(old, boards[1]);
    write_text(path_in(old, "early/init"), "#!/bin/sh\nexec switch_root /new /sbin/init\n");
    CU_ASSERT_TRUE(
        runs(0,
             "'%s' --no-cache -q -w '%s' build && cd '%s' && '%s' -q take '%s/out/curlew/card.img' "
             "BOOT:extlinux/extlinux.conf -o menu && printf '\\nLABEL heron\\n\\tKERNEL /gone\\n' "
             ">>menu && '%s' "
             "-q amend '%s/out/curlew/card.img' BOOT:extlinux/extlinux.conf=menu -o a.img && '%s' "
             "new west "
             "--from a.img | grep -q 'entry heron of the image is not in the draft' && grep -q "
             "'entry heron' "
             "boards/west.yaml && grep -q '^    rescue:' boards/west.yaml",
             MOSAICUM_PROGRAM, old, new, MOSAICUM_PROGRAM, old, MOSAICUM_PROGRAM, old,
             MOSAICUM_PROGRAM));
    /* without RAM there is nothing that a script could be written for */
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && sed -i '/^  ram:/d; s/via: menu/via: script/' boards/curlew.yaml && { '%s' "
        "--no-cache -w . check; [ $? = 1 ]; } | grep -q 'does not say where its RAM is'",
        old, MOSAICUM_PROGRAM));
    /* what does not start says why, and nothing is made up */
    const char *w = edits_workspace("from", "access.no-shell"), *n = keep(test_folder("new"));
    CU_ASSERT_TRUE(
        runs(0,
             "'%s' --no-cache -q -w '%s' build && cd '%s' && printf 'load mmc 0:9 "
             "50000000 x\\n' >s && '%s' -q amend '%s/out/curlew/card.img' BOOT:boot.scr=s "
             "-o a.img && '%s' new west --from a.img | grep -q 'boot.scr of partition 1 "
             "starts no kernel' && ! grep -q '^boot:' boards/west.yaml && grep -q 'fills: "
             "{all: {archive: image-boot}}' boards/west.yaml",
             MOSAICUM_PROGRAM, w, n, MOSAICUM_PROGRAM, w, MOSAICUM_PROGRAM));
}

/* ---- the root, in the ramdisk or on its own partition ---- */

/* One variant each; a row forgets one of the places that must change with it. */
static const char *moved_board(const char *name) {
    const char *w = edits_workspace(name, "access.no-shell");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n"
                                            "usual: [curlew+ram, curlew+card]\n");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && cp -r root early && rm early/sbin/init && printf "
                              "'#!/bin/sh\n/bin/sh\n' >early/init && chmod 755 early/init",
                              w));
    edits_make(w, "s|^pieces:|&\\n  early: {license: GPL-2.0-only, ramdisk: {folder: early}}|; "
                  "s|arguments: .root: <root>.|arguments: {console: <console>}|; s|^system: .*|"
                  "system: {users: {root: {locked: yes}}}\\n"
                  "variants:\\n"
                  "  ram:\\n"
                  "    axis: place\\n"
                  "    boot: {entries: {main: {ramdisk: early, arguments: {rdinit: /init}}}}\\n"
                  "  card:\\n"
                  "    axis: place\\n"
                  "    boot: {entries: {main: {arguments: {root: <root>, init: /sbin/init}}}}\\n"
                  "    system: {mounts: {root: /}}|");
    return w;
}

static void the_root_moves(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        /* the argument */
        {"s/arguments: .root: <root>, /arguments: {/", "boot.root-unknown", "names no root",
         "root"},
        {"s/ramdisk: early, arguments: .rdinit/arguments: {rdinit/", "boot.", "of a ramdisk",
         "ramdisk"},
        /* the ramdisk, that goes on to take the root's place */
        {"s/arguments: .root: <root>/ramdisk: early, &/", "boot.arguments",
         "its ramdisk's /init never goes there", "Remove ramdisk:"},
        /* the first program */
        {"s|rdinit: /init|rdinit: /sbin/init|", "start.", "/sbin/init", ""},
        {"s|init: /sbin/init|init: /init|", "boot.first-program", "/init is not there in root",
         "init:"},
        /* the mounts */
        {"s|^    system: .mounts: .root: /..||", NULL, NULL, NULL},
    };
    EACH("moved", moved_board, rows);
}

/* ---- a family ---- */

/* Eight switches, 256 selections: one wrong label in an overlay that all share is one finding. */
static void a_family_is_told_once(void) {
    const char *w = edits_workspace("family", "access.no-shell");
    char variants[2000] = "variants:";
    for (int i = 0; i < 8; i++)
        sprintf(variants + strlen(variants),
                "\\n  switch-%d: {axis: axis-%d, boot: {entries: {main: {arguments: {tide.s%d: "
                "\"1\"}}}}}",
                i, i, i);
    write_text(path_in(w, "overlays/gauge.dtso"),
               "/dts-v1/; /plugin/;\n&gauge0 { status = \"okay\"; };\n");
    char edit[3000];
    snprintf(edit, sizeof edit,
             "s|^tree: .*|tree: {blobs: {main: tree/curlew.dts}, overlays: {gauge: "
             "overlays/gauge.dtso}}|; s|root: <root>|&, console: <console>|; s|^system:|%s\\n&|",
             variants);
    edits_make(w, edit);
    int status;
    json_t *d = run_json(&status, "-w '%s' check", w), *findings = json_object_get(d, "findings");
    json_t *one = json_array_get(findings, 0);
    CU_ASSERT_EQUAL(status, 1);
    CU_ASSERT_EQUAL(json_array_size(findings), 1);
    CU_ASSERT_EQUAL(json_array_size(json_object_get(one, "selectors")), 256);
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(one, "rule")), "tree.target-missing");
    json_decref(d);
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "gauge0"));
    CU_ASSERT(strlen(o.out) < 2000); /* a person reads it */
    outcome_free(&o);
    /* RAM start of the definition and of its tree */
    w = edits_workspace("family", "tree.memory-differs");
    edits_make(w, "s/start: 0x[0-9a-f]*/start: 0x80000000/");
    o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "tree.memory-differs"));
    outcome_free(&o);
}

/* ---- a capability ---- */

/* A feature brings an overlay, moves the console and replaces one file; off, all is as before. */
static void a_capability_goes_on_and_off(void) {
    const char *w = edits_workspace("capability", "access.no-shell");
    write_text(path_in(w, "features/rs485.yaml"),
               "mosaicum: 1\nfeature: rs485\nreplaces: [hardware.console.port]\n"
               "hardware: {console: {port: ttyAMA1}}\n"
               "tree: {overlays: {rs485: {file: overlays/rs485.dtso}}}\n"
               "layout: {card: {regions: {root: {volume: {fills: {rs485: {folder: rs485, replaces: "
               "true}}}}}}}\n");
    write_text(path_in(w, "overlays/rs485.dtso"),
               "/dts-v1/; /plugin/;\n&{/} { rs485 { compatible = \"saltmarsh,rs485\"; }; };\n");
    write_text(path_in(w, "rs485/etc/issue"), "on\n");
    write_text(path_in(w, "root/etc/issue"), "off\n");
    edits_make(w,
               "s|root: <root>|&, console: <console>|; s|^system:|variants: {wired: {axis: wire, "
               "features: [rs485]}}\\n&|");
    struct outcome o = run_shell(
        "cd '%s' && '%s' --no-cache check && '%s' --no-cache -q build curlew curlew+wired && for s "
        "in curlew curlew+wired; do '%s' show $s boot | grep -om1 'console=[A-Za-z0-9]*'; for f in "
        "etc/issue etc/inittab; do '%s' -q take out/$s/card.img root:$f -o - | grep -oE "
        "'^(on|off|ttyAMA.)'; done; grep -q rs485 out/$s/main.dtb; echo $?; done",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "console=ttyAMA0\noff\nttyAMA0\n1\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "console=ttyAMA1\non\nttyAMA1\n0\n"));
    if (!strstr(o.out, "ttyAMA1\n0"))
        fprintf(stderr, "%s%s\n", o.out, o.err);
    outcome_free(&o);
}

/* ---- a kernel that was built again ---- */

/* The plan is carried out by a shell on a root in a folder: done, refused, and undone. */
static void a_kernel_is_renewed_on_boards(void) {
    const char *w = edits_workspace("renewed", "kernel.modules-index");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && r=6.1.0-curlew && mkdir -p old/boot old/lib && cp -r root/lib/modules old/lib/ "
        "&& "
        "rm old/lib/modules/$r/modules.dep && printf 'old\\0\\0' > old/boot/vmlinuz-$r && cp -r "
        "old new && "
        "cp new/lib/modules/$r/kernel/gauge.ko new/lib/modules/$r/kernel/depth.ko && printf x >> "
        "new/lib/modules/$r/kernel/estuary_bus.ko && rm new/lib/modules/$r/kernel/gauge.ko && "
        "printf "
        "'new\\0\\0' > new/boot/vmlinuz-$r && '%s' renew old new -o plan | grep -q '2 changed, 1 "
        "new, 1 "
        "removed' && cp -r old board && echo index > board/lib/modules/$r/modules.dep && mkdir -p "
        "board/boot/extlinux && printf 'LABEL main\\n\\tKERNEL ../vmlinuz-%%s\\nLABEL "
        "rescue\\n\\tKERNEL "
        "/boot/rescue\\n' $r > board/boot/extlinux/extlinux.conf && cp -r board before",
        w, MOSAICUM_PROGRAM));
    /* done: as NEW, the old kernel beside it and last in the menu */
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && r=6.1.0-curlew && export ROOT=$PWD/board && sh plan/install.sh >t && cmp "
             "board/boot/vmlinuz-$r new/boot/vmlinuz-$r && cmp board/boot/vmlinuz-$r-before "
             "old/boot/vmlinuz-$r && diff -r board/lib/modules/$r/kernel new/lib/modules/$r/kernel "
             "&& grep -q "
             "depth.ko board/lib/modules/$r/modules.dep && [ \"$(grep -c LABEL "
             "board/boot/extlinux/extlinux.conf)\" = 3 ] && tail -n 3 "
             "board/boot/extlinux/extlinux.conf | "
             "tr -s '\\n\\t' ' ' | grep -q 'LABEL main-before KERNEL "
             "../vmlinuz-6.1.0-curlew-before' && ! sh "
             "plan/install.sh && sh plan/install.sh back && rmdir board/var/lib board/var && diff "
             "-r board "
             "before",
             w));
    /* refused, and nothing is touched: another module there, a damaged file here, another release
     */
    static const char *const spoilt[] = {
        "printf y >> board/lib/modules/6.1.0-curlew/kernel/gauge.ko",
        "echo other > board/lib/modules/6.1.0-curlew/kernel/depth.ko",
        "printf y >> plan/files/lib/modules/6.1.0-curlew/kernel/depth.ko",
        "mv board/lib/modules/6.1.0-curlew board/lib/modules/6.1.1"};
    for (size_t i = 0; i < sizeof spoilt / sizeof *spoilt; i++)
        CU_ASSERT_TRUE(
            runs(0,
                 "cd '%s' && rm -rf board x plan && cp -r before board && '%s' -q renew old new "
                 "-o plan && %s && cp -r board x && export ROOT=$PWD/board && ! sh "
                 "plan/install.sh 2>t && grep -q 'Nothing was changed' t && diff -r board x",
                 w, MOSAICUM_PROGRAM, spoilt[i]));
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && cp -r new evil && cp new/lib/modules/6.1.0-curlew/kernel/depth.ko "
        "\"evil/lib/modules/6.1.0-curlew/kernel/a$(printf '\\nb').ko\" && '%s' renew old evil -o z "
        "2>t; [ $? = 4 ] && grep -q 'not safe in a script' t && [ ! -e z ] && cp -r new next && mv "
        "next/lib/modules/6.1.0-curlew "
        "next/lib/modules/6.1.1 && '%s' renew old next -o z 2>t; [ $? = 4 ] && grep -q "
        "'6.1.0-curlew' t && [ ! -e z ]; '%s' renew old old -o z 2>t; [ $? = 2 ] && grep -q "
        "'nothing to renew' t && [ ! -e z ] && '%s' renew old new -o plan; [ $? = 4 ]",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

/* ---- an image changed by hand ---- */

/* Folders go in and out; what hung on them is renewed or told. */
static void a_change_says_what_it_makes_stale(void) {
    const char *w = edits_workspace("amended", "kernel.modules-index");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir -p root/srv && echo 'x  tide.conf' > root/srv/SHA256SUMS && echo low > "
        "root/srv/tide.conf && echo s > root/srv/tide.conf.sig && '%s' --no-cache -q build; r=$(ls "
        "root/lib/modules | head -n 1); mkdir -p in/deep && echo high > in/deep/water && echo 1 > "
        "in/mark && echo mid > tide.conf; echo $r > release",
        w, MOSAICUM_PROGRAM));
    struct outcome o =
        run_shell("cd '%s' && i=$(ls out/*/card.img) && '%s' amend $i root:srv/new=in "
                  "root:srv/tide.conf=tide.conf "
                  "-o n.img && '%s' -q take n.img root:srv/new/deep/water -o - && '%s' amend n.img "
                  "'root:~srv/new' -o m.img && '%s' inspect m.img --files | grep -c srv/new/",
                  w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    static const char *const says[] = {"/srv/new",
                                       "2 files",
                                       "has the sum of /srv/tide.conf as it was",
                                       "signs /srv/tide.conf as it was",
                                       "high\n",
                                       "2 files removed"};
    for (size_t i = 0; i < sizeof says / sizeof *says; i++) {
        if (!strstr(o.out, says[i]))
            fprintf(stderr, "\nno %s in:\n%s%s\n", says[i], o.out, o.err);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, says[i]));
    }
    outcome_free(&o);
    /* modules: the index is that of a build with the same ones */
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && rm -f ?.img && r=$(cat release) && i=$(ls out/*/card.img) && m=$(cd "
             "root/lib/modules/$r "
             "&& find "
             ". -name '*.ko' | sort | head -n 1) && mkdir -p one && cp root/lib/modules/$r/$m "
             "one/again.ko "
             "&& '%s' amend $i root:lib/modules/$r/extra=one -o n.img > t && grep -q 'made again "
             "for' t && "
             "'%s' -q take n.img root:lib/modules/$r/modules.dep -o dep && grep -q "
             "'^extra/again.ko:' dep && "
             "'%s' amend n.img \"root:~lib/modules/$r/extra\" -o m.img > t && grep -q 'made again "
             "for' t && "
             "'%s' -q take m.img root:lib/modules/$r/modules.dep -o dep2 && ! grep -q again dep2",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    /* what it cannot put is said, and nothing is made */
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && ln -s mark in/link && i=$(ls out/*/card.img) && '%s' amend $i "
             "root:srv/new=in -o z.img 2>&1 | grep -q 'in/link is no file' && [ ! -e z.img ] "
             "&& mkdir empty && '%s' amend $i root:srv/new=empty -o z.img 2>&1 | grep -q "
             "'no file in this folder' && [ ! -e z.img ]",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

SUITE(jobs_suite, {"a kernel is renewed on boards", a_kernel_is_renewed_on_boards},
      {"the other slot starts", the_other_slot_starts},
      {"a change says what it makes stale", a_change_says_what_it_makes_stale},
      {"a family is told once", a_family_is_told_once},
      {"a capability goes on and off", a_capability_goes_on_and_off},
      {"the root moves", the_root_moves},
      {"an image becomes a definition", an_image_becomes_a_definition},
      {"entries come from a flash", entries_come_from_a_flash},
      {"settings are written and checked", settings_are_written_and_checked},
      {"the emulator line fits", the_emulator_line_fits},
      {"kernels are wrapped by a key", kernels_are_wrapped_by_a_key},
      {"features change a board by name", features_change_a_board_by_name},
      {"ramdisks come from folders and archives", ramdisks_come_from_folders_and_archives},
      {"the running slot is mounted", the_running_slot_is_mounted},
      {"comparisons begin with a summary", comparisons_begin_with_a_summary});
