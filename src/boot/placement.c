#include "boot/placement.h"

#include "base/bytes.h"

#include <assert.h>

enum { BLOCK = 2 << 20, TREE_ROOM = 64 << 10, TREE_ALIGN = 8, PAGE = 4096 };

/* One behind a legacy header: it runs where that says, whatever the file is loaded to. */
static void settle_wrapped(const struct mos_ram_map *ram, const struct mos_loads *l,
                           struct mos_placement *p) {
    const struct mos_kernel_header *h = l->header;
    uint64_t length = mos_max(h->running_size, h->plain_size);
    p->alignment = 0;
    p->ranges[MOS_RANGE_FINAL] = (struct mos_ram_span){h->load, length};
    if (!p->given) {
        uint64_t start = mos_round_up(ram->start + BLOCK, BLOCK);
        if (start < h->load + length && h->load < start + l->kernel)
            start = mos_round_up(h->load + length, BLOCK);
        p->ranges[MOS_RANGE_LOADED].start = start;
    }
    p->ranges[MOS_RANGE_LOADED].length = l->kernel;
}

/* One that expands itself to a fixed distance behind a multiple of 128 MiB.  Where that would run
 * over its own file, it moves that out of the way first. */
static void settle_expanding(const struct mos_ram_map *ram, const struct mos_loads *l,
                             struct mos_placement *p) {
    enum { AREA = 128 << 20, WORK = 128 << 10 };
    const struct mos_kernel_header *h = l->header;
    uint64_t end = mos_round_down(ram->start, AREA) + h->expands_to + h->expanded_size;
    if (!p->given)
        p->ranges[MOS_RANGE_LOADED].start = mos_round_up(mos_max(end, ram->start + BLOCK), BLOCK);
    struct mos_ram_span loaded = p->ranges[MOS_RANGE_LOADED];
    uint64_t start = mos_round_down(loaded.start, AREA) + h->expands_to;
    end = start + h->expanded_size;
    p->ranges[MOS_RANGE_FINAL] = (struct mos_ram_span){start, h->expanded_size};
    if (loaded.start < end && start < loaded.start + l->kernel)
        p->ranges[MOS_RANGE_MOVED] =
            (struct mos_ram_span){mos_round_up(end, PAGE), l->kernel + WORK};
}

/* The kernel's place once it runs: a loader that moves things puts one that may not lie anywhere
 * in the first suitable place of RAM (arm64 booting.rst, section 4).  A compressed one comes back
 * to where it was loaded, expanded. */
static void settle_kernel(const struct mos_ram_map *ram, const struct mos_loads *l,
                          struct mos_placement *p) {
    const struct mos_kernel_header *h = l->header;
    uint64_t size =
        h->compression ? mos_max(h->plain_size, l->in_parcel ? 0 : l->kernel) : l->kernel;
    p->ranges[MOS_RANGE_LOADED].length = size;
    if (h->wrapped) {
        settle_wrapped(ram, l, p);
        return;
    }
    p->alignment = h->alignment ? h->alignment : PAGE;
    p->offset = h->text_offset;
    assert(mos_is_power_of_two(p->alignment));
    if (h->expanded_size) {
        settle_expanding(ram, l, p);
        return;
    }
    uint64_t first = mos_round_up(ram->start, p->alignment);
    if (!p->given)
        p->ranges[MOS_RANGE_LOADED].start =
            (h->anywhere ? mos_round_up(first + BLOCK, p->alignment) : first) + h->text_offset;
    uint64_t start =
        h->anywhere || p->stays ? p->ranges[MOS_RANGE_LOADED].start : first + h->text_offset;
    p->ranges[MOS_RANGE_FINAL] = (struct mos_ram_span){start, mos_max(h->running_size, size)};
}

static uint64_t end_of(const struct mos_placement *p, bool moved) {
    uint64_t end = 0;
    for (size_t i = 0; i < MOS_RANGE_COUNT; i++)
        if (p->ranges[i].length && (moved || i != MOS_RANGE_MOVED))
            end = mos_max(end, p->ranges[i].start + p->ranges[i].length);
    return end;
}

/* Something that is loaded and then moved by the loader to the top of what it may use. */
static void settle_moved(uint64_t *next, uint64_t *top, uint64_t size, uint64_t room,
                         uint64_t alignment, struct mos_placement *p) {
    assert(size && alignment);
    p->alignment = alignment;
    if (!p->given)
        p->ranges[MOS_RANGE_LOADED].start = mos_round_up(*next, BLOCK);
    p->ranges[MOS_RANGE_LOADED].length = size;
    if (!p->given)
        *next = p->ranges[MOS_RANGE_LOADED].start + size + room;
    uint64_t below = p->limit ? mos_min(p->limit, *top) : *top;
    if (below > size + room && !p->stays) {
        uint64_t start = mos_round_down(below - size - room, PAGE);
        p->ranges[MOS_RANGE_MOVED] = (struct mos_ram_span){start, size + room};
        *top = start;
    }
}

void mos_placement_settle(const struct mos_ram_map *ram, const struct mos_loads *l,
                          struct mos_placement *kernel, struct mos_placement *tree,
                          struct mos_placement *ramdisk) {
    assert(l->header && l->kernel);
    uint64_t top = ram->top, next;
    settle_kernel(ram, l, kernel);
    next = mos_max(end_of(kernel, true), ram->start);
    if (l->ramdisk)
        settle_moved(&next, &top, l->ramdisk, 0, PAGE, ramdisk);
    if (l->tree)
        settle_moved(&next, &top, l->tree, TREE_ROOM, TREE_ALIGN, tree);
    if (l->in_parcel) /* they are not read by themselves */
        ramdisk->ranges[MOS_RANGE_LOADED] = (struct mos_ram_span){0, 0};
    if (l->in_parcel && !l->tree_out)
        tree->ranges[MOS_RANGE_LOADED] = (struct mos_ram_span){0, 0};
    if (l->header->compression && !l->header->wrapped && !l->in_parcel) {
        struct mos_ram_span *s = &kernel->ranges[MOS_RANGE_MOVED]; /* where it is expanded */
        uint64_t end = mos_max(end_of(ramdisk, false), end_of(tree, false));
        if (!s->start)
            s->start = mos_round_up(mos_max(mos_max(next, end), end_of(kernel, false)), BLOCK);
        s->length = l->header->plain_size;
    }
}
