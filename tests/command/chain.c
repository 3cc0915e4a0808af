/* What the boot chain is made of: ramdisks from a list, packs, signatures of an outside program,
 * the lock in a loader, alternatives, scripts for a server and for flashes. */
#include "support.h"

#include "boot/parcel.h"

#include <stdlib.h>
#include <string.h>

static const char *workspace(const char *name) {
    const char *w = keep(test_folder(name));
    copy_demo(w);
    return w;
}

static void edit(const char *w, const char *script) {
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && sed -i -e \"%s\" boards/curlew.yaml", w, script));
}

/* Puts text behind the line that begins `pieces:`. */
static void add_pieces(const char *w, const char *text) {
    write_text(path_in(w, "added"), text);
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && sed -i '/^pieces:$/r added' boards/curlew.yaml", w));
}

static void build(const char *w) {
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
}

static char *output(const char *w, const char *name) {
    char *text = read_whole(path_in(w, "out/curlew/%s", name), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    return text;
}

static bool has(const char *text, const char *part) {
    bool found = strstr(text, part) != NULL;
    if (!found)
        fprintf(stderr, "\nno \"%s\" in:\n%s\n", part, text);
    return found;
}

/* ---- ramdisks ---- */

static const char list[] =
    "  early:\n    ramdisk:\n      init: yes\n      folders: [tmp]\n"
    "      modules: {in: linux, names: [gauge]}\n      files:\n"
    "        shell: {in: rootfs, path: bin/sh, to: /bin/sh}\n"
    "        note: {file: note.txt, to: etc/note, mode: \"0600\"}\n"
    "        about: {text: tides, to: /etc/about}\n"
    "        null: {device: \"c 1 3\", to: /dev/null}\n"
    "        mount: {link: sh, to: /bin/mount}\n        cat: {link: sh, to: /bin/cat}\n"
    "        sleep: {link: sh, to: /bin/sleep}\n        insmod: {link: sh, to: /bin/insmod}\n"
    "        switch: {link: sh, to: /bin/switch_root}\n";

static const char *with_ramdisk(const char *name) {
    const char *w = workspace(name);
    write_text(path_in(w, "note.txt"), "high water at noon\n");
    add_pieces(w, list);
    edit(w, "s/^      tree: main$/&\\n      ramdisk: early/");
    return w;
}

static void a_ramdisk_is_made_from_its_list(void) {
    static const char *const lines[] = {
        "bin/sh ",     "0755    0:0",  "etc/note ",        "19 bytes  0600",
        "tmp ",        "dev/console ", "kernel/gauge.ko ", "kernel/estuary_bus.ko ",
        "load-order ", "init "};
    const char *w = with_ramdisk("ramdisk"), *early = keep(path_in(w, "early.gz"));
    build(w);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' -q take '%s/out/curlew/card.img' boot:early -o '%s'",
                              MOSAICUM_PROGRAM, w, early));
    struct outcome o = run_shell("'%s' inspect --files '%s'", MOSAICUM_PROGRAM, early);
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++)
        CU_ASSERT_TRUE(has(o.out, lines[i]));
    outcome_free(&o);
    /* what a module needs is loaded before it; the root is known by its name in the kernel */
    o = run_shell("cd '%s' && gzip -dc early.gz | strings -n 3", w);
    const char *bus = strstr(o.out, "/kernel/estuary_bus.ko\n/lib"), *first = strstr(o.out, "#!");
    CU_ASSERT(bus && strstr(bus, "/kernel/gauge.ko\n"));
    CU_ASSERT(first && has(first, "done < /load-order") && has(first, ") root=/dev/mmcblk0p2 ;;"));
    outcome_free(&o);
    /* the same with and without what was kept, and another for another file */
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && export XDG_CACHE_HOME=\"$PWD/cache\" && '%s' -q build && '%s' "
                        "-q build && '%s' -q take out/curlew/card.img boot:early -o again && cmp "
                        "early.gz again && echo more >> note.txt && '%s' -q build && '%s' -q take "
                        "out/curlew/card.img boot:early -o other && ! cmp -s early.gz other",
                        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM,
                        MOSAICUM_PROGRAM));
}

