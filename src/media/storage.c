#include "media/storage.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { LONGEST = 1024, MOST_BLOCKS = 4096, UNIT = 512 }; /* UNIT: of "size", whatever the device */

/* ---- texts of the kernel ---- */

/* The first line of sys/class/block/NAME/FILE without blanks around it; "" when there is none. */
static const char *text_of(struct mos_ctx *ctx, const struct mos_computer *c, const char *folder,
                           const char *file) {
    char text[LONGEST];
    size_t got;
    if (c->text(c, mos_printf(ctx->arena, "%s/%s", folder, file), text, sizeof text - 1, &got))
        return "";
    text[got] = 0;
    text[strcspn(text, "\n")] = 0;
    char *from = text + strspn(text, " \t");
    size_t n = strlen(from);
    while (n && (from[n - 1] == ' ' || from[n - 1] == '\t'))
        n--;
    return mos_strndup(ctx->arena, from, n);
}

static uint64_t number_in(struct mos_ctx *ctx, const struct mos_computer *c, const char *folder,
                          const char *file) {
    uint64_t value;
    return mos_integer_parse(text_of(ctx, c, folder, file), &value) == MOS_NUMBER_OK ? value : 0;
}

/* "8:16" */
static bool number_parse(const char *text, uint64_t *out) {
    char *end;
    if (*text < '0' || *text > '9')
        return false;
    unsigned long major = strtoul(text, &end, 10);
    if (*end != ':' || end[1] < '0' || end[1] > '9')
        return false;
    unsigned long minor = strtoul(end + 1, &end, 10);
    if (*end || major > UINT32_MAX || minor > UINT32_MAX)
        return false;
    *out = mos_block_number((uint32_t)major, (uint32_t)minor);
    return true;
}

struct names {
    struct mos_vec list; /* of const char * */
};

static bool note_name(void *self, const char *name) {
    struct names *n = self;
    mos_vec_push_pointer(&n->list, mos_strdup(n->list.arena, name));
    return n->list.count < MOST_BLOCKS;
}

