/* What is typed at the loader's prompt to program a board's storage, and what the answers say. */
#include "base/bytes.h"
#include "base/text.h"
#include "loaders/u-boot/u-boot.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SECTOR = 512, BEYOND = 0x7ffffff0 };

/* ---- kinds of storage ---- */

enum kind { MMC, BLOCKS, SERIAL_FLASH, PARALLEL_FLASH, UNKNOWN };
static const struct {
    const char *word, *starts; /* starts: the command that makes such devices known; or NULL */
    enum kind kind;
    const char *const commands[8];
} kinds[] = {
    {"mmc", NULL, MMC, {"mmc", "crc32", "mw"}},
    {"virtio", "virtio scan", BLOCKS, {"virtio", "crc32", "mw"}},
    {"nvme", "nvme scan", BLOCKS, {"nvme", "crc32", "mw"}},
    {"usb", "usb start", BLOCKS, {"usb", "crc32", "mw"}},
    {"scsi", "scsi scan", BLOCKS, {"scsi", "crc32", "mw"}},
    {"sata", "sata init", BLOCKS, {"sata", "crc32", "mw"}},
    {"sf", NULL, SERIAL_FLASH, {"sf", "crc32", "mw"}},
    {"nor", NULL, PARALLEL_FLASH, {"flinfo", "protect", "erase", "cp", "crc32", "mw"}},
    {NULL, NULL, UNKNOWN, {NULL}},
};
enum { KINDS = sizeof kinds / sizeof *kinds - 1 }; /* the last one is for what is not known */

static size_t kind_of(const char *medium) {
    size_t n = strcspn(medium, " "), i = 0;
    while (i < KINDS && !(strlen(kinds[i].word) == n && strncmp(kinds[i].word, medium, n) == 0))
        i++;
    return i;
}

static const char *takes(const char *medium) {
    size_t i = kind_of(medium);
    if (strncmp(medium, "nand", 4) == 0)
        return "a raw NAND has bad blocks, which its own script steps over";
    if (i == KINDS)
        return "the loader has no command that writes it";
    if (kinds[i].kind == PARALLEL_FLASH && !strstr(medium, " 0x"))
        return "of a flash in the address space the name has its address, as in nor 0x4000000";
    return NULL;
}

static const char *const *commands(const char *medium) {
    return kinds[kind_of(medium)].commands;
}

/* "0" of "mmc 0"; the address of "nor 0x4000000". */
static const char *unit_of(const char *medium) {
    const char *space = strchr(medium, ' ');
    return space ? space + 1 : "0";
}

static unsigned long long flash_at(const struct mos_order *o, uint64_t at) {
    return strtoull(unit_of(o->medium), NULL, 16) + at;
}

/* ---- commands ---- */

static bool type_identify(const struct mos_order *o, size_t index, struct mos_buf *out) {
    size_t i = kind_of(o->medium);
    const char *unit = unit_of(o->medium);
    switch (kinds[i].kind) {
    case MMC:
        if (index == 0)
            mos_buf_printf(out, "mmc dev %s %u", unit, o->area);
        else if (index == 1)
            mos_buf_text(out, "mmc info");
        else if (index == 2) /* its refusal says how many there are */
            mos_buf_printf(out, "mmc read 0x%llx 0x%x 1", (unsigned long long)o->address, BEYOND);
        return index < 3;
    case BLOCKS:
        if (index == 0)
            mos_buf_text(out, kinds[i].starts);
        else if (index == 1)
            mos_buf_printf(out, "%s device %s", kinds[i].word, unit);
        return index < 2;
    case SERIAL_FLASH:
        mos_buf_printf(out, "sf probe %s", unit);
        return index < 1;
    case PARALLEL_FLASH:
        mos_buf_text(out, "flinfo");
        return index < 1;
    default:
        return false;
    }
}