static void wrong_lists_are_explained(void) {
    static const struct {
        const char *edit, *rule, *says;
    } rows[] = {
        {"s/names: .gauge./names: [gauges]/", "piece.missing", "no module gauges"},
        {"s/names: .gauge./names: [gauges]/", "piece.missing", "try  Write gauge"},
        {"/ insmod: /d", "piece.missing", "its /init calls insmod"},
        {"s/file: note.txt/file: none.txt/", "piece.missing", "none.txt is not there"},
        {"s/path: bin.sh/path: bin\\/no/", "piece.missing", "no file bin/no in rootfs"},
        {"s/0600/0900/", "board.schema", "octal"},
        {"s/c 1 3/1 3/", "board.schema", "c 5 1"},
        {"s/{text: tides, /{text: tides, link: x, /", "board.schema", "one source"},
        {"s/{text: tides, /{/", "board.schema", "one source"},
        {"s/etc.about}/bin\\/mount}/", "volume.two-sources", "/bin/mount"},
        {"s/etc.about}/etc\\/..\\/..\\/about}/", "piece.path", "no path below its root"},
        {"s/folders: .tmp./folders: [..]/", "piece.path", "no path below its root"},
        {"s/^  early:$/  twice: {packed: {parts: {one: early}}}\\n&/", "boot.stages",
         "early is made after it"},
        {"s/^  early:$/  a: {packed: {parts: {one: b}}}\\n  b: {packed: {parts: {one: "
         "first}}}\\n&/",
         "boot.stages", "b is made after it"},
        {"s/^  early:$/  a: {packed: {parts: {one: a}}}\\n&/", "boot.stages", "a is made after it"},
        {"s/^  early:$/  a: {in: early, path: init}\\n&/", "board.reference",
         "Piece a lies in early, which is made here"},
        {"s/compress: gz//; s/      init: yes/&\\n      compress: lzma/", "board.schema", "lzma"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = with_ramdisk("wrong-list");
        edit(w, rows[i].edit);
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        CU_ASSERT_EQUAL(o.status, 1);
        CU_ASSERT_TRUE(has(o.out, rows[i].rule) && has(o.out, rows[i].says));
        outcome_free(&o);
        remove_folder(w);
    }
}

/* ---- packs ---- */

static void pieces_are_packed(void) {
    const char *w = workspace("packs");
    add_pieces(w, "  plain:\n    packed: {table-at: 0 B, align: 4 KiB, parts: {one: first, two: "
                  "{piece: loader, at: 64 KiB}}}\n"
                  "  carried:\n    packed: {as: parcel, starts: two, parts: {one: {piece: first, "
                  "load: 0x1000}, two: {piece: loader, load: 0x48000000, entry: 0x48000010}, tree: "
                  "{piece: blob, type: flat_dt, load: 0x2000}}}\n  blob: {file: blob.dtb}\n");
    CU_ASSERT_TRUE_FATAL(
        runs(0, "cd '%s' && cp '%s/tests/data/machine-arm64.dtb' blob.dtb", w, MOSAICUM_SOURCE));
    edit(w, "s/{boot: {made: boot}}/{boot: {made: boot}, plain: {piece: plain}, carried: {piece: "
            "carried}}/");
    build(w);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && '%s' -q take out/curlew/card.img boot:plain -o plain && "
                              "'%s' -q take out/curlew/card.img boot:carried -o carried",
                              w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    /* 24 KiB at 4 KiB, 256 KiB at 64 KiB, said so in front */
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && [ \"$(od -An -tx4 -N16 plain | tr -d '\\n')\" = ' 00001000 "
                        "00006000 00010000 00040000' ] && dd if=plain bs=4096 skip=1 count=6 "
                        "status=none | cmp - pieces/first.bin && tail -c +65537 plain | cmp - "
                        "pieces/loader.bin",
                        w));
    struct outcome o = run_shell("strings '%s/carried'", w);
    CU_ASSERT_TRUE(has(o.out, "firmware") && has(o.out, "loadables"));
    outcome_free(&o);
    /* what is put somewhere says where; only what is started says where it starts */
    size_t length;
    char *bytes = read_whole(path_in(w, "carried"), &length);
    const char *problem;
    struct core c;
    core_start(&c);
    struct mos_parcel *p = mos_parcel_read(&c.ctx, bytes, length, &problem);
    CU_ASSERT_PTR_NOT_NULL_FATAL(p);
    static const struct {
        const char *part;
        uint32_t load, entry; /* entry 0: none */
    } parts[] = {{"one", 0x1000, 0x1000}, {"two", 0x48000000, 0x48000010}, {"tree", 0x2000, 0}};
    for (size_t i = 0; i < 3; i++) {
        const struct mos_dt_node *n = mos_parcel_part(p, parts[i].part)->node;
        uint32_t load = 0, entry = 0;
        CU_ASSERT(mos_dt_cell(n, "load", &load) && load == parts[i].load);
        CU_ASSERT_EQUAL(mos_dt_cell(n, "entry", &entry), parts[i].entry != 0);
        CU_ASSERT_EQUAL(entry, parts[i].entry);
    }
    core_end(&c);
    free(bytes);
    edit(w, "s/at: 64 KiB/at: 16 KiB/; s/{piece: first, load: 0x1000}/first/");
    o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 1);
    CU_ASSERT_TRUE(has(o.out, "two begins at 16 KiB, before the end of one at 28 KiB"));
    CU_ASSERT_TRUE(has(o.out, "one does not say where it is put"));
    outcome_free(&o);
}

