/* Raw NAND: a build's script is carried out by the rehearsal on a flash with bad blocks, and the
 * kernel of a guest (nandsim, with the same blocks bad) finds in it what was built. */
#include "peers.h"

#include "io/io.h"
#include "loaders/loaders.h"
#include "rehearse/rehearse.h"

#include <stdlib.h>
#include <string.h>

enum { FLASH = 64 << 20, ERASE = 128 << 10 };

static const char board[] =
    "mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm64\n"
    "  ram: {main: {start: 0x40000000, sizes: [256 MiB]}}\n"
    "  media:\n"
    "    store: {kind: nand, size: 64 MiB, erase: 128 KiB, page: 2 KiB, loader: nand 0}\n"
    "    card: {kind: sd, size: 64 MiB, loader: mmc 0}\n"
    "loader: {dialect: u-boot}\n"
    "pieces: {a: {file: pieces/a, license: MIT}, b: {file: pieces/b, license: MIT}}\n"
    "layout:\n  store:\n    regions:\n"
    "      first: {at: 0 B, size: 1 MiB, piece: a}\n"
    "      main: {at: 1 MiB, size: 8 MiB, piece: b}\n"
    "      root: {at: 16 MiB, size: 16 MiB, volume: {kind: squashfs, fills: {f: {folder: "
    "files}}}}\n";

/* The card that its script reads from: another board, whose volume has what was built. */
static const char card[] =
    "mosaicum: 1\nboard: dunlin\n"
    "hardware: {media: {card: {kind: sd, size: 64 MiB}}}\n"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      files: {number: 1, size: rest, volume: {kind: fat32, label: F, fills: "
    "{f: {folder: built}}}}\n";

static const uint64_t bad_blocks[] = {2, 9, 40, 130, 131, 200};
enum { BAD = sizeof bad_blocks / sizeof *bad_blocks };

/* Where the regions of the build begin, and how much is written there: "FILE AT LENGTH" a line. */
static void put_ranges(const char *w) {
    static const struct {
        const char *name;
        unsigned at;
    } regions[] = {{"first", 0}, {"main", 1 << 20}, {"root", 16 << 20}};
    char text[400] = "", bad[100] = "";
    for (size_t i = 0; i < 3; i++) {
        size_t length = 0, n = strlen(text);
        free(read_whole(path_in(w, "ws/out/curlew/store.%s.bin", regions[i].name), &length));
        CU_ASSERT(length > 0 && length % 2048 == 0);
        snprintf(text + n, sizeof text - n, "store.%s.bin %u %zu\n", regions[i].name, regions[i].at,
                 length);
    }
    for (size_t i = 0; i < BAD; i++)
        snprintf(bad + strlen(bad), sizeof bad - strlen(bad), "%s%u", i ? "," : "",
                 (unsigned)bad_blocks[i]);
    write_text(path_in(w, "ranges"), text);
    write_text(path_in(w, "bad"), bad);
}

/* The script of the build, by the rehearsal; what the loader says is its last line. */
static bool rehearse_program(const char *w) {
    struct core c;
    size_t card_length, length;
    core_start(&c);
    uint8_t *flash = malloc(FLASH),
            *files = (uint8_t *)read_whole(path_in(w, "ws/out/dunlin/card.img"), &card_length);
    char *script = read_whole(path_in(w, "ws/out/curlew/store-program.txt"), &length);
    CU_ASSERT_FATAL(files && script);
    memset(flash, 0xff, FLASH);
    struct mos_io io[] = {mos_io_memory(c.ctx.arena, files, card_length),
                          mos_io_memory(c.ctx.arena, flash, FLASH)};
    const struct mos_rig_medium media[] = {{.name = "card", .loader = "mmc 0", .io = &io[0]},
                                           {.name = "store",
                                            .loader = "nand 0",
                                            .io = &io[1],
                                            .keeps = true,
                                            .erase = ERASE,
                                            .bad = bad_blocks,
                                            .bad_count = BAD}};
    const struct mos_rig rig = {.dialect = mos_dialect_at(0),
                                .ram = {0x40000000, 256 << 20},
                                .media = media,
                                .media_count = 2};
    const char *said = mos_rehearsal_type(mos_rehearsal_shell(&c.ctx, &rig), script);
    bool good = strstr(said, "The flash is programmed.") != NULL;
    if (!good)
        fprintf(stderr, "\n%s\n", said);
    write_file(path_in(w, "nand"), flash, FLASH);
    free(flash);
    free(files);
    free(script);
    core_end(&c);
    return good;
}

static void bad_blocks_are_stepped_over(void) {
    char *w = keep(test_folder("nand"));
    if (!exists(path_in(peers_cache(), "x86/complete"))) {
        proved("raw NAND with bad blocks", "NOT DONE: its kernel could not be fetched");
        return;
    }
    write_text(path_in(w, "ws/mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "ws/boards/curlew.yaml"), board);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s/ws' && mkdir pieces files && head -c 700000 /dev/urandom > pieces/a && head -c "
        "7500000 /dev/urandom > pieces/b && head -c 5000000 /dev/urandom > files/f && '%s' "
        "--no-cache -q build curlew && mkdir built && cp out/curlew/store.*.bin built/",
        w, MOSAICUM_PROGRAM));
    write_text(path_in(w, "ws/boards/dunlin.yaml"), card);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "cd '%s/ws' && '%s' --no-cache -q build dunlin", w, MOSAICUM_PROGRAM));
    put_ranges(w);
    bool said = rehearse_program(w);
    CU_ASSERT_TRUE(said);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s/tests/peers/computer/prepare-nand' '%s' '%s'",
                              MOSAICUM_SOURCE, peers_cache(), w));
    struct outcome o = guest_run(w, "");
    bool same = strstr(o.out, "same store.first.bin") && strstr(o.out, "same store.main.bin") &&
                strstr(o.out, "same store.root.bin") && !strstr(o.out, "failed") &&
                strstr(o.out, "marker-end");
    bool real = strstr(o.out, "result size 67108864 131072 6") != NULL;
    if (!same || !real)
        fprintf(stderr, "\n%s\n", o.out);
    CU_ASSERT_TRUE(same && real);
    proved("a raw NAND programmed by the rehearsal of a build's script, read by a kernel (nandsim)",
           "%d of 512 blocks bad, %s", (int)BAD,
           same && real ? "three regions as built (nanddump steps over them)" : "FAILED");
    outcome_free(&o);
    remove_folder(w);
}

SUITE(nand_suite, {"bad blocks are stepped over", bad_blocks_are_stepped_over});