static bool type_move(const struct mos_order *o, size_t index, struct mos_buf *out) {
    size_t i = kind_of(o->medium);
    bool writes = o->deed == MOS_ORDER_WRITE;
    unsigned long long ram = o->address, at = o->at, n = o->length;
    switch (kinds[i].kind) {
    case MMC:
    case BLOCKS: /* a board that has started anew has another current device */
        if (index == 0 && kinds[i].kind == MMC)
            mos_buf_printf(out, "mmc dev %s %u", unit_of(o->medium), o->area);
        else if (index == 0)
            mos_buf_printf(out, "%s device %s", kinds[i].word, unit_of(o->medium));
        else
            mos_buf_printf(out, "%s %s 0x%llx 0x%llx 0x%llx", kinds[i].word,
                           writes ? "write" : "read", ram, at / SECTOR, n / SECTOR);
        return index < 2;
    case SERIAL_FLASH:
        mos_buf_printf(out, "sf %s 0x%llx 0x%llx 0x%llx", writes ? "update" : "read", ram, at, n);
        return index < 1;
    case PARALLEL_FLASH:
        at = flash_at(o, at);
        if (!writes || index == 2)
            mos_buf_printf(out, "cp.b 0x%llx 0x%llx 0x%llx", writes ? ram : at, writes ? at : ram,
                           n);
        else
            mos_buf_printf(out, "%s 0x%llx 0x%llx", index ? "erase" : "protect off", at,
                           at + n - 1);
        return index < (writes ? 3 : 1);
    default:
        return false;
    }
}

static bool type_network(const struct mos_order *o, size_t index, struct mos_buf *out) {
    if (index == 0)
        mos_buf_printf(out, "setenv ipaddr %s", o->own_address);
    else if (index == 1)
        mos_buf_printf(out, "setenv netmask %s", o->netmask);
    else if (index == 2)
        mos_buf_printf(out, "setenv serverip %s", o->server);
    return index < 3;
}

static bool type(const struct mos_order *o, size_t index, struct mos_buf *out) {
    unsigned long long ram = o->address, n = o->length;
    switch (o->deed) {
    case MOS_ORDER_MEMORY:
        mos_buf_text(out, index ? "echo loadaddr=${loadaddr}" : "bdinfo");
        return index < 2;
    case MOS_ORDER_IDENTIFY:
        return type_identify(o, index, out);
    case MOS_ORDER_READ:
    case MOS_ORDER_WRITE:
        return type_move(o, index, out);
    case MOS_ORDER_FILL:
        mos_buf_printf(out, "mw.b 0x%llx %x 0x%llx", ram, o->fill, n);
        return index < 1;
    case MOS_ORDER_SUM:
        mos_buf_printf(out, "crc32 0x%llx 0x%llx", ram, n);
        return index < 1;
    case MOS_ORDER_NETWORK:
        return type_network(o, index, out);
    case MOS_ORDER_FETCH:
        mos_buf_printf(out, "tftpboot 0x%llx %s", ram, o->file);
        return index < 1;
    case MOS_ORDER_RECEIVE:
        mos_buf_printf(out, "loady 0x%llx", ram);
        return index < 1;
    default:
        return false;
    }
}

/* ---- answers ---- */

/* The number behind a text, hexadecimal with 0x, else decimal; false: the text is not there. */
static bool number_behind(const char *answer, const char *text, uint64_t *out) {
    const char *p = strstr(answer, text);
    if (!p)
        return false;
    p += strlen(text);
    p += strspn(p, " =\t");
    if (*p < '0' || *p > '9')
        return false;
    *out = strtoull(p, NULL, p[0] == '0' && p[1] == 'x' ? 16 : 10);
    return true;
}

/* The rest of the line behind a text, without what is around it. */
static void text_behind(const char *answer, const char *text, char *to, size_t size) {
    const char *p = strstr(answer, text);
    if (!p)
        return;
    p += strlen(text);
    p += strspn(p, " \t");
    size_t n = strcspn(p, "\r\n");
    while (n && (p[n - 1] == ' ' || p[n - 1] == '\t'))
        n--;
    snprintf(to, size, "%.*s", (int)n, p);
}

