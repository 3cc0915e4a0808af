/* The allocator goes through the volume once, from front to back, and steps over the superblocks
 * and descriptors that stand at the start of some groups ("Block Groups", sparse_super). */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"

#include <assert.h>

static bool power_of(uint32_t n, uint32_t base) {
    assert(n && base > 1);
    while (n % base == 0)
        n /= base;
    return n == 1;
}

bool ext4_has_super(uint32_t group) {
    return group <= 1 || power_of(group, 3) || power_of(group, 5) || power_of(group, 7);
}

uint32_t ext4_group_start(const struct ext4 *v, uint32_t group) {
    return v->first_block + group * v->per_group;
}

uint32_t ext4_group_reserved(const struct ext4 *v, uint32_t group) {
    return ext4_has_super(group) ? 1 + v->desc_blocks : 0;
}

/* Moves `next` out of a reserved span; returns how many blocks follow in a row, at most `wanted`.
 */
static uint64_t row(struct ext4 *v, uint64_t wanted) {
    assert(v->next >= v->first_block && wanted);
    uint32_t group = (uint32_t)((v->next - v->first_block) / v->per_group);
    uint64_t start = ext4_group_start(v, group);
    assert(v->next >= start && v->next - start < v->per_group);
    if (v->next - start < ext4_group_reserved(v, group))
        v->next = start + ext4_group_reserved(v, group);
    uint64_t end = start + v->per_group;
    while (end - v->next < wanted && !ext4_has_super(++group))
        end += v->per_group;
    return mos_min(wanted, end - v->next);
}

uint32_t ext4_take(struct ext4 *v, uint32_t wanted, uint32_t *count) {
    *count = (uint32_t)row(v, wanted);
    uint32_t first = (uint32_t)v->next;
    v->next += *count;
    return first;
}

uint32_t ext4_take_row(struct ext4 *v, uint32_t count) {
    assert(count);
    for (;;) {
        uint64_t n = row(v, count);
        uint32_t first = (uint32_t)v->next;
        v->next += n;
        if (n == count)
            return first;
        ext4_give_back(v, first, (uint32_t)n);
    }
}

void ext4_give_back(struct ext4 *v, uint32_t start, uint32_t count) {
    assert(start >= v->first_block);
    struct ext4_run *r = mos_vec_push(&v->gaps);
    *r = (struct ext4_run){start, count};
}

uint64_t ext4_used(const struct ext4 *v) {
    uint64_t used = v->next - v->first_block;
    for (size_t i = 0; i < v->gaps.count; i++)
        used -= ((struct ext4_run *)mos_vec_at(&v->gaps, i))->count;
    for (uint32_t g = 0; g < v->groups; g++)
        if (ext4_group_start(v, g) >= v->next)
            used += ext4_group_reserved(v, g);
    return used;
}
