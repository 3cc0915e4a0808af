/* Protocols to boards by themselves, on clocks of their own: serving files over a network that
 * loses and doubles, and Device Firmware Upgrade with a device that fails in every way. */
#include "support.h"

#include "computer/dfu.h"
#include "link/dfu.h"
#include "link/tftp.h"

#include <stdlib.h>
#include <string.h>

#define MS INT64_C(1000000)

/* ---- TFTP ---- */

struct client { /* takes blocks in order, and confirms the last of a window (RFC 7440) */
    uint8_t *got;
    uint64_t length, block;
    unsigned window, since;
    bool greeted, ended;
};

static size_t request(uint8_t *p, unsigned block, unsigned window, bool size) {
    static const uint8_t head[] = "\0\1file\0octet";
    size_t n = sizeof head;
    memcpy(p, head, n);
    if (block)
        n += (size_t)sprintf((char *)p + n, "blksize%c%u", 0, block) + 1;
    if (window)
        n += (size_t)sprintf((char *)p + n, "WindowSize%c%u", 0, window) + 1;
    if (size)
        n += (size_t)sprintf((char *)p + n, "tsize%c0", 0) + 1;
    return n;
}

/* One transfer with one packet in so many lost, each way; true: it came whole. */
static bool transfer(uint64_t size, unsigned block, unsigned window, unsigned loss, uint64_t seed) {
    static uint8_t packet[MOS_TFTP_PACKET];
    struct mos_tftp_wish wish;
    struct mos_tftp t;
    struct client c = {.got = malloc(size + 70000), .window = window ? window : 1};
    const char *why;
    int64_t now = 0;
    size_t n = request(packet, block, window, seed & 1);
    CU_ASSERT_FATAL(mos_tftp_read_request(packet, n, &wish, &why));
    CU_ASSERT_STRING_EQUAL(wish.file, "file");
    mos_tftp_begin(&t, &wish, size, now);
    while (t.state == MOS_TFTP_GOES_ON && now < 4000 * 1000 * MS) {
        uint64_t at;
        size_t length, head = mos_tftp_next(&t, now, packet, &at, &length);
        now += head ? MS : 50 * MS;
        bool lost = loss && random_below(&seed, loss) == 0;
        uint8_t ack[4] = {0, 4};
        bool answers = false;
        if (head && !lost && packet[1] == 6) {
            answers = c.greeted = true;
        } else if (head && !lost) {
            unsigned number = (unsigned)packet[2] << 8 | packet[3];
            if (number == ((c.block + 1) & 0xffff) && !c.ended) {
                CU_ASSERT_FATAL(at == c.block * (block ? block : 512) && at + length <= size);
                for (size_t i = 0; i < length; i++)
                    c.got[at + i] = (uint8_t)((at + i) * 7 >> 3);
                c.length = at + length;
                c.block++;
                c.since++;
                c.ended = length < (block ? block : 512);
                answers = c.since == c.window || c.ended;
            } else
                answers = true; /* out of order, or again */
        }
        if (answers) {
            c.since = 0;
            ack[2] = (uint8_t)(c.block >> 8);
            ack[3] = (uint8_t)c.block;
            if (!loss || random_below(&seed, loss))
                mos_tftp_take(&t, ack, 4, now);
        }
    }
    bool whole = t.state == MOS_TFTP_DONE && c.ended && c.length == size;
    for (uint64_t i = 0; i < size && whole; i++)
        whole = c.got[i] == (uint8_t)(i * 7 >> 3);
    free(c.got);
    return whole;
}

static void files_come_whole(void) {
    static const unsigned blocks[] = {0, 8, 1024, 1468, 65464}, windows[] = {0, 1, 4, 8, 64};
    static const uint64_t sizes[] = {0, 1, 511, 512, 513, 65536, 100000};
    size_t runs = 0, whole = 0;
    for (size_t b = 0; b < 5; b++)
        for (size_t w = 0; w < 5; w++)
            for (size_t s = 0; s < 7; s++)
                for (unsigned loss = 0; loss < 40; loss += 13)
                    if (sizes[s] / (blocks[b] ? blocks[b] : 512) < 3000 || !loss)
                        runs++, whole += transfer(sizes[s], blocks[b], windows[w], loss, runs);
    CU_ASSERT(runs > 500);
    CU_ASSERT(whole + runs / 100 >= runs); /* ten losses in a row end it, truly told */
    CU_ASSERT(transfer(UINT64_C(8) * 70000 + 3, 8, 8, 0, 5)); /* numbers roll over */
    CU_ASSERT(transfer(UINT64_C(8) * 140000, 8, 0, 5000, 6));
}

