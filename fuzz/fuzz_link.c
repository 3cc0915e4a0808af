/* What comes from a board: packets to the server of files (the first byte is 0, 3 …), bytes to the
 * sender of one (1, 7 …) or its receiver (4, 10 …) or what a USB device answers (2, 5 …), and
 * behind a byte 255 what a loader answers to each command, a zero byte between two.  Nothing
 * outside of a file is ever given away, and nothing goes on for ever. */
#include "harness.h"

#include "base/bytes.h"
#include "link/dfu.h"
#include "link/tftp.h"
#include "link/xmodem.h"
#include "loaders/loaders.h"
#include "programming/programmer.h"

#include <errno.h>
#include <stdlib.h>

enum { FILE_SIZE = 100000, MOST = 16 << 10 };
#define MS INT64_C(1000000)

/* ---- files ---- */

static void serve(const uint8_t *data, size_t size) {
    static uint8_t packet[MOS_TFTP_PACKET];
    struct mos_tftp_wish wish;
    struct mos_tftp t;
    const char *why;
    int64_t now = 0;
    size_t n = size ? data[0] : 0;
    if (size < 1 + n || !mos_tftp_read_request(data + 1, n, &wish, &why))
        return;
    mos_tftp_begin(&t, &wish, FILE_SIZE, now);
    for (size_t i = 1 + n, packets = 0; packets < 3000; packets++) {
        uint64_t at;
        size_t length, head = mos_tftp_next(&t, now, packet, &at, &length);
        if (head > 600 || at > FILE_SIZE || length > FILE_SIZE - at || length > 65464)
            __builtin_trap();
        if (t.state == MOS_TFTP_DONE && t.acked != t.last)
            __builtin_trap();
        if (t.state != MOS_TFTP_GOES_ON)
            return;
        if (!head && i + 5 <= size) { /* time, and a packet of four bytes */
            now += data[i] * 10 * MS;
            mos_tftp_take(&t, data + i + 1, 4, now);
            i += 5;
        } else if (!head)
            now += t.pause / 3; /* up to 255 s, as it was asked for */
    }
    if (t.sent < t.last / 2 && t.window == 1 && t.block > 64)
        __builtin_trap(); /* it should have given up, or come on */
}

static void send_file(const uint8_t *data, size_t size) {
    uint8_t packet[MOS_XMODEM_PACKET];
    struct mos_xmodem y;
    static const struct mos_xmodem_file file = {"piece", FILE_SIZE};
    int64_t now = 0;
    uint64_t before = 0;
    mos_xmodem_begin(&y, (enum mos_xmodem_kind)(size % 3), &file, 1, now);
    for (size_t i = 0, rounds = 0; y.state < MOS_XMODEM_DONE; rounds++) {
        uint64_t at;
        size_t length, n = mos_xmodem_next(&y, now, packet, &at, &length);
        if (at > FILE_SIZE || length > FILE_SIZE - at || length > 1024 || n > sizeof packet)
            __builtin_trap();
        if (length)
            mos_xmodem_seal(&y, packet, length);
        if (y.sent < before || rounds > 20000)
            __builtin_trap();
        before = y.sent;
        if (i < size && !n) {
            now += MS;
            mos_xmodem_take(&y, data + i++, 1, now);
        } else if (!n)
            now += 500 * MS;
    }
    if (y.state == MOS_XMODEM_DONE && y.sent != FILE_SIZE)
        __builtin_trap();
}

/* The other side: whatever is sent, it writes nothing but what it was told to, and comes to an end.
 */