static int by_text(const void *a, const void *b) {
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

/* What a folder of the kernel's holds, by name; empty when it cannot be read (*e). */
static struct mos_vec names_in(struct mos_ctx *ctx, const struct mos_computer *c,
                               const char *folder, int *e) {
    struct names n = {mos_vec_make(ctx->arena, sizeof(char *))};
    *e = c->names(c, folder, note_name, &n);
    if (n.list.count)
        qsort(n.list.items, n.list.count, sizeof(char *), by_text);
    return n.list;
}

/* ---- how it hangs on the computer ---- */

/* "H:C:T:L" of a SCSI device; its last number is the unit's. */
static const char *unit_of(struct mos_arena *arena, const char *component, size_t length) {
    size_t colons = 0, last = 0;
    for (size_t i = 0; i < length; i++) {
        if (component[i] == ':')
            colons++, last = i + 1;
        else if (component[i] < '0' || component[i] > '9')
            return NULL;
    }
    return colons == 3 ? mos_strndup(arena, component + last, length - last) : NULL;
}

/* Follows the path of a device upwards: the nearest USB device it belongs to, its unit. */
static void look_upwards(struct mos_ctx *ctx, const struct mos_computer *c, struct mos_block *b,
                         const char *link) {
    const char *at = strstr(link, "devices/");
    size_t length = at ? strlen(at) : 0;
    const char *last = at; /* the component that the path ends with now */
    for (; length; length = (size_t)(last - at) - (last > at)) {
        last = at + length;
        while (last > at && last[-1] != '/')
            last--;
        size_t n = length - (size_t)(last - at);
        const char *unit = unit_of(ctx->arena, last, n);
        if (unit && !*b->lun)
            b->lun = unit;
        const char *folder = mos_printf(ctx->arena, "sys/%.*s", (int)length, at);
        const char *vendor = text_of(ctx, c, folder, "idVendor");
        if (*vendor) {
            b->bus = MOS_BUS_USB;
            b->port = mos_strndup(ctx->arena, last, n);
            b->usb_vendor = (uint16_t)strtoul(vendor, NULL, 16);
            b->usb_product = (uint16_t)strtoul(text_of(ctx, c, folder, "idProduct"), NULL, 16);
            b->speed = (unsigned)number_in(ctx, c, folder, "speed");
            /* 2.10 is what a device of USB 3 says on a port of USB 2 (USB 3.2, 9.2.6.6) */
            const char *version = text_of(ctx, c, folder, "version");
            b->could_be_faster =
                b->speed == 480 && (strncmp(version, "2.10", 4) == 0 || *version == '3');
            const char *serial = text_of(ctx, c, folder, "serial");
            b->serial = *serial ? serial : b->serial;
            return;
        }
        if (last == at)
            return;
    }
}

/* A serial number that a SCSI device keeps in its page 0x80 of vital data (SPC-4, 7.8.15). */
static const char *scsi_serial(struct mos_ctx *ctx, const struct mos_computer *c,
                               const char *folder) {
    char page[256];
    size_t got;
    if (c->text(c, mos_printf(ctx->arena, "%s/device/vpd_pg80", folder), page, sizeof page, &got) ||
        got < 4)
        return "";
    size_t n = mos_min(got - 4, (uint8_t)page[3]);
    const char *text = page + 4;
    while (n && (*text == ' ' || !*text))
        text++, n--;
    while (n && (text[n - 1] == ' ' || !text[n - 1]))
        n--;
    return mos_strndup(ctx->arena, text, n);
}

static void find_bus(struct mos_ctx *ctx, const struct mos_computer *c, struct mos_block *b,
                     const char *folder, const char *link) {
    static const struct {
        const char *start;
        enum mos_bus bus;
    } by_name[] = {{"nvme", MOS_BUS_NVME},   {"vd", MOS_BUS_VIRTIO}, {"loop", MOS_BUS_LOOP},
                   {"dm-", MOS_BUS_MAPPED},  {"md", MOS_BUS_MAPPED}, {"ram", MOS_BUS_MEMORY},
                   {"zram", MOS_BUS_MEMORY}, {"sd", MOS_BUS_SCSI},   {"sr", MOS_BUS_SCSI}};
    for (size_t i = 0; i < sizeof by_name / sizeof *by_name && !b->bus; i++)
        if (strncmp(b->name, by_name[i].start, strlen(by_name[i].start)) == 0)
            b->bus = by_name[i].bus;
    const char *type = text_of(ctx, c, folder, "device/type");
    if (strncmp(b->name, "mmcblk", 6) == 0)
        b->bus = strcmp(type, "SD") == 0 ? MOS_BUS_SD : MOS_BUS_MMC;
    b->is_area = b->bus == MOS_BUS_MMC && (strstr(b->name, "boot") || strstr(b->name, "rpmb"));
    if (b->bus == MOS_BUS_LOOP) {
        const char *file = text_of(ctx, c, folder, "loop/backing_file");
        b->backing = *file ? file : NULL;
    }
    if (b->bus == MOS_BUS_SCSI)
        b->serial = scsi_serial(ctx, c, folder);
    if (!*b->serial)
        b->serial = text_of(ctx, c, folder, "device/serial");
    if (!*b->serial)
        b->serial = text_of(ctx, c, folder, "serial");
    if (b->bus != MOS_BUS_MAPPED && b->bus != MOS_BUS_LOOP)
        look_upwards(ctx, c, b, link);
}

static void find_names(struct mos_ctx *ctx, const struct mos_computer *c, struct mos_block *b,
                       const char *folder) {
    const char *vendor = text_of(ctx, c, folder, "device/vendor");
    const char *model = text_of(ctx, c, folder, "device/model");
    const char *name = text_of(ctx, c, folder, "device/name");
    if (strncmp(vendor, "0x", 2) == 0) /* a number, which tells nobody anything */
        vendor = "";
    b->model = *model ? mos_printf(ctx->arena, "%s%s%s", vendor, *vendor ? " " : "", model) : name;
    const char *mapped = text_of(ctx, c, folder, "dm/name");
    const char *kind = text_of(ctx, c, folder, "dm/uuid");
    const char *level = text_of(ctx, c, folder, "md/level");
    if (*mapped)
        b->mapped = mos_printf(ctx->arena, "%s%s%.*s", mapped, *kind ? ", " : "",
                               (int)strcspn(kind, "-"), kind);
    else if (*level)
        b->mapped = level;
}

/* ---- one device ---- */

static bool read_block(struct mos_ctx *ctx, struct mos_storage *s, const char *name) {
    const struct mos_computer *c = s->computer;
    const char *folder = mos_printf(ctx->arena, "sys/class/block/%s", name);
    char link[LONGEST];
    uint64_t number, size = number_in(ctx, c, folder, "size");
    if (!number_parse(text_of(ctx, c, folder, "dev"), &number) || !mos_mul(size, UNIT, &size))
        return false; /* gone in between */
    if (c->link(c, folder, link, sizeof link))
        snprintf(link, sizeof link, "devices/%s", name);
    struct mos_block *b = mos_alloc(ctx->arena, sizeof *b);
    char *path = mos_printf(ctx->arena, "/dev/%s", name);
    for (char *p = path; (p = strchr(p, '!')); p++) /* a name with a slash in /dev */
        *p = '/';
    *b = (struct mos_block){.name = mos_strdup(ctx->arena, name),
                            .path = path,
                            .number = number,
                            .size = size,
                            .is_empty = size == 0,
                            .sequence = number_in(ctx, c, folder, "diskseq"),
                            .sector = (uint32_t)mos_min(
                                number_in(ctx, c, folder, "queue/logical_block_size"), 1u << 20),
                            .is_part = number_in(ctx, c, folder, "partition") != 0,
                            .read_only = number_in(ctx, c, folder, "ro") != 0,
                            .model = "",
                            .serial = "",
                            .port = "",
                            .lun = "",
                            .parts = mos_vec_make(ctx->arena, sizeof(void *)),
                            .holders = mos_vec_make(ctx->arena, sizeof(void *)),
                            .below = mos_vec_make(ctx->arena, sizeof(void *)),
                            .mounts = mos_vec_make(ctx->arena, sizeof(struct mos_mounted)),
                            .users = mos_vec_make(ctx->arena, sizeof(void *))};
    find_bus(ctx, c, b, folder, link);
    find_names(ctx, c, b, folder);
    mos_vec_push_pointer(&s->blocks, b);
    return true;
}

static struct mos_block *by_name(const struct mos_storage *s, const char *name, size_t length) {
    for (size_t i = 0; i < s->blocks.count; i++) {
        struct mos_block *b = mos_vec_pointer(&s->blocks, i);
        if (strlen(b->name) == length && strncmp(b->name, name, length) == 0)
            return b;
    }
    return NULL;
}

/* A partition's folder lies in that of its device. */
static void find_whole(struct mos_ctx *ctx, struct mos_storage *s, struct mos_block *b) {
    const char *folder = mos_printf(ctx->arena, "sys/class/block/%s", b->name);
    char link[LONGEST];
    if (!b->is_part || s->computer->link(s->computer, folder, link, sizeof link))
        return;
    char *last = strrchr(link, '/');
    if (!last)
        return;
    *last = 0;
    const char *parent = strrchr(link, '/') ? strrchr(link, '/') + 1 : link;
    b->whole = by_name(s, parent, strlen(parent));
    if (b->whole && (b->whole == b || b->whole->is_part))
        b->whole = NULL; /* no partition lies in another one */
    if (!b->whole)
        return;
    mos_vec_push_pointer(&b->whole->parts, b);
    const struct mos_block *w = b->whole; /* it hangs where its device does */
    b->bus = w->bus;
    b->model = w->model;
    b->serial = w->serial;
    b->port = w->port;
    b->lun = w->lun;
    b->speed = w->speed;
    b->could_be_faster = w->could_be_faster;
    b->sector = w->sector;
    b->sequence = w->sequence;
    b->read_only |= w->read_only;
}

static void find_neighbours(struct mos_ctx *ctx, struct mos_storage *s, struct mos_block *b) {
    int e;
    const char *folder = mos_printf(ctx->arena, "sys/class/block/%s", b->name);
    struct mos_vec up =
        names_in(ctx, s->computer, mos_printf(ctx->arena, "%s/holders", folder), &e);
    for (size_t i = 0; i < up.count; i++) {
        const char *name = mos_vec_pointer(&up, i);
        const struct mos_block *h = by_name(s, name, strlen(name));
        mos_vec_push_pointer(&b->holders, h && h->mapped
                                              ? mos_printf(ctx->arena, "%s (%s)", name, h->mapped)
                                              : name);
    }
    struct mos_vec down =
        names_in(ctx, s->computer, mos_printf(ctx->arena, "%s/slaves", folder), &e);
    for (size_t i = 0; i < down.count; i++) {
        const char *name = mos_vec_pointer(&down, i);
        struct mos_block *x = by_name(s, name, strlen(name));
        if (x && x != b)
            mos_vec_push_pointer(&b->below, x);
    }
}

bool mos_storage_list(struct mos_ctx *ctx, struct mos_storage *s) {
    int e = ENOSYS;
    *s = (struct mos_storage){.computer = ctx->host->computer,
                              .blocks = mos_vec_make(ctx->arena, sizeof(void *))};
    struct mos_vec names = {0};
    if (s->computer)
        names = names_in(ctx, s->computer, "sys/class/block", &e);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e,
                        "This computer's storage devices cannot be listed: /sys/class/block");
    for (size_t i = 0; i < names.count; i++)
        read_block(ctx, s, mos_vec_pointer(&names, i));
    for (size_t i = 0; i < s->blocks.count; i++)
        find_whole(ctx, s, mos_vec_pointer(&s->blocks, i));
    for (size_t i = 0; i < s->blocks.count; i++)
        find_neighbours(ctx, s, mos_vec_pointer(&s->blocks, i));
    return true;
}

