/* Kernels and modules: what only the whole file tells, and where that puts things in RAM. */
#include "binaries.h"
#include "support.h"

#include "base/bytes.h"
#include "boot/placement.h"
#include "content/content.h"
#include "linux/image.h"
#include "linux/match.h"
#include "linux/module.h"
#include "linux/program.h"
#include "loaders/u-boot/legacy.h"

#include <stdlib.h>
#include <string.h>

/* ---- modules ---- */

static void modules_say_what_they_need(void) {
    static const char facts[] = "license=GPL\0depends=virtio,virtio_ring\0softdep=pre: crc32c "
                                "crc16 post: extra\0weakdep=late1 late2\0alias=pci:x\0depends=";
    for (int wide = 0; wide < 2; wide++) {
        struct core c;
        struct mos_module_info info;
        core_start(&c);
        struct mos_buf b = {.arena = c.ctx.arena};
        make_module(&b, wide, facts, sizeof facts);
        CU_ASSERT_TRUE_FATAL(
            mos_module_read(c.ctx.arena, (const uint8_t *)b.data, b.length, &info));
        CU_ASSERT_STRING_EQUAL(info.cpu, wide ? "arm64" : "arm");
        CU_ASSERT_EQUAL_FATAL(info.needs.count, 2);
        CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&info.needs, 1), "virtio_ring");
        CU_ASSERT_EQUAL_FATAL(info.wants.count, 4);
        CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&info.wants, 0), "crc32c");
        CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&info.wants, 2), "late1");
        CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&info.wants, 3), "late2");
        CU_ASSERT_EQUAL_FATAL(info.aliases.count, 1);
        CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&info.aliases, 0), "pci:x");
        for (size_t n = 0; n < b.length; n++) /* cut anywhere: refused, never beyond its end */
            CU_ASSERT_FALSE(mos_module_read(
                c.ctx.arena, memcpy(mos_alloc(c.ctx.arena, n + 1), b.data, n), n, &info));
        core_end(&c);
    }
}

/* Symbols with a sum, else those that are listed by name; cut anywhere: never beyond the end. */
static void modules_say_what_they_give(void) {
    static const char names[] = "\0__crc_tide_read\0tide_read\0__crc_tide_stop\0__crc_";
    static const char listed[] = "mast_up\0\0mast_down\0cut";
    for (int kind = 0; kind < 4; kind++) {
        bool wide = kind & 1, sums = kind & 2;
        size_t row = wide ? 24 : 16;
        uint8_t table[5 * 24] = {0};
        const uint32_t at[] = {0, 1, 17, 27, 43};
        for (size_t i = 0; i < 5; i++)
            mos_put_le32(table + i * row, sums ? at[i] : 17);
        const struct elf_section sections[] = {{"__ksymtab_strings", listed, sizeof listed - 1},
                                               {".symtab", table, 5 * row},
                                               {".strtab", names, sizeof names}};
        struct core c;
        core_start(&c);
        struct mos_buf b = {.arena = c.ctx.arena};
        struct mos_vec out = mos_vec_make(c.ctx.arena, sizeof(char *));
        make_sections(&b, wide, sections, 3);
        mos_module_symbols(c.ctx.arena, (const uint8_t *)b.data, b.length, &out);
        CU_ASSERT_EQUAL_FATAL(out.count, 2);
        CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&out, 0), sums ? "tide_read" : "mast_up");
        CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&out, 1), sums ? "tide_stop" : "mast_down");
        for (size_t n = 0; n < b.length; n++) {
            out.count = 0;
            mos_module_symbols(c.ctx.arena, memcpy(mos_alloc(c.ctx.arena, n + 1), b.data, n), n,
                               &out);
            CU_ASSERT(out.count <= 2);
        }
        core_end(&c);
    }
}

/* ---- programs ---- */

