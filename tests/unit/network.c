/* Boards on a made-up network: a server of files for several of them at once, addresses, and parts
 * of files, on a clock of their own. */
#include "support.h"

#include "api/serve.h"
#include "base/address.h"
#include "base/bytes.h"
#include "link/dhcp.h"
#include "link/overhear.h"
#include "link/ranges.h"
#include "link/server.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

#define MS INT64_C(1000000)
#define OWN UINT32_C(0xc0000201)

/* ---- the network ---- */

enum { BOARDS = 6, MOST_QUEUED = 512, MOST_PACKET = 2048, CONTROL = 1, FIRST = 10 };

struct packet {
    int64_t at; /* when it arrives */
    int wire;   /* of the server; -1: of a board */
    unsigned board;
    size_t length;
    uint8_t bytes[MOST_PACKET];
    struct mos_peer peer;
};

struct board {
    struct mos_peer peer;
    const char *name;
    uint64_t size, block, got;
    unsigned block_size, window, since, resets;
    int transfer; /* the server's wire that answers; 0: none yet */
    int64_t due;
    bool greeted, ended, refused, intact;
    uint64_t nacked;
};

struct network {
    struct mos_wires wires;
    struct packet *queue;
    size_t count;
    struct board boards[BOARDS];
    bool open[64];
    int64_t now;
    uint64_t seed;
    unsigned loss, doubles; /* one in so many; 0: none */
    int64_t cut, cut_end;   /* no carrier then */
    size_t told, told_whole, read_bytes;
    unsigned finds;
};

static struct network *of(const struct mos_wires *w) {
    return w->user;
}

static bool chance(struct network *n, unsigned one_in) {
    return one_in && random_below(&n->seed, one_in) == 0;
}

static void carry(struct network *n, const struct packet *p) {
    unsigned copies = chance(n, n->loss) ? 0 : chance(n, n->doubles) ? 2 : 1;
    for (; copies; copies--) {
        CU_ASSERT_FATAL(n->count < MOST_QUEUED);
        n->queue[n->count] = *p;
        n->queue[n->count++].at = n->now + MS;
        if (n->loss || n->doubles) /* packets overtake each other */
            n->queue[n->count - 1].at += (int64_t)random_below(&n->seed, 3) * MS;
    }
}

static int open_datagrams(const struct mos_wires *w, const char *interface,
                          const struct mos_peer *own, int *wire) {
    struct network *n = of(w);
    CU_ASSERT(own->address == OWN && !interface);
    int free = FIRST;
    while (n->open[free])
        free++;
    *wire = own->port ? CONTROL : free;
    CU_ASSERT_FALSE(n->open[*wire]);
    n->open[*wire] = true;
    return 0;
}

static void close_wire(const struct mos_wires *w, int wire) {
    CU_ASSERT(of(w)->open[wire]);
    of(w)->open[wire] = false;
}

static int receive(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got,
                   struct mos_peer *from) {
    struct network *n = of(w);
    for (size_t i = 0; i < n->count; i++) {
        struct packet *p = &n->queue[i];
        if (p->wire != wire || p->at > n->now)
            continue;
        *got = p->length < size ? p->length : size;
        memcpy(to, p->bytes, *got);
        *from = p->peer;
        memmove(p, p + 1, (--n->count - i) * sizeof *p);
        return 0;
    }
    return EAGAIN;
}

static int send_one(const struct mos_wires *w, int wire, const void *bytes, size_t length,
                    const struct mos_peer *to) {
    struct network *n = of(w);
    if (n->now >= n->cut && n->now < n->cut_end)
        return ENETUNREACH;
    CU_ASSERT_FATAL(length <= MOST_PACKET);
    for (unsigned i = 0; i < BOARDS; i++)
        if (n->boards[i].peer.address == to->address && n->boards[i].peer.port == to->port) {
            struct packet p = {
                .wire = -1, .board = i, .length = length, .peer = {OWN, (uint16_t)wire}};
            memcpy(p.bytes, bytes, length);
            carry(n, &p);
        }
    return 0;
}

/* ---- the files ---- */

static uint8_t byte_of(const char *name, uint64_t at) {
    return (uint8_t)((at * 7 >> 3) + (uint64_t)name[0]);
}

static bool find(void *self, const struct mos_peer *from, const char *name, struct mos_served *out,
                 const char **why) {
    struct network *n = self;
    for (unsigned i = 0; i < BOARDS; i++)
        if (n->boards[i].peer.address == from->address && strcmp(n->boards[i].name, name) == 0) {
            n->finds += n->boards[i].size != UINT64_MAX;
            *out = (struct mos_served){n->boards[i].size, &n->boards[i]};
            return n->boards[i].size != UINT64_MAX;
        }
    *why = "no";
    return false;
}

static int read_file(void *self, void *file, void *to, size_t length, uint64_t at) {
    struct network *n = self;
    const struct board *b = file;
    CU_ASSERT_FATAL(at + length <= b->size);
    for (size_t i = 0; i < length; i++)
        ((uint8_t *)to)[i] = byte_of(b->name, at + i);
    n->read_bytes += length;
    return 0;
}

