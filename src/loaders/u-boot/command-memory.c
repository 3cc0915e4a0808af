/* Commands that look at RAM or change it: md, mw, cp, cmp, crc32, unzip, lzmadec.  A number ends
 * for them where it is none any more. */
#include "loaders/u-boot/inside.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "content/content.h"

#include <string.h>

enum { MOST_BYTES = 64 << 20, BLOCK = 4096 };

static size_t width_of(const char *name) {
    const char *dot = strrchr(name, '.');
    return !dot ? 4 : dot[1] == 'b' ? 1 : dot[1] == 'w' ? 2 : dot[1] == 'q' ? 8 : 4;
}

static uint64_t hex(const char *text) {
    return sim_number(text, NULL, 16);
}

static uint64_t word_at(const struct sim *s, uint64_t at, size_t width) {
    uint8_t bytes[8] = {0};
    sim_ram_read(s, at, bytes, width);
    return mos_le64(bytes);
}

static int run_mw(struct sim *s, int argc, const char *const *argv) {
    uint64_t at, value, count;
    size_t width = width_of(argv[0]);
    if (argc < 3)
        return -1;
    at = hex(argv[1]);
    value = hex(argv[2]);
    count = argc > 3 ? hex(argv[3]) : 1;
    if (sim_aborts(s, at))
        return 1;
    uint8_t bytes[BLOCK + 8];
    uint64_t length = mos_min(count, MOST_BYTES / width) * width;
    for (size_t i = 0; i < BLOCK; i += width)
        mos_put_le64(bytes + i, value);
    for (uint64_t i = 0; i < length; i += BLOCK)
        sim_ram_write(s, at + i, bytes, (size_t)mos_min(BLOCK, length - i));
    sim_charge(s, length);
    sim_ram_claim(s, at, count * width, "memory filled by hand");
    return 0;
}

static int run_md(struct sim *s, int argc, const char *const *argv) {
    size_t width = width_of(argv[0]);
    if (argc < 2)
        return -1;
    uint64_t at = hex(argv[1]), count = mos_min(argc > 2 ? hex(argv[2]) : 64, 4096);
    if (sim_aborts(s, at))
        return 1;
    for (size_t per = 16 / width; count; at += 16) {
        size_t n = (size_t)mos_min(per, count);
        char text[17] = "";
        sim_print(s, "%08llx:", (unsigned long long)at);
        for (size_t i = 0; i < n; i++)
            sim_print(s, " %0*llx", (int)(2 * width),
                      (unsigned long long)word_at(s, at + i * width, width));
        sim_print(s, "%*s", (int)((per - n) * (2 * width + 1)), "");
        for (size_t i = 0; i < n * width; i++) {
            uint8_t c = (uint8_t)word_at(s, at + i, 1);
            text[i] = c >= 0x20 && c < 0x7f ? (char)c : '.';
            text[i + 1] = 0;
        }
        sim_print(s, "  %s\n", text);
        count -= n;
    }
    return 0;
}

static int run_cp(struct sim *s, int argc, const char *const *argv) {
    uint64_t from, to, count;
    size_t width = width_of(argv[0]);
    if (argc != 4)
        return -1;
    from = hex(argv[1]);
    to = hex(argv[2]);
    count = hex(argv[3]);
    if (sim_aborts(s, from) || sim_aborts(s, to))
        return 1;
    uint8_t *copy = sim_ram_copy(s, from, count * width, MOST_BYTES);
    if (!copy || !sim_ram_is(s, to, count * width)) {
        sim_undecided(s, "what lies at 0x%llx, outside of the RAM",
                      (unsigned long long)(copy ? to : from));
        s->stop = SIM_HANGS;
        return 1;
    }
    sim_ram_write(s, to, copy, (size_t)(count * width));
    sim_charge(s, count * width);
    const struct sim_thing *t = sim_ram_at(s, from);
    sim_ram_claim(s, to, count * width,
                  mos_printf(s->arena, "a copy of %s", t ? t->what : "memory"));
    return 0;
}