static void programs_are_told_apart(void) {
    static const struct {
        bool wide;
        unsigned machine;
        const char *interpreter, *cpu;
        size_t loaded;
        bool cut;
    } cases[] = {{true, 183, "/lib/ld-linux-aarch64.so.1", "arm64", 1024, false},
                 {true, 183, NULL, "arm64", 1025, true},
                 {false, 40, "/lib/ld-linux-armhf.so.3", "arm", 1024, false},
                 {false, 40, NULL, "arm", 4000, true},
                 {true, 243, "/lib/ld.so", "riscv64", 0, false},
                 {false, 243, NULL, "riscv32", 10, false},
                 {false, 3, NULL, "x86", 10, false},
                 {true, 62, NULL, "x86-64", 10, false},
                 {true, 999, NULL, NULL, 10, false}};
    static const struct {
        const char *text, *interpreter; /* NULL: no program */
    } scripts[] = {{"#!/bin/sh\n", "/bin/sh"},
                   {"#! \t/bin/sh -e\n", "/bin/sh"},
                   {"#!/bin/sh\r\n", "/bin/sh\r"},
                   {"#!/bin/sh\r", "/bin/sh\r"},
                   {"#!/bin/sh", "/bin/sh"},
                   {"#!\n", NULL},
                   {"#! \n", NULL},
                   {"# /bin/sh\n", NULL},
                   {"#", NULL},
                   {"/bin/sh\n", NULL}};
    struct core c;
    struct mos_program_info info;
    uint8_t bytes[1024];
    core_start(&c);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        size_t n = make_program(bytes, cases[i].wide, cases[i].machine, cases[i].interpreter,
                                cases[i].loaded);
        CU_ASSERT_TRUE_FATAL(mos_program_read(c.ctx.arena, bytes, n, &info));
        CU_ASSERT(info.elf && !info.script && info.cut == cases[i].cut);
        CU_ASSERT(cases[i].cpu ? info.cpu && strcmp(info.cpu, cases[i].cpu) == 0 : !info.cpu);
        CU_ASSERT(cases[i].interpreter
                      ? info.interpreter && strcmp(info.interpreter, cases[i].interpreter) == 0
                      : !info.interpreter);
        /* the last header ends where the file does: it counts, and with a byte less it does not */
        size_t headers = cases[i].wide ? 64 + 3 * 56 : 52 + 3 * 32;
        for (size_t less = 0; less < 2 && cases[i].loaded > 500; less++) {
            CU_ASSERT_TRUE(mos_program_read(c.ctx.arena, bytes, headers - less, &info));
            CU_ASSERT_EQUAL(info.cut, !less);
        }
        for (n = 64; n < 1024; n++) { /* never beyond what is given */
            uint8_t *copy = memcpy(malloc(n), bytes, n);
            CU_ASSERT_TRUE(mos_program_read(c.ctx.arena, copy, n, &info));
            free(copy);
        }
    }
    for (size_t i = 0; i < sizeof scripts / sizeof *scripts; i++) {
        bool is = mos_program_read(c.ctx.arena, (const uint8_t *)scripts[i].text,
                                   strlen(scripts[i].text), &info);
        CU_ASSERT_EQUAL(is, scripts[i].interpreter != NULL);
        CU_ASSERT(!is || (info.script && !info.elf &&
                          strcmp(info.interpreter, scripts[i].interpreter) == 0));
    }
    static const struct {
        const char *text, *release;
    } banners[] = {{"x Linux version 6.1.0-curlew (tide@jetty)", "6.1.0-curlew"},
                   {"Linux version x Linux version 5.4 ", "5.4"},
                   {"Linux version 5.4", "5.4"},
                   {"Linux version ", NULL},
                   {"linux version 5.4 ", NULL},
                   {"LLinux version 4\n", "4"}};
    for (size_t i = 0; i < sizeof banners / sizeof *banners; i++) {
        const char *r = mos_kernel_banner(c.ctx.arena, (const uint8_t *)banners[i].text,
                                          strlen(banners[i].text));
        CU_ASSERT(banners[i].release ? r && strcmp(r, banners[i].release) == 0 : !r);
    }
    core_end(&c);
}

