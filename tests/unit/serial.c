/* A terminal beside a board: what of the board's output passes, what is typed and pasted, and the
 * search for the speed, on bit streams as a wire has them. */
#define _GNU_SOURCE
#include "support.h"

#include "link/keys.h"
#include "link/passage.h"
#include "link/speed.h"

#include <stdlib.h>
#include <string.h>

#define MS INT64_C(1000000)

/* ---- the passage ---- */

static const struct {
    const char *in, *out;
    unsigned held;
} passes[] = {
    {"plain\r\n\ttext\b", "plain\r\n\ttext\b", 0},
    {"\033[1;31mred\033[0m", "\033[1;31mred\033[0m", 0},
    {"\033[2J\033[10;20H\033[K\033[3A\033[r\033[?25l",
     "\033[2J\033[10;20H\033[K\033[3A\033[r\033[?25l", 0},
    {"\033[?1049h\0337\0338\033M\033(B\033(0", "\033[?1049h\0337\0338\033M\033(B\033(0", 0},
    {"a\033]0;title\007b", "ab", 1},
    {"a\033]52;c;cGFzdGU=\033\\b", "ab", 1},                    /* the clipboard */
    {"a\033[6nb\033[cc\033[>cd\033[0xe\033[18tf", "abcdef", 5}, /* what is answered */
    {"a\033[?6nb\033[?1$pc", "abc", 2},
    {"a\005b", "ab", 0}, /* the answer-back */
    {"a\033P$qm\033\\b\033_x\033\\c\033^y\033\\d\033Xz\033\\e", "abcde", 4},
    {"a\033Zb\033cc", "abc", 2},
    {"a\033[?1000hb\033[?2004hc\033[?25;1000hd", "abcd", 3}, /* the mouse, pasting */
    {"a\033[>4;2mb", "ab", 1},
    {"a\016b\017c", "abc", 0},
    {"a\033]never ends\nb", "a\nb", 1},
    {"a\033[12\nb", "a\nb", 1},
    {"\xc3\xa4\xe2\x82\xac\xf0\x9f\x90\xa6", "\xc3\xa4\xe2\x82\xac\xf0\x9f\x90\xa6", 0},
    {"\xc2\x9b"
     "6n",
     "\xef\xbf\xbd"
     "6n",
     0}, /* one byte in place of ESC [ */
    {"\x9b"
     "6n\xff",
     "\xef\xbf\xbd"
     "6n\xef\xbf\xbd",
     0},
    {"\xe2\x80\xaex\xe2\x81\xa6", "\xef\xbf\xbdx\xef\xbf\xbd", 0}, /* direction marks */
    {"\xe2\x82x\xc0\xaf", "\xef\xbf\xbdx\xef\xbf\xbd\xef\xbf\xbd", 0},
    {"\033[1111111111111111111111111111111111111111111mx", "x", 1},
};

static void what_passes(void) {
    for (size_t i = 0; i < sizeof passes / sizeof *passes; i++)
        for (size_t piece = 1; piece < 5; piece++) {
            struct mos_passage p = {0};
            char out[1024];
            size_t n = 0, length = strlen(passes[i].in);
            for (size_t at = 0; at < length; at += piece)
                n += mos_passage_take(&p, (const uint8_t *)passes[i].in + at,
                                      piece < length - at ? piece : length - at, out + n);
            out[n] = 0;
            if (strcmp(out, passes[i].out) != 0)
                fprintf(stderr, "\npassage %zu in pieces of %zu: %s\n", i, piece, out);
            CU_ASSERT_STRING_EQUAL(out, passes[i].out);
            CU_ASSERT_EQUAL(p.held, passes[i].held);
        }
}

/* Whatever comes, what passes is made of text and of sequences that pass by themselves; and a
 * second passage lets all of it through. */
static void noise_is_harmless(void) {
    static const char signs[] =
        "\033\033[[]]PX^_?>;:01256ncthlmrHJ$ \"\007\n\r\005\016\x9b\xc2\xe2\x80\xffx";
    uint64_t seed = 3;
    for (unsigned round = 0; round < 20000; round++) {
        uint8_t in[64];
        char out[3 * 64 + MOS_PASSAGE_MORE], again[9 * 64 + 4 * MOS_PASSAGE_MORE];
        struct mos_passage p = {.ascii = round & 1}, q = {.ascii = round & 1};
        for (size_t i = 0; i < sizeof in; i++)
            in[i] = (uint8_t)signs[random_below(&seed, sizeof signs - 1)];
        size_t n = mos_passage_take(&p, in, sizeof in, out);
        CU_ASSERT_FATAL(n <= sizeof out);
        size_t m = mos_passage_take(&q, (const uint8_t *)out, n, again);
        CU_ASSERT_EQUAL(q.held, 0);
        CU_ASSERT_TRUE(m == n && memcmp(out, again, n) == 0);
    }
}

