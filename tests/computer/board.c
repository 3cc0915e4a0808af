#include "computer/board.h"

#include <errno.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <zlib.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { LINE = 1, CONTROL = 2, TRANSFER = 3, BLOCK = 1468, MOST_OUT = 1 << 16, NET_TRIES = 12 };
enum { SOH = 1, STX = 2, EOT = 4, ACK = 6, NAK = 0x15, CAN = 0x18 };
enum state { OFF, COUNTS, PROMPT, FETCHES, RECEIVES, BOOTED };

struct packet {
    uint8_t bytes[2048];
    size_t length;
};

struct board_made {
    struct board_fault fault;
    struct mos_wires wires;
    int64_t now, due; /* when it does something by itself */
    enum state state;
    char kind[16], name[64];
    uint64_t size;
    uint8_t *storage, *ram;
    char typed[512];
    size_t typed_length;
    char out[MOST_OUT]; /* that the other side has not read */
    size_t out_length;
    char *all; /* that was entered */
    size_t all_length;
    unsigned long commands, written, strays;
    bool chosen; /* a device, since it has started */
    uint64_t seed;
    /* files */
    uint64_t to; /* where in RAM */
    uint64_t got;
    unsigned block, tries;
    struct packet inbox[16]; /* to the server: on CONTROL first, then on TRANSFER */
    size_t inbox_count;
    bool asked; /* the server has answered */
    bool transfer_open;
    /* YMODEM */
    uint8_t frame[3 + 1024 + 2];
    size_t frame_length;
    uint64_t file_size;
    bool named, ended;
};

static uint64_t dice(struct board_made *b) {
    b->seed = b->seed * UINT64_C(6364136223846793005) + UINT64_C(1442695040888963407);
    return b->seed >> 33;
}

static bool happens(struct board_made *b, uint64_t one_in) {
    return one_in && dice(b) % one_in == 0;
}

static void say(struct board_made *b, const char *text) {
    for (; *text && b->out_length < MOST_OUT - 1; text++) {
        if (*text == '\n')
            b->out[b->out_length++] = '\r';
        bool flips = happens(b, b->fault.answers_flip);
        b->out[b->out_length++] = flips ? (char)(*text ^ 1 << dice(b) % 4) : *text;
    }
}

__attribute__((format(printf, 2, 3))) static void sayf(struct board_made *b, const char *format,
                                                       ...) {
    char text[512];
    va_list args;
    va_start(args, format);
    vsnprintf(text, sizeof text, format, args);
    va_end(args);
    say(b, text);
}

static void prompt(struct board_made *b) {
    b->state = PROMPT;
    b->typed_length = 0;
    say(b, "=> ");
}

void board_power(struct board_made *b) {
    b->state = b->fault.mute ? OFF : COUNTS;
    b->out_length = 0;
    b->typed_length = 0;
    b->inbox_count = 0;
    b->chosen = false;
    b->due = b->now + 2 * SECOND;
    memset(b->ram, (int)(dice(b) & 0xff), BOARD_RAM);
    if (!b->fault.mute)
        say(b, "\n\nLoader 2023.01\n\nDRAM:  4 MiB\nHit any key to stop autoboot:  2 ");
}

/* ---- storage ---- */

static uint8_t *storage_at(struct board_made *b, uint64_t at) {
    return b->storage + (b->fault.wraps ? at % b->fault.wraps : at);
}

static bool hit(const struct board_made *b, uint64_t at, uint64_t length) {
    return b->fault.at >= at && b->fault.at < at + length;
}

static bool in_ram(uint64_t address, uint64_t length) {
    return address >= BOARD_RAM_AT && length <= BOARD_RAM &&
           address - BOARD_RAM_AT <= BOARD_RAM - length;
}