static void modules_have_names(void) {
    static const char *const rows[][2] = {{"lib/modules/6.1/kernel/virtio-blk.ko", "virtio_blk"},
                                          {"a/ext4.ko.xz", "ext4"},
                                          {"crc16.ko.zst", "crc16"},
                                          {"lib/modules/6.1/modules.dep", NULL},
                                          {"a/.ko", NULL},
                                          {"a/x.kom", NULL}};
    struct core c;
    core_start(&c);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *name = mos_module_name(c.ctx.arena, rows[i][0]);
        CU_ASSERT(rows[i][1] ? name && strcmp(name, rows[i][1]) == 0 : name == NULL);
    }
    CU_ASSERT_TRUE(mos_module_same("virtio-blk", "virtio_blk"));
    CU_ASSERT_FALSE(mos_module_same("virtio-blk", "virtio_blk2"));
    CU_ASSERT_FALSE(mos_module_same("virtio_blk2", "virtio-blk"));
    core_end(&c);
}

/* ---- kernels ---- */

/* An arm64 image whose table of sections says that it has `stated` bytes. */
static void make_image(uint8_t *bytes, size_t length, uint64_t running, uint32_t stated) {
    uint64_t seed = 5;
    memcpy(bytes, "MZ", 2);
    for (size_t i = 64; i < length; i++)
        bytes[i] = (uint8_t)(random_next(&seed) & 15);
    mos_put_le64(bytes + 16, running);
    mos_put_le64(bytes + 24, 0xa);
    memcpy(bytes + 56, "ARM\x64", 4);
    mos_put_le32(bytes + 60, 64);
    memcpy(bytes + 64, "PE\0\0\0\0\1", 8); /* one section */
    mos_put_le16(bytes + 84, 0);
    mos_put_le32(bytes + 88 + 16, stated - 0x1000);
    mos_put_le32(bytes + 88 + 20, 0x1000);
}

static bool measured(struct core *c, const void *bytes, size_t length,
                     struct mos_kernel_header *h) {
    struct mos_kernel_facts facts;
    const uint8_t *p = bytes;
    return mos_kernel_read(p, (size_t)mos_min(length, MOS_KERNEL_HEAD), length, h) &&
           mos_kernel_measure(&c->ctx, p, length, h, &facts) && mos_kernel_apply(h, &facts);
}

/* Compressed, wrapped, both: always the kernel inside, with what lies around it. */
static void kernels_are_looked_into(void) {
    enum { SIZE = 300000, RUNNING = 400000 };
    static const char *const kinds[] = {"gz", "xz", "zst", NULL}, *const names[] = {"gzip", "xz",
                                                                                    "zstd", NULL};
    static uint8_t image[SIZE];
    struct core c;
    struct mos_kernel_header h;
    core_start(&c);
    for (size_t i = 0; i < 4; i++)
        for (int kind = 0; kind < 4; kind++) {
            bool wrapped = kind & 1, lacking = kind & 2;
            struct mos_buf packed = {.arena = c.ctx.arena}, all = {.arena = c.ctx.arena};
            static const uint8_t codes[] = {1, 0, 6, 0}; /* of a legacy header; xz has none */
            uint8_t head[MOS_LEGACY_HEADER] = {0x27, 0x05, 0x19, 0x56};
            if (wrapped && kinds[i] && !codes[i])
                continue;
            make_image(image, SIZE, RUNNING, SIZE + lacking);
            bool made = true;
            if (kinds[i])
                made = mos_pack_memory(&c.ctx, kinds[i], image, SIZE, &packed);
            else
                mos_buf_add(&packed, image, SIZE);
            CU_ASSERT_TRUE_FATAL(made);
            mos_put_be32(head + 12, (uint32_t)packed.length);
            mos_put_be32(head + 16, 0x48000000);
            mos_put_be32(head + 20, 0x48000040);
            head[29] = 22;
            head[30] = 2;
            head[31] = codes[i];
            mos_legacy_seal(head, packed.data, packed.length);
            if (wrapped)
                mos_buf_add(&all, head, sizeof head);
            mos_buf_add(&all, packed.data, packed.length);
            CU_ASSERT_TRUE_FATAL(measured(&c, all.data, all.length, &h));
            CU_ASSERT(names[i] ? h.compression && strcmp(h.compression, names[i]) == 0
                               : !h.compression);
            CU_ASSERT_EQUAL(h.form, wrapped ? MOS_KERNEL_WRAPPED : MOS_KERNEL_IMAGE);
            CU_ASSERT(h.plain_size == SIZE && h.running_size == RUNNING && h.anywhere);
            CU_ASSERT(h.wrapped == wrapped && (!wrapped || h.entry == 0x48000040));
            /* what is stated and what is there are of the same thing, packed or not */
            CU_ASSERT(h.stated_size == SIZE + (uint64_t)lacking && h.held_size == SIZE);
            for (size_t n = 1; n < 8; n++) { /* cut off: not to be expanded, or said */
                bool is = measured(&c, all.data, all.length * n / 8, &h);
                CU_ASSERT(names[i] ? !is : is && h.stated_size > h.held_size);
            }
        }
    /* one from before there were sections does not say how long it is; its header does */
    memset(image + 64, 0, 64);
    struct mos_buf old = {.arena = c.ctx.arena};
    uint8_t head[MOS_LEGACY_HEADER] = {0x27, 0x05, 0x19, 0x56};
    head[29] = 22;
    head[30] = 2;
    mos_legacy_seal(head, image, SIZE);
    mos_buf_add(&old, head, sizeof head);
    mos_buf_add(&old, image, SIZE);
    CU_ASSERT(measured(&c, old.data, old.length, &h) && h.stated_size <= h.held_size);
    CU_ASSERT(measured(&c, old.data, old.length - 9, &h) && h.stated_size > h.held_size);
    core_end(&c);
}

