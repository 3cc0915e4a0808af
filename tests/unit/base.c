#include "support.h"

#include "base/lanes.h"

#include "base/secret.h"

#include "base/bytes.h"
#include "base/map.h"
#include "base/text.h"

#include <string.h>

static void sizes_are_read_and_written(void) {
    static const struct {
        const char *text;
        enum mos_number_result result;
        uint64_t bytes;
        const char *again;
    } cases[] = {{"32 KiB", MOS_NUMBER_OK, 32768, "32 KiB"},
                 {"1MiB", MOS_NUMBER_OK, 1 << 20, "1 MiB"},
                 {"1056 KiB", MOS_NUMBER_OK, 1081344, "1056 KiB"},
                 {"1 kB", MOS_NUMBER_OK, 1000, "1000 bytes"},
                 {"2 GB", MOS_NUMBER_OK, 2000000000, "1.9 GiB"},
                 {"7 B", MOS_NUMBER_OK, 7, "7 bytes"},
                 {"3 sectors", MOS_NUMBER_OK, 1536, "1.5 KiB"},
                 {"40", MOS_NUMBER_NO_UNIT, 0, NULL},
                 {"KiB", MOS_NUMBER_NOT_ONE, 0, NULL},
                 {"1 Kib", MOS_NUMBER_NOT_ONE, 0, NULL},
                 {"-1 KiB", MOS_NUMBER_NOT_ONE, 0, NULL},
                 {"1.5 MiB", MOS_NUMBER_NOT_ONE, 0, NULL},
                 {"99999999999 GiB", MOS_NUMBER_TOO_BIG, 0, NULL},
                 {"", MOS_NUMBER_NOT_ONE, 0, NULL}};
    struct core c;
    core_start(&c);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        uint64_t bytes = 0;
        CU_ASSERT_EQUAL(mos_size_parse(cases[i].text, 512, &bytes), cases[i].result);
        CU_ASSERT_EQUAL(bytes, cases[i].bytes);
        if (cases[i].again && strcmp(mos_size_text(c.ctx.arena, bytes), cases[i].again) != 0)
            CU_ASSERT_STRING_EQUAL(mos_size_text(c.ctx.arena, bytes), cases[i].again);
    }
    static const struct {
        uint64_t bytes;
        const char *text, *exact;
    } shown[] = {{0, "0 bytes", "0 B"},
                 {1, "1 byte", "1 B"},
                 {9999, "9999 bytes", "9999 B"},
                 {10000, "9.8 KiB", "10000 B"},
                 {16896, "16.5 KiB", "16896 B"},
                 {1023ull << 20 | 512, "1023 MiB", "1072693760 B"},
                 {(9999ull << 20), "9999 MiB", "9999 MiB"},
                 {(10001ull << 20), "9.8 GiB", "10001 MiB"},
                 {1899999744, "1.8 GiB", "1899999744 B"}};
    for (size_t i = 0; i < sizeof shown / sizeof *shown; i++) {
        CU_ASSERT_STRING_EQUAL(mos_size_text(c.ctx.arena, shown[i].bytes), shown[i].text);
        CU_ASSERT_STRING_EQUAL(mos_size_exact(c.ctx.arena, shown[i].bytes), shown[i].exact);
    }
    CU_ASSERT_STRING_EQUAL(mos_size_about(c.ctx.arena, 1536), "1.5 KiB");
    CU_ASSERT_STRING_EQUAL(mos_size_about(c.ctx.arena, 1048535), "1024 KiB");
    CU_ASSERT_STRING_EQUAL(mos_span_text(c.ctx.arena, 1 << 20, 1081344), "1024 to 1056 KiB");
    CU_ASSERT_STRING_EQUAL(mos_span_text(c.ctx.arena, 512, 2048), "0.5 to 2 KiB");
    CU_ASSERT_STRING_EQUAL(mos_span_text(c.ctx.arena, 1, 2), "bytes 1 to 2");
    core_end(&c);
}