static void ended(void *self, const struct mos_server_transfer *t, int64_t now) {
    struct network *n = self;
    (void)now;
    n->told++;
    n->told_whole += t->t.state == MOS_TFTP_DONE;
}

/* ---- the boards ---- */

static void say(struct network *n, unsigned i, const uint8_t *bytes, size_t length) {
    struct board *b = &n->boards[i];
    struct packet p = {
        .wire = b->transfer ? b->transfer : CONTROL, .length = length, .peer = b->peer};
    memcpy(p.bytes, bytes, length);
    if (n->now < n->cut || n->now >= n->cut_end)
        carry(n, &p);
    b->due = n->now + 1000 * MS;
}

static void ask(struct network *n, unsigned i) {
    struct board *b = &n->boards[i];
    uint8_t p[200];
    int length = sprintf((char *)p, "%c%c%s%coctet%cblksize%c%u%cwindowsize%c%u", 0, 1, b->name, 0,
                         0, 0, b->block_size, 0, 0, b->window);
    b->transfer = 0;
    b->greeted = false;
    b->got = b->block = b->since = 0;
    b->nacked = UINT64_MAX;
    say(n, i, p, (size_t)length + 1);
}

static void confirm(struct network *n, unsigned i) {
    struct board *b = &n->boards[i];
    uint8_t ack[4] = {0, 4, (uint8_t)(b->block >> 8), (uint8_t)b->block};
    b->since = 0;
    say(n, i, ack, 4);
}

static void board_takes(struct network *n, const struct packet *p) {
    struct board *b = &n->boards[p->board];
    if (b->ended && b->transfer != p->peer.port)
        return;
    if (p->bytes[1] == 5) {
        b->refused = b->ended = true;
    } else if (p->bytes[1] == 6 && (!b->transfer || b->transfer == p->peer.port)) {
        b->transfer = p->peer.port;
        b->greeted = true;
        confirm(n, p->board);
    } else if (p->bytes[1] == 3 && b->greeted && b->transfer == p->peer.port) {
        unsigned number = (unsigned)p->bytes[2] << 8 | p->bytes[3];
        if (number == ((b->block + 1) & 0xffff) && !b->ended) {
            for (size_t k = 4; k < p->length; k++)
                b->intact = b->intact && p->bytes[k] == byte_of(b->name, b->got + k - 4);
            b->got += p->length - 4;
            b->block++;
            b->ended = p->length - 4 < b->block_size;
            if (++b->since == b->window || b->ended)
                confirm(n, p->board);
        } else if (b->nacked != b->block) {
            b->nacked = b->block;
            confirm(n, p->board);
        }
    }
}

static void boards_step(struct network *n) {
    for (size_t i = 0; i < n->count;) {
        struct packet p = n->queue[i];
        if (p.wire >= 0 || p.at > n->now) {
            i++;
            continue;
        }
        memmove(&n->queue[i], &n->queue[i + 1], (--n->count - i) * sizeof p);
        board_takes(n, &p);
    }
    for (unsigned i = 0; i < BOARDS; i++) {
        struct board *b = &n->boards[i];
        if (b->ended || n->now < b->due)
            continue;
        if (b->transfer)
            confirm(n, i);
        else
            ask(n, i);
    }
}

/* One is reset in the middle, and asks for it anew from another port. */
static void reset_one(struct network *n) {
    struct board *b = &n->boards[random_below(&n->seed, BOARDS)];
    if (b->ended || !b->transfer || b->resets > 2)
        return;
    b->resets++;
    b->peer.port = (uint16_t)(b->peer.port + 1);
    b->transfer = 0;
    b->due = n->now;
}

/* ---- what must come of it ---- */

struct scene {
    const char *what;
    unsigned loss, doubles, resets, window;
    int64_t cut, cut_end;
};

