/* Firmware in stages in a flash: packs with a table of contents, the end of the flash, and what
 * inspect and take say of them later. */
#include "edits.h"

#include "base/bytes.h"
#include "tree/tree.h"

#include <stdlib.h>
#include <string.h>

static bool has(const char *text, const char *part) {
    return strstr(text, part) != NULL;
}

static const char *firmware(const char *name) {
    const char *w = keep(test_folder(name));
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/data/firmware"), w);
    return w;
}

static void mistakes_are_told(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"s/hail: hail/a-name-that-is-longer-than-a-row-has: hail/", "boot.stages",
         "too long for the table", "at most 31"},
        {"s/hail: hail/hail: {piece: hail, type: a-kind-of-16-xxx}/", "boot.stages",
         "too long for the table", "at most 15"},
        {"s/hail: hail/hail: {piece: hail, type: a-kind-of-15-xx}/", NULL, NULL, NULL},
        {"s/align: 64 B/table-at: 4 KiB/", "board.schema", "table-at does nothing here",
         "set as: plain"},
        {"s/align: 64 B/compress: xz/", "board.schema", "compress does nothing here",
         "set as: plain"},
        {"s/as: contents/as: plain/; s/load: [^}]*xz/compress: xz/", "board.schema",
         "compress does nothing here", "set as: contents"},
        {"s/hail: hail/hail: {piece: hail, at: 128 B}/", "boot.stages",
         "hail begins at 128 bytes, before the end of memory", "Set at: 1 KiB."},
        {"s/hail: hail/hail: {piece: hail, at: 1 GiB}/", "boot.stages",
         "hail would end behind 256 MiB", NULL},
        {"s/hail: hail/hail: {piece: hail, at: 56 KiB}/", "budget.exceeded", "56.0 KiB of 44.8",
         NULL},
        {"s/hail: hail/hail: {piece: hail, at: 60 KiB}/", "volume.does-not-fit",
         "does not fit into 56 KiB: it needs 4128 bytes more", "Set size: 64 KiB"},
        /* the file with the end of the flash is not the one that ends there */
        {"s/block: pieces\\/block.bin/block: pieces\\/padded.bin/", "boot.stages",
         "Stage block has no instruction 16 bytes before its end, but 0xff", "reset vector"},
        {"s/block: pieces\\/block.bin/block: pieces\\/padded.bin/; s/cpu: x86-64/cpu: arm64/", NULL,
         NULL, NULL},
        {"s/block: pieces\\/block.bin/block: pieces\\/zeros.bin/", "boot.stages",
         "before its end, but 0x00", NULL},
        {"s/cpu: x86-64/cpu: x86/", "board.schema", "cpu", NULL},
        {"s/memory: pieces.memory.bin/memory: {file: pieces\\/memory.bin, cpu: arm}/",
         "piece.architecture", "memory is made for arm, the board is x86-64", NULL},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = firmware("firmware-mistakes");
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s/pieces' && { cat block.bin; head -c 4096 /dev/zero | tr '\\0' '\\377'; "
                 "} > padded.bin && { cat block.bin; head -c 4096 /dev/zero; } > zeros.bin && sed "
                 "-i 's/block: {size: 4 KiB/block: {size: 8 KiB/; s/60 "
                 "KiB, piece/56 KiB, piece/' ../boards/curlew.yaml",
                 w));
        edits_make(w, rows[i].edit);
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        bool good = rows[i].rule ? o.status == 1 && has(o.out, rows[i].rule) &&
                                       (!rows[i].says || has(o.out, rows[i].says)) &&
                                       (!rows[i].remedy || has(o.out, rows[i].remedy))
                                 : o.status == 0;
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s\n%s%s", rows[i].edit, o.out, o.err);
        outcome_free(&o);
    }
}