static void addresses_are_read(void) {
    static const struct {
        const char *text;
        enum mos_number_result result;
        uint64_t value;
    } cases[] = {{"0x40200000", MOS_NUMBER_OK, 0x40200000},
                 {"0xffffffffffffffff", MOS_NUMBER_OK, UINT64_MAX},
                 {"0x0000000000000000000001", MOS_NUMBER_OK, 1},
                 {"0x10000000000000000", MOS_NUMBER_TOO_BIG, 0},
                 {"40200000", MOS_NUMBER_NOT_ONE, 0},
                 {"0x", MOS_NUMBER_NOT_ONE, 0},
                 {"0x12g", MOS_NUMBER_NOT_ONE, 0}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        uint64_t value = 0;
        CU_ASSERT_EQUAL(mos_address_parse(cases[i].text, &value), cases[i].result);
        CU_ASSERT_EQUAL(value, cases[i].value);
    }
}

static void near_misses_are_found(void) {
#define LETTERS63 "tidetidetidetidetidetidetidetidetidetidetidetidetidetidetidetid"
    static const char *const words[] = {"size", "stage",   "volume",      "environment",
                                        "at",   LETTERS63, LETTERS63 "ee"};
    static const struct {
        const char *word, *near;
    } cases[] = {{"sise", "size"},
                 {"siez", "size"},
                 {"enviroment", "environment"},
                 {"volumes", "volume"},
                 {"sizes", "size"},
                 {"sie", "size"},
                 {"sizees", "size"},
                 {"sizeees", NULL},
                 {"sze", "size"},
                 {"tide" LETTERS63, NULL}, /* words have 63 letters at most */
                 {"x" LETTERS63, NULL},
                 {LETTERS63, LETTERS63},
                 {"xyz", NULL},
                 {"q", NULL},
                 {"", NULL}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *near = mos_near(cases[i].word, words, 7);
        CU_ASSERT((near == NULL) == (cases[i].near == NULL));
        if (near && cases[i].near)
            CU_ASSERT_STRING_EQUAL(near, cases[i].near);
    }
}

static void utf_forms_agree(void) {
    static const char *const good[] = {"jetty", "Wattwürmer", "潮位計", "𝄞 wader", ""};
    static const char *const bad[] = {"\xff",  "\xc0\x80", "\xed\xa0\x80", "\xf5\x80\x80\x80",
                                      "a\x01", "\xe6\xbd"};
    struct core c;
    size_t at;
    core_start(&c);
    for (size_t i = 0; i < 5; i++) {
        uint16_t units[64];
        size_t n = mos_utf16_from_utf8(good[i], units, 64);
        CU_ASSERT_FATAL(n < 64);
        units[n] = 0;
        CU_ASSERT_STRING_EQUAL(mos_utf8_from_utf16(c.ctx.arena, units, 64), good[i]);
        CU_ASSERT(mos_utf8_valid(good[i], strlen(good[i]), &at));
    }
    for (size_t i = 0; i < 6; i++)
        CU_ASSERT_FALSE(mos_utf8_valid(bad[i], strlen(bad[i]), &at));
    core_end(&c);
}

static void maps_keep_their_order(void) {
    struct core c;
    core_start(&c);
    struct mos_map map = mos_map_make(c.ctx.arena);
    for (uintptr_t i = 1; i <= 1000; i++)
        mos_map_set(&map, mos_printf(c.ctx.arena, "k%u", (unsigned)(i * 7919 % 1000)), (void *)i);
    mos_map_set(&map, "k919", (void *)5000);
    CU_ASSERT_EQUAL(map.count, 1000);
    CU_ASSERT_STRING_EQUAL(map.items[0].key, "k919");
    CU_ASSERT_EQUAL((uintptr_t)mos_map_get(&map, "k919"), 5000);
    CU_ASSERT_PTR_NULL(mos_map_get(&map, "k1000"));
    core_end(&c);
}