static void play(const struct scene *s, uint64_t seed) {
    struct network *n = calloc(1, sizeof *n);
    struct mos_server *server = calloc(1, sizeof *server);
    n->queue = calloc(MOST_QUEUED, sizeof *n->queue);
    n->seed = seed;
    n->loss = s->loss;
    n->doubles = s->doubles;
    n->cut = s->cut;
    n->cut_end = s->cut_end;
    n->wires = (struct mos_wires){.user = n,
                                  .open_datagrams = open_datagrams,
                                  .close = close_wire,
                                  .receive = receive,
                                  .send = send_one};
    static const char *const names[BOARDS] = {"a", "b", "c", "d", "e", "f"};
    for (unsigned i = 0; i < BOARDS; i++)
        n->boards[i] = (struct board){.peer = {OWN + 1 + i, 2000},
                                      .name = names[i],
                                      .size = i == 5 ? UINT64_MAX : random_below(&n->seed, 60000),
                                      .block_size = 100 + (unsigned)random_below(&n->seed, 1300),
                                      .window = s->window,
                                      .intact = true};
    *server = (struct mos_server){.wires = &n->wires,
                                  .own = {OWN, MOS_TFTP_PORT},
                                  .self = n,
                                  .find = find,
                                  .read = read_file,
                                  .ended = ended};
    CU_ASSERT_EQUAL(mos_server_open(server), 0);
    bool all = false;
    while (!all && n->now < 200 * 1000 * MS) {
        boards_step(n);
        CU_ASSERT_EQUAL(mos_server_step(server, UINT32_MAX, n->now), 0);
        if (s->resets && chance(n, 400))
            reset_one(n);
        n->now += MS;
        all = true;
        for (unsigned i = 0; i < BOARDS; i++)
            all = all && n->boards[i].ended;
    }
    uint64_t bytes = 0;
    for (unsigned i = 0; i < BOARDS; i++) {
        const struct board *b = &n->boards[i];
        CU_ASSERT(b->ended && b->refused == (i == 5) && b->intact);
        CU_ASSERT(i == 5 || b->got == b->size);
        bytes += i == 5 ? 0 : b->size;
    }
    if (!s->loss && !s->doubles && !s->resets && !s->cut_end)
        CU_ASSERT_EQUAL(n->read_bytes, bytes); /* nothing goes twice */
    CU_ASSERT(n->read_bytes < 12 * bytes + 200000);
    mos_server_close(server);
    for (int i = 0; i < 64; i++)
        CU_ASSERT_FALSE(n->open[i]);
    CU_ASSERT(n->told == n->finds && n->told_whole <= n->told);
    free(server);
    free(n->queue);
    free(n);
}

static void boards_get_files_at_once(void) {
    static const struct scene scenes[] = {
        {"all is well", .window = 1},
        {"windows", .window = 8},
        {"packets are lost", .loss = 15, .window = 1},
        {"… of windows", .loss = 15, .window = 8},
        {"packets come twice", .doubles = 5, .window = 1},
        {"… of windows", .doubles = 5, .window = 8},
        {"boards are reset", .resets = 1, .window = 4},
        {"the cable is out", .window = 2, .cut = 20 * MS, .cut_end = 3000 * MS},
        {"all of it", .loss = 20, .doubles = 20, .resets = 1, .window = 4, .cut = 50 * MS,
         .cut_end = 2500 * MS},
    };
    for (size_t i = 0; i < sizeof scenes / sizeof *scenes; i++)
        for (uint64_t seed = 1; seed <= 12; seed++)
            play(&scenes[i], seed * 7919);
}

/* Everybody who says that a window's first block is missing is answered once, not for ever. */
static void a_window_goes_again_once(void) {
    static uint8_t packet[MOS_TFTP_PACKET];
    const struct mos_tftp_wish wish = {.file = "file", .window = 4};
    const uint8_t greeted[4] = {0, 4, 0, 0}, second[4] = {0, 4, 0, 2};
    struct mos_tftp t;
    uint64_t at;
    size_t length, sent = 0;
    mos_tftp_begin(&t, &wish, 100000, 0);
    CU_ASSERT(mos_tftp_next(&t, 0, packet, &at, &length) && packet[1] == 6);
    for (int i = 0; i < 6; i++) { /* the answer to the greeting, and five that miss block 1 */
        mos_tftp_take(&t, greeted, 4, i);
        while (mos_tftp_next(&t, i, packet, &at, &length))
            sent++;
    }
    CU_ASSERT(sent == 8 && t.resent == 4);
    mos_tftp_take(&t, second, 4, 10); /* two came: goes on behind them */
    CU_ASSERT(mos_tftp_next(&t, 10, packet, &at, &length) && at == 1024);
}

/* ---- addresses ---- */

static const uint8_t board_ethernet[6] = {0x52, 0x54, 0, 0x12, 0x34, 0x56};

struct dhcp_case {
    const char *what;
    uint8_t kind; /* 0: BOOTP */
    uint32_t wanted, server, has, relay;
    bool stranger, cut;
    uint8_t answer; /* kind of it; 0: none, 255: BOOTP's */
    uint32_t to;
    enum mos_dhcp_kind event;
};

static size_t dhcp_request(const struct dhcp_case *c, uint8_t *p) {
    memset(p, 0, 300);
    p[0] = 1, p[1] = 1, p[2] = 6;
    memcpy(p + 4, "\xde\xad\xbe\xef", 4);
    for (int i = 0; i < 4; i++) {
        p[12 + i] = (uint8_t)(c->has >> (24 - 8 * i));
        p[24 + i] = (uint8_t)(c->relay >> (24 - 8 * i));
    }
    memcpy(p + 28, board_ethernet, 6);
    p[33] ^= c->stranger;
    uint8_t *o = p + 240;
    if (c->kind) {
        memcpy(p + 236, "\x63\x82\x53\x63", 4);
        *o++ = 53, *o++ = 1, *o++ = c->kind;
        *o++ = 0; /* padding, and an option that nobody needs */
        *o++ = 60, *o++ = 3, *o++ = 'x', *o++ = 'y', *o++ = 'z';
        if (c->wanted) {
            *o++ = 50, *o++ = 4;
            for (int i = 24; i >= 0; i -= 8)
                *o++ = (uint8_t)(c->wanted >> i);
        }
        if (c->server) {
            *o++ = 54, *o++ = 4;
            for (int i = 24; i >= 0; i -= 8)
                *o++ = (uint8_t)(c->server >> i);
        }
        if (c->cut)
            *o++ = 61, *o++ = 200; /* says that more follows than does */
        else
            *o++ = 255;
    }
    return (size_t)(o - p);
}