/* false: it could not. */
static bool move(struct board_made *b, bool writes, uint64_t ram, uint64_t at, uint64_t length) {
    b->strays += !b->chosen;
    if (!in_ram(ram, length) || at > b->size || length > b->size - at ||
        (writes && b->fault.write_fails && hit(b, at, length)))
        return false;
    if ((writes && b->fault.write_lies && hit(b, at, length)) ||
        (!writes && b->fault.read_lies && hit(b, at, length)))
        return true;
    uint8_t *own = b->ram + (ram - BOARD_RAM_AT);
    if (!b->fault.wraps)
        memcpy(writes ? b->storage + at : own, writes ? own : b->storage + at, length);
    for (uint64_t i = 0; b->fault.wraps && i < length; i++) {
        uint8_t *there = storage_at(b, at + i), *here = own + i;
        *(writes ? there : here) = *(writes ? here : there);
    }
    if (writes && b->fault.bits_flip && hit(b, at, length))
        *storage_at(b, b->fault.at) ^= 4;
    b->written += writes ? length : 0;
    return true;
}

/* ---- commands ---- */

static bool two(const char *text, const char *a, const char *b) {
    size_t n = strlen(a);
    return strncmp(text, a, n) == 0 && text[n] == ' ' && strncmp(text + n + 1, b, strlen(b)) == 0;
}

static void mmc(struct board_made *b, const char *line) {
    unsigned long long ram, at, count;
    char verb[8];
    unsigned unit, area;
    if (sscanf(line, "mmc dev %u %u", &unit, &area) == 2) {
        b->chosen |= !unit && area <= 2;
        if (unit > 0 || area > 2)
            sayf(b, "MMC Device %u not found\nno mmc device at slot %u\n", unit, unit);
        else
            sayf(b, "switch to partitions #%u, OK\nmmc%u is current device\n", area, unit);
    } else if (strcmp(line, "mmc info") == 0)
        sayf(b,
             "Device: sdhci\nManufacturer ID: aa\nOEM: 5859\nName: %s \nBus Speed: 25000000\nRd "
             "Block Len: 512\nHigh Capacity: No\nCapacity: %llu MiB\nBus Width: 4-bit\n",
             b->name, (unsigned long long)b->size >> 20);
    else if (sscanf(line, "mmc %7s %llx %llx %llx", verb, &ram, &at, &count) == 4) {
        bool writes = strcmp(verb, "write") == 0;
        sayf(b, "\nMMC %s: dev # 0, block # %llu, count %llu ... ", verb, at, count);
        if (at + count > b->size / 512)
            sayf(b, "MMC: block number 0x%llx exceeds max(0x%llx)\n0 blocks %s: ERROR\n",
                 at + count, (unsigned long long)b->size / 512, writes ? "written" : "read");
        else if (!move(b, writes, ram, at * 512, count * 512))
            sayf(b, "mmc %s failed\n0 blocks %s: ERROR\n", verb, writes ? "written" : "read");
        else
            sayf(b, "%llu blocks %s: OK\n", count, writes ? "written" : "read");
    }
}

static void virtio(struct board_made *b, const char *line) {
    unsigned long long ram, at, count;
    char verb[8];
    b->chosen |= two(line, "virtio", "device 0");
    if (two(line, "virtio", "device 0"))
        sayf(
            b,
            "\nDevice 0: %s\n            Type: Hard Disk\n            Capacity: %llu.0 MB = 0.0 GB "
            "(%llu x 512)\n... is now current device\n",
            b->name, (unsigned long long)b->size >> 20, (unsigned long long)b->size / 512);
    else if (sscanf(line, "virtio %7s %llx %llx %llx", verb, &ram, &at, &count) == 4) {
        bool writes = strcmp(verb, "write") == 0, ok = move(b, writes, ram, at * 512, count * 512);
        sayf(b, "\nvirtio %s: device 0 block # %llu, count %llu ... %lld blocks %s: %s\n", verb, at,
             count, ok ? (long long)count : -5, writes ? "written" : "read", ok ? "OK" : "ERROR");
    }
}