static void sums_have_their_known_values(void) {
    static const char digits[] = "123456789"; /* the usual check input */
    uint8_t hash[32];
    char hex[65];
    CU_ASSERT_EQUAL(mos_crc32(0, digits, 9), 0xcbf43926);
    CU_ASSERT_EQUAL(~mos_crc32c(~0u, digits, 9), 0xe3069283);
    CU_ASSERT_TRUE(mos_sha256("abc", 3, hash));
    mos_sha256_hex(hash, hex);
    CU_ASSERT_STRING_EQUAL(hex, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    uint8_t a[16], b[16];
    mos_uuid_from_name("saltmarsh/curlew/card", a);
    mos_uuid_from_name("saltmarsh/curlew/card2", b);
    CU_ASSERT_EQUAL(a[6] >> 4, 5); /* version */
    CU_ASSERT_EQUAL(a[8] >> 6, 2); /* variant */
    CU_ASSERT_NOT_EQUAL(memcmp(a, b, 16), 0);
}

/* The sum of content depends on every bit, whatever stands beside it and wherever it stands. */
static void content_sums_depend_on_every_bit(void) {
    uint8_t bytes[100];
    uint64_t seed = 9;
    for (size_t length = 1; length <= sizeof bytes; length++) {
        for (size_t i = 0; i < length; i++)
            bytes[i] = (uint8_t)random_next(&seed);
        uint64_t sum = mos_content_sum(7, bytes, length);
        CU_ASSERT_NOT_EQUAL(sum, mos_content_sum(8, bytes, length));
        CU_ASSERT_NOT_EQUAL(sum, mos_content_sum(7, bytes, length - 1));
        for (size_t i = 0; i < length * 8; i++) {
            bytes[i / 8] ^= (uint8_t)(1 << i % 8);
            CU_ASSERT_NOT_EQUAL(sum, mos_content_sum(7, bytes, length));
            bytes[i / 8] ^= (uint8_t)(1 << i % 8);
        }
    }
}

static void places_become_lines_and_columns(void) {
    static const char text[] = "one\ntwo\r\n\nfour";
    static const struct {
        size_t offset;
        unsigned line, column;
    } cases[] = {{0, 1, 1}, {3, 1, 4}, {4, 2, 1}, {9, 3, 1}, {10, 4, 1}, {13, 4, 4}, {99, 4, 5}};
    struct core c;
    core_start(&c);
    struct mos_source *s = mos_source_make(c.ctx.arena, "x", text, sizeof text - 1, 0);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct mos_position p = mos_source_position(s, cases[i].offset);
        CU_ASSERT_EQUAL(p.line, cases[i].line);
        CU_ASSERT_EQUAL(p.column, cases[i].column);
    }
    size_t length;
    mos_source_line(s, 5, &length);
    CU_ASSERT_EQUAL(length, 3); /* the carriage return is no part of it */
    core_end(&c);
}

static void memory_runs_out_cleanly(void) {
    struct core c;
    core_start(&c);
    volatile unsigned reached = 0;
    if (setjmp(c.out_of_memory) == 0) {
        mos_arena_fail_after(c.ctx.arena, 10);
        for (;; reached++)
            mos_alloc(c.ctx.arena, 1000);
    }
    CU_ASSERT_EQUAL(reached, 9);
    core_end(&c);
}

/* crypt(5): the vector is the one that the specification of SHA-crypt gives. */
static void passwords_are_hashed(void) {
    static const struct {
        const char *text;
        bool hash;
    } forms[] = {
        {"$6$saltstring$svn8UoSVapNtMuq1ukKS4tPQd8iKwSMHWjl/O817G3uBnIFNjnQJuesI68u4OTLiBFdcbYEdFCo"
         "EOfaS35inz1",
         true},
        {"$y$j9T$abc$defghijk", true},
        {"rl.3StKT.4T8M", true},
        {"low water", false},
        {"", false},
        {"$6$", false},
        {"secret", false}};
    struct core c;
    core_start(&c);
    for (size_t i = 0; i < sizeof forms / sizeof *forms; i++)
        CU_ASSERT_EQUAL(mos_is_password_hash(forms[i].text), forms[i].hash);
    CU_ASSERT_TRUE(mos_password_fits(c.ctx.arena, "Hello world!", forms[0].text));
    CU_ASSERT_FALSE(mos_password_fits(c.ctx.arena, "Hello world", forms[0].text));
    const char *a = mos_password_hash(c.ctx.arena, "tide", "survey/curlew/root"),
               *b = mos_password_hash(c.ctx.arena, "tide", "survey/curlew/root"),
               *d = mos_password_hash(c.ctx.arena, "tide", "survey/avocet/root");
    CU_ASSERT_STRING_EQUAL(a, b); /* the same definition, the same bytes */
    CU_ASSERT_STRING_NOT_EQUAL(a, d);
    CU_ASSERT_TRUE(mos_password_fits(c.ctx.arena, "tide", a));
    core_end(&c);
}

/* Every code point is read back from its one form; every other sequence of up to four bytes out of
 * those at the borders of what they mean is refused. */