/* The value of an option of an answer; NULL: it has none. */
static const uint8_t *option(const uint8_t *p, uint8_t which, unsigned length) {
    for (const uint8_t *o = p + 240; o < p + MOS_DHCP_PACKET && *o != 255; o += 2 + o[1])
        if (*o == which)
            return o[1] == length ? o + 2 : NULL;
    return NULL;
}

static void one_board_gets_an_address(void) {
    enum { DISCOVER = 1, OFFER, REQUEST, DECLINE, ACK, NAK, RELEASE, INFORM };
    const uint32_t gives = OWN + 16, all = UINT32_MAX, other = OWN + 99;
    const struct dhcp_case cases[] = {
        {"looks for one", DISCOVER, .answer = OFFER, .to = all, .event = MOS_DHCP_OFFERED},
        {"… and wants its old one", DISCOVER, .wanted = other, .answer = OFFER, .to = all,
         .event = MOS_DHCP_OFFERED},
        {"takes it", REQUEST, .wanted = gives, .server = OWN, .answer = ACK, .to = all,
         .event = MOS_DHCP_GIVEN},
        {"takes another server's", REQUEST, .wanted = other, .server = other,
         .event = MOS_DHCP_NOTHING},
        {"was reset", REQUEST, .wanted = gives, .answer = ACK, .to = all, .event = MOS_DHCP_GIVEN},
        {"comes from elsewhere", REQUEST, .wanted = other, .answer = NAK, .to = all,
         .event = MOS_DHCP_REFUSED},
        {"goes on with it", REQUEST, .has = gives, .answer = ACK, .to = gives,
         .event = MOS_DHCP_GIVEN},
        {"goes on with another", REQUEST, .has = other, .answer = NAK, .to = all,
         .event = MOS_DHCP_REFUSED},
        {"says it is in use", DECLINE, .wanted = gives, .event = MOS_DHCP_DECLINED},
        {"gives it back", RELEASE, .has = gives, .event = MOS_DHCP_RELEASED},
        {"has one, and asks for the rest", INFORM, .has = other, .answer = ACK, .to = other,
         .event = MOS_DHCP_GIVEN},
        {"BOOTP", .answer = 255, .to = all, .event = MOS_DHCP_GIVEN},
        {"a guest", DISCOVER, .stranger = true, .event = MOS_DHCP_STRANGER},
        {"a guest by BOOTP", .stranger = true, .event = MOS_DHCP_STRANGER},
        {"through a relay", DISCOVER, .relay = other, .event = MOS_DHCP_NOTHING},
        {"an answer of another server", OFFER, .event = MOS_DHCP_NOTHING},
        {"options that are cut off", DISCOVER, .cut = true, .answer = OFFER, .to = all,
         .event = MOS_DHCP_OFFERED},
    };
    struct mos_dhcp d = {
        .own = OWN, .address = gives, .mask = mos_ipv4_mask(24), .file = "b/x.scr"};
    memcpy(d.ethernet, board_ethernet, 6);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const struct dhcp_case *c = &cases[i];
        uint8_t in[300], out[MOS_DHCP_PACKET];
        struct mos_peer to = {0, 0};
        struct mos_dhcp_event event;
        size_t length = dhcp_request(c, in);
        size_t n = mos_dhcp_answer(&d, in, length, out, &to, &event);
        CU_ASSERT_EQUAL(event.kind, c->event);
        CU_ASSERT_EQUAL(n != 0, c->answer != 0);
        for (size_t cut = 0; cut < length;
             cut++) { /* whatever is missing, nothing is read behind it */
            uint8_t *part = malloc(cut + 1), ignored[MOS_DHCP_PACKET];
            memcpy(part, in, cut);
            struct mos_peer where;
            mos_dhcp_answer(&d, part, cut, ignored, &where, &event);
            CU_ASSERT(cut >= 236 || event.kind == MOS_DHCP_NOTHING);
            free(part);
        }
        if (!n)
            continue;
        const uint8_t *kind = option(out, 53, 1), *server = option(out, 54, 4);
        bool gave = c->answer != NAK, has_one = c->kind == INFORM;
        CU_ASSERT(n == MOS_DHCP_PACKET && out[0] == 2 && memcmp(out + 4, in + 4, 4) == 0);
        CU_ASSERT(memcmp(out + 28, board_ethernet, 6) == 0);
        CU_ASSERT(to.address == c->to && to.port == 68);
        CU_ASSERT(c->answer == 255 ? !kind : kind && *kind == c->answer && server);
        CU_ASSERT_EQUAL(memcmp(out + 16, "\xc0\0\x02\x11", 4) == 0, gave && !has_one);
        CU_ASSERT_EQUAL(strcmp((char *)out + 108, gave ? "b/x.scr" : ""), 0);
        CU_ASSERT_EQUAL(option(out, 1, 4) != NULL, gave);
        CU_ASSERT_EQUAL(option(out, 51, 4) != NULL, gave && kind && !has_one);
    }
}

