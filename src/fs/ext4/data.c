#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

_Static_assert(EXT4_PENDING % 4096 == 0, "whole blocks of any size are held back");

void ext4_flush(struct ext4 *v) {
    if (v->pending_length)
        mos_volume_write(&v->base, v->pending, v->pending_length, v->pending_offset);
    v->pending_length = 0;
}

/* Writes a run of blocks; the last may be shorter than a block, the rest of it becomes zero. */
static void put(struct ext4 *v, uint32_t block, const uint8_t *bytes, size_t length) {
    assert(v->pending_length % v->block_size == 0 && v->pending_length <= EXT4_PENDING);
    uint64_t offset = (uint64_t)block * v->block_size;
    size_t padded = (size_t)mos_round_up(length, v->block_size);
    if (!v->base.io || !bytes)
        return;
    if (offset != v->pending_offset + v->pending_length ||
        padded > EXT4_PENDING - v->pending_length)
        ext4_flush(v);
    if (padded == length && length >= EXT4_PENDING / 8) {
        ext4_flush(v);
        mos_volume_write(&v->base, bytes, length, offset);
        return;
    }
    while (length) { /* a run may be longer than the buffer */
        size_t n = (size_t)mos_min(length, EXT4_PENDING),
               whole = (size_t)mos_round_up(n, v->block_size);
        if (!v->pending_length)
            v->pending_offset = offset;
        memcpy(v->pending + v->pending_length, bytes, n);
        memset(v->pending + v->pending_length + n, 0, whole - n);
        v->pending_length += whole;
        bytes += n;
        length -= n;
        offset += whole;
        if (length)
            ext4_flush(v);
    }
}

void ext4_add_blocks(struct ext4 *v, struct mos_inv_node *node, uint32_t logical,
                     const uint8_t *bytes, size_t length) {
    assert(length);
    uint64_t blocks = mos_div_up(length, v->block_size);
    while (blocks) {
        uint32_t count;
        uint32_t first = ext4_take(v, (uint32_t)mos_min(blocks, EXT4_LONGEST_EXTENT), &count);
        assert(count && count <= EXT4_LONGEST_EXTENT);
        mos_inv_extend(v->base.inventory, node,
                       (struct mos_extent){.logical = logical, .length = count, .physical = first},
                       EXT4_LONGEST_EXTENT);
        size_t n = (size_t)mos_min(length, (uint64_t)count * v->block_size);
        put(v, first, bytes, n);
        if (bytes)
            bytes += n;
        length -= n;
        logical += count;
        blocks -= count;
    }
}

/* ---- the sink ---- */

static void give_back_content(struct ext4 *v, struct mos_inv_node *node) {
    if (node->type != MOS_ENTRY_FILE && node->type != MOS_ENTRY_LINK)
        return;
    const struct mos_extent *e = mos_inv_extents(node);
    if (node->extent_count)
        ext4_flush(v);
    for (uint32_t i = 0; i < node->extent_count; i++) {
        ext4_give_back(v, e[i].physical, e[i].length);
        mos_volume_zero(&v->base, (uint64_t)e[i].physical * v->block_size,
                        (uint64_t)e[i].length * v->block_size);
    }
    node->extent_count = 0;
}

static const char *cannot_store(const struct ext4 *v, const struct mos_entry *e) {
    const char *name = strrchr(e->path, '/');
    if (strlen(name ? name + 1 : e->path) > 255)
        return "has a name of more than 255 bytes";
    if (e->type == MOS_ENTRY_LINK && strlen(e->target) >= v->block_size)
        return "is a link whose target is too long";
    if (e->type == MOS_ENTRY_FILE && e->size > (uint64_t)UINT32_MAX * v->block_size)
        return "is larger than ext4 can store";
    if (e->attributes_length && !ext4_attributes_fit(v, e->attributes, e->attributes_length))
        return "has extended attributes that ext4 cannot store";
    if (e->major > 0xfff || e->minor > 0xfffff)
        return "has a device number that ext4 cannot store";
    return NULL;
}

static bool begin_entry(void *self, const struct mos_entry *entry) {
    struct ext4 *v = self;
    const char *reason = cannot_store(v, entry);
    v->mode = MOS_INV_REFUSED;
    if (reason) {
        mos_inv_refuse(v->base.inventory, entry->path, v->base.fill, reason);
        return true;
    }
    v->mode = mos_inv_add(v->base.inventory, entry, v->base.fill, v->base.replaces, &v->current);
    if (v->mode == MOS_INV_REPLACED) {
        give_back_content(v, mos_inv_node(v->base.inventory, v->current));
        v->mode = mos_inv_replace(v->base.inventory, v->current, entry, v->base.fill);
    }
    if (v->mode == MOS_INV_COMPARE) {
        v->entry = *entry;
        v->entry_path.length = 0;
        mos_buf_text(&v->entry_path, entry->path);
        v->entry.path = mos_buf_string(&v->entry_path);
    }
    if (v->mode == MOS_INV_NEW && entry->type == MOS_ENTRY_LINK && strlen(entry->target) >= 60) {
        struct mos_inv_node *node = mos_inv_node(v->base.inventory, v->current);
        uint32_t count;
        node->extent.physical = ext4_take(v, 1, &count); /* `more` keeps the text */
        node->extent.length = node->extent_count = 1;
        put(v, node->extent.physical, (const uint8_t *)entry->target, strlen(entry->target));
    }
    return true;
}

static bool add_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct ext4 *v = self;
    assert(offset % v->block_size == 0);
    if (v->mode == MOS_INV_NEW)
        ext4_add_blocks(v, mos_inv_node(v->base.inventory, v->current),
                        (uint32_t)(offset / v->block_size), bytes, length);
    if (v->base.errnum)
        return mos_fail(v->base.ctx->error, MOS_ERROR_SYSTEM, v->base.errnum,
                        "Cannot write the image");
    return true;
}

static bool end_entry(void *self, uint64_t sum) {
    struct ext4 *v = self;
    if (v->mode == MOS_INV_NEW && v->current) {
        struct mos_inv_node *node = mos_inv_node(v->base.inventory, v->current);
        if (node->type == MOS_ENTRY_FILE)
            node->sum = sum;
    } else if (v->mode == MOS_INV_COMPARE) {
        mos_inv_compare(v->base.inventory, v->current, &v->entry, sum, v->base.fill);
    }
    return true;
}

struct mos_sink ext4_sink(struct mos_volume_base *volume) {
    return (struct mos_sink){volume, begin_entry, add_data, end_entry};
}