static void take_file(const uint8_t *data, size_t size) {
    struct mos_xmodem_receiver r;
    uint8_t answers[8];
    int64_t now = 0;
    uint64_t end = 0;
    mos_xmodem_receive(&r, (enum mos_xmodem_kind)(size % 3), now);
    for (size_t i = 0, rounds = 0, taken; !r.done && !r.failed; rounds++) {
        size_t n = i < size ? size - i : 0;
        n = n > 200 ? 200 : n;
        enum mos_xmodem_news news = mos_xmodem_hear(&r, data + i, n, now, &taken);
        if (news == MOS_XMODEM_FILE)
            end = 0;
        if (news == MOS_XMODEM_BYTES) {
            if (r.at != end || r.length > MOS_XMODEM_LONG ||
                (r.size != UINT64_MAX && r.got > r.size))
                __builtin_trap();
            end += r.length;
        }
        if (taken > n || rounds > 5000 || !memchr(r.name, 0, sizeof r.name))
            __builtin_trap();
        i += taken;
        now += i < size ? MS : 500 * MS;
        mos_xmodem_answer(&r, now, answers);
    }
}

/* ---- answers ---- */

static struct {
    const uint8_t *data;
    size_t size, at;
    char out[MOST + 1024];
    size_t length;
    int64_t now;
} board;

static void put(const void *bytes, size_t n) {
    n = mos_min(n, sizeof board.out - board.length);
    memcpy(board.out + board.length, bytes, n);
    board.length += n;
}

static int open_line(const struct mos_wires *w, const char *port, unsigned speed, int *wire) {
    (void)w, (void)port, (void)speed;
    *wire = 1;
    return 0;
}

static void close_wire(const struct mos_wires *w, int wire) {
    (void)w, (void)wire;
}

static int wait_for(const struct mos_wires *w, const int *wires, size_t count, int64_t ns,
                    unsigned *ready) {
    (void)w, (void)wires, (void)count;
    *ready = board.length > 0;
    board.now += board.length ? MS : ns > 0 ? ns : MS;
    return 0;
}

static int read_line(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got) {
    (void)w, (void)wire;
    *got = mos_min(size, board.length);
    memcpy(to, board.out, *got);
    memmove(board.out, board.out + *got, board.length - *got);
    board.length -= *got;
    return 0;
}

static int write_line(const struct mos_wires *w, int wire, const void *from, size_t length) {
    (void)w, (void)wire;
    if (memchr(from, '\r', length)) {
        const uint8_t *p = board.data + board.at;
        size_t left = board.size - board.at;
        const uint8_t *end = left ? memchr(p, 0, left) : NULL;
        size_t n = end ? (size_t)(end - p) : left;
        put("\r\n", 2);
        put(p, n);
        put("\r\n=> ", 5);
        board.at += n + (end != NULL);
    } else if (memchr(from, 3, length))
        put("\r\n=> ", 5);
    else
        put(from, length);
    return 0;
}

static int64_t now_ns(const struct mos_host *h) {
    (void)h;
    return board.now;
}

/* ---- a USB device ---- */

static int usb_list(const struct mos_wires *w,
                    bool (*each)(void *self, const struct mos_usb_device *device), void *self) {
    static const struct mos_usb_device one = {0x1209, 2, "1-1"};
    (void)w;
    each(self, &one);
    return 0;
}

static int usb_open(const struct mos_wires *w, const char *port, int *wire) {
    (void)w, (void)port;
    *wire = 2;
    return 0;
}

static int usb_claim(const struct mos_wires *w, int wire, unsigned interface, unsigned alternate) {
    (void)w, (void)wire, (void)interface, (void)alternate;
    return 0;
}

/* The next answer: its length, and bytes of it; 255: it refuses. */
static int usb_control(const struct mos_wires *w, int wire, const struct mos_usb_request *r,
                       void *data, size_t length, size_t *got, unsigned ms) {
    (void)w, (void)wire, (void)ms;
    *got = 0;
    board.now += MS;
    if (!(r->type & 0x80) || board.at >= board.size)
        return board.at >= board.size ? ENODEV : 0;
    size_t n = board.data[board.at++];
    if (n == 255)
        return EPIPE;
    *got = mos_min(mos_min(n, length), board.size - board.at);
    memcpy(data, board.data + board.at, *got);
    board.at += *got;
    return 0;
}