static void sf(struct board_made *b, const char *line) {
    unsigned long long ram, at, count;
    char verb[8];
    b->chosen |= two(line, "sf", "probe");
    if (two(line, "sf", "probe"))
        sayf(b, "SF: Detected %s with page size 256 Bytes, erase size 4 KiB, total %llu MiB\n",
             b->name, (unsigned long long)b->size >> 20);
    else if (sscanf(line, "sf %7s %llx %llx %llx", verb, &ram, &at, &count) == 4) {
        bool writes = strcmp(verb, "update") == 0, ok = move(b, writes, ram, at, count);
        if (writes && ok)
            sayf(b,
                 "device 0 offset 0x%llx, size 0x%llx\n%llu bytes written, 0 bytes skipped in "
                 "0.5s, speed 9000 B/s\n",
                 at, count, count);
        else if (writes)
            sayf(b, "device 0 offset 0x%llx, size 0x%llx\nSPI flash failed in write step\n", at,
                 count);
        else
            sayf(b, "device 0 offset 0x%llx, size 0x%llx\nSF: %llu bytes @ 0x%llx Read: %s\n", at,
                 count, count, at, ok ? "OK" : "ERROR -5");
    }
}

static void memory(struct board_made *b, const char *line) {
    unsigned long long at, n;
    unsigned fill;
    if (sscanf(line, "mw.b %llx %x %llx", &at, &fill, &n) == 3) {
        if (in_ram(at, n))
            memset(b->ram + (at - BOARD_RAM_AT), (int)fill, n);
        else
            say(b, "\"Synchronous Abort\" handler, esr 0x96000046\n");
    } else if (sscanf(line, "crc32 %llx %llx", &at, &n) == 2 && in_ram(at, n))
        sayf(b, "crc32 for %08llx ... %08llx ==> %08lx\n", at, at + n - 1,
             crc32(0, b->ram + (at - BOARD_RAM_AT), (unsigned)n));
}

static void ask_server(struct board_made *b) {
    struct packet *p = &b->inbox[b->inbox_count++];
    int n =
        snprintf((char *)p->bytes + 2, sizeof p->bytes - 2, "%s%coctet%ctimeout%c5%cblksize%c%d",
                 strrchr(b->typed, ' ') + 1, 0, 0, 0, 0, 0, BLOCK);
    p->bytes[0] = 0;
    p->bytes[1] = 1;
    p->length = 2 + (size_t)n + 1;
}

static void tell_server(struct board_made *b, unsigned block) {
    if (b->inbox_count == 16 || happens(b, b->fault.net_loses))
        return;
    struct packet *p = &b->inbox[b->inbox_count++];
    *p = (struct packet){{0, 4, (uint8_t)(block >> 8), (uint8_t)block}, 4};
}

static void begin_file(struct board_made *b, const char *line) {
    unsigned long long at = strtoull(strchr(line, ' '), NULL, 16);
    b->to = at;
    b->got = 0;
    b->block = b->tries = 0;
    b->asked = b->named = b->ended = false;
    b->frame_length = 0;
    b->due = b->now + SECOND;
    if (strncmp(line, "tftpboot", 8) == 0) {
        b->state = FETCHES;
        say(b, "Using card device\nTFTP from server 192.0.2.1; our IP address is 192.0.2.2\n");
        ask_server(b);
    } else {
        b->state = RECEIVES;
        sayf(b, "## Ready for binary (ymodem) download to 0x%08llX at 115200 bps...\nC", at);
    }
}