/* An answer that comes twice sends nothing twice: else each block would from then on. */
static void doubled_answers_send_nothing(void) {
    static uint8_t packet[MOS_TFTP_PACKET];
    const struct mos_tftp_wish wish = {.file = "file"};
    const uint8_t acks[2][4] = {{0, 4, 0, 1}, {0, 4, 0, 0}};
    struct mos_tftp t;
    uint64_t at;
    size_t length;
    mos_tftp_begin(&t, &wish, 5000, 0);
    CU_ASSERT(mos_tftp_next(&t, 0, packet, &at, &length) && at == 0);
    mos_tftp_take(&t, acks[0], 4, MS);
    CU_ASSERT(mos_tftp_next(&t, MS, packet, &at, &length) && at == 512);
    mos_tftp_take(&t, acks[0], 4, 2 * MS);
    CU_ASSERT_EQUAL(mos_tftp_next(&t, 2 * MS, packet, &at, &length), 0);
    mos_tftp_take(&t, acks[1], 4, 3 * MS); /* of long ago */
    CU_ASSERT_EQUAL(mos_tftp_next(&t, 3 * MS, packet, &at, &length), 0);
    CU_ASSERT(mos_tftp_next(&t, 1500 * MS, packet, &at, &length) && at == 512); /* it is late */
}