/* ---- who signs ---- */

static const char *with_parcel(const char *name, const char *parcel) {
    const char *w = workspace(name);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir -p keys && cp '%s/demo/saltmarsh/keys/mast.pem' keys/ && openssl rsa "
        "-in keys/mast.pem -pubout -out keys/mast.pub 2>/dev/null && printf '#!/bin/sh\\necho "
        "asked >> asked\\nexec openssl pkeyutl -sign -inkey keys/mast.pem -pkeyopt "
        "digest:sha256\\n' > keys/sign && sed -i 's/via: script/via: parcel\\n  parcel: %s/' "
        "boards/curlew.yaml",
        w, MOSAICUM_SOURCE, parcel));
    return w;
}

static void a_program_may_hold_the_key(void) {
    static const char outside[] =
        "{sign-with: [sh, keys\\/sign], public-key: keys\\/mast.pub, key-name: mast}";
    const char *inside = with_parcel("inside", "{key: keys\\/mast.pem}");
    const char *w = with_parcel("outside", outside);
    build(inside);
    struct outcome o = run_shell("'%s' --no-cache -v -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 0);
    const char *told = strstr(o.out, "signatures: build asks sh for them");
    CU_ASSERT(told && !strstr(told + 1, "signatures: build asks sh for them")); /* once */
    CU_ASSERT_FALSE(exists(path_in(w, "asked")));
    outcome_free(&o);
    build(w);
    CU_ASSERT_TRUE(runs(0, "cmp '%s/out/curlew/boot.parcel' '%s/out/curlew/boot.parcel'", inside,
                        w)); /* PKCS#1 v1.5: whoever signs, the bytes are the same */
    build(w);
    CU_ASSERT_TRUE(runs(0, "[ $(wc -l < '%s/asked') = 1 ]", w)); /* one entry, asked once */
    /* what it says must fit the public key */
    CU_ASSERT_TRUE(
        runs(0, "cd '%s' && rm -r made && printf 'head -c 256 /dev/zero\\n' > keys/sign", w));
    o = run_shell("'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 3);
    CU_ASSERT_TRUE(has(o.err, "is no signature that the public key keys/mast.pub fits"));
    outcome_free(&o);
    CU_ASSERT_TRUE(runs(0, "cd '%s' && printf 'echo locked away >&2; exit 7\\n' > keys/sign", w));
    o = run_shell("'%s' --no-cache --no-run -q -w '%s' build", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 2);
    CU_ASSERT_TRUE(has(o.err, "which --no-run forbids"));
    outcome_free(&o);
    o = run_shell("'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 3);
    CU_ASSERT_TRUE(has(o.err, "did not sign the parcel (status 7): locked away"));
    outcome_free(&o);
}

/* The loader's own tree gets the key; what it was made from stays what is pinned and recorded. */
static void a_parcel_locks_its_loader(void) {
    const char *w = with_parcel("lock", "{key: keys\\/mast.pem, locks: loader}");
    build(w); /* the tree's blob, to stand behind the loader's program */
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_TRUE(has(o.out, "boot.unsigned") && has(o.out, "Loader loader cannot be locked"));
    outcome_free(&o);
    CU_ASSERT_TRUE_FATAL(runs(
        0, "cd '%s' && cat out/curlew/main.dtb >> pieces/loader.bin && rm -f mosaicum.pins", w));
    build(w);
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && '%s' -q take out/curlew/card.img '512 KiB' -o taken && "
                        "strings taken | grep -q '^key-mast$' && head -c 262144 taken | cmp -n "
                        "262144 - pieces/loader.bin && grep -q $(sha256sum < pieces/loader.bin | "
                        "cut -c 1-64) out/curlew/ledger.json",
                        w, MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && grep -A2 '\"name\": \"loader\"' out/curlew/ledger.json | grep -q "
             "\"\\\"size\\\": $(wc -c < pieces/loader.bin)\"",
             w));
    o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_TRUE(has(o.out, "takes its commands from region env, which is not"));
    outcome_free(&o);
    /* that key takes the parcel, and no other one */
    o = run_shell("cd '%s' && tail -c +262145 taken > keys.dtb && '%s' --no-cache rehearse curlew "
                  "--keys keys.dtb",
                  w, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_TRUE(has(o.out, "configuration main is signed by the required key"));
    outcome_free(&o);
    o = run_shell(
        "cd '%s' && M='%s' && $M -q take out/curlew/card.img boot:boot.parcel -o p && sed -i "
        "s/Saltmarsh/saltmarsh/ p && $M -q amend out/curlew/card.img boot:boot.parcel=p -o n.img "
        "&& "
        "$M rehearse n.img --cpu arm64 --ram-start 0x40000000 --ram '512 MiB' --keys keys.dtb",
        w, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 1);
    outcome_free(&o);
}

/* ---- alternatives ---- */

static void overlay(const char *w, const char *name, const char *speed) {
    char text[300];
    snprintf(text, sizeof text, "/dts-v1/;\n/plugin/;\n\n&i2c0 {\n\tclock-frequency = <%s>;\n};\n",
             speed);
    write_text(path_in(w, "overlays/%s.dtso", name), text);
}

static void alternatives_are_checked_one_by_one(void) {
    const char *w = workspace("alternatives");
    overlay(w, "slow", "100000");
    overlay(w, "fast", "400000");
    edit(w,
         "/^    pressure: /d; s/^  overlays:$/&\\n    slow: {file: overlays\\/slow.dtso, when: "
         "boot, one-of: bus}\\n    fast: {file: overlays\\/fast.dtso, when: boot, one-of: bus}/");
    build(w);
    char *script = output(w, "boot-script.txt");
    CU_ASSERT_TRUE(has(script, "if test \"${bus}\" = slow; then\n"));
    CU_ASSERT_TRUE(has(script, "if test \"${bus}\" = fast; then\n"));
    free(script);
    int status; /* both at once, on two trees: told once */
    edit(w, "s/one-of: bus}$/one-of: <>}/; 0,/<>/s//bus/; s/<>/line/; s/^    main: {base: "
            "tree.*/&\\n    "
            "second: {base: tree\\/curlew.dts}/");
    json_t *d = run_json(&status, "-w '%s' check", w), *found = json_object_get(d, "findings");
    CU_ASSERT_EQUAL(status, 1);
    CU_ASSERT_EQUAL(json_array_size(found), 3);
    static const char *const rules[] = {"tree.same-property", "boot.choice-unset",
                                        "boot.choice-unset"}; /* nobody sets bus or line */
    for (size_t i = 0; i < 3; i++)
        CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(json_array_get(found, i), "rule")),
                               rules[i]);
    json_decref(d);
    edit(w, "s/one-of: line/one-of: bus/; s/when: boot, //");
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_TRUE(has(o.out, "Overlays slow and fast are alternatives, and both are applied."));
    outcome_free(&o);
}