/* "29.7 GiB", rounded to its last digit. */
static void size_behind(const char *answer, const char *text, struct mos_order_told *told) {
    static const char units[] = "BKMGT";
    const char *p = strstr(answer, text);
    char *end;
    if (!p)
        return;
    p += strlen(text);
    p += strspn(p, " \t");
    uint64_t whole = strtoull(p, &end, 10), tenths = 0, unit = 1;
    if (end == p || whole > 1 << 20)
        return;
    if (*end == '.' && end[1] >= '0' && end[1] <= '9') {
        tenths = (uint64_t)(end[1] - '0');
        end += 2;
    }
    end += strspn(end, "0123456789 ");
    const char *u = *end ? strchr(units, *end) : NULL;
    for (size_t i = u ? (size_t)(u - units) : 0; i; i--)
        unit *= 1024;
    told->size = whole * unit + tenths * unit / 10;
    told->blur = unit / 10;
}

/* The RAM between where files are usually loaded and what is taken above it. */
static void understand_memory(size_t index, const char *answer, struct mos_order_told *told) {
    uint64_t start, size, loads;
    if (index) {
        if (number_behind(answer, "loadaddr=", &loads) && loads > told->from && loads < told->to)
            told->from = loads;
        return;
    }
    const char *bank = strstr(answer, "DRAM bank");
    if (!bank || !number_behind(bank, "-> start", &start) ||
        !number_behind(bank, "-> size", &size) || !size)
        return;
    told->from = start;
    told->to = start + size;
    static const char *const ends[] = {"relocaddr", "sp start", "irq_sp", "fdt_blob", "TLB addr"};
    enum { STACK = 16 << 20 }; /* below the lowest of what it tells of itself */
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++) {
        uint64_t at;
        if (number_behind(answer, ends[i], &at) && at > start && at < start + size)
            told->to = mos_min(told->to, at - mos_min(at - start, STACK));
    }
    for (const char *p = answer; (p = strstr(p, "reserved[")); p += strlen("reserved[")) {
        const char *from = strstr(p, "[0x");
        uint64_t at = from ? strtoull(from + 1, NULL, 16) : 0;
        if (at > start && at < told->to)
            told->to = at;
        else if (at == start)
            told->from = told->to; /* nobody knows where it ends */
    }
    if (told->from >= told->to)
        told->from = told->to = 0;
}

/* The bank of the flash whose first sector lies there, in its list of them. */
static const char *bank_at(const char *answer, uint64_t at) {
    for (const char *p = strstr(answer, "Bank #"); p; p = strstr(p + 1, "Bank #")) {
        const char *list = strstr(p, "Start Addresses:");
        if (list && strtoull(list + strlen("Start Addresses:"), NULL, 16) == at)
            return p;
    }
    return NULL;
}

/* Is it the current device now, and the area that is meant? */
static const char *understand_choice(const struct mos_order *o, const char *answer) {
    char area[40];
    snprintf(area, sizeof area, "partitions #%u, OK", o->area);
    if (!strstr(answer, kinds[kind_of(o->medium)].kind == MMC ? "is current device"
                                                              : "is now current device"))
        return "it has no such device";
    return o->area && !strstr(answer, area) ? "it has no such area" : NULL;
}

