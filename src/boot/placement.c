#include "boot/placement.h"

#include "base/bytes.h"

enum { BLOCK = 2 << 20, TREE_ROOM = 64 << 10, TREE_ALIGN = 8, PAGE = 4096 };

/* The kernel's place once it runs: booti moves one that may not lie anywhere to the first
 * suitable place of RAM (arm64 booting.rst, section 4). */
static void settle_kernel(const struct mos_ram_map *ram, const struct mos_kernel_header *h,
                          uint64_t size, struct mos_placement *p) {
    p->alignment = h->alignment ? h->alignment : PAGE;
    p->offset = h->text_offset;
    uint64_t first = mos_round_up(ram->start, p->alignment);
    if (!p->given)
        p->ranges[MOS_RANGE_LOADED].start =
            (h->anywhere ? mos_round_up(first + BLOCK, p->alignment) : first) + h->text_offset;
    p->ranges[MOS_RANGE_LOADED].length = size;
    uint64_t start = h->anywhere ? p->ranges[MOS_RANGE_LOADED].start : first + h->text_offset;
    p->ranges[MOS_RANGE_FINAL] = (struct mos_ram_span){start, mos_max(h->running_size, size)};
}

static uint64_t end_of(const struct mos_placement *p) {
    uint64_t end = 0;
    for (size_t i = 0; i < MOS_RANGE_COUNT; i++)
        if (p->ranges[i].length && i != MOS_RANGE_MOVED)
            end = mos_max(end, p->ranges[i].start + p->ranges[i].length);
    return end;
}

/* Something that is loaded and then moved by the loader to the top of what it may use. */
static void settle_moved(uint64_t *next, uint64_t *top, uint64_t size, uint64_t room,
                         uint64_t alignment, struct mos_placement *p) {
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

void mos_placement_settle(const struct mos_ram_map *ram, const struct mos_kernel_header *header,
                          uint64_t kernel_size, uint64_t tree_size, uint64_t ramdisk_size,
                          struct mos_placement *kernel, struct mos_placement *tree,
                          struct mos_placement *ramdisk) {
    uint64_t top = ram->top, next;
    settle_kernel(ram, header, kernel_size, kernel);
    next = mos_max(end_of(kernel), ram->start);
    if (ramdisk_size)
        settle_moved(&next, &top, ramdisk_size, 0, PAGE, ramdisk);
    if (tree_size)
        settle_moved(&next, &top, tree_size, TREE_ROOM, TREE_ALIGN, tree);
}
