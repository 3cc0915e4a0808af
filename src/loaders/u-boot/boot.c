/* From a boot command to the kernel's first instruction: places in RAM as the loader chooses them
 * (its doc/uImage.FIT and the text of its commands' help; measured on version 2023.01). */
#include "loaders/u-boot/boot.h"

#include "base/bytes.h"
#include "content/content.h"
#include "loaders/u-boot/legacy.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

enum {
    PAGE = 4096,
    TREE_ROOM = 0x3000, /* the loader leaves that much in a tree for what it adds */
    MOST_KERNEL = 256 << 20,
    MOST_PARCEL = 512 << 20,
    MOST_TREE = 4 << 20,
    LEGACY_RAMDISK = 3,
};

/* The loader looks at a tree's header before anything else (its scripts/dtc/libfdt/fdt.c,
 * fdt_check_header): its versions, and that all blocks lie in the tree. */
static bool header_is_sound(const uint8_t head[MOS_DT_HEAD]) {
    uint64_t total = mos_be32(head + MOS_DT_TOTAL), tree = mos_be32(head + MOS_DT_STRUCTURE),
             strings = mos_be32(head + MOS_DT_STRINGS);
    uint32_t version = mos_be32(head + MOS_DT_VERSION), last = mos_be32(head + MOS_DT_OLDEST),
             held = mos_be32(head + MOS_DT_RESERVATIONS);
    return mos_be32(head) == MOS_DT_MAGIC && version >= 2 && last <= 17 && last <= version &&
           total >= 40 && total <= INT32_MAX && held >= 40 && held <= total && tree >= 40 &&
           strings >= 40 &&
           tree + (version >= 17 ? mos_be32(head + MOS_DT_STRUCTURE_SIZE) : 0) <= total &&
           strings + mos_be32(head + MOS_DT_STRINGS_SIZE) <= total;
}

struct mos_parcel *ub_parcel(struct sim *s, uint64_t at) {
    uint8_t head[MOS_DT_HEAD];
    const char *problem;
    sim_ram_read(s, at, head, sizeof head);
    if (!header_is_sound(head))
        return NULL;
    const struct sim_thing *t = sim_ram_at(s, at);
    uint64_t length = mos_be32(head + MOS_DT_TOTAL);
    if (t && t->span.start == at) /* outside data lies behind the tree */
        length = mos_max(length, t->span.length);
    uint8_t *all = sim_ram_copy(s, at, length, MOST_PARCEL);
    return all ? mos_parcel_read(s->ctx, all, (size_t)length, &problem) : NULL;
}

/* ---- places ---- */

static bool meets(struct mos_ram_span a, uint64_t start, uint64_t length) {
    return a.length && length && start < a.start + a.length && a.start < start + length;
}

/* The highest free place below `limit`; 0: there is none. */
static uint64_t highest(const struct sim *s, uint64_t size, uint64_t limit) {
    assert(size);
    const struct mos_rig *m = s->rig;
    struct mos_ram_span ram = m->ram;
    const struct mos_ram_span taken[] = {{s->boot.runs_at, s->boot.runs_size},
                                         {s->boot.ramdisk, s->boot.ramdisk_size},
                                         own(s)->boot.placed_tree};
    uint64_t top = mos_min(ram.start + ram.length, limit);
    if (m->loader_from)
        top = mos_min(top, m->loader_from);
    for (int tries = 0; tries < 4 && top >= ram.start + size; tries++) {
        uint64_t at = mos_round_down(top - size, PAGE), next = top;
        for (size_t i = 0; i < sizeof taken / sizeof *taken; i++)
            if (meets(taken[i], at, size))
                next = mos_min(next, taken[i].start);
        if (next == top)
            return at;
        top = next;
    }
    return 0;
}