/* What inspect says of an image with the ledger beside it, and of a copy without. */
static void flash_is_read_back(void) {
    const char *w = firmware("firmware");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && '%s' --no-cache -q build && cp out/curlew/flash.img "
                              "alone.img && cp alone.img sum.img && cp alone.img table.img && "
                              "printf x | dd of=sum.img bs=1 seek=$((8128 * 1024 + 580)) "
                              "conv=notrunc status=none && printf x | dd of=table.img bs=1 "
                              "seek=$((8128 * 1024 + 40)) conv=notrunc status=none",
                              w, MOSAICUM_PROGRAM));
    static const struct {
        const char *image;
        int status;
        const char *says[8], *not ;
    } rows[] = {
        {"out/curlew/flash.img",
         0,
         {"regions as ledger.json beside it names them", "settings  (empty)", "firmware  pack",
          "2 parts in 608 bytes",
          "memory    stage    xz of 2.6 KiB, to 0x1000000, starts at "
          "0x1000010",
          "hail      file", "block     (piece)"},
         "Something is wrong"},
        {"alone.img", 0, {"pack   2 parts", "memory  stage", "hail    file", " data"}, "ledger"},
        {"sum.img", 1, {"the bytes of this part are not those of its sum", "/hail"}, "/memory"},
        {"table.img", 1, {"the pack cannot be read", "contents is damaged"}, "part 1"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct outcome o =
            run_shell("cd '%s' && '%s' inspect %s", w, MOSAICUM_PROGRAM, rows[i].image);
        CU_ASSERT_EQUAL(o.status, rows[i].status);
        for (size_t k = 0; rows[i].says[k]; k++)
            CU_ASSERT_TRUE(has(o.out, rows[i].says[k]));
        CU_ASSERT_FALSE(has(o.out, rows[i].not ));
        outcome_free(&o);
    }
    /* it is started where it is put, unless that is stated: address, address, sum, flags */
    const char *own = firmware("firmware-entry");
    edits_make(own, "s/hail: hail/hail: {piece: hail, load: 0x2000}/");
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && '%s' --no-cache -q build && dd if=out/curlew/flash.img bs=1 "
             "skip=$((8128 * 1024 + 32 + 104 + 80)) count=24 status=none | od -An -tx4 | "
             "tr -d '\\n' | grep -q '^ 00002000 00000000 00002000 00000000 [0-9a-f]* "
             "00000003$'",
             own, MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && f=out/curlew/flash.img && '%s' -q take $f firmware/hail -o - | "
                        "cmp - pieces/hail.txt && '%s' -q take $f firmware/memory -o - | xz -dc | "
                        "cmp - pieces/memory.bin && '%s' -q take $f settings -o s && [ $(stat -c "
                        "%%s s) = 65536 ] && tail -c 4096 $f | cmp - pieces/block.bin && '%s' "
                        "inspect --json $f | grep -q '\"firmware\"'",
                        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    /* a copy elsewhere is still equal to it, and differs where it does, whichever comes first */
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && f=out/curlew/flash.img && for p in \"$f alone.img\" "
                        "\"alone.img $f\"; do '%s' compare $p | grep -q 'Nothing differs' || exit "
                        "1; done && for p in \"$f sum.img\" \"sum.img $f\"; do '%s' compare $p "
                        "| grep -q '^firmware/hail .*bytes' || exit 1; done",
                        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    /* of another size it is not what the ledger speaks of; neither is what lies outside of it */
    struct outcome o = run_shell("cd '%s' && truncate -s 9M out/curlew/flash.img && '%s' inspect "
                                 "out/curlew/flash.img; sed -i 's/\"length\": 65536/\"length\": "
                                 "99999999/' out/curlew/ledger.json && cp alone.img "
                                 "out/curlew/flash.img && '%s' inspect out/curlew/flash.img",
                                 w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_FALSE(has(o.out, "ledger"));
    outcome_free(&o);
}

/* The same parcel with its data behind the tree, as others pack them. */
static void put_data_behind(const char *from, const char *to) {
    struct core c;
    size_t length;
    core_start(&c);
    char *bytes = read_whole(from, &length);
    struct mos_buf tail = {.arena = c.ctx.arena}, out = tail;
    struct mos_dt *dt = mos_dt_read_blob(&c.ctx, "parcel", bytes, length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
    for (struct mos_dt_node *n = mos_dt_find(dt, "/images")->first_child; n; n = n->next) {
        const struct mos_dt_property *data = mos_dt_property(n, "data");
        uint8_t *cells = mos_alloc(c.ctx.arena, 8);
        mos_put_be32(cells, (uint32_t)data->length);
        mos_put_be32(cells + 4, (uint32_t)tail.length);
        mos_dt_set(dt, n, "data-size", cells, 4);
        mos_dt_set(dt, n, "data-offset", cells + 4, 4);
        mos_buf_add(&tail, data->data, data->length);
        mos_buf_align(&tail, 4);
        mos_dt_remove_property(n, "data");
    }
    mos_dt_write_blob(&c.ctx, dt, false, &out);
    mos_buf_align(&out, 4);
    mos_buf_add(&out, tail.data, tail.length);
    FILE *f = fopen(to, "wb");
    CU_ASSERT_PTR_NOT_NULL_FATAL(f);
    CU_ASSERT_EQUAL(fwrite(out.data, 1, out.length, f), out.length);
    fclose(f);
    free(bytes);
    core_end(&c);
}

/* A parcel shows its parts, also in a region and where data lies behind the tree. */
static void parcels_show_their_parts(void) {
    const char *w = firmware("firmware-parcel");
    edits_make(w, "s/as: contents/as: parcel/; s/align: 64 B/starts: memory/; s/, compress: xz//; "
                  "s/hail: hail/hail: {piece: hail, type: standalone, load: 0x2000000}/; "
                  "s/^pieces:/loader: {dialect: u-boot}\\n&/");
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && '%s' --no-cache -q build", w, MOSAICUM_PROGRAM));
    struct outcome o =
        run_shell("cd '%s' && '%s' inspect out/curlew/flash.img", w, MOSAICUM_PROGRAM);
    CU_ASSERT_TRUE(has(o.out, "firmware  parcel") && has(o.out, "starts early"));
    CU_ASSERT_TRUE(has(o.out, "firmware    to 0x1000000, starts at 0x1000010"));
    CU_ASSERT_TRUE(has(o.out, "standalone  to 0x2000000"));
    outcome_free(&o);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && '%s' -q take out/curlew/flash.img firmware -o p && s=$(od "
             "-An -j4 -N4 --endian=big -tu4 p) && truncate -s $((s)) p",
             w, MOSAICUM_PROGRAM));
    const char *in = keep(path_in(w, "p"));
    put_data_behind(in, path_in(w, "behind"));
    o = run_shell("cd '%s' && '%s' inspect behind ; '%s' -q take behind '0 bytes/hail' -o - | cmp "
                  "- pieces/hail.txt "
                  "&& echo same",
                  w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT_TRUE(has(o.out, "standalone  to 0x2000000") && has(o.out, "same"));
    CU_ASSERT_FALSE(has(o.out, "wrong"));
    outcome_free(&o);
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && '%s' -q take out/curlew/flash.img firmware/hail -o - | cmp - "
                        "pieces/hail.txt && grep -abo 'the tide' out/curlew/flash.img | head -1 | "
                        "cut -d: -f1 > at && printf T | dd of=out/curlew/flash.img bs=1 seek=$(cat "
                        "at) conv=notrunc status=none",
                        w, MOSAICUM_PROGRAM));
    o = run_shell("cd '%s' && '%s' inspect out/curlew/flash.img", w, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 1);
    CU_ASSERT_TRUE(has(o.out, "firmware/hail: the bytes of this part are not those of its hash"));
    outcome_free(&o);
}

