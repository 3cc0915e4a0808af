/* What goes into an image is what comes out of it, byte for byte. */
#define _GNU_SOURCE
#include "support.h"

#include "base/bytes.h"

#include <archive.h>
#include <archive_entry.h>
#include <stdlib.h>
#include <string.h>

static const struct {
    const char *hardware, *medium, *extra; /* extra: of each region; outputs */
    const char *outputs;
} media[] = {
    {"card: {kind: sd, size: 4 MiB}", "card", "", ""},
    {"card: {kind: sd, size: 4 MiB}", "card", "", "outputs: {card: {compress: gz}}\n"},
    {"card: {kind: sd, size: 4 MiB}", "card", "", "outputs: {card: {compress: xz}}\n"},
    {"card: {kind: sd, size: 4 MiB}", "card", "", "outputs: {card: {compress: zst}}\n"},
    {"card: {kind: sd, size: 4 MiB, sector: 4096 B}", "card", "", ""},
    {"card: {kind: emmc, size: 4 MiB}", "card", "", ""},
    {"card: {kind: nvme, size: 4 MiB}", "card", "", ""},
    {"card: {kind: nor, size: 4 MiB, erase: 64 KiB}", "card", "", ""},
    {"card: {kind: nor, size: 4 MiB, erase: 4 KiB}", "card", "",
     "outputs: {card: {compress: xz}}\n"},
    {"card: {kind: nand, size: 4 MiB, erase: 128 KiB, page: 2 KiB}", "card", "", ""},
    {"card: {kind: nand, size: 4 MiB, erase: 64 KiB, page: 512 B}", "card", "",
     "outputs: {card: {compress: zst}}\n"},
};

/* Random bytes with runs of 0x00 and 0xff of every length around the sizes that matter. */
static uint8_t *content_of(uint64_t *state, size_t length) {
    static const unsigned units[] = {1, 16, 512, 2048, 4096, 8192, 65536};
    uint8_t *p = malloc(length + 1);
    for (size_t at = 0; at < length;) {
        unsigned unit = units[random_below(state, sizeof units / sizeof *units)];
        size_t n = unit + random_below(state, 5) - 2, kind = random_below(state, 3);
        n = n > length - at || !n ? length - at : n;
        for (size_t i = 0; i < n; i++)
            p[at + i] = kind == 0 ? 0 : kind == 1 ? 0xff : (uint8_t)random_next(state);
        at += n;
    }
    return p;
}

/* The bytes of a file, at an offset; they must be those, and nothing else up to `room`: `fill`. */
static bool holds(const uint8_t *image, size_t size, uint64_t at, const uint8_t *bytes,
                  size_t length, uint64_t room, uint8_t fill) {
    if (at + room > size || memcmp(image + at, bytes, length) != 0)
        return false;
    for (uint64_t i = at + length; i < at + room; i++)
        if (image[i] != fill)
            return false;
    return true;
}