static void addresses_are_read(void) {
    static const struct {
        const char *text;
        bool good;
        uint32_t address;
        unsigned prefix;
    } ip[] = {{"192.0.2.17", true, 0xc0000211, 32},
              {"192.0.2.17/24", true, 0xc0000211, 24},
              {"0.0.0.0/0", true, 0, 0},
              {"192.0.2", false, 0, 0},
              {"192.0.2.256", false, 0, 0},
              {"192.0.2.1/33", false, 0, 0},
              {"192.0.2.1/", false, 0, 0},
              {" 192.0.2.1", false, 0, 0},
              {"192.0.2.1x", false, 0, 0},
              {"", false, 0, 0}};
    static const struct {
        const char *text;
        bool good;
    } ethernet[] = {{"52:54:00:12:34:56", true},
                    {"AA:bb:Cc:00:00:01", true},
                    {"52:54:00:12:34", false},
                    {"52:54:00:12:34:56:78", false},
                    {"52-54-00-12-34-56", false},
                    {"53:54:00:12:34:56", false}, /* a group */
                    {"00:00:00:00:00:00", false},
                    {"52:54:00:12:34:5g", false},
                    {"5", false},
                    {"", false}};
    for (size_t i = 0; i < sizeof ip / sizeof *ip; i++) {
        uint32_t address = 0;
        unsigned prefix = 0;
        CU_ASSERT_EQUAL(mos_ipv4_read(ip[i].text, &address, &prefix), ip[i].good);
        CU_ASSERT(address == ip[i].address && prefix == ip[i].prefix);
    }
    CU_ASSERT(mos_ipv4_mask(0) == 0 && mos_ipv4_mask(24) == 0xffffff00 &&
              mos_ipv4_mask(32) == UINT32_MAX);
    uint8_t out[6];
    for (size_t i = 0; i < sizeof ethernet / sizeof *ethernet; i++)
        CU_ASSERT_EQUAL(mos_dhcp_ethernet(ethernet[i].text, out), ethernet[i].good);
    CU_ASSERT(mos_dhcp_ethernet("52:54:00:12:34:56", out) && memcmp(out, board_ethernet, 6) == 0);
}

/* ---- parts of files ---- */

static void parts_are_read(void) {
    static const struct {
        const char *text;
        uint64_t size;
        enum mos_range range;
        uint64_t first, length;
    } cases[] = {
        {NULL, 100, MOS_RANGE_WHOLE, 0, 100},
        {"bytes=0-0", 100, MOS_RANGE_PART, 0, 1},
        {"bytes=10-19", 100, MOS_RANGE_PART, 10, 10},
        {"bytes=90-", 100, MOS_RANGE_PART, 90, 10},
        {"bytes=90-1000", 100, MOS_RANGE_PART, 90, 10},
        {"Bytes= 5-6 ", 100, MOS_RANGE_PART, 5, 2},
        {"bytes=-30", 100, MOS_RANGE_PART, 70, 30},
        {"bytes=-300", 100, MOS_RANGE_PART, 0, 100},
        {"bytes=0-99999999999999999999999", 100, MOS_RANGE_PART, 0, 100},
        {"bytes=-0", 100, MOS_RANGE_NONE, 0, 100},
        {"bytes=100-", 100, MOS_RANGE_NONE, 0, 100},
        {"bytes=99999999999999999999-", 100, MOS_RANGE_NONE, 0, 100},
        {"bytes=0-", 0, MOS_RANGE_NONE, 0, 0},
        {"bytes=-5", 0, MOS_RANGE_NONE, 0, 0},
        {"bytes=6-5", 100, MOS_RANGE_WHOLE, 0, 100},
        {"bytes=1-2,4-5", 100, MOS_RANGE_WHOLE, 0, 100},
        {"bytes=", 100, MOS_RANGE_WHOLE, 0, 100},
        {"bytes=-", 100, MOS_RANGE_WHOLE, 0, 100},
        {"bytes=5", 100, MOS_RANGE_WHOLE, 0, 100},
        {"bytes=x-", 100, MOS_RANGE_WHOLE, 0, 100},
        {"lines=1-2", 100, MOS_RANGE_WHOLE, 0, 100},
        {"", 100, MOS_RANGE_WHOLE, 0, 100},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        uint64_t first, length;
        enum mos_range r = mos_range_read(cases[i].text, cases[i].size, &first, &length);
        CU_ASSERT_EQUAL(r, cases[i].range);
        CU_ASSERT(r == MOS_RANGE_NONE || (first == cases[i].first && length == cases[i].length));
    }
    uint64_t seed = 5, first, length;
    for (int i = 0; i < 20000; i++) { /* whatever is asked for lies within the file */
        char text[64];
        uint64_t size = random_below(&seed, 50);
        snprintf(text, sizeof text, "bytes=%.*s-%.*s", (int)random_below(&seed, 3), "1234",
                 (int)random_below(&seed, 3), "4321");
        enum mos_range r = mos_range_read(text, size, &first, &length);
        CU_ASSERT(r != MOS_RANGE_PART || (length && first < size && length <= size - first));
        CU_ASSERT(r != MOS_RANGE_WHOLE || (!first && length == size));
    }
}