static void enter(struct board_made *b) {
    const char *line = b->typed;
    b->typed[b->typed_length] = 0;
    size_t n = strlen(line);
    b->all = realloc(b->all, b->all_length + n + 2);
    memcpy(b->all + b->all_length, line, n);
    memcpy(b->all + b->all_length + n, "\n", 2);
    b->all_length += n + 1;
    b->commands++;
    if (b->fault.dies_after && b->commands >= b->fault.dies_after) {
        b->state = OFF;
        return;
    }
    if (b->fault.resets_after && b->commands == b->fault.resets_after) {
        board_power(b);
        return;
    }
    say(b, "\n");
    size_t word = strcspn(line, " .");
    if (b->fault.lacks && strlen(b->fault.lacks) == word &&
        strncmp(line, b->fault.lacks, word) == 0)
        sayf(b, "Unknown command '%.*s' - try 'help'\n", (int)word, line);
    else if (strncmp(line, "tftpboot ", 9) == 0 || strncmp(line, "loady ", 6) == 0) {
        begin_file(b, line);
        return;
    } else if (strcmp(line, "bdinfo") == 0)
        sayf(b,
             "boot_params = 0x0\nDRAM bank   = 0x0\n-> start    = 0x%llx\n-> size     = 0x%x\n"
             "relocaddr   = 0x0000000060000000\n",
             (unsigned long long)BOARD_RAM_AT, BOARD_RAM);
    else if (strncmp(line, "echo loadaddr", 13) == 0)
        sayf(b, "loadaddr=0x%llx\n", (unsigned long long)BOARD_RAM_AT + 0x10000);
    else if (strncmp(line, "mmc ", 4) == 0 && strcmp(b->kind, "mmc") == 0)
        mmc(b, line);
    else if (strncmp(line, "virtio ", 7) == 0 && strcmp(b->kind, "virtio") == 0)
        virtio(b, line);
    else if (strncmp(line, "sf ", 3) == 0 && strcmp(b->kind, "sf") == 0)
        sf(b, line);
    else if (strncmp(line, "mw.b ", 5) == 0 || strncmp(line, "crc32 ", 6) == 0)
        memory(b, line);
    else if (strncmp(line, "reset", 5) == 0) {
        board_power(b);
        return;
    } else if (*line && strncmp(line, "setenv ", 7) != 0 && strncmp(line, "echo ", 5) != 0)
        sayf(b, "Unknown command '%.*s' - try 'help'\n", (int)word, line);
    prompt(b);
}

/* ---- YMODEM, the receiving side ---- */

static uint16_t sum16(const uint8_t *p, size_t n) {
    unsigned s = 0;
    for (; n--; p++)
        for (int bit = 7; bit >= 0; bit--) {
            unsigned high = s >> 15 & 1;
            s = s << 1 | (*p >> bit & 1);
            s ^= high ? 0x1021 : 0;
        }
    for (int i = 0; i < 16; i++) /* the augmented form: sixteen zero bits behind it */
        s = (s & 0x8000 ? s << 1 ^ 0x1021 : s << 1) & 0xffff;
    return (uint16_t)s;
}

static void byte_out(struct board_made *b, char c) {
    b->out[b->out_length++] = c;
}

static void end_file(struct board_made *b) {
    sayf(b, "\n## Total Size      = 0x%08llx = %llu Bytes\n", (unsigned long long)b->got,
         (unsigned long long)b->got);
    prompt(b);
}

static void frame(struct board_made *b) {
    size_t n = b->frame[0] == SOH ? 128 : 1024;
    const uint8_t *body = b->frame + 3;
    b->frame_length = 0;
    b->due = b->now + SECOND;
    if ((b->frame[1] ^ b->frame[2]) != 0xff || sum16(body, n) != (body[n] << 8 | body[n + 1])) {
        byte_out(b, NAK);
        return;
    }
    if (b->ended) { /* the one without a name */
        byte_out(b, ACK);
        end_file(b);
    } else if (!b->named && b->frame[1] == 0) {
        b->named = true;
        b->file_size = strtoull((const char *)body + strlen((const char *)body) + 1, NULL, 10);
        byte_out(b, ACK);
        byte_out(b, 'C');
    } else if (b->frame[1] == (uint8_t)(b->block + 1)) {
        size_t take = (size_t)(b->file_size - b->got < n ? b->file_size - b->got : n);
        if (in_ram(b->to + b->got, take))
            memcpy(b->ram + (b->to - BOARD_RAM_AT) + b->got, body, take);
        b->got += take;
        b->block++;
        byte_out(b, ACK);
    } else if (b->frame[1] == (uint8_t)b->block)
        byte_out(b, ACK); /* it came again */
    else
        byte_out(b, CAN), byte_out(b, CAN);
}

static void receive_byte(struct board_made *b, uint8_t c) {
    if (!b->frame_length) {
        if (c == EOT) {
            b->ended = true;
            byte_out(b, ACK);
            byte_out(b, 'C');
            return;
        }
        if (c == CAN && b->named) {
            end_file(b);
            return;
        }
        if (c != SOH && c != STX)
            return;
    }
    b->frame[b->frame_length++] = c;
    if (b->frame_length == 3u + (b->frame[0] == SOH ? 128u : 1024u) + 2u)
        frame(b);
}