static void the_terminal_is_as_before(void) {
    static const struct {
        const char *in, *end;
    } rows[] = {
        {"text", ""},
        {"\033[31mred", "\033[0m"},
        {"\033[?25l\033[?1049h", "\033[?1049l\033[?25h"},
        {"\033[?1049h\033[?1049l", ""},
        {"\033(0\033[1;20r\033[4h\033[?7l\033[?1h", "\033(B\033[r\033[4l\033[?7h\033[?1l"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct mos_passage p = {0};
        char out[200];
        mos_passage_take(&p, (const uint8_t *)rows[i].in, strlen(rows[i].in), out);
        out[mos_passage_end(&p, out, 64)] = 0;
        CU_ASSERT_STRING_EQUAL(out, rows[i].end);
    }
}

/* ---- keys ---- */

static void keys_pass(void) {
    static const struct {
        const char *in, *out;
        bool leaves, breaks;
    } rows[] = {
        {"ls -l\r", "ls -l\r", false, false},
        {"\003\004\032\021\034", "\003\004\032\021\034", false, false}, /* none is ours */
        {"\033[A\033OB\033[15~", "\033[A\033OB\033[15~", false, false},
        {"a\033[24~", "a", true, false},
        {"a\033[20~b", "ab", false, true},
        {"\033[24x", "\033[24x", false, false},
        {"\033\033[24", "\033\033[24", false, false},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        for (size_t piece = 1; piece < 4; piece++) {
            struct mos_keys *k = calloc(1, sizeof *k);
            char out[64];
            size_t n = 0, length = strlen(rows[i].in);
            for (size_t at = 0; at < length; at += piece) {
                mos_keys_take(k, (const uint8_t *)rows[i].in + at,
                              piece < length - at ? piece : length - at, 0);
                n += mos_keys_next(k, 0, (uint8_t *)out + n, sizeof out - n);
            }
            /* an escape by itself passes after a while */
            n += mos_keys_next(k, 60 * MS, (uint8_t *)out + n, sizeof out - n);
            out[n] = 0;
            CU_ASSERT_STRING_EQUAL(out, rows[i].out);
            CU_ASSERT_EQUAL(k->leaves, rows[i].leaves);
            CU_ASSERT_EQUAL(k->breaks, rows[i].breaks);
            CU_ASSERT_EQUAL(mos_keys_due(k), INT64_MAX);
            free(k);
        }
}

/* A board that echoes `delay` later, reads at most `room` characters ahead and drops the rest, and
 * is deaf for a while behind each line. */
struct slow_board {
    int64_t delay, deaf, deaf_until;
    char got[4096];
    size_t got_length;
    struct {
        int64_t at;
        uint8_t c;
    } echo[64];
    size_t echoes;
};

static void board_hears(struct slow_board *b, const uint8_t *bytes, size_t n, int64_t now) {
    for (size_t i = 0; i < n; i++) {
        if (now < b->deaf_until || b->echoes == 16)
            continue; /* lost */
        b->got[b->got_length++] = (char)bytes[i];
        b->echo[b->echoes].c = bytes[i];
        b->echo[b->echoes++].at = now + b->delay;
        if (bytes[i] == '\r')
            b->deaf_until = now + b->deaf;
    }
}

static void what_is_pasted_waits_for_its_echo(void) {
    static const char script[] =
        "setenv a 1\nsetenv b 'two words'\nload mmc 0:1 ${addr} kernel\nboot\n";
    for (int64_t delay = 0; delay < 60; delay += 7) {
        struct mos_keys *k = calloc(1, sizeof *k);
        struct slow_board *b = calloc(1, sizeof *b);
        b->delay = delay * MS;
        b->deaf = 20 * MS;
        mos_keys_take(k, (const uint8_t *)script, sizeof script - 1, 0);
        int64_t now = 0;
        for (; (k->count || b->echoes) && now < 60000 * MS; now += MS) {
            uint8_t out[64];
            size_t n = mos_keys_next(k, now, out, sizeof out);
            CU_ASSERT_FATAL(n <= MOS_KEYS_PIECE);
            board_hears(b, out, n, now);
            while (b->echoes && b->echo[0].at <= now) {
                mos_keys_hear(k, &b->echo[0].c, 1, now);
                memmove(b->echo, b->echo + 1, --b->echoes * sizeof *b->echo);
            }
        }
        CU_ASSERT_EQUAL(b->got_length, sizeof script - 1);
        for (size_t i = 0; i < b->got_length; i++)
            CU_ASSERT_EQUAL(b->got[i], script[i] == '\n' ? '\r' : script[i]);
        CU_ASSERT_EQUAL(k->count, 0);
        free(b);
        free(k);
    }
    /* a board without an echo gets it, too, only slower; and what is too much is told */
    struct mos_keys *k = calloc(1, sizeof *k);
    uint8_t *much = calloc(1, MOS_KEYS_ROOM + 5), out[64];
    memset(much, 'x', MOS_KEYS_ROOM + 5);
    mos_keys_take(k, much, 20, 0);
    CU_ASSERT_EQUAL(mos_keys_next(k, 0, out, sizeof out), 8);
    CU_ASSERT_EQUAL(mos_keys_next(k, 199 * MS, out, sizeof out), 0);
    CU_ASSERT_EQUAL(mos_keys_due(k), 200 * MS);
    CU_ASSERT_EQUAL(mos_keys_next(k, 200 * MS, out, sizeof out), 8);
    mos_keys_take(k, much, MOS_KEYS_ROOM + 5, 300 * MS);
    CU_ASSERT_EQUAL(k->dropped, 9);
    free(much);
    free(k);
}

/* ---- the speed ---- */

/* Bytes as bits on a wire (a start bit, eight from the lowest on, a stop bit), sampled as a port of
 * another speed does: in the middle of each bit, from the edge that it takes for a start bit. */
static size_t hear_at(const char *text, size_t length, unsigned sent, unsigned heard, uint8_t *out,
                      size_t room) {
    size_t bits = length * 10 + 10, n = 0;
    uint8_t *wire = malloc(bits);
    memset(wire, 1, bits);
    for (size_t i = 0; i < length; i++) {
        wire[i * 10] = 0;
        for (size_t k = 0; k < 8; k++)
            wire[i * 10 + 1 + k] = (uint8_t)text[i] >> k & 1;
    }
    double end = (double)bits / sent, step = 1.0 / heard;
    for (double t = 0; t < end && n < room;) {
        size_t at = (size_t)(t * sent);
        while (at < bits && wire[at])
            at++;
        if (at >= bits)
            break;
        t = t > (double)at / sent ? t : (double)at / sent;
        unsigned c = 0;
        for (unsigned k = 0; k < 8; k++) {
            size_t bit = (size_t)((t + (1.5 + k) * step) * sent);
            c |= (unsigned)(bit < bits ? wire[bit] : 1) << k;
        }
        out[n++] = (uint8_t)c;
        t += 9.5 * step;
        while (t < end && (size_t)(t * sent) < bits && !wire[(size_t)(t * sent)])
            t += step / 2; /* no stop bit: until the line is high again */
    }
    free(wire);
    return n;
}

static const char boot[] =
    "\r\n\r\nU-Boot 2023.01 (Aug 09 2023 - 12:00:00 +0000)\r\n\r\nDRAM:  512 MiB\r\nCore:  52 "
    "devices, 17 "
    "uclasses, devicetree: separate\r\nMMC:   mmc@1c0f000: 0\r\nLoading Environment from MMC... "
    "OK\r\nIn:    "
    "serial\r\nOut:   serial\r\nErr:   serial\r\nNet:   eth0: ethernet@1c30000\r\nHit any key to "
    "stop "
    "autoboot:  2 \b\b\b 1 \b\b\b 0 \r\nswitch to partitions #0, OK\r\nmmc0 is current device\r\n";

static void the_speed_is_found(void) {
    static const unsigned speeds[] = {9600,   19200,  38400,  57600,  74880,
                                      115200, 230400, 460800, 921600, 1500000};
    static const unsigned meant[] = {115200, 1500000, 9600, 57600};
    uint8_t *heard = malloc(200000);
    for (size_t i = 0; i < sizeof speeds / sizeof *speeds; i++)
        for (size_t k = 0; k < sizeof meant / sizeof *meant; k++) {
            struct mos_speed_search s;
            mos_speed_begin(&s, meant[k]);
            /* the board starts again and again, as it is told to */
            for (unsigned start = 0; start < 40 && !s.found; start++)
                for (size_t at = 0; at < sizeof boot - 1 && !s.found; at += 40) {
                    size_t n = sizeof boot - 1 - at < 40 ? sizeof boot - 1 - at : 40;
                    n = hear_at(boot + at, n, speeds[i], s.current, heard, 200000);
                    mos_speed_take(&s, heard, n);
                }
            if (!s.found || s.current != speeds[i])
                fprintf(stderr, "\nsent at %u, meant %u: %s at %u\n", speeds[i], meant[k],
                        s.found ? "found" : "not found", s.current);
            CU_ASSERT_TRUE(s.found);
            CU_ASSERT_EQUAL(s.current, speeds[i]);
        }
    free(heard);
    CU_ASSERT_TRUE(mos_speed_is_text((const uint8_t *)boot, sizeof boot - 1));
}

SUITE(serial_suite, {"what passes", what_passes}, {"noise is harmless", noise_is_harmless},
      {"the terminal is as before", the_terminal_is_as_before}, {"keys pass", keys_pass},
      {"what is pasted waits for its echo", what_is_pasted_waits_for_its_echo},
      {"the speed is found", the_speed_is_found});