/* Where no variable of its own says more, things are put below this. */
static uint64_t bound(const struct sim *s) {
    const char *low = sim_get(s, "bootm_low"), *size = sim_get(s, "bootm_size"),
               *map = sim_get(s, "bootm_mapsize");
    uint64_t from = low ? sim_number(low, NULL, 16) : s->rig->ram.start, end;
    uint64_t length = map                ? sim_number(map, NULL, 16)
                      : s->rig->boot_map ? s->rig->boot_map
                      : size             ? sim_number(size, NULL, 16)
                                         : 0;
    return length && mos_add(from, length, &end) ? end : UINT64_MAX;
}

/* fdt_high, initrd_high: all ones mean "leave it where it is". */
static bool limit_of(const struct sim *s, const char *name, uint64_t *limit) {
    const char *text = sim_get(s, name);
    uint64_t ones =
        s->boot.header.cpu && strstr(s->boot.header.cpu, "64") ? UINT64_MAX : UINT32_MAX;
    *limit = text ? sim_number(text, NULL, 16) : bound(s);
    if (text && *limit == ones)
        return false;
    if (text && !*limit)
        *limit = UINT64_MAX;
    return true;
}

int ub_place_ramdisk(struct sim *s) {
    struct sim_boot *b = &s->boot;
    uint64_t limit, from = b->ramdisk, size = b->ramdisk_size;
    sim_note_harm(s, "ramdisk", b->ramdisk_from, from, size);
    if (!size || !s->rig->ram.length || !limit_of(s, "initrd_high", &limit))
        return 0;
    b->ramdisk_size = 0; /* its old place may be used */
    uint64_t to = highest(s, size, limit);
    b->ramdisk_size = size;
    if (!to)
        return sim_trouble(s, "ramdisk - allocation error");
    sim_print(s, "   Loading Ramdisk to %08llx, end %08llx ... OK\n", (unsigned long long)to,
              (unsigned long long)(to + size));
    sim_move(s, from, to, size, "ramdisk");
    b->ramdisk = to;
    return 0;
}

int ub_place_tree(struct sim *s) {
    struct sim_boot *b = &s->boot;
    uint64_t limit, size = b->tree_size;
    if (!size)
        return 0;
    sim_note_harm(s, "tree", b->tree_from, b->tree, size);
    if (!s->rig->ram.length)
        return 0;
    if (!limit_of(s, "fdt_high", &limit)) {
        sim_print(s, "   Using Device Tree in place at %016llx, end %016llx\n",
                  (unsigned long long)b->tree, (unsigned long long)(b->tree + size + TREE_ROOM));
        sim_ram_claim(s, b->tree, size + TREE_ROOM,
                      b->tree_from ? b->tree_from->what : "the tree with room to grow");
        b->tree_size = size + TREE_ROOM;
        return 0;
    }
    uint64_t room = size + TREE_ROOM, to = highest(s, room, limit);
    if (!to)
        return sim_trouble(s, "device tree - allocation error");
    sim_print(s, "   Loading Device Tree to %016llx, end %016llx ... OK\n", (unsigned long long)to,
              (unsigned long long)(to + room - 1));
    sim_move(s, b->tree, to, room, "tree");
    b->tree = own(s)->tree_at = to;
    b->tree_size = room;
    own(s)->boot.placed_tree = (struct mos_ram_span){to, mos_round_up(room, PAGE)};
    uint8_t total[4]; /* it has that room from now on */
    mos_put_be32(total, (uint32_t)room);
    sim_ram_write(s, to + MOS_DT_TOTAL, total, sizeof total);
    sim_print(s, "Working FDT set to %llx\n", (unsigned long long)to);
    return 0;
}

/* ---- the three of them ---- */