static int usb_reset(const struct mos_wires *w, int wire) {
    (void)w, (void)wire;
    return 0;
}

static void upgrade(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const struct mos_wires wires = {.close = close_wire,
                                           .wait = wait_for,
                                           .usb_list = usb_list,
                                           .usb_open = usb_open,
                                           .usb_claim = usb_claim,
                                           .usb_control = usb_control,
                                           .usb_reset = usb_reset};
    static uint8_t content[4096], buffer[64 << 10];
    struct mos_host host = *ctx->host;
    struct mos_io io = mos_io_memory(ctx->arena, content, sizeof content);
    board.data = data;
    board.size = size;
    board.at = board.length = 0;
    board.now = 0;
    host.wires = &wires;
    host.now_ns = now_ns;
    struct mos_dfu d = {.host = &host,
                        .vendor = 0x1209,
                        .product = 2,
                        .alternate = size % 2 ? "main" : NULL,
                        .content = &io,
                        .length = sizeof content,
                        .buffer = buffer};
    bool ok = mos_dfu_write(&d);
    if (ok != !d.why || (d.proved && !d.written) || d.at > sizeof content || (ok && !d.written))
        __builtin_trap();
}

static void program(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const char *const media[] = {"mmc 0", "virtio 0", "sf 0", "nor 0x4000000"};
    static const struct mos_wires wires = {.open_line = open_line,
                                           .close = close_wire,
                                           .wait = wait_for,
                                           .read = read_line,
                                           .write = write_line};
    static uint8_t content[128 << 10];
    struct mos_host host = *ctx->host;
    struct mos_io io = mos_io_memory(ctx->arena, content, sizeof content);
    const struct mos_media_span spans[] = {
        {.offset = 0, .length = 4096, .phase = MOS_MEDIA_START},
        {.offset = 65536, .length = 65536, .phase = MOS_MEDIA_CONTENT}};
    const struct mos_media_patch voids[] = {{.length = 512, .bytes = content}};
    board.data = data + 1;
    board.size = size - 1;
    board.at = board.length = 0;
    board.now = 0;
    host.wires = &wires;
    host.now_ns = now_ns;
    ctx->host = &host;
    const struct mos_loader_orders *orders = mos_dialect_find("u-boot")->orders;
    struct mos_talk talk = {.prompt = orders->prompt, .interrupt = orders->interrupt};
    struct mos_programmer p = {.ctx = ctx,
                               .talk = &talk,
                               .orders = orders,
                               .medium = media[data[0] % 4],
                               .by_line = true,
                               .grain = 512,
                               .content = &io,
                               .spans = spans,
                               .span_count = 2,
                               .voids = voids,
                               .void_count = 1};
    if (mos_talk_open(&talk, ctx, "fuzz", 115200))
        return;
    if (mos_programmer_identify(&p)) {
        if (p.window_to <= p.window_from || !memchr(p.told.name, 0, sizeof p.told.name))
            __builtin_trap();
        bool whole = mos_programmer_write(&p);
        if (whole != p.proved || (!whole && !p.why) ||
            (p.written && !p.proved && !p.invalid && !p.stuck))
            __builtin_trap();
    } else if (!p.why)
        __builtin_trap();
    mos_talk_close(&talk);
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    const uint8_t *answers = size ? memchr(data, 0xff, size) : NULL;
    size_t n = answers ? (size_t)(answers - data) : size;
    if (n > 1 && data[0] % 3 == 0)
        serve(data + 1, n - 1);
    else if (n > 1 && data[0] % 6 == 1)
        send_file(data + 1, n - 1);
    else if (n > 1 && data[0] % 3 == 1)
        take_file(data + 1, n - 1);
    else if (n > 1)
        upgrade(ctx, data + 1, n - 1);
    if (answers && size - n > 2 && size - n < MOST)
        program(ctx, answers + 1, size - n - 1);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