/* ---- what comes in ---- */

enum { HTTP_PORT = 8080, TFTP_PORT = 69 };

static size_t make_ip(uint8_t *p, bool tcp, uint32_t from, uint32_t to, uint16_t from_port,
                      uint16_t port, unsigned options) {
    size_t head = 20 + options * 4;
    memset(p, 0, MOS_OVERHEARD);
    p[0] = (uint8_t)(0x45 + options);
    p[9] = tcp ? 6 : 17;
    mos_put_be32(p + 12, from);
    mos_put_be32(p + 16, to);
    mos_put_be16(p + head, from_port);
    mos_put_be16(p + head + 2, port);
    p[head + 13] = tcp ? 2 : 0;
    return head + (tcp ? 20 : 8);
}

static size_t make_arp(uint8_t *p, uint8_t last, uint32_t from, uint32_t wanted) {
    static const uint8_t head[] = {0, 1, 8, 0, 6, 4, 0, 1, 0x52, 0x54, 0, 0x12, 0x34};
    memset(p, 0, MOS_OVERHEARD);
    memcpy(p, head, sizeof head);
    p[13] = last;
    mos_put_be32(p + 14, from);
    mos_put_be32(p + 24, wanted);
    return 28;
}

static struct mos_overhear overhearing(void) {
    return (struct mos_overhear){.own = OWN, .ports = {TFTP_PORT, 67, HTTP_PORT}};
}

/* Each packet twice, and none of them gets to us: which of them are for us? */
static void packets_are_overheard(void) {
    static const struct {
        const char *what;
        bool tcp;
        uint32_t to;
        uint16_t port;
        unsigned options;
        int at, value; /* a byte of it is another one; -1: none */
        size_t cut;
        int service; /* -1: not for us */
    } cases[] = {
        {"a file", false, OWN, 69, 0, -1, 0, 0, MOS_SERVES_TFTP},
        {"a file, with options of IP", false, OWN, 69, 10, -1, 0, 0, MOS_SERVES_TFTP},
        {"an address, of everybody", false, UINT32_MAX, 67, 0, -1, 0, 0, MOS_SERVES_DHCP},
        {"a page", true, OWN, HTTP_PORT, 0, -1, 0, 0, MOS_SERVES_HTTP},
        {"a page, with options of IP", true, OWN, HTTP_PORT, 10, -1, 0, 0, MOS_SERVES_HTTP},
        {"a page of everybody", true, UINT32_MAX, HTTP_PORT, 0, -1, 0, 0, -1},
        {"a page, as it is sent", true, OWN, HTTP_PORT, 0, 33, 16, 0, -1},
        {"a page, as it answers", true, OWN, HTTP_PORT, 0, 33, 18, 0, -1},
        {"a file by TCP", true, OWN, 69, 0, -1, 0, 0, -1},
        {"another port", false, OWN, 70, 0, -1, 0, 0, -1},
        {"no port", false, OWN, 0, 0, -1, 0, 0, -1},
        {"somebody else", false, OWN + 1, 69, 0, -1, 0, 0, -1},
        {"a later part", false, OWN, 69, 0, 7, 1, 0, -1},
        {"another protocol", false, OWN, 69, 0, 9, 1, 0, -1},
        {"no head", false, OWN, 69, 0, 0, 0x44, 0, -1},
        {"another version", false, OWN, 69, 0, 0, 0x65, 0, -1},
        {"cut in the ports", false, OWN, 69, 0, -1, 0, 23, -1},
        {"cut in the flags", true, OWN, HTTP_PORT, 0, -1, 0, 33, -1},
        {"cut in the head", false, OWN, 69, 0, -1, 0, 3, -1},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct mos_overhear o = overhearing();
        uint8_t p[MOS_OVERHEARD];
        size_t n =
            make_ip(p, cases[i].tcp, OWN + 7, cases[i].to, 1069, cases[i].port, cases[i].options);
        if (cases[i].at >= 0)
            p[cases[i].at] = (uint8_t)cases[i].value;
        n = cases[i].cut ? cases[i].cut : n;
        mos_overhear_packet(&o, p, n, 0);
        CU_ASSERT_PTR_NULL(mos_overhear_dropped(&o, 900 * MS)); /* one may get lost */
        mos_overhear_packet(&o, p, n, 1000 * MS);
        CU_ASSERT_PTR_NULL(mos_overhear_dropped(&o, 1100 * MS)); /* it may be on its way */
        const struct mos_asking *a = mos_overhear_dropped(&o, 1400 * MS);
        bool right = cases[i].service < 0 ? !a
                                          : a && (int)a->service == cases[i].service &&
                                                a->from.address == OWN + 7 && a->from.port == 1069;
        if (!right)
            fprintf(stderr, "\n%s\n", cases[i].what);
        CU_ASSERT(right);
        CU_ASSERT_PTR_NULL(mos_overhear_dropped(&o, 1500 * MS)); /* once */
        CU_ASSERT_EQUAL(o.came, cases[i].service < 0 ? 0U : 2U);
    }
}