/* A ramdisk behind a legacy header, which says how long it is. */
static int find_legacy_ramdisk(struct sim *s, const uint8_t start[MOS_LEGACY_HEADER]) {
    struct sim_boot *b = &s->boot;
    struct mos_legacy h;
    const char *problem;
    uint64_t whole = MOS_LEGACY_HEADER + (uint64_t)mos_be32(start + 12);
    const uint8_t *all = sim_ram_copy(s, b->ramdisk, whole, MOST_KERNEL);
    sim_print(s, "## Loading init Ramdisk from Legacy Image at %08llx ...\n",
              (unsigned long long)b->ramdisk);
    if (!mos_legacy_read(start, MOS_LEGACY_HEADER, &h, &problem))
        return sim_trouble(s, "Bad Header Checksum");
    ub_list_legacy(s, b->ramdisk, &h);
    sim_print(s, "   Verifying Checksum ... ");
    if (!all || !mos_legacy_read(all, (size_t)whole, &h, &problem))
        return sim_trouble(s, "Bad Data CRC");
    sim_print(s, "OK\n");
    if (h.type != LEGACY_RAMDISK)
        return sim_trouble(s, "No Linux Ramdisk Image");
    b->ramdisk += MOS_LEGACY_HEADER;
    b->ramdisk_size = h.size;
    return 0;
}

int ub_boot_ramdisk(struct sim *s, const char *ramdisk) {
    struct sim_boot *b = &s->boot;
    uint8_t start[MOS_LEGACY_HEADER];
    if (!ramdisk || strcmp(ramdisk, "-") == 0)
        return 0;
    const char *colon = strchr(ramdisk, ':');
    b->ramdisk = sim_number(ramdisk, NULL, 16);
    if (sim_aborts(s, b->ramdisk))
        return 1;
    b->ramdisk_size = colon ? sim_number(colon + 1, NULL, 16) : 0;
    b->ramdisk_from = sim_ram_at(s, b->ramdisk);
    sim_ram_read(s, b->ramdisk, start, sizeof start);
    int code = mos_legacy_is(start, sizeof start) ? find_legacy_ramdisk(s, start) : 0;
    if (!code && !b->ramdisk_size)
        code = sim_trouble(s, "Wrong Ramdisk Image Format");
    return code ? sim_trouble(s, "Ramdisk image is corrupt or invalid") : 0;
}

void ub_boot_tree_found(struct sim *s) {
    if (s->boot.tree_size)
        sim_print(s, "   Booting using the fdt blob at %#08llx\n",
                  (unsigned long long)s->boot.tree);
    sim_print(s, "Working FDT set to %llx\n",
              (unsigned long long)(s->boot.tree_size ? s->boot.tree : 0));
    own(s)->tree_at = s->boot.tree_size ? s->boot.tree : 0;
}

int ub_boot_tree(struct sim *s, const char *tree) {
    struct sim_boot *b = &s->boot;
    uint8_t head[MOS_DT_HEAD];
    if (!tree)
        return 0;
    b->tree = sim_number(tree, NULL, 16);
    if (sim_aborts(s, b->tree))
        return 1;
    sim_ram_read(s, b->tree, head, sizeof head);
    if (!header_is_sound(head)) {
        sim_trouble(s, "ERROR: Did not find a cmdline Flattened Device Tree");
        return sim_trouble(s, "Could not find a valid device tree");
    }
    b->tree_size = mos_be32(head + MOS_DT_TOTAL);
    b->tree_from = sim_ram_at(s, b->tree);
    sim_print(s, "## Flattened Device Tree blob at %08llx\n", (unsigned long long)b->tree);
    return 0;
}

static int overlaps(struct sim *s) {
    const struct sim_boot *b = &s->boot;
    struct mos_ram_span kernel = {b->runs_at, b->runs_size};
    const char *what = NULL;
    if (b->ramdisk_size && b->ramdisk >= kernel.start && b->ramdisk < kernel.start + kernel.length)
        what = "RD";
    else if (b->tree_size && b->tree >= kernel.start && b->tree < kernel.start + kernel.length)
        what = "FDT";
    if (!what)
        return 0;
    return sim_trouble(s, "ERROR: %s image overlaps OS image (OS=0x%llx..0x%llx)", what,
                       (unsigned long long)kernel.start,
                       (unsigned long long)(kernel.start + kernel.length));
}