static void regions_hold_what_they_were_given(void) {
    uint64_t state = 7;
    for (size_t k = 0; k < sizeof media / sizeof *media; k++) {
        char *w = test_folder("regions"), *text;
        uint8_t *bytes[3];
        size_t lengths[3];
        for (size_t i = 0; i < 3; i++) {
            lengths[i] = random_below(&state, 4) ? 1 + random_below(&state, 200000)
                                                 : 4096 * (1 + random_below(&state, 40));
            bytes[i] = content_of(&state, lengths[i]);
            write_file(path_in(w, "pieces/p%zu", i), bytes[i], lengths[i]);
        }
        if (asprintf(
                &text,
                "mosaicum: 1\nboard: curlew\nhardware: {media: {%s}}\npieces:\n  p0: {file: "
                "pieces/p0}\n  p1: {file: pieces/p1}\n  p2: {file: pieces/p2}\n  all: {packed: "
                "{align: 512 B, parts: {one: {piece: p0}, two: {piece: p2}}}}\n"
                "layout: {card: {regions: {r0: {at: 128 KiB, size: 256 KiB, piece: p0}, r1: {at: "
                "512 KiB, size: 256 KiB, piece: p1}, r2: {at: 1 MiB, size: 512 KiB, piece: "
                "all}}}}\n%s",
                media[k].hardware, media[k].outputs) < 0)
            abort();
        write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
        write_text(path_in(w, "boards/curlew.yaml"), text);
        free(text);
        CU_ASSERT_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
        size_t size, n;
        uint8_t *image = (uint8_t *)read_whole(path_in(w, "out/curlew/card.img"), &size);
        bool flash = strstr(media[k].hardware, "nor") || strstr(media[k].hardware, "nand");
        uint8_t fill = flash ? 0xff : 0;
        size_t second = (lengths[0] + 511) / 512 * 512, whole = second + lengths[2];
        uint8_t *pack = calloc(1, whole);
        memcpy(pack, bytes[0], lengths[0]);
        memcpy(pack + second, bytes[2], lengths[2]);
        CU_ASSERT_TRUE(holds(image, size, 128 << 10, bytes[0], lengths[0], 256 << 10, fill));
        CU_ASSERT_TRUE(holds(image, size, 512 << 10, bytes[1], lengths[1], 256 << 10, fill));
        CU_ASSERT_TRUE(holds(image, size, 1 << 20, pack, whole, 512 << 10, fill));
        /* the file for a programmer, and the compressed one */
        uint8_t *part =
            flash ? (uint8_t *)read_whole(path_in(w, "out/curlew/card.r1.bin"), &n) : NULL;
        CU_ASSERT(!flash || (n >= lengths[1] && holds(part, n, 0, bytes[1], lengths[1], n, 0xff)));
        if (*media[k].outputs)
            CU_ASSERT(
                runs(0,
                     "cd '%s/out/curlew' && f=$(ls card.img.*) && case $f in *.gz) gzip -dc $f;; "
                     "*.xz) xz -dc $f;; *) zstd -qdc $f;; esac | cmp - card.img",
                     w));
        free(part);
        free(pack);
        free(image);
        for (size_t i = 0; i < 3; i++)
            free(bytes[i]);
        remove_folder(w);
    }
}

/* A first stage at the top of a flash ends with its last byte; its copies are told everybody. */
static void first_stages_lie_where_the_rom_looks(void) {
    char *w = test_folder("top");
    uint8_t program[5000];
    for (size_t i = 0; i < sizeof program; i++)
        program[i] = (uint8_t)(i * 7 + 1);
    write_file(path_in(w, "pieces/first.bin"), program, sizeof program);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "tree/x.dts"),
        "/dts-v1/;\n/ { #address-cells = <1>; #size-cells = <1>; flash@0 { reg = <0 0>; }; };\n");
    static const char board[] =
        "mosaicum: 1\nboard: curlew\n"
        "hardware: {cpu: arm64, ram: {main: {start: 0x40000000, sizes: [256 MiB]}}, media: {flash: "
        "{kind: nor, size: 1 MiB, erase: 4 KiB, loader: sf 0, flash-id: 0.flash, node: "
        "/flash@0}}}\n"
        "rom: {order: [flash], first-stage: {flash: %s}}\n"
        "stages: {first: {piece: first, by: rom}}\npieces: {first: {file: pieces/first.bin}}\n"
        "loader: {dialect: u-boot}\ntree: {blobs: {main: tree/x.dts}}\n"
        "layout: {flash: {regions: {first: {stage: first}}}}\n";
    char *text;
    size_t size;
    if (asprintf(&text, board, "{ends-at-top: yes, limit: 64 KiB}") < 0)
        abort();
    write_text(path_in(w, "boards/curlew.yaml"), text);
    free(text);
    CU_ASSERT_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    char *image = read_whole(path_in(w, "out/curlew/flash.img"), &size);
    CU_ASSERT(size == 1 << 20 &&
              memcmp(image + size - sizeof program, program, sizeof program) == 0);
    CU_ASSERT((uint8_t)image[size - sizeof program - 1] == 0xff);
    free(image);
    char *part = read_whole(path_in(w, "out/curlew/flash.first.bin"), &size);
    CU_ASSERT(size == sizeof program && memcmp(part, program, size) == 0);
    free(part);
    CU_ASSERT(runs(0,
                   "grep -q 'sf write 0x[0-9a-f]* 0x%zx 0x%zx' '%s/out/curlew/flash-program.txt'",
                   (1ul << 20) - sizeof program, sizeof program, w));
    if (asprintf(&text, board, "{at: 0 B, copies: [64 KiB, 128 KiB], limit: 64 KiB}") < 0)
        abort();
    write_text(path_in(w, "boards/curlew.yaml"), text);
    free(text);
    CU_ASSERT_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    CU_ASSERT(
        runs(0,
             "cd '%s/out/curlew' && grep -q 'erase 0x10000 0x10000' flash-program.txt && grep -q "
             "'erase 0x20000 0x10000' flash-program.txt && cmp flash.first.bin "
             "flash.first-copy2.bin && grep -aq first-copy1 main.dtb",
             w));
    struct outcome o = run_shell("'%s' -w '%s' show layout", MOSAICUM_PROGRAM, w);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "0.flash:64k(first),64k(first-copy1),64k(first-copy2)"));
    outcome_free(&o);
}