/* Boards ask for hours; each packet is overheard and gets to us, in either order.  No board is ever
 * said to be dropped, but the one that is, from then on. */
static void nobody_is_dropped_by_mistake(void) {
    uint64_t seed = 11;
    for (int run = 0; run < 40; run++) {
        struct mos_overhear o = overhearing();
        int64_t now = 0, cut = run % 2 ? 100000 * MS : INT64_MAX;
        const struct mos_asking *found = NULL;
        while (now < 200000 * MS) {
            uint32_t board = (uint32_t)random_below(&seed, 45);
            const struct mos_peer from = {OWN + 1 + board, (uint16_t)(1000 + board)};
            uint8_t p[MOS_OVERHEARD];
            size_t n = make_ip(p, false, from.address, OWN, from.port, TFTP_PORT, 0);
            bool first = random_below(&seed, 2), drops = board == 3 && now >= cut;
            now += (int64_t)random_below(&seed, 60) * MS;
            if (first)
                mos_overhear_packet(&o, p, n, now);
            if (!drops)
                mos_overhear_received(&o, MOS_SERVES_TFTP, &from, now);
            if (!first)
                mos_overhear_packet(&o, p, n, now);
            if (!found && (found = mos_overhear_dropped(&o, now)))
                CU_ASSERT(now >= cut && found->from.address == OWN + 4);
        }
        CU_ASSERT_EQUAL(found != NULL, run % 2 == 1);
    }
}

static void boards_look_for_others(void) {
    static const struct {
        const char *what;
        uint32_t from, wanted;
        unsigned every_ms, times;
        bool is;
    } cases[] = {
        {"another server", OWN + 7, OWN + 99, 1000, 3, true},
        {"ours", OWN + 7, OWN, 1000, 9, false},
        {"it is answered", OWN + 7, OWN + 99, 1000, 2, false},
        {"now and then", OWN + 7, OWN + 99, 30000, 9, false},
        {"it tells of itself", OWN + 7, OWN + 7, 1000, 9, false},
        {"is it free?", 0, OWN + 7, 1000, 9, false},
        {"this computer", OWN, OWN + 99, 1000, 9, false},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct mos_overhear o = overhearing();
        uint8_t p[MOS_OVERHEARD];
        size_t n = make_arp(p, 0x56, cases[i].from, cases[i].wanted);
        int64_t now = 0;
        for (unsigned k = 0; k < cases[i].times; k++, now += cases[i].every_ms * MS)
            mos_overhear_packet(&o, p, n, now);
        const struct mos_looking *l = mos_overhear_lost(&o, now);
        if ((l != NULL) != cases[i].is)
            fprintf(stderr, "\n%s\n", cases[i].what);
        CU_ASSERT_EQUAL(l != NULL, cases[i].is);
        CU_ASSERT(!l || (l->ethernet[5] == 0x56 && l->from == OWN + 7 && l->wanted == OWN + 99));
        CU_ASSERT_PTR_NULL(mos_overhear_lost(&o, now));
    }
}

/* ---- what is said of it ---- */

static struct {
    int64_t now;
    int overhears; /* an errno value */
    uint8_t packet[MOS_OVERHEARD];
    size_t length, times; /* of the packet; how often it comes */
    char told[2000];
} table;

static int64_t table_now(const struct mos_host *h) {
    (void)h;
    return table.now;
}

static int table_overhears(const struct mos_wires *w, unsigned interface, const uint16_t *ports,
                           size_t count, int *wire) {
    (void)w;
    CU_ASSERT(interface == 3 && count == 2 && ports[0] == TFTP_PORT && ports[1] == HTTP_PORT);
    *wire = 1;
    return table.overhears;
}

static int table_read(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got) {
    (void)w;
    CU_ASSERT(wire == 1 && size >= table.length);
    *got = table.times ? table.length : 0;
    table.times -= table.times > 0;
    memcpy(to, table.packet, *got);
    return 0;
}

static void table_note(void *self, const char *text, bool bad) {
    (void)self;
    CU_ASSERT(bad && strlen(table.told) + strlen(text) + 2 < sizeof table.told);
    strcat(strcat(table.told, text), "\n");
}