static bool is_one_form(const uint8_t *p, size_t n) {
    static const uint32_t smallest[] = {0, 0, 0x80, 0x800, 0x10000};
    uint32_t code = n == 1 ? p[0] : p[0] & (0xff >> (n + 1));
    static const uint8_t mask[] = {0, 0x80, 0xe0, 0xf0, 0xf8}, mark[] = {0, 0, 0xc0, 0xe0, 0xf0};
    if ((p[0] & mask[n]) != mark[n])
        return false;
    for (size_t i = 1; i < n; i++) {
        if ((p[i] & 0xc0) != 0x80)
            return false;
        code = code << 6 | (p[i] & 0x3f);
    }
    bool control = code < 0x20 && code != '\t' && code != '\n' && code != '\r';
    return code >= smallest[n] && code <= 0x10ffff && (code < 0xd800 || code > 0xdfff) &&
           !control && code != 0x7f;
}

static void one_form_of_utf8(void) {
    static const uint8_t borders[] = {0x01, 0x09, 0x1f, 0x20, 0x7e, 0x7f, 0x80, 0x8f, 0x90, 0x9f,
                                      0xa0, 0xbf, 0xc0, 0xc1, 0xc2, 0xdf, 0xe0, 0xe1, 0xec, 0xed,
                                      0xee, 0xef, 0xf0, 0xf1, 0xf3, 0xf4, 0xf5, 0xff};
    enum { B = sizeof borders };
    size_t wrong = 0, good = 0;
    for (uint32_t i = 0; i < B * B * B * B; i++) {
        char text[5] = {(char)borders[i % B], (char)borders[i / B % B],
                        (char)borders[i / B / B % B], (char)borders[i / B / B / B], 0};
        bool expected = true;
        size_t at = 0, bad;
        while (at < 4 && expected) {
            size_t n = 0;
            for (size_t k = 1; k <= 4 - at && !n; k++)
                n = is_one_form((const uint8_t *)text + at, k) ? k : 0;
            expected = n != 0;
            at += n;
        }
        wrong += mos_utf8_valid(text, 4, &bad) != expected;
        good += expected;
    }
    CU_ASSERT_EQUAL(wrong, 0);
    CU_ASSERT(good > 500);
}

/* Each lane comes to what libcrypto says of its message, whatever the pieces. */
static void lanes_are_like_one_after_the_other(void) {
    enum { MOST = 40 * MOS_LANE_UNIT };
    static uint8_t bytes[MOS_MOST_LANES][MOST];
    uint64_t seed = 7;
    CU_ASSERT(mos_lanes_best() == 1 || mos_lanes_can(mos_lanes_best()));
    CU_ASSERT(!mos_lanes_can(1) && !mos_lanes_can(4) && !mos_lanes_can(32));
    for (unsigned width = 8; width <= MOS_MOST_LANES; width += 8) {
        for (size_t length = 0; length <= MOST && mos_lanes_can(width); length += MOS_LANE_UNIT) {
            struct mos_lanes h = mos_lanes_start(width);
            const uint8_t *pieces[MOS_MOST_LANES];
            uint8_t got[MOS_MOST_LANES][MOS_SHA256_SIZE], wanted[MOS_SHA256_SIZE];
            for (size_t i = 0; i < width; i++)
                for (size_t k = 0; k < length; k++)
                    bytes[i][k] = (uint8_t)random_next(&seed);
            for (size_t at = 0, n; at < length; at += n) {
                n = mos_min(length - at, MOS_LANE_UNIT * (1 + random_below(&seed, 9)));
                for (size_t i = 0; i < width; i++)
                    pieces[i] = bytes[i] + at;
                mos_lanes_update(&h, pieces, n);
            }
            mos_lanes_final(&h, got);
            for (size_t i = 0; i < width; i++)
                CU_ASSERT(mos_sha256(bytes[i], length, wanted) &&
                          memcmp(wanted, got[i], sizeof wanted) == 0);
        }
    }
}

SUITE(base_suite, {"one form of UTF-8", one_form_of_utf8}, {"passwords", passwords_are_hashed},
      {"sizes", sizes_are_read_and_written}, {"addresses", addresses_are_read},
      {"near misses", near_misses_are_found}, {"UTF-8 and UTF-16", utf_forms_agree},
      {"maps", maps_keep_their_order}, {"sums", sums_have_their_known_values},
      {"content sums", content_sums_depend_on_every_bit},
      {"places", places_become_lines_and_columns}, {"memory", memory_runs_out_cleanly},
      {"lanes are like one after the other", lanes_are_like_one_after_the_other});