static const char *understand_identify(const struct mos_order *o, size_t index, const char *answer,
                                       struct mos_order_told *told) {
    uint64_t n;
    const char *p;
    switch (kinds[kind_of(o->medium)].kind) {
    case MMC:
        if (index == 0)
            return understand_choice(o, answer);
        if (index == 1) {
            text_behind(answer, "Name:", told->name, sizeof told->name);
            size_behind(answer, o->area ? "\nBoot Capacity:" : "\nCapacity:", told);
        }
        if (index == 2 && number_behind(answer, "exceeds max(", &n)) {
            told->size = n * SECTOR;
            told->blur = 0;
        }
        return NULL;
    case BLOCKS:
        if (index == 1) {
            if (understand_choice(o, answer))
                return understand_choice(o, answer);
            text_behind(answer, ": ", told->name, sizeof told->name);
            p = strstr(answer, "Capacity:");
            p = p ? strchr(p, '(') : NULL;
            if (p && (p = strstr(p, " x ")) && atoi(p + 3) == SECTOR) {
                while (p[-1] >= '0' && p[-1] <= '9')
                    p--;
                told->size = strtoull(p, NULL, 10) * SECTOR;
            }
        }
        return NULL;
    case SERIAL_FLASH:
        if (!strstr(answer, "Detected"))
            return "it finds no flash there";
        text_behind(answer, "Detected ", told->name, sizeof told->name);
        told->name[strcspn(told->name, " ")] = 0;
        size_behind(answer, "total ", told);
        told->blur = 0;
        return NULL;
    default:
        p = bank_at(answer, flash_at(o, 0));
        if (!p)
            return "it finds no flash there";
        text_behind(p, "command set, ", told->name, sizeof told->name);
        size_behind(p, "Size:", told);
        told->blur = 0;
        return NULL;
    }
}

static const char *understand_move(const struct mos_order *o, size_t index, const char *answer) {
    bool writes = o->deed == MOS_ORDER_WRITE;
    char expected[64];
    switch (kinds[kind_of(o->medium)].kind) {
    case MMC:
    case BLOCKS:
        if (index == 0)
            return understand_choice(o, answer);
        snprintf(expected, sizeof expected, " %llu blocks %s: OK",
                 (unsigned long long)(o->length / SECTOR), writes ? "written" : "read");
        return strstr(answer, expected) ? NULL : "the loader could not do it";
    case SERIAL_FLASH:
        if (writes)
            return strstr(answer, "bytes written,") && !strstr(answer, "failed")
                       ? NULL
                       : "the loader could not do it";
        return strstr(answer, "Read: OK") ? NULL : "the loader could not do it";
    default: /* what is in the address space answers with text where it fails */
        if (!writes)
            return strstr(answer, "rror") ? "the loader could not do it" : NULL;
        if (index == 0)
            return strstr(answer, "ERROR") || strstr(answer, "rror") ? "it stays protected" : NULL;
        if (index == 1)
            return strstr(answer, "done") && !strstr(answer, "rror") ? NULL
                                                                     : "it could not be erased";
        return strstr(answer, "done") ? NULL : "the loader could not do it";
    }
}

static const char *understand(const struct mos_order *o, size_t index, const char *answer,
                              struct mos_order_told *told) {
    uint64_t n;
    const char *p;
    if (strstr(answer, "Unknown command"))
        return "the loader has no such command";
    switch (o->deed) {
    case MOS_ORDER_MEMORY:
        understand_memory(index, answer, told);
        return NULL;
    case MOS_ORDER_IDENTIFY:
        return understand_identify(o, index, answer, told);
    case MOS_ORDER_READ:
    case MOS_ORDER_WRITE:
        return understand_move(o, index, answer);
    case MOS_ORDER_SUM:
        p = strstr(answer, "==> ");
        if (!p || strspn(p + 4, "0123456789abcdefABCDEF") != 8)
            return "it tells no sum";
        told->sum = (uint32_t)strtoul(p + 4, NULL, 16);
        told->has_sum = true;
        return NULL;
    case MOS_ORDER_FETCH:
        if (!number_behind(answer, "Bytes transferred", &n))
            return strstr(answer, "File not found") ? "it asked for another file"
                                                    : "nothing came through the network";
        told->bytes = n;
        told->has_bytes = true;
        return NULL;
    case MOS_ORDER_RECEIVE:
        if (!number_behind(answer, "Total Size", &n))
            return "nothing came over the serial line";
        told->bytes = n;
        told->has_bytes = true;
        return NULL;
    default:
        return NULL;
    }
}

const struct mos_loader_orders ub_orders = {.prompt = "=> ",
                                            .interrupt = "\x03",
                                            .fetches = "tftpboot",
                                            .receives = "loady",
                                            .receives_xmodem = "loadx",
                                            .calls = "bps...\n",
                                            .takes = takes,
                                            .commands = commands,
                                            .type = type,
                                            .understand = understand};