/* Two minutes beside a table: what is said, and nothing where there is nothing to say. */
static void obstacles_are_told(void) {
    enum packet { NONE, REQUEST, LOOK, LOOK_OF_OTHERS };
    static const struct {
        const char *what;
        enum packet packet;
        int overhears;
        bool asked, no_carrier, waits;
        int sends;        /* an errno value */
        const char *told; /* begins so; "": nothing; one line */
    } cases[] = {
        {"nobody asks", NONE, 0, false, false, false, 0,
         "Nobody asked for anything in 60 s: does the board boot from the network, and is its "
         "cable at eth1?\n"},
        {"nobody asks, and who knows", NONE, EPERM, false, false, false, 0,
         "Nobody asked for anything in 60 s: does the board boot from the network, and is its "
         "cable at eth1? (A firewall"},
        {"somebody asked", NONE, EPERM, true, false, false, 0, ""},
        {"the board is off", NONE, 0, false, true, false, 0, ""},
        {"the address is away", NONE, 0, false, false, true, 0, ""},
        {"it is dropped", REQUEST, 0, false, false, false, 0,
         "curlew (192.0.2.8) asks by TFTP, and this computer's firewall (or a missing way back) "
         "drops it: let UDP port 69 in at eth1\n"},
        {"it is dropped, and not seen", REQUEST, EPERM, true, false, false, 0, ""},
        {"another server", LOOK, 0, true, false, false, 0,
         "curlew (192.0.2.8) looks for 192.0.2.100, which nobody here has: set its server (or "
         "gateway) to 192.0.2.1\n"},
        {"another board", LOOK_OF_OTHERS, 0, true, false, false, 0, ""},
        {"a filter on the way out", NONE, 0, true, false, false, EPERM,
         "This computer's firewall drops what is sent to the board\n"},
        {"large blocks", NONE, 0, true, false, false, EMSGSIZE, "The board asks for larger"},
        {"no carrier while it is sent", NONE, 0, true, false, false, ENETUNREACH, ""},
    };
    static const uint8_t ethernet[6] = {0x52, 0x54, 0, 0x12, 0x34, 0x56};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_host host = *c.ctx.host;
        struct mosaicum m = {.arena = c.ctx.arena, .ctx = c.ctx};
        struct serve_board board = {.selector = "curlew", .has_ethernet = true};
        const struct mosaicum_serve request = {.note = table_note};
        const struct mos_wires wires = {.open_overhear = table_overhears, .read = table_read};
        struct serve_job j = {.m = &m,
                              .request = &request,
                              .wires = &wires,
                              .boards = mos_vec_make(c.ctx.arena, sizeof(struct serve_board *)),
                              .scratch = c.ctx.arena,
                              .own = OWN,
                              .carrier = !cases[i].no_carrier,
                              .waits = cases[i].waits,
                              .tftp_port = TFTP_PORT,
                              .http_port = HTTP_PORT,
                              .has_tftp = true,
                              .has_http = true};
        memset(&table, 0, sizeof table);
        table.overhears = cases[i].overhears;
        host.now_ns = table_now;
        m.ctx.host = &host;
        memcpy(board.ethernet, ethernet, 6);
        mos_vec_push_pointer(&j.boards, &board);
        table.length =
            cases[i].packet == REQUEST
                ? make_ip(table.packet, false, OWN + 7, OWN, 1069, TFTP_PORT, 0)
                : make_arp(table.packet, cases[i].packet == LOOK ? 0x56 : 0x57, OWN + 7, OWN + 99);
        serve_overhear_begin(&j, 3, "eth1");
        CU_ASSERT_EQUAL(j.overhears, !table.overhears);
        j.tftp.sends_badly = cases[i].sends;
        j.was_asked = cases[i].asked;
        for (int s = 0; s < 120; s++, table.now += 1000 * MS) {
            table.times = cases[i].packet != NONE && s % 5 == 0;
            if (j.overhears)
                serve_overhear(&j);
            table.now += 500 * MS;
            serve_tell_obstacles(&j);
        }
        const char *end = strchr(table.told, '\n');
        bool right = strncmp(table.told, cases[i].told, strlen(cases[i].told)) == 0 &&
                     (*cases[i].told ? end && !end[1] : !end);
        if (!right)
            fprintf(stderr, "\n%s: %s\n", cases[i].what, table.told);
        CU_ASSERT(right);
        core_end(&c);
    }
}

SUITE(network_suite, {"boards get files at once", boards_get_files_at_once},
      {"a window goes again once", a_window_goes_again_once},
      {"one board gets an address", one_board_gets_an_address},
      {"addresses are read", addresses_are_read}, {"parts are read", parts_are_read},
      {"packets are overheard", packets_are_overheard},
      {"nobody is dropped by mistake", nobody_is_dropped_by_mistake},
      {"boards look for others", boards_look_for_others},
      {"obstacles are told", obstacles_are_told});