/* ---- a stage that starts the kernel by itself ---- */

static const char *direct(const char *name) {
    const char *w = edits_workspace(name, "access.no-shell");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && printf 'first stage 0123456789' >pieces/first.bin && sed -i -E "
        "'/^loader:/,/values:/d; s/via: script/via: stage/; s/flags: .rootwait./addresses: "
        "{kernel: 0x40200000, tree: 0x48000000}, &/; s/^( *)env: .*/\\1first: {stage: "
        "first}\\n\\1tree: {at: 2 MiB, size: 64 KiB, tree: main}\\n\\1kernel: {at: 3 MiB, "
        "size: 8 MiB, piece: kernel}/; /boot: .number/d; s/^pieces:/rom: {first-stage: {card: {at: "
        "1 MiB, limit: 1 MiB}}}\\nstages: {first: {piece: first, by: rom}}\\npieces:\\n  first: "
        "{file: pieces\\/first.bin, license: MIT}/' boards/curlew.yaml",
        w));
    return w;
}

static void a_stage_starts_the_kernel(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"s/addresses: .[^}]*., //", "boot.stages", "nobody says where stage first puts the kernel",
         "addresses: {kernel: 0x…}"},
        {"s/, tree: 0x48000000//", "boot.stages", "nobody says where stage first puts the tree",
         "addresses: {tree: 0x…}"},
        {"s/tree: main, arguments/arguments/", "boot.stages", "it names no tree", "Add tree:"},
        {"s/^ *tree: .at.*//", "boot.stages", "lie in no regions of one medium",
         "{piece: kernel} and {tree: main}"},
        {"s/via: stage/&\\n  timeout: 3/", "board.schema", "boot.timeout does nothing here",
         "via: script"},
        {"s/via: stage/&\\n  tries: 3/", "board.schema", "boot.tries does nothing here", NULL},
        {"s/tree: main, arg/tree: main, ramdisk: first, arg/", "boot.stages",
         "it has a ramdisk, which a stage does not bring", "Build it into the kernel"},
        {"s/^layout:/    other: {kernel: kernel, tree: main}\\n&/", "boot.stages",
         "entry other is never started", "Remove the other entries"},
        {"s/by: rom/&, accepts: legacy/", "boot.stages",
         "kernel kernel is plain, which stage first cannot start", "legacy form"},
        {"s/by: rom/&, accepts: [plain, legacy]/", NULL, NULL, NULL},
        {"s/by: rom/&, accepts: legacy/; s/kernel: .file: ([^,]*),/plain: {file: \\1, license: "
         "MIT}\\n  kernel: "
         "{packed: {as: legacy, parts: {kernel: plain}},/; s/kernel: 0x40200000, //",
         NULL, NULL, NULL},
        {"s/kernel: .file: ([^,]*),/plain: {file: \\1}\\n  kernel: {packed: {as: legacy, compress: "
         "gz, parts: {kernel: plain}},/",
         "boot.format", "compressed with gzip, which the loader cannot expand", NULL},
        {"s/0x48000000/0x40200000/", "ram.overlap", NULL, NULL},
        {"s/kernel: 0x40200000/kernel: 0x40280000/", "ram.misaligned", NULL, NULL},
        {"s/main: tree.curlew.dts/main: tree\\/own.dts/", "tree.arguments-unused",
         "The tree's own arguments have no effect", "Remove bootargs"},
        {"s/main: tree.curlew.dts/main: tree\\/empty.dts/", "boot.stages",
         "tree main has no RAM in it, and nobody fills it in", "Add a node memory@START"},
        {"s/main: tree.curlew.dts/main: tree\\/zero.dts/", "boot.stages",
         "tree main has no RAM in it, and nobody fills it in", NULL},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = direct("direct-mistakes");
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s/tree' && sed 's/chosen {/&bootargs = \"quiet\";/' "
                                  "curlew.dts >own.dts && sed '/memory@/,/};/d' curlew.dts "
                                  ">empty.dts && sed 's/ 0x20000000>/ 0>/' curlew.dts >zero.dts",
                                  w));
        edits_make(w, rows[i].edit);
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        bool good = rows[i].rule
                        ? has(o.out, rows[i].rule) && (!rows[i].says || has(o.out, rows[i].says)) &&
                              (!rows[i].remedy || has(o.out, rows[i].remedy))
                        : o.status == 0 && !has(o.out, "WARNING");
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s\n%s%s", rows[i].edit, o.out, o.err);
        outcome_free(&o);
    }
}

