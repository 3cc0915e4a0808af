/* What comes over the network while files are served: packets of several boards to the server of
 * files (the first byte is 0, 3 …), requests for an address (1, 4 …), fields of HTTP (2, 5 …) and
 * whatever comes in at the interface (255).
 * Nothing outside of a file is ever given away, nobody but the one board gets an address, and no
 * wire stays open. */
#include "harness.h"

#include "base/address.h"
#include "base/bytes.h"
#include "link/dhcp.h"
#include "link/overhear.h"
#include "link/ranges.h"
#include "link/server.h"

#include <errno.h>
#include <stdlib.h>

enum { FILE_SIZE = 70000, PEERS = 20, CONTROL = 1, WIRES = 40, MOST_STEPS = 4000 };
#define MS INT64_C(1000000)
#define OWN UINT32_C(0xc0000201)

static struct {
    const uint8_t *data;
    size_t size;
    bool open[WIRES];
    struct mos_peer peers[WIRES]; /* whom a wire has last sent to */
    int ready;
    size_t sent;
} net;

static int open_datagrams(const struct mos_wires *w, const char *interface,
                          const struct mos_peer *own, int *wire) {
    (void)w;
    (void)interface;
    int i = own->port ? CONTROL : CONTROL + 1;
    while (i < WIRES && net.open[i])
        i++;
    if (i == WIRES)
        __builtin_trap(); /* they are never given back */
    net.open[i] = true;
    *wire = i;
    return 0;
}

static void close_wire(const struct mos_wires *w, int wire) {
    (void)w;
    if (!net.open[wire])
        __builtin_trap();
    net.open[wire] = false;
}

/* The next packet: whose, how long, and its bytes; it comes on the wire that is ready. */
static int receive(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got,
                   struct mos_peer *from) {
    (void)w;
    if (!net.open[wire])
        __builtin_trap();
    if (wire != net.ready || net.size < 2)
        return EAGAIN;
    size_t n = mos_min((size_t)net.data[1], net.size - 2);
    n = mos_min(n, size);
    memcpy(to, net.data + 2, n);
    *got = n;
    *from = wire == CONTROL ? (struct mos_peer){OWN + 1, (uint16_t)(net.data[0] % PEERS)}
                            : net.peers[wire];
    net.data += 2 + n;
    net.size -= 2 + n;
    net.ready = 0;
    return 0;
}

static int send_one(const struct mos_wires *w, int wire, const void *bytes, size_t length,
                    const struct mos_peer *to) {
    (void)w;
    if (!net.open[wire] || length < 4 || length > MOS_TFTP_PACKET || ((const uint8_t *)bytes)[0])
        __builtin_trap();
    net.peers[wire] = *to;
    net.sent++;
    return net.sent % 7 ? 0 : ENETUNREACH;
}

static bool find(void *self, const struct mos_peer *from, const char *name, struct mos_served *out,
                 const char **why) {
    size_t *given = self;
    (void)from;
    *why = "no";
    if (*name != 'f' || name[1])
        return false;
    ++*given;
    *out = (struct mos_served){FILE_SIZE, given};
    return true;
}

static int read_file(void *self, void *file, void *to, size_t length, uint64_t at) {
    if (self != file || at > FILE_SIZE || length > FILE_SIZE - at)
        __builtin_trap();
    memset(to, 0x5a, length);
    return 0;
}

static void ended(void *self, const struct mos_server_transfer *t, int64_t now) {
    size_t *given = self;
    (void)now;
    if (!*given || t->served.file != self)
        __builtin_trap();
    --*given;
}