/* The loader writes into /chosen before it passes the tree on: what is damaged up to there it
 * finds out (Devicetree Specification v0.4, section 5.4). */
static bool tree_is_sound(struct sim *s) {
    uint8_t head[MOS_DT_HEAD];
    sim_ram_read(s, s->boot.tree, head, sizeof head);
    uint32_t total = mos_be32(head + MOS_DT_TOTAL), at = mos_be32(head + MOS_DT_STRUCTURE),
             end = total;
    uint8_t *blob = sim_ram_copy(s, s->boot.tree, total, MOST_TREE);
    bool chosen = false;
    for (unsigned depth = 0; blob && at % 4 == 0 && at <= end && end - at >= 4;) {
        uint32_t token = mos_be32(blob + at);
        at += 4;
        if (token == MOS_DT_BEGIN) {
            const uint8_t *name = blob + at, *zero = memchr(name, 0, end - at);
            if (!zero)
                return false;
            chosen |= depth++ == 1 && strcmp((const char *)name, "chosen") == 0;
            at = (uint32_t)mos_round_up((uint64_t)(zero - blob) + 1, 4);
        } else if (token == MOS_DT_END && depth) {
            if (chosen || --depth == 0)
                return true;
        } else if (token == MOS_DT_PROPERTY && end - at >= 8) {
            uint64_t next = at + 8 + mos_round_up(mos_be32(blob + at), 4);
            if (next > end)
                return false;
            at = (uint32_t)next;
        } else if (token != MOS_DT_NOTHING) {
            return false;
        }
    }
    return false;
}

int ub_boot_go(struct sim *s) {
    assert(s->boot.runs_size);
    struct sim_boot *b = &s->boot;
    if (sim_refused(s))
        return 1;
    sim_note_harm(s, "kernel", sim_ram_at(s, b->kernel), b->kernel, b->kernel_size);
    if (b->runs_at != b->kernel) {
        sim_print(s, "Moving Image from 0x%llx to 0x%llx, end=%llx\n",
                  (unsigned long long)b->kernel, (unsigned long long)b->runs_at,
                  (unsigned long long)(b->runs_at + b->runs_size));
        const struct sim_thing *from = b->kernel_from;
        sim_move(s, b->kernel, b->runs_at, b->kernel_size, "kernel");
        b->kernel_from = from;
    }
    return ub_place_ramdisk(s) || ub_place_tree(s) ? 1 : ub_boot_hand(s);
}

int ub_boot_hand(struct sim *s) {
    struct sim_boot *b = &s->boot;
    const char *arguments = sim_get(s, "bootargs");
    if (!b->tree_size) {
        sim_trouble(s, "FDT and ATAGS support not compiled in");
        s->stop = SIM_RESET;
        return 1;
    }
    if (!tree_is_sound(s)) {
        sim_trouble(s, "ERROR: fdt fixup failed: the tree is damaged - must RESET the board");
        s->stop = SIM_RESET;
        return 1;
    }
    sim_print(s, "\nStarting kernel ...\n\n");
    sim_hand(s, arguments ? arguments : "");
    return 0;
}

/* ---- a kernel as it is ---- */

/* Where the loader lets a kernel run (arm64 booting.rst, section 4; riscv boot-image-header). */
static void settle_kernel(struct sim *s) {
    assert(s->boot.header.form);
    struct sim_boot *b = &s->boot;
    const struct mos_kernel_header *h = &b->header;
    uint64_t base = s->rig->ram.length ? s->rig->ram.start : b->kernel;
    bool stays = h->anywhere;
    b->runs_size = mos_max(h->running_size, b->kernel_size);
    if (h->form == MOS_KERNEL_ZIMAGE) {
        struct mos_kernel_facts facts;
        const uint8_t *bytes = sim_ram_copy(s, b->kernel, b->kernel_size, MOST_KERNEL);
        b->runs_at = b->kernel;
        b->runs_size = b->kernel_size;
        if (bytes && mos_kernel_measure(s->ctx, bytes, (size_t)b->kernel_size, &b->header, &facts))
            mos_kernel_apply(&b->header, &facts);
        return;
    }
    base = stays ? b->kernel - h->text_offset : base;
    b->runs_at = mos_round_up(base, h->alignment) + h->text_offset;
    if (!s->rig->ram.length && !stays)
        b->runs_at = b->kernel;
}