static void requests_are_read(void) {
    static const struct {
        const char *packet;
        size_t length;
        bool read;
        const char *why; /* of an answer that refuses; NULL: none is given */
    } cases[] = {
        {"\0\1a\0octet", 10, true, NULL},
        {"\0\1a\0OCTET\0blksize\0"
         "7",
         20, true, NULL}, /* what is out of range is left out */
        {"\0\1a\0octet\0blksize", 17, true, NULL},
        {"\0\1a\0mail", 9, false, "octets only"},
        {"\0\2a\0octet", 10, false, "nothing can be stored"},
        {"\0\1\0octet", 9, false, "no name"},
        {"\0\1a\0octe", 8, false, "no name"}, /* its end is missing */
        {"\0\3a\0octet", 10, false, NULL},
        {"\1\1a\0octet", 10, false, NULL},
        {"\0\1", 2, false, NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct mos_tftp_wish wish;
        const char *why;
        CU_ASSERT_EQUAL(
            mos_tftp_read_request((const uint8_t *)cases[i].packet, cases[i].length, &wish, &why),
            cases[i].read);
        CU_ASSERT_EQUAL(why != NULL, cases[i].why != NULL);
        CU_ASSERT(!why || strstr(why, cases[i].why));
        CU_ASSERT(!cases[i].read || (strcmp(wish.file, "a") == 0 && !wish.block));
    }
    uint8_t packet[64];
    size_t n = mos_tftp_refuse(packet, sizeof packet, 1, "there is no such file here");
    CU_ASSERT(n == 31 && memcmp(packet, "\0\5\0\1there", 9) == 0 && packet[30] == 0);
}

/* ---- Device Firmware Upgrade ---- */

static const struct {
    const char *what;
    struct dfu_fault fault;
    const char *place;
    const char *why; /* NULL: it is written */
    bool proved, done;
} upgrades[] = {
    {"all is well", {0}, "main", NULL, true, true},
    {"it is in an error", {.starts_failed = true}, "main", NULL, true, true},
    {"it has to be brought there", {.runtime = true}, "main", NULL, true, true},
    {"… and stays", {.runtime = true, .stays = true}, "main", "did not change", false, false},
    {"it gives nothing back", {.no_upload = true}, "main", NULL, false, true},
    {"it has to be reset", {.not_tolerant = true}, "main", NULL, false, true},
    {"it goes by itself", {.not_tolerant = true, .vanishes = true}, "main", NULL, false, true},
    {"it goes, and should not", {.vanishes = true}, "main", "it is gone", false, true},
    {"it stalls", {.stalls_at = 30}, "main", "refuses that", false, false},
    {"it cannot write",
     {.errs_at = 5, .status = 3},
     "main",
     "a block: it cannot write its storage",
     false,
     false},
    {"an error of its own", {.errs_at = 5, .status = 99}, "main", "without a name", false, false},
    {"it vanishes", {.goes_at = 40}, "main", "it is gone", false, false},
    {"it answers nonsense", {.garbled = true}, "main", "what no such device may", false, false},
    {"it is busy", {.busy_for_ever = true}, "main", "busy without end", false, false},
    {"other bytes come back", {.flips = true}, "main", "gives back something else", false, true},
    {"there are two", {.twin = true}, "main", "plug in one", false, false},
    {"there is none", {.absent = true}, "main", "no USB device", false, false},
    {"it may not be opened", {.refused = true}, "main", "with sudo", false, false},
    {"another place", {0}, "data", "no place of that name, but start, main", false, false},
    {"no place is named", {0}, NULL, "several places", false, false},
};

static void upgrades_are_told_truly(void) {
    enum { SIZE = 100000 };
    struct core core;
    struct dfu_made *made = dfu_new();
    struct mos_host host;
    core_start(&core);
    host = *core.ctx.host;
    dfu_host(made, &host);
    uint8_t *content = malloc(SIZE + 100), *buffer = malloc(64 << 10);
    uint64_t seed = 9;
    for (size_t i = 0; i < SIZE + 100; i++)
        content[i] = (uint8_t)random_next(&seed);
    struct mos_io io = mos_io_memory(core.ctx.arena, content, SIZE + 100);
    for (size_t i = 0; i < sizeof upgrades / sizeof *upgrades; i++) {
        struct mos_dfu d = {.host = &host,
                            .vendor = 0x1209,
                            .product = 2,
                            .alternate = upgrades[i].place,
                            .patience = 1000 * MS,
                            .content = &io,
                            .from = 50,
                            .length = SIZE,
                            .buffer = buffer};
        size_t length;
        bool done;
        dfu_fails(made, upgrades[i].fault);
        bool ok = mos_dfu_write(&d);
        const uint8_t *got = dfu_got(made, 1, &length, &done);
        bool whole = length == SIZE && memcmp(got, content + 50, SIZE) == 0;
        bool good = ok == !upgrades[i].why && d.proved == upgrades[i].proved &&
                    done == upgrades[i].done && whole == done && !dfu_offences(made) &&
                    (ok ? !d.why : d.why && strstr(d.why, upgrades[i].why));
        if (!good)
            fprintf(stderr, "\n%s: %d %s, proved %d, %zu bytes, done %d, offences %u\n",
                    upgrades[i].what, ok, d.why ? d.why : "", d.proved, length, done,
                    dfu_offences(made));
        CU_ASSERT(good);
    }
    free(buffer);
    free(content);
    dfu_free(made);
    core_end(&core);
}

/* Descriptors, whatever their lengths say. */
static void descriptors_are_read(void) {
    static const uint8_t good[] = {9,    2, 27, 0, 1, 1,    0,    0x80, 50, 9, 4, 3,    0, 0,
                                   0xfe, 1, 2,  4, 9, 0x21, 0x0f, 0xff, 0,  0, 4, 0x10, 1};
    struct mos_dfu_function f;
    CU_ASSERT(mos_dfu_read(good, sizeof good, &f) && f.interface == 3 && f.count == 1 &&
              f.transfer == 1024 && f.can_upload && f.tolerant && f.upgrades &&
              f.alternates[0].title == 4);
    for (size_t n = 0; n < sizeof good; n++) {
        uint8_t *cut = malloc(n + 1);
        memcpy(cut, good, n);
        CU_ASSERT_EQUAL(mos_dfu_read(cut, n, &f), n >= 18);
        free(cut);
    }
    for (size_t i = 0; i < sizeof good; i++)
        for (unsigned v = 0; v < 256; v += 51) {
            uint8_t bad[sizeof good];
            memcpy(bad, good, sizeof bad);
            bad[i] = (uint8_t)v;
            mos_dfu_read(bad, sizeof bad, &f);
            CU_ASSERT(f.count <= MOS_DFU_ALTERNATES && f.transfer > 0);
        }
}

SUITE(links_suite, {"files come whole", files_come_whole},
      {"doubled answers send nothing", doubled_answers_send_nothing},
      {"requests are read", requests_are_read},
      {"upgrades are told truly", upgrades_are_told_truly},
      {"descriptors are read", descriptors_are_read});