static void serve(const uint8_t *data, size_t size) {
    static struct mos_server s;
    static const struct mos_wires wires = {.open_datagrams = open_datagrams,
                                           .close = close_wire,
                                           .receive = receive,
                                           .send = send_one};
    size_t given = 0;
    int64_t now = 0;
    memset(&net, 0, sizeof net);
    net.data = data;
    net.size = size;
    s = (struct mos_server){.wires = &wires,
                            .own = {OWN, MOS_TFTP_PORT},
                            .self = &given,
                            .find = find,
                            .read = read_file,
                            .ended = ended};
    if (mos_server_open(&s))
        return;
    for (unsigned steps = 0; net.size > 2 && steps < MOST_STEPS; steps++) {
        int all[MOS_SERVER_TRANSFERS + 1];
        size_t n = mos_server_wires(&s, all);
        net.ready = all[net.data[0] / PEERS % n];
        if (mos_server_step(&s, UINT32_MAX, now) || mos_server_due(&s, now) > now + 1000 * MS)
            __builtin_trap();
        now += net.ready ? 1000 * MS : MS; /* nobody took it */
        if (net.ready)
            net.data++, net.size--;
    }
    mos_server_close(&s);
    for (int i = 0; i < WIRES; i++)
        if (net.open[i])
            __builtin_trap();
    if (given)
        __builtin_trap();
}

static void give_address(const uint8_t *data, size_t size) {
    static const uint8_t board[6] = {0x52, 0x54, 0, 0x12, 0x34, 0x56};
    struct mos_dhcp d = {.own = OWN, .address = OWN + 16, .mask = mos_ipv4_mask(24), .file = "f"};
    uint8_t out[MOS_DHCP_PACKET];
    struct mos_peer to = {0, 0};
    struct mos_dhcp_event e;
    memcpy(d.ethernet, board, sizeof board);
    size_t n = mos_dhcp_answer(&d, data, size, out, &to, &e);
    if (n && (memcmp(data + 28, board, 6) != 0 || to.port != MOS_DHCP_CLIENT ||
              (mos_be32(out + 16) && mos_be32(out + 16) != d.address)))
        __builtin_trap();
    if ((e.kind == MOS_DHCP_GIVEN || e.kind == MOS_DHCP_OFFERED) !=
        (n && e.kind != MOS_DHCP_REFUSED))
        __builtin_trap();
}

static void read_fields(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    const char *text = mos_strndup(ctx->arena, (const char *)data, size);
    uint64_t first, length;
    for (uint64_t file = 0; file < 3000; file = file * 3 + 1) {
        enum mos_range r = mos_range_read(text, file, &first, &length);
        if (r == MOS_RANGE_PART ? !length || first >= file || length > file - first
                                : r == MOS_RANGE_WHOLE && (first || length != file))
            __builtin_trap();
    }
    uint32_t address;
    unsigned prefix;
    uint8_t ethernet[6];
    if (mos_ipv4_read(text, &address, &prefix) && prefix > 32)
        __builtin_trap();
    mos_dhcp_ethernet(text, ethernet);
}

/* Packets, each with its length and a time before it; every other one gets to us, too. */
static void overhear(const uint8_t *data, size_t size) {
    struct mos_overhear o = {.own = OWN, .ports = {69, 67, 80}};
    size_t packets = 0, dropped = 0, lost = 0;
    int64_t now = 0;
    while (size > 2) {
        size_t n = mos_min((size_t)data[0], size - 2);
        uint8_t *exact = malloc(n ? n : 1); /* a read behind it is seen */
        if (!exact)
            __builtin_trap();
        memcpy(exact, data + 2, n);
        now += data[1] * 100 * MS;
        mos_overhear_packet(&o, exact, n, now);
        free(exact);
        if (data[1] & 1) {
            const struct mos_peer from = {OWN + data[1], 1069};
            mos_overhear_received(&o, data[1] >> 1 & 1, &from, now);
        }
        packets++;
        while (mos_overhear_dropped(&o, now))
            dropped++;
        while (mos_overhear_lost(&o, now))
            lost++;
        data += 2 + n;
        size -= 2 + n;
    }
    if (o.came > packets || dropped * 2 > packets || dropped > MOS_SERVICES || lost * 3 > packets)
        __builtin_trap();
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    if (size > 1 && data[0] == 255)
        overhear(data + 1, size - 1);
    else if (size > 1 && data[0] % 3 == 0)
        serve(data + 1, size - 1);
    else if (size > 1 && data[0] % 3 == 1)
        give_address(data + 1, size - 1);
    else if (size > 1)
        read_fields(ctx, data + 1, size - 1);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