/* The 32 bytes of the short entry of a file, and how many entries its long name takes. */
static const uint8_t *short_entry(const uint8_t *folder, const char name[11], unsigned *longs) {
    *longs = 0;
    for (const uint8_t *e = folder; *e; e += 32) {
        if (e[11] == 0x0f) {
            ++*longs;
            continue;
        }
        if (memcmp(e, name, 11) == 0)
            return e;
        *longs = 0;
    }
    return NULL;
}

static void short_names_are_kept(void) {
    static const struct {
        const char *name, *is; /* 11 characters, blank padded */
        unsigned flags, longs;
    } names[] = {
        {"config.txt", "CONFIG  TXT", 0x18, 0}, {"START.ELF", "START   ELF", 0, 0},
        {"boot.scr", "BOOT    SCR", 0x18, 0},   {"Image", "IMAGE      ", 0, 1},
        {"README.md", "README  MD ", 0x10, 0},  {"kernel8.IMG", "KERNEL8 IMG", 0x08, 0},
        {"a.b.c", "AB~1    C  ", 0, 1},         {".config", "CONFIG~1   ", 0, 1},
        {"long-name.dtb", "LONG-N~1DTB", 0, 1}, {"long-name2.dtb", "LONG-N~2DTB", 0, 2},
        {"x y", "XY~1       ", 0, 1},           {"a+b.txt", "A_B~1   TXT", 0, 1},
        {"1234", "1234       ", 0, 0},          {"extlinux.conf", "EXTLIN~1CON", 0, 1},
        {"config.txts", "CONFIG~1TXT", 0, 1},   {"\xd0\x9c\xd0\xb8\xd1\x80", "___~1      ", 0, 1},
    };
    char *w = test_folder("shorts");
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        write_text(path_in(w, "files/%s", names[i].name), names[i].name);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 16 MiB}}}\n"
        "layout: {card: {table: {kind: mbr}, regions: {boot: {number: 1, at: 1 MiB, size: 8 MiB, "
        "volume: {kind: fat16, volume-id: 1a2b-3c4d, fills: {all: {folder: files}}}}}}}\n"
        "system: {mounts: {boot: {at: /boot}}}\n");
    CU_ASSERT_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    size_t size;
    uint8_t *image = (uint8_t *)read_whole(path_in(w, "out/curlew/card.img"), &size);
    const uint8_t *volume = image + (1 << 20);
    const uint8_t *folder =
        volume + 512u * (mos_le16(volume + 14) + volume[16] * mos_le16(volume + 22));
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        unsigned longs;
        const uint8_t *e = short_entry(folder, names[i].is, &longs);
        if (!e || e[12] != names[i].flags || longs != names[i].longs)
            printf("\n%s: %s %02x %u\n", names[i].name, e ? "" : "not there", e ? e[12] : 0, longs);
        CU_ASSERT(e && e[12] == names[i].flags && longs == names[i].longs);
    }
    free(image);
    CU_ASSERT(runs(0, "cd '%s' && '%s' inspect out/curlew/card.img --files | grep -q config.txt", w,
                   MOSAICUM_PROGRAM));
    /* its identifier stays in a draft made from it */
    CU_ASSERT(runs(0,
                   "cd '%s' && '%s' -q -w . new jetty --from '%s/out/curlew/card.img' && grep -q "
                   "'kind: fat16, volume-id: 1A2B-3C4D' boards/jetty.yaml",
                   test_folder("shorts-again"), MOSAICUM_PROGRAM, w));
}