/* ---- its line ---- */

static void key(struct board_made *b, uint8_t c) {
    if (b->state == RECEIVES) {
        receive_byte(b, c);
        return;
    }
    if (b->state == COUNTS) {
        say(b, "\n");
        prompt(b);
    }
    if (b->state != PROMPT)
        return;
    if (c == 3) {
        say(b, "<INTERRUPT>\n");
        prompt(b);
    } else if (c == '\r') {
        enter(b);
    } else if (b->typed_length + 1 < sizeof b->typed) {
        b->typed[b->typed_length++] = (char)c;
        byte_out(b, (char)c);
    }
}

static bool line_is_gone(const struct board_made *b) {
    return b->fault.line_goes_after && b->commands >= b->fault.line_goes_after;
}

static struct board_made *of(const struct mos_wires *w) {
    return w->user;
}

static int open_line(const struct mos_wires *w, const char *port, unsigned speed, int *wire) {
    (void)w, (void)speed;
    if (strcmp(port, "made-up") != 0)
        return ENOENT;
    *wire = LINE;
    return 0;
}

static int read_line(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got) {
    struct board_made *b = of(w);
    (void)wire;
    if (line_is_gone(b))
        return ENODEV;
    *got = size < b->out_length ? size : b->out_length;
    memcpy(to, b->out, *got);
    memmove(b->out, b->out + *got, b->out_length - *got);
    b->out_length -= *got;
    return 0;
}

static int write_line(const struct mos_wires *w, int wire, const void *from, size_t length) {
    struct board_made *b = of(w);
    const uint8_t *bytes = from;
    (void)wire;
    if (line_is_gone(b))
        return ENODEV;
    for (size_t i = 0; i < length; i++) {
        uint8_t c = bytes[i];
        if (happens(b, b->fault.line_flips))
            c ^= (uint8_t)(1u << dice(b) % 7);
        b->now += SECOND / 11520;
        if (!happens(b, b->fault.line_loses))
            key(b, c);
    }
    return 0;
}

/* ---- its network ---- */

static int open_datagrams(const struct mos_wires *w, const char *interface,
                          const struct mos_peer *own, int *wire) {
    (void)interface;
    *wire = own->port ? CONTROL : TRANSFER;
    of(w)->transfer_open = !own->port;
    return 0;
}

static void close_wire(const struct mos_wires *w, int wire) {
    if (wire == TRANSFER)
        of(w)->transfer_open = false;
}

/* Requests go to one wire, what follows to another. */
static bool waits_on(const struct board_made *b, int wire) {
    if (!b->inbox_count)
        return false;
    return (b->inbox[0].bytes[1] == 1) == (wire == CONTROL);
}

static int receive(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got,
                   struct mos_peer *from) {
    struct board_made *b = of(w);
    if (!waits_on(b, wire))
        return EAGAIN;
    *got = b->inbox[0].length < size ? b->inbox[0].length : size;
    memcpy(to, b->inbox[0].bytes, *got);
    memmove(b->inbox, b->inbox + 1, --b->inbox_count * sizeof *b->inbox);
    *from = (struct mos_peer){0xc0000202, 1234};
    return 0;
}

static void take_block(struct board_made *b, const uint8_t *p, size_t length) {
    unsigned what = p[1], block = (unsigned)p[2] << 8 | p[3];
    if (b->state != FETCHES)
        return;
    b->due = b->now + SECOND;
    if (what == 5 || b->fault.no_net) {
        sayf(b, "\nTFTP error: '%s' (1)\nNot retrying...\n",
             b->fault.no_net ? b->fault.no_net : "");
        prompt(b);
    } else if (what == 6) {
        b->asked = true;
        tell_server(b, 0);
    } else if (what == 3 && block == ((b->block + 1) & 0xffff)) {
        size_t n = length - 4;
        if (in_ram(b->to + b->got, n))
            memcpy(b->ram + (b->to - BOARD_RAM_AT) + b->got, p + 4, n);
        b->got += n;
        b->block++;
        b->tries = 0;
        tell_server(b, block);
        if (n < BLOCK) {
            sayf(b, "Loading: #\ndone\nBytes transferred = %llu (%llx hex)\n",
                 (unsigned long long)b->got, (unsigned long long)b->got);
            prompt(b);
        }
    } else if (what == 3)
        tell_server(b, block);
}