/* What is built says it, too: the tree on the medium has the arguments, and a rehearsal of the
 * image goes by them. */
static void a_stage_is_rehearsed(void) {
    const char *w = direct("direct");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && '%s' --no-cache -q build && dd if=out/curlew/card.img "
             "bs=64K skip=32 count=1 status=none >tree.bin && cmp -n $(stat -c %%s "
             "out/curlew/main.dtb) tree.bin out/curlew/main.dtb && grep -a -o "
             "'root=PARTUUID=[-0-9a-f]* rootwait' tree.bin >line && grep -q "
             "$(cut -d= -f3 line | cut -d' ' -f1) out/curlew/ledger.json",
             w, MOSAICUM_PROGRAM));
    struct outcome o = run_shell("cd '%s' && '%s' --no-cache rehearse curlew && '%s' --no-cache "
                                 "rehearse curlew --planned",
                                 w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_TRUE(has(o.out, "curlew boots: entry main (root card:2 (root))"));
    CU_ASSERT_TRUE(has(o.out, "0x40200000") && has(o.out, "0x48000000"));
    outcome_free(&o);
    /* a header says where it goes, wherever the stage has read it to */
    const char *moved = direct("direct-moved");
    edits_make(moved,
               "s/kernel: .file: ([^,]*),/plain: {file: \\1, license: MIT}\\n  kernel: {packed: "
               "{as: legacy, parts: {kernel: plain}},/; s/kernel: 0x40200000/kernel: "
               "0x50000000/");
    o = run_shell("cd '%s' && '%s' --no-cache rehearse curlew --planned", moved, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_TRUE(has(o.out, "the kernel is moved") && has(o.out, "0x50000000"));
    outcome_free(&o);
    static const struct {
        const char *damage, *says;
    } rows[] = {{"dd if=/dev/zero of=out/curlew/card.img bs=64K seek=32 count=1 conv=notrunc "
                 "status=none",
                 "The device tree is damaged"},
                {"dd if=/dev/zero of=out/curlew/card.img bs=1M seek=3 count=1 conv=notrunc "
                 "status=none",
                 "the kernel has no header that could be started"}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        o = run_shell("cd '%s' && cp out/curlew/card.img kept && %s; '%s' --no-cache rehearse "
                      "curlew; cp kept out/curlew/card.img",
                      w, rows[i].damage, MOSAICUM_PROGRAM);
        CU_ASSERT_TRUE(has(o.out, rows[i].says));
        outcome_free(&o);
    }
}

SUITE(firmware_suite, {"mistakes are told", mistakes_are_told},
      {"flash is read back", flash_is_read_back},
      {"parcels show their parts", parcels_show_their_parts},
      {"a stage starts the kernel", a_stage_starts_the_kernel},
      {"a stage is rehearsed", a_stage_is_rehearsed});