/* An archive with a file of user 2^32, which is root for whoever cuts it. */
static void write_large_owner(const char *path) {
    struct archive *a = archive_write_new();
    struct archive_entry *e = archive_entry_new();
    archive_write_set_format_pax(a);
    archive_write_open_filename(a, path);
    archive_entry_set_pathname(e, "etc/x");
    archive_entry_set_filetype(e, AE_IFREG);
    archive_entry_set_perm(e, 0644);
    archive_entry_set_uid(e, 1ll << 32);
    archive_write_header(a, e);
    archive_entry_free(e);
    CU_ASSERT_EQUAL(archive_write_close(a), ARCHIVE_OK);
    archive_write_free(a);
}

/* A root with a shadow of its own group and mode; owners that no file system can store. */
static void owners_and_modes_stay(void) {
    char *w = test_folder("owners");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    static const char board[] =
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 32 MiB, kernel: "
        "mmcblk0}}}\npieces: {root: {file: pieces/root.tar}}\n"
        "layout: {card: {table: {kind: gpt}, regions: {boot: {number: 1, size: 8 MiB, volume: "
        "{kind: "
        "fat16}}, root: {number: 2, size: rest, volume: {kind: ext4, fills: {base: {archive: "
        "root}, "
        "system: {made: system}}}}}}}\n"
        "system: {host-name: curlew, mounts: {root: {at: /}, boot: {at: /boot}}, users: {root: "
        "{locked: yes}}}\n";
    write_text(path_in(w, "boards/curlew.yaml"), board);
    CU_ASSERT(
        runs(0,
             "cd '%s' && mkdir -p r/etc r/boot pieces && echo 'root:*:1::::::' > r/etc/shadow && "
             "echo 'root:x:0:0::/:/bin/sh' > r/etc/passwd && chmod 640 r/etc/shadow && tar -C r "
             "--owner=0 --group=42 -cf pieces/root.tar .",
             w));
    CU_ASSERT_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    CU_ASSERT(
        runs(0,
             "cd '%s' && '%s' take out/curlew/card.img root:etc -o etc.tar && tar -tvf etc.tar | "
             "grep shadow | grep -q '^-rw-r----- 0/42' && tar -xOf etc.tar etc/fstab | grep -q "
             "'/boot vfat'",
             w, MOSAICUM_PROGRAM));
    write_large_owner(path_in(w, "pieces/root.tar"));
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT(o.status == 1 && strstr(o.out, "volume.cannot-hold") &&
              strstr(o.out, "more than 32 bits"));
    outcome_free(&o);
}

SUITE(bytes_suite, {"regions hold what they were given", regions_hold_what_they_were_given},
      {"first stages lie where the ROM looks", first_stages_lie_where_the_rom_looks},
      {"short names are kept", short_names_are_kept},
      {"owners and modes stay", owners_and_modes_stay});