/* A parcel brings its overlays: the tree is put aside for them, and the rehearsal applies them. */
static void a_parcel_brings_its_overlays(void) {
    const char *w = workspace("parcel-overlays");
    edit(w, "s/via: script/via: parcel/; s/pressure.dtso/&, when: boot/; s/rs485.dtso/&, when: "
            "boot/");
    build(w);
    struct outcome o = run_shell("'%s' --no-cache -w '%s' rehearse curlew", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_TRUE(has(o.out, "overlay-pressure is applied to the tree") &&
                   has(o.out, "overlay-rs485 is applied to the tree"));
    outcome_free(&o);
    o = run_shell("'%s' --no-cache -w '%s' show curlew ram", MOSAICUM_PROGRAM, w);
    CU_ASSERT_TRUE(has(o.out, "tree    loaded") && has(o.out, "parcel  loaded"));
    outcome_free(&o);
}

/* ---- other ways to the board ---- */

static void a_server_has_what_it_needs(void) {
    static const char *const lines[] = {"setenv autoload no\n",
                                        "setenv ipaddr 192.0.2.20\n",
                                        "setenv netmask 255.255.255.0\n",
                                        "setenv serverip 192.0.2.1\n",
                                        "if tftpboot 0x40200000 jetty/kernel; then\n",
                                        " jetty/main.dtb; then\n",
                                        "booti 0x40200000 - 0x"};
    const char *w = workspace("server");
    edit(w, "s/^boot:$/&\\n  network: {address: 192.0.2.20, server: 192.0.2.1, folder: jetty}/");
    build(w);
    char *script = output(w, "network-boot.txt");
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++)
        CU_ASSERT_TRUE(has(script, lines[i]));
    CU_ASSERT_PTR_NULL(strstr(script, "dhcp"));
    CU_ASSERT_PTR_NULL(strstr(script, "devtype"));
    free(script);
    CU_ASSERT_TRUE(exists(path_in(w, "out/curlew/kernel")) &&
                   exists(path_in(w, "out/curlew/main.dtb")) &&
                   exists(path_in(w, "out/curlew/network-boot.scr")));
    edit(w, "s/address: 192.0.2.20, server: 192.0.2.1/automatic: yes/");
    build(w);
    script = output(w, "network-boot.txt");
    CU_ASSERT_TRUE(has(script, "\ndhcp\n"));
    CU_ASSERT_PTR_NULL(strstr(script, "serverip"));
    free(script);
}