/* The table of facts at the end of a 32-bit Arm kernel that expands itself. */
static void self_expanding_kernels_tell_their_size(void) {
    static uint8_t z[ZIMAGE];
    struct core c;
    struct mos_kernel_header h;
    core_start(&c);
    make_zimage(z);
    mos_put_le32(z + 0x34, 0);
    CU_ASSERT_TRUE(measured(&c, z, sizeof z, &h));
    CU_ASSERT_EQUAL(h.expanded_size, 0); /* an old one without a table */
    make_zimage(z);
    CU_ASSERT_TRUE(measured(&c, z, sizeof z, &h));
    CU_ASSERT_EQUAL(h.expanded_size, 0x1400000);
    CU_ASSERT_EQUAL(h.expands_to, 0x208000);
    mos_put_le32(z + 8008, sizeof z - 2); /* the size would lie behind the end */
    CU_ASSERT_TRUE(measured(&c, z, sizeof z, &h));
    CU_ASSERT_EQUAL(h.expanded_size, 0);
    core_end(&c);
}

static bool apart(struct mos_ram_span a, struct mos_ram_span b) {
    return !a.length || !b.length || a.start + a.length <= b.start || b.start + b.length <= a.start;
}

/* Whatever the kernel is: what is chosen never meets. */
static void chosen_places_never_meet(void) {
    struct mos_ram_map ram = {0x40000000, 512 << 20, 0x40000000 + (472 << 20)};
    uint64_t seed = 11;
    for (int n = 0; n < 3000; n++) {
        struct mos_kernel_header h = {.alignment = 2 << 20, .anywhere = random_below(&seed, 2)};
        struct mos_loads l = {.header = &h,
                              .kernel = 1 + random_below(&seed, 20 << 20),
                              .tree = 100 + random_below(&seed, 200000),
                              .ramdisk = random_below(&seed, 2) * random_below(&seed, 60 << 20),
                              .in_parcel = random_below(&seed, 2)};
        uint64_t kind = random_below(&seed, 3);
        h.running_size = l.kernel + random_below(&seed, 20 << 20);
        if (kind == 0) {
            h.compression = "gzip";
            h.plain_size = l.kernel + random_below(&seed, 40 << 20);
            h.running_size = h.plain_size + random_below(&seed, 1 << 20);
        } else if (kind == 1) {
            h = (struct mos_kernel_header){.alignment = 4096,
                                           .expanded_size = 1 + random_below(&seed, 60 << 20),
                                           .expands_to =
                                               0x8000 + 0x200000 * random_below(&seed, 2)};
        } else {
            h.wrapped = true;
            h.load = ram.start + (random_below(&seed, 100) << 20);
        }
        struct mos_placement p[3] = {{.what = "kernel"}, {.what = "tree"}, {.what = "ramdisk"}};
        mos_placement_settle(&ram, &l, &p[0], &p[1], &p[2]);
        for (int a = 0; a < 3; a++)
            for (int b = a + 1; b < 3; b++)
                for (int x = 0; x < MOS_RANGE_COUNT; x++)
                    for (int y = 0; y < MOS_RANGE_COUNT; y++)
                        if (kind < 2 || a || x != MOS_RANGE_FINAL) /* that one's place is given */
                            CU_ASSERT_TRUE(apart(p[a].ranges[x], p[b].ranges[y]));
        CU_ASSERT_TRUE(apart(p[0].ranges[MOS_RANGE_LOADED], p[0].ranges[MOS_RANGE_MOVED]));
        if (kind == 2)
            CU_ASSERT_TRUE(apart(p[0].ranges[MOS_RANGE_LOADED], p[0].ranges[MOS_RANGE_FINAL]));
    }
}