static int send_one(const struct mos_wires *w, int wire, const void *bytes, size_t length,
                    const struct mos_peer *to) {
    struct board_made *b = of(w);
    (void)wire, (void)to;
    if (happens(b, b->fault.net_loses))
        return 0;
    take_block(b, bytes, length);
    if (happens(b, b->fault.net_doubles))
        take_block(b, bytes, length);
    return 0;
}

/* ---- time ---- */

/* What it does by itself once it has waited. */
static void act(struct board_made *b) {
    b->due = b->now + SECOND;
    if (b->state == COUNTS) {
        say(b, "\nStarting the system\n");
        b->state = BOOTED;
    } else if (b->state == RECEIVES && b->named && !b->ended && b->block)
        byte_out(b, NAK), b->frame_length = 0;
    else if (b->state == RECEIVES)
        byte_out(b, 'C'), b->frame_length = 0;
    else if (b->state == FETCHES && ++b->tries > NET_TRIES) {
        say(b, "\nRetry count exceeded; starting again\n");
        prompt(b);
    } else if (b->state == FETCHES && !b->asked && !b->block)
        ask_server(b);
    else if (b->state == FETCHES)
        tell_server(b, b->block);
}

static int wait_for(const struct mos_wires *w, const int *wires, size_t count, int64_t ns,
                    unsigned *ready) {
    struct board_made *b = of(w);
    int64_t until = b->now + (ns > 0 ? ns : 0);
    for (;;) {
        *ready = 0;
        for (size_t i = 0; i < count; i++)
            if (wires[i] == LINE ? b->out_length || line_is_gone(b) : waits_on(b, wires[i]))
                *ready |= 1u << i;
        if (*ready || b->now >= until) {
            b->now += MS / 100;
            return 0;
        }
        bool acts = b->state == COUNTS || b->state == RECEIVES || b->state == FETCHES;
        b->now = acts && b->due < until ? (b->due > b->now ? b->due : b->now) : until;
        if (acts && b->now >= b->due)
            act(b);
    }
}

static int64_t now_ns(const struct mos_host *h) {
    return ((struct board_made *)h->wires->user)->now;
}

struct board_made *board_new(const char *kind, const char *name, uint64_t size) {
    struct board_made *b = calloc(1, sizeof *b);
    snprintf(b->kind, sizeof b->kind, "%s", kind);
    snprintf(b->name, sizeof b->name, "%s", name);
    b->size = size;
    b->storage = malloc(size);
    b->ram = malloc(BOARD_RAM);
    b->seed = 1;
    b->now = SECOND;
    memset(b->storage, 0x5a, size);
    b->wires = (struct mos_wires){.user = b,
                                  .open_line = open_line,
                                  .open_datagrams = open_datagrams,
                                  .close = close_wire,
                                  .wait = wait_for,
                                  .read = read_line,
                                  .write = write_line,
                                  .receive = receive,
                                  .send = send_one};
    board_power(b);
    return b;
}

void board_free(struct board_made *b) {
    free(b->storage);
    free(b->ram);
    free(b->all);
    free(b);
}

void board_fails(struct board_made *b, struct board_fault fault) {
    b->fault = fault;
    b->commands = 0;
}

uint8_t *board_storage(struct board_made *b) {
    return b->storage;
}

unsigned long board_commands(const struct board_made *b) {
    return b->commands;
}

unsigned long board_written(const struct board_made *b) {
    return b->written;
}

unsigned long board_strays(const struct board_made *b) {
    return b->strays;
}

const char *board_typed(const struct board_made *b) {
    return b->all ? b->all : "";
}

void board_host(struct board_made *b, struct mos_host *host) {
    host->wires = &b->wires;
    host->now_ns = now_ns;
}