static void a_raw_nand_is_programmed_with_its_correction(void) {
    const char *w = workspace("nand");
    edit(w, "s/^  media:$/&\\n    chip: {kind: nand, size: 16 MiB, erase: 128 KiB, page: 2 KiB, "
            "loader: nand 0, correction: \\\"nandecc hw bch8\\\"}/; s/^layout:$/&\\n  chip: "
            "{regions: {first-copy: {at: 0 B, size: 1 MiB, bad-blocks: 256 KiB, piece: first}}}/");
    build(w);
    char *script = output(w, "chip-program.txt");
    CU_ASSERT_TRUE(has(script, "nand device 0\n") && has(script, "\nnandecc hw bch8\n"));
    CU_ASSERT_TRUE(has(script, "nand erase 0x0 0x100000 && nand write 0x") &&
                   has(script, "&& nand read 0x") && has(script, "&& cmp.b 0x"));
    free(script);
}

/* A kernel that comes to nothing stays so, unless the loader's watchdog bites. */
static void a_watchdog_starts_the_board_again(void) {
    static const char *const facts[][3] = {{"facts: {defaults", "a bare shell", ""},
                                           {"facts: {watchdog: 60, defaults",
                                            "starts again and again",
                                            "the watchdog resets the board after 60 s"}};
    for (size_t i = 0; i < 2; i++) {
        const char *w = workspace("watchdog");
        int status;
        char change[100];
        snprintf(change, sizeof change, "s/facts: {defaults/%s/", facts[i][0]);
        edit(w, change);
        build(w);
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && '%s' -q amend out/curlew/card.img root:~sbin/init -o "
                                  "new && mv new out/curlew/card.img",
                                  w, MOSAICUM_PROGRAM));
        json_t *d = run_json(&status, "-w '%s' rehearse curlew", w);
        char *all = json_dumps(d, 0);
        CU_ASSERT_EQUAL(status, 1);
        CU_ASSERT_TRUE(has(all, facts[i][1]) && has(all, facts[i][2]));
        free(all);
        json_decref(d);
    }
}

/* ---- variables in a file ---- */