struct mos_block *mos_storage_find(const struct mos_storage *s, uint64_t number) {
    for (size_t i = 0; i < s->blocks.count; i++) {
        struct mos_block *b = mos_vec_pointer(&s->blocks, i);
        if (b->number == number)
            return b;
    }
    return NULL;
}

/* ---- for people ---- */

bool mos_block_is_pluggable(const struct mos_block *b) {
    return b->bus == MOS_BUS_USB || b->bus == MOS_BUS_SD;
}

const char *mos_bus_title(enum mos_bus bus) {
    static const char *const titles[] = {
        [MOS_BUS_OTHER] = "other",   [MOS_BUS_USB] = "USB",
        [MOS_BUS_SD] = "SD slot",    [MOS_BUS_MMC] = "soldered eMMC",
        [MOS_BUS_SCSI] = "SATA",     [MOS_BUS_NVME] = "NVMe",
        [MOS_BUS_VIRTIO] = "virtio", [MOS_BUS_LOOP] = "file (loop)",
        [MOS_BUS_MAPPED] = "mapped", [MOS_BUS_MEMORY] = "RAM",
    };
    return titles[bus];
}

const char *mos_storage_size(struct mos_arena *arena, uint64_t bytes) {
    static const char *const units[] = {"B", "kB", "MB", "GB", "TB", "PB", "EB"};
    uint64_t unit = 1;
    size_t u = 0;
    while (u + 1 < sizeof units / sizeof *units && bytes / unit >= 1000)
        unit *= 1000, u++;
    uint64_t tenths = bytes / unit * 10 + bytes % unit * 10 / unit;
    if (u == 0)
        return mos_printf(arena, "%llu bytes", (unsigned long long)bytes);
    return mos_printf(arena, "%llu.%llu %s (%s)", (unsigned long long)(tenths / 10),
                      (unsigned long long)(tenths % 10), units[u], mos_size_about(arena, bytes));
}