/* gzip and others: the loader expands to kernel_comp_addr_r before it looks at the header. */
static int expand_plain(struct sim *s, uint64_t at) {
    const char *to = sim_get(s, "kernel_comp_addr_r"), *most = sim_get(s, "kernel_comp_size");
    if (!to || !most)
        return sim_trouble(s, "kernel_comp_addr_r or kernel_comp_size is not provided!");
    uint64_t target = sim_number(to, NULL, 16), length = sim_number(most, NULL, 16);
    uint8_t *packed = sim_ram_copy(s, at, length, MOST_KERNEL);
    struct sim_thing *from = sim_ram_at(s, at);
    if (from)
        length = mos_min(length, from->span.start + from->span.length - at);
    const uint8_t *plain = packed;
    size_t size = (size_t)length;
    if (!packed || !mos_unpack_bytes(s->ctx, &plain, &size, MOST_KERNEL))
        return sim_trouble(s, "Uncompressing the kernel failed");
    sim_event(s, MOS_EVENT_MOVE, target, size, NULL, "the kernel is expanded");
    sim_ram_claim(s, target, size, "the kernel's expanded form");
    sim_ram_write(s, target, plain, size);
    if (from)
        from->spent = true;
    sim_ram_claim(s, at, size,
                  from ? mos_printf(s->arena, "%s, expanded", from->what) : "the expanded kernel");
    sim_ram_write(s, at, plain, size);
    return 0;
}

int ub_boot_plain(struct sim *s, uint64_t at, const char *ramdisk, const char *tree, bool zimage) {
    struct sim_boot *b = &s->boot;
    *b = (struct sim_boot){0};
    own(s)->boot = (struct ub_boot){.command = zimage ? "bootz" : "booti"};
    if (sim_aborts(s, at))
        return 1;
    bool known = sim_kernel_at(s, at);
    if (known && !zimage && !b->header.form && strstr(b->header.format, " file") &&
        strcmp(b->header.compression, "xz") != 0) {
        if (expand_plain(s, at))
            return 1;
        known = sim_kernel_at(s, at);
    }
    if (!known || b->header.form != (zimage ? MOS_KERNEL_ZIMAGE : MOS_KERNEL_IMAGE) ||
        (s->rig->cpu && b->header.cpu && strcmp(b->header.cpu, s->rig->cpu) != 0)) {
        bool riscv = s->rig->cpu && strcmp(s->rig->cpu, "riscv64") == 0;
        if (zimage)
            return sim_trouble(s, "Bad Linux ARM zImage magic!");
        return sim_trouble(s,
                           riscv ? "Bad Linux RISCV Image magic!" : "Bad Linux ARM64 Image magic!");
    }
    settle_kernel(s);
    if (zimage)
        sim_print(s, "Kernel image @ %#08llx [ 0x000000 - %#08llx ]\n", (unsigned long long)at,
                  (unsigned long long)b->kernel_size);
    if (ub_boot_ramdisk(s, ramdisk) || ub_boot_tree(s, tree))
        return 1;
    ub_boot_tree_found(s);
    return overlaps(s) ? 1 : ub_boot_go(s);
}

/* ---- a kernel out of a container ---- */

void ub_boot_kernel_at(struct sim *s, uint64_t at, uint64_t length) {
    struct sim_boot *b = &s->boot;
    bool known = sim_kernel_at(s, at);
    b->kernel_size = length;
    if (known && b->header.form) {
        settle_kernel(s);
        return;
    }
    b->header = (struct mos_kernel_header){.format = "unknown"};
    b->runs_at = at;
    b->runs_size = length;
}