static void variables_may_lie_in_a_file(void) {
    const char *w = workspace("variables");
    edit(w,
         "/^      env: /d; s/{boot: {made: boot}}/{boot: {made: boot}, env: {environment: main}}/; "
         "s/^boot:$/system: {loader-access: yes, mounts: {boot: \\/boot}}\\nboot:/; "
         "s/base: {archive: rootfs}/&\\n            system: {made: system}/");
    build(w);
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && '%s' -q take out/curlew/card.img boot:uboot.env -o e && [ $(wc "
                        "-c < e) = 65536 ] && strings e | grep -q '^bootdelay=2$' && '%s' -q take "
                        "out/curlew/card.img root:etc/fw_env.config -o c && grep -qx "
                        "'/boot/uboot.env 0x0 0x10000' c",
                        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    /* the rehearsal finds it there; and says so once something has changed since */
    struct outcome o = run_shell("'%s' --no-cache -w '%s' rehearse curlew", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_TRUE(has(o.out, "environment in uboot.env"));
    CU_ASSERT_PTR_NULL(strstr(o.out, "it was built before"));
    outcome_free(&o);
    edit(w, "s/bootdelay: 2/bootdelay: 3/");
    o = run_shell("'%s' --no-cache -w '%s' rehearse curlew", MOSAICUM_PROGRAM, w);
    CU_ASSERT_TRUE(has(o.out, "it was built before; mosaicum build curlew"));
    outcome_free(&o);
}

/* ---- what is stated and does nothing ---- */

static void idle_keys_are_told(void) {
    static const struct {
        const char *edit, *says, *remedy;
    } rows[] = {
        {"s/via: script/via: menu\\n  tries: 3/", "boot.tries does nothing", "via: script"},
        {"s/via: script/via: environment\\n  tries: 3/", "boot.tries does nothing", "via: script"},
        {"s/via: script/via: menu\\n  otherwise: reset/", "otherwise: reset does", "via: script"},
        {"s/via: script/&\\n  timeout: 3/", "boot.timeout does nothing", "bootdelay"},
        {"s/via: script/via: menu\\n  trees: {variable: rev, values: {b: main}}/",
         "boot.trees does nothing", "via: script"},
        {"s/via: script/via: parcel\\n  trees: {variable: rev, values: {b: main}}/",
         "boot.trees does nothing", "via: script"},
        {"s/via: script/&\\n  parcel: {hash: crc32}/", "boot.parcel does nothing", "via: parcel"},
        {"s/^boot:$/system: {confirm: systemd}\\nboot:/", "system.confirm does nothing",
         "tries: 3"},
        {"s/via: script/via: menu/; s/rs485.dtso/&, when: boot, one-of: gauge/",
         "one-of does nothing", "via: script"},
        {"s/via: script/via: parcel\\n  parcel: {sign-with: sign}/", "which key the signatures",
         "public-key"},
        {"s/via: script/via: parcel\\n  parcel: {sign-with: sign, key: k.pem}/",
         "signed by a key and by a program", "one of the two"},
        {"s/via: script/via: parcel\\n  parcel: {key: k.pem, public-key: k.pub}/",
         "public key does nothing here", "sign-with"},
        {"s/kind: sd, /&correction: x, /", "correction does nothing here", "kind: nand"},
        {"s/^pieces:$/&\\n  pack: {packed: {starts: a, parts: {a: first}}}/",
         "starts does nothing here", "as: parcel"},
        {"s/^pieces:$/&\\n  pack: {packed: {parts: {a: {piece: first, load: 0x1000}}}}/",
         "load does nothing here", "as: parcel"},
        {"s/^pieces:$/&\\n  pack: {packed: {as: parcel, align: 4 KiB, parts: {a: {piece: first, "
         "load: "
         "0x1000}}}}/",
         "align does nothing here", "as: plain"},
        {"s/via: script/via: parcel\\n  parcel: {locks: loader}/", "is to be locked, and there is",
         "key: keys"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = workspace("idle");
        edit(w, rows[i].edit);
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        CU_ASSERT_EQUAL(o.status, 1);
        CU_ASSERT_TRUE(has(o.out, rows[i].says) && has(o.out, rows[i].remedy));
        outcome_free(&o);
        remove_folder(w);
    }
}

/* A menu needs the loader's variables; a ROM may start a file of the first FAT volume. */
static void what_others_look_for_is_there(void) {
    static const struct {
        const char *edit, *says;
    } rows[] = {
        {"s/via: script/via: menu/; s/base: defaults/base: none/",
         "needs the variable kernel_addr_r"},
        {"s/via: script/via: menu/; s/base: defaults/base: none/; s/values: {/&kernel_addr_r: "
         "0x41000000, /",
         "needs the variable fdt_addr_r for the tree"},
        {"s/via: script/via: menu/; s/rs485.dtso/&, when: boot/", "fdtoverlay_addr_r for overlays"},
        {"s/first-stage: {card: {at: 32 KiB, copies: .288 KiB., limit: 192 KiB}}/first-stage: "
         "{card: "
         "{file: first.bin, limit: 192 KiB}}/; /^      first: {stage/d",
         "The ROM starts first.bin of boot, which is not there."},
        {"s/first-stage: {card: {at: 32 KiB, copies: .288 KiB., limit: 192 KiB}}/first-stage: "
         "{card: "
         "{file: first.bin, limit: 16 KiB}}/; /^      first: {stage/d; s/{boot: {made: "
         "boot}}/{boot: "
         "{made: boot}, first: {piece: first, to: first.bin}}/",
         "The ROM reads at most 16 KiB of first.bin; it has 24.0 KiB."},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = workspace("others");
        edit(w, rows[i].edit);
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        CU_ASSERT_TRUE(has(o.out, rows[i].says));
        outcome_free(&o);
        if (i + 1 == sizeof rows / sizeof *rows) {
            edit(w, "s/limit: 16 KiB/limit: 24 KiB/");
            CU_ASSERT_TRUE(runs(0, "'%s' --no-cache -q -w '%s' check", MOSAICUM_PROGRAM, w));
        }
        remove_folder(w);
    }
}

/* Facts stated by hand count more than the loader's configuration file. */
static void stated_facts_count_more(void) {
    const char *w = workspace("facts");
    write_text(path_in(w, "loader/loader.config"), "# CONFIG_CMD_BOOTI is not set\n");
    edit(w, "s/facts: {defaults/facts: {config: loader\\/loader.config, defaults/");
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_TRUE(has(o.out, "loader.command-missing"));
    outcome_free(&o);
    edit(w, "s/facts: {config/facts: {symbols: {CONFIG_CMD_BOOTI: y}, config/");
    CU_ASSERT_TRUE(runs(0, "'%s' --no-cache -q -w '%s' check", MOSAICUM_PROGRAM, w));
}

/* What the tree keeps for others is not for the loader to fill. */
static void reserved_memory_is_kept(void) {
    const char *w = workspace("reserved");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && printf '/ {\\n\\treserved-memory {\\n\\t\\t#address-cells = "
        "<2>;\\n\\t\\t#size-cells = <2>;\\n\\t\\tranges;\\n\\t\\tradio@44000000 {\\n\\t\\t\\treg "
        "= <0 0x44000000 0 0x100000>;\\n\\t\\t};\\n\\t};\\n};\\n' >> tree/curlew.dts && sed -i "
        "'s/^ "
        "     tree: main$/&\\n      addresses: {tree: 0x44080000}/' boards/curlew.yaml",
        w));
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 1);
    CU_ASSERT_TRUE(has(o.out, "ram.held") && has(o.out, "keeps for radio@44000000"));
    outcome_free(&o);
    edit(w, "s/0x44080000/0x44100000/");
    CU_ASSERT_TRUE(runs(0, "'%s' --no-cache -q -w '%s' check", MOSAICUM_PROGRAM, w));
}

SUITE(chain_suite, {"a ramdisk is made from its list", a_ramdisk_is_made_from_its_list},
      {"wrong lists are explained", wrong_lists_are_explained},
      {"pieces are packed", pieces_are_packed},
      {"a program may hold the key", a_program_may_hold_the_key},
      {"a parcel locks its loader", a_parcel_locks_its_loader},
      {"alternatives are checked one by one", alternatives_are_checked_one_by_one},
      {"a parcel brings its overlays", a_parcel_brings_its_overlays},
      {"a server has what it needs", a_server_has_what_it_needs},
      {"idle keys are told", idle_keys_are_told},
      {"what others look for is there", what_others_look_for_is_there},
      {"stated facts count more", stated_facts_count_more},
      {"reserved memory is kept", reserved_memory_is_kept},
      {"a watchdog starts the board again", a_watchdog_starts_the_board_again},
      {"variables may lie in a file", variables_may_lie_in_a_file},
      {"a raw NAND is programmed", a_raw_nand_is_programmed_with_its_correction});