/* An arm64 image with a table of sections says how long it is. */
static void images_say_where_they_end(void) {
    static const struct {
        unsigned sections, raw[2], at[2];
        uint64_t end;
    } rows[] = {{0, {0, 0}, {0, 0}, 0},
                {1, {0x1000, 0}, {0x10000, 0}, 0x11000},
                {2, {0x1430000, 0x5b9200}, {0x10000, 0x1440000}, 0x19f9200},
                {2, {0x5b9200, 0x1430000}, {0x1440000, 0x10000}, 0x19f9200},
                {2, {0xffffffff, 1}, {0xffffffff, 1}, 0x1fffffffe}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        for (size_t length = 64; length <= 512; length += i ? 16 : 448) {
            uint8_t head[512] = {'M', 'Z'};
            struct mos_kernel_header h;
            mos_put_le32(head + 56, 0x644d5241);
            mos_put_le32(head + 60, 64);
            memcpy(head + 64, "PE\0\0", 4);
            mos_put_le16(head + 70, (uint16_t)rows[i].sections);
            mos_put_le16(head + 84, 160); /* of the part before the table */
            for (unsigned k = 0; k < rows[i].sections; k++) {
                mos_put_le32(head + 248 + 40 * k + 16, rows[i].raw[k]);
                mos_put_le32(head + 248 + 40 * k + 20, rows[i].at[k]);
            }
            CU_ASSERT_TRUE_FATAL(mos_kernel_read(head, length, 1 << 20, &h));
            CU_ASSERT(length < 248 + 40 * rows[i].sections ? h.stated_size <= rows[i].end
                                                           : h.stated_size == rows[i].end);
        }
}

/* A kernel for PCs says since version 2.12 of its header whether it has a 64-bit start. */
static void a_pc_kernel_says_its_width(void) {
    static const struct {
        unsigned version, flags;
        const char *cpu;
    } rows[] = {
        {0x20c, 1, "x86-64"}, {0x20f, 0x7f, "x86-64"}, {0x20c, 2, "x86"}, {0x20b, 1, "x86"}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        uint8_t head[1024] = {0};
        struct mos_kernel_header h;
        memcpy(head + 0x202, "HdrS", 4);
        mos_put_le32(head + 0x206, rows[i].version);
        mos_put_le32(head + 0x236, rows[i].flags);
        CU_ASSERT_TRUE_FATAL(mos_kernel_read(head, sizeof head, sizeof head, &h));
        CU_ASSERT_STRING_EQUAL(h.cpu, rows[i].cpu);
    }
    CU_ASSERT(mos_start_fits("x86-64", "x86") && !mos_start_fits("arm64", "arm") &&
              mos_program_fits("arm64", "arm") && !mos_program_fits("arm", "arm64") &&
              !mos_start_fits("x86-64", NULL) && !mos_start_fits(NULL, "x86"));
}

/* ---- match tables ---- */

/* Rows made by chance among bytes made by chance: all of them are found, and nothing else that
 * could be one is; what is found can be kept. */
static void match_tables_are_found(void) {
    enum { ROWS = 12, GAP = 400 };
    for (uint64_t seed = 1; seed <= 60; seed++) {
        uint64_t state = seed;
        bool wide = seed & 1;
        size_t align = wide ? 8 : 4, length = 0, row = 32 + 32 + 128 + align;
        static uint8_t image[ROWS * (GAP + 200) + 4096];
        char names[ROWS][40];
        struct core c;
        struct mos_match m, again;
        for (size_t i = 0; i < sizeof image; i++)
            image[i] = (uint8_t)random_below(&state, 256);
        for (size_t i = 0; i < ROWS; i++) {
            length += align * (1 + random_below(&state, GAP / align));
            snprintf(names[i], sizeof names[i], "saltmarsh,gauge-%u",
                     (unsigned)random_below(&state, 1000000));
            memset(image + length, 0, row - align);
            strcpy((char *)image + length + 64, names[i]);
            length += row;
        }
        memcpy(image + length, "\0named,only", 12);
        mos_put_le32(image + length + 16, 0x00041031);
        mos_put_le32(image + length + 20, 0x000fffff);
        memcpy(image + length + 24, "\0syscon", 8);
        length += 32;
        core_start(&c);
        mos_match_find(c.ctx.arena, image, length, wide, &m);
        for (size_t i = 0; i < ROWS; i++)
            CU_ASSERT_TRUE(mos_match_has(&m, names[i], false));
        CU_ASSERT_TRUE(m.tables.count <= ROWS);
        CU_ASSERT_FALSE(mos_match_has(&m, "named,only", false));
        CU_ASSERT_TRUE(mos_match_has(&m, "named,only", true));
        CU_ASSERT_TRUE(mos_match_has(&m, "syscon", true));
        CU_ASSERT_TRUE(mos_match_has_part(&m, 0x00241031));
        CU_ASSERT_FALSE(mos_match_has_part(&m, 0x00241011));
        struct mos_buf text = {.arena = c.ctx.arena}, same = text;
        mos_match_write(&m, &text);
        CU_ASSERT_TRUE(mos_match_read(c.ctx.arena, mos_buf_string(&text), &again));
        mos_match_write(&again, &same);
        CU_ASSERT_STRING_EQUAL(mos_buf_string(&text), mos_buf_string(&same));
        text.data[text.length - 1] = 0; /* cut */
        CU_ASSERT_FALSE(mos_match_read(c.ctx.arena, text.data, &again));
        core_end(&c);
    }
}

/* What stands in a field that is not filled up with zeros is no row. */
static void what_is_no_table_is_none(void) {
    static const struct {
        size_t at;
        uint8_t byte;
    } wrong[] = {{0, 1}, {31, 'x'}, {63, 'a'}, {64, ' '}, {64 + 127, 1}, {64 + 20, 'z'}};
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        uint8_t row[200] = {0};
        struct core c;
        struct mos_match m;
        strcpy((char *)row + 64, "saltmarsh,gauge");
        core_start(&c);
        mos_match_find(c.ctx.arena, row, sizeof row, true, &m);
        CU_ASSERT_EQUAL(m.tables.count, 1);
        row[wrong[i].at] = wrong[i].byte;
        mos_match_find(c.ctx.arena, row, sizeof row, true, &m);
        CU_ASSERT_EQUAL(m.tables.count, 0);
        core_end(&c);
    }
}

SUITE(linux_suite, {"match tables are found", match_tables_are_found},
      {"what is no table is none", what_is_no_table_is_none},
      {"a PC kernel says its width", a_pc_kernel_says_its_width},
      {"images say where they end", images_say_where_they_end},
      {"programs are told apart", programs_are_told_apart},
      {"modules say what they need", modules_say_what_they_need},
      {"modules say what they give", modules_say_what_they_give},
      {"modules have names", modules_have_names},
      {"kernels are looked into", kernels_are_looked_into},
      {"self-expanding kernels tell their size", self_expanding_kernels_tell_their_size},
      {"chosen places never meet", chosen_places_never_meet});