/* How many words of two places are equal, up to the first that is not. */
static uint64_t same_words(const struct sim *s, uint64_t a, uint64_t b, uint64_t count,
                           size_t width) {
    uint8_t left[BLOCK], right[BLOCK];
    uint64_t same = 0;
    size_t equal = 0, words = 0;
    for (; same < count && equal == words; same += equal) {
        words = (size_t)mos_min(count - same, BLOCK / width);
        sim_ram_read(s, a + same * width, left, words * width);
        sim_ram_read(s, b + same * width, right, words * width);
        equal = memcmp(left, right, words * width) == 0 ? words : 0;
        for (; equal < words; equal++)
            if (memcmp(left + equal * width, right + equal * width, width) != 0)
                break;
    }
    return same;
}

static int run_cmp(struct sim *s, int argc, const char *const *argv) {
    uint64_t a, b, count, same;
    size_t width = width_of(argv[0]);
    const char *unit = width == 1   ? "byte"
                       : width == 2 ? "halfword"
                       : width == 4 ? "word"
                                    : "double word";
    int digits = width > 2 ? (int)width - 2 : 1;
    if (argc != 4)
        return -1;
    a = hex(argv[1]);
    b = hex(argv[2]);
    count = hex(argv[3]);
    if (sim_aborts(s, a) || sim_aborts(s, b))
        return 1;
    sim_charge(s, mos_min(count, MOST_BYTES) * width);
    same = same_words(s, a, b, mos_min(count, MOST_BYTES), width);
    a += same * width;
    b += same * width;
    if (same < mos_min(count, MOST_BYTES))
        sim_print(s, "%s at 0x%08llx (0x%0*llx) != %s at 0x%08llx (0x%0*llx)\n", unit,
                  (unsigned long long)a, digits, (unsigned long long)word_at(s, a, width), unit,
                  (unsigned long long)b, digits, (unsigned long long)word_at(s, b, width));
    sim_print(s, "Total of %llu %s(s) were the same\n", (unsigned long long)same, unit);
    return same != count;
}

static int run_crc32(struct sim *s, int argc, const char *const *argv) {
    if (argc < 3)
        return -1;
    uint64_t at = hex(argv[1]), length = hex(argv[2]);
    if (sim_aborts(s, at))
        return 1;
    const uint8_t *bytes = sim_ram_copy(s, at, length, MOST_BYTES);
    if (!bytes)
        sim_undecided(s, "the sum of what lies at 0x%llx", (unsigned long long)at);
    sim_charge(s, length);
    uint32_t sum = bytes ? mos_crc32(0, bytes, (size_t)length) : 0;
    sim_print(s, "crc32 for %08llx ... %08llx ==> %08x\n", (unsigned long long)at,
              (unsigned long long)(at + length - 1), sum);
    if (argc > 3) {
        uint8_t out[4];
        mos_put_be32(out, sum);
        sim_ram_write(s, hex(argv[3]), out, 4);
    }
    return 0;
}

/* unzip, lzmadec: from an address to another. */
static int run_expand(struct sim *s, int argc, const char *const *argv) {
    bool zip = strcmp(argv[0], "unzip") == 0;
    if (argc < 3)
        return -1;
    uint64_t from = hex(argv[1]), to = hex(argv[2]), run = MOST_BYTES;
    if (sim_aborts(s, from))
        return 1;
    const uint8_t *bytes = sim_ram_look(s, from, &run);
    size_t length = (size_t)run;
    const char *kind = bytes ? mos_compression_of(bytes, length) : NULL;
    if (!kind || strcmp(kind, zip ? "gzip" : "lzma") != 0 ||
        !mos_unpack_bytes(s->ctx, &bytes, &length, MOST_BYTES))
        return zip ? sim_trouble(s, "Error: Bad gzipped data") : 1;
    sim_ram_claim(s, to, length, "what was expanded by hand");
    sim_ram_write(s, to, bytes, length);
    sim_set_number(s, "filesize", length);
    sim_charge(s, length);
    sim_print(s, zip ? "Uncompressed size: %zu = 0x%zX\n" : "Uncompressed size: %zu = 0X%zX\n",
              length, length);
    return 0;
}

static int run_base(struct sim *s, int argc, const char *const *argv) {
    (void)argv;
    if (argc == 1)
        sim_print(s, "Base Address: 0x00000000\n");
    return 0;
}

const struct ub_command ub_commands_memory[] = {
    {"mw", run_mw, 4},        {"md", run_md, 3},          {"cp", run_cp, 4},
    {"cmp", run_cmp, 4},      {"crc32", run_crc32, 4},    {"base", run_base, 2},
    {"unzip", run_expand, 4}, {"lzmadec", run_expand, 4}, {NULL, NULL, 0},
};
