/* Extended attributes ("Extended Attributes"): in the inode's tail while there is room, the rest
 * in a block that inodes with the same attributes share. */
#include "content/attributes.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "fs/ext4/ext4_internal.h"

#include <string.h>

enum {
    MAGIC = (int)0xea020000,
    BLOCK_HEADER = 32,
    ENTRY = 16,
    MOST_SHARING = 1024, /* inodes that one block may serve */
    MOST = 64,           /* attributes of one file */
    TAIL_START = 128 + 32 + 4,
};

/* The start of a name is stored as a number. */
static const struct {
    const char *text;
    uint8_t index;
    bool whole;
} prefixes[] = {
    {"system.posix_acl_access", 2, true},
    {"system.posix_acl_default", 3, true},
    {"user.", 1, false},
    {"trusted.", 4, false},
    {"security.", 6, false},
    {"system.", 7, false},
};

struct attribute {
    uint8_t index;
    const char *name;
    size_t name_length;
    const uint8_t *value;
    size_t value_length;
};

/* Access control lists have a form of their own on disk: version 1, numbers only where needed. */
static void convert_acl(struct mos_arena *arena, struct attribute *a) {
    struct mos_buf b = {.arena = arena};
    mos_buf_add(&b, "\1\0\0", 4);
    for (size_t at = 4; at + 8 <= a->value_length; at += 8) {
        uint16_t tag = mos_le16(a->value + at);
        mos_buf_add(&b, a->value + at, tag == 0x02 || tag == 0x08 ? 8 : 4);
    }
    a->value = (const uint8_t *)b.data;
    a->value_length = b.length;
}

static bool comes_before(const struct attribute *a, const struct attribute *b) {
    if (a->index != b->index)
        return a->index < b->index;
    if (a->name_length != b->name_length)
        return a->name_length < b->name_length;
    return memcmp(a->name, b->name, a->name_length) < 0;
}

/* Unpacks a list into the order of the disk; SIZE_MAX: something cannot be stored. */
static size_t unpack(struct mos_arena *arena, const uint8_t *list, size_t length,
                     struct attribute out[MOST]) {
    struct mos_attribute x;
    size_t count = 0;
    for (size_t at = 0; mos_attribute_next(list, length, &at, &x);) {
        struct attribute a = {0, x.name, x.name_length, x.value, x.value_length};
        for (size_t i = 0; i < sizeof prefixes / sizeof *prefixes && !a.index; i++) {
            size_t n = strlen(prefixes[i].text);
            if (x.name_length < n || memcmp(x.name, prefixes[i].text, n) != 0 ||
                (prefixes[i].whole && x.name_length != n))
                continue;
            a.index = prefixes[i].index;
            a.name += n;
            a.name_length -= n;
            if (prefixes[i].whole)
                convert_acl(arena, &a);
        }
        if (!a.index || a.name_length > 255 || count == MOST)
            return SIZE_MAX;
        size_t at_place = count++;
        for (; at_place && comes_before(&a, &out[at_place - 1]); at_place--)
            out[at_place] = out[at_place - 1];
        out[at_place] = a;
    }
    return count;
}

static uint32_t hash_of(const struct attribute *a) {
    uint32_t hash = 0;
    for (size_t i = 0; i < a->name_length; i++)
        hash = (hash << 5) ^ (hash >> 27) ^ (uint8_t)a->name[i];
    for (size_t i = 0; i < a->value_length; i += 4) {
        uint8_t word[4] = {0};
        memcpy(word, a->value + i, (size_t)mos_min(4, a->value_length - i));
        hash = (hash << 16) ^ (hash >> 16) ^ mos_le32(word);
    }
    return hash;
}

/* An area: entries grow from its front, values from its end, a zero word between them. */
struct area {
    uint8_t *bytes; /* NULL: only the room is counted */
    size_t front, end;
    uint32_t hash;
};

static bool put(struct area *area, const struct attribute *a) {
    size_t entry = (size_t)mos_round_up(ENTRY + a->name_length, 4),
           value = (size_t)mos_round_up(a->value_length, 4);
    if (area->front + entry + 4 + value > area->end)
        return false;
    area->end -= value;
    if (area->bytes) {
        uint8_t *e = area->bytes + area->front;
        uint32_t hash = hash_of(a);
        e[0] = (uint8_t)a->name_length;
        e[1] = a->index;
        mos_put_le16(e + ATTRIBUTE_VALUE_AT, (uint16_t)(a->value_length ? area->end : 0));
        mos_put_le32(e + ATTRIBUTE_VALUE_LENGTH, (uint32_t)a->value_length);
        mos_put_le32(e + ATTRIBUTE_HASH, hash);
        memcpy(e + ENTRY, a->name, a->name_length);
        if (a->value_length)
            memcpy(area->bytes + area->end, a->value, a->value_length);
        area->hash = (area->hash << 16) ^ (area->hash >> 16) ^ hash;
    }
    area->front += entry;
    return true;
}

/* Fills both areas; false when the attributes do not fit.  *outside: how many went to the block. */
static bool distribute(const struct ext4 *v, const uint8_t *list, size_t length, uint8_t *tail,
                       uint8_t *block, size_t *outside, uint32_t *hash) {
    struct attribute all[MOST];
    size_t count = unpack(v->base.ctx->arena, list, length, all);
    struct area inside = {tail, 0, EXT4_INODE_SIZE - TAIL_START, 0};
    struct area more = {block, BLOCK_HEADER, v->block_size, 0};
    *outside = 0;
    if (count == SIZE_MAX)
        return false;
    for (size_t i = 0; i < count; i++) {
        if (put(&inside, &all[i]))
            continue;
        if (!put(&more, &all[i]))
            return false;
        ++*outside;
    }
    *hash = more.hash;
    return true;
}

bool ext4_attributes_fit(const struct ext4 *v, const uint8_t *list, size_t length) {
    size_t outside;
    uint32_t hash;
    return distribute(v, list, length, NULL, NULL, &outside, &hash);
}

static void write_block(struct ext4 *v, uint32_t block, uint8_t *bytes, uint32_t users) {
    uint8_t number[8];
    mos_put_le32(bytes + ATTRIBUTES_USERS, users);
    mos_put_le32(bytes + ATTRIBUTES_SUM, 0);
    mos_put_le64(number, block);
    uint32_t sum = mos_crc32c(mos_crc32c(v->csum_seed, number, 8), bytes, v->block_size);
    mos_put_le32(bytes + ATTRIBUTES_SUM, sum);
    mos_volume_write(&v->base, bytes, v->block_size, (uint64_t)block * v->block_size);
}

void ext4_write_attributes(struct ext4 *v) {
    struct mos_inventory *inv = v->base.inventory;
    if (!inv->attributes.count)
        return;
    for (uint32_t i = 0; i < inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(inv, i);
        if (n->attributes && n->type != MOS_ENTRY_HARD_LINK)
            ((struct mos_inv_attributes *)mos_vec_at(&inv->attributes, n->attributes))->users++;
    }
    uint8_t *block = mos_alloc(v->base.ctx->arena, v->block_size), tail[EXT4_INODE_SIZE];
    for (size_t i = 1; i < inv->attributes.count; i++) {
        struct mos_inv_attributes *a = mos_vec_at(&inv->attributes, i);
        size_t outside;
        uint32_t hash;
        memset(block, 0, v->block_size);
        if (!a->users || !distribute(v, a->list, a->length, tail, block, &outside, &hash) ||
            !outside)
            continue;
        mos_put_le32(block, (uint32_t)MAGIC);
        mos_put_le32(block + ATTRIBUTES_BLOCKS, 1);
        mos_put_le32(block + ATTRIBUTES_HASH, hash);
        a->blocks = (uint32_t)mos_div_up(a->users, MOST_SHARING);
        a->block = ext4_take_row(v, a->blocks);
        for (uint32_t k = 0; k < a->blocks; k++)
            write_block(v, a->block + k, block,
                        (uint32_t)mos_min(MOST_SHARING, a->users - k * MOST_SHARING));
        a->users = 0; /* counted again as inodes take it */
    }
}

uint32_t ext4_put_attributes(const struct ext4 *v, const struct mos_inv_node *n, uint8_t *inode) {
    uint8_t *block = NULL;
    size_t outside;
    uint32_t hash;
    if (!n->attributes)
        return 0;
    struct mos_inv_attributes *a = mos_vec_at(&v->base.inventory->attributes, n->attributes);
    mos_put_le32(inode + TAIL_START - 4, (uint32_t)MAGIC);
    distribute(v, a->list, a->length, inode + TAIL_START, block, &outside, &hash);
    return a->blocks ? a->block + a->users++ / MOST_SHARING : 0;
}

/* ---- reading ---- */

enum { READ_MOST = 256, SHORT_INODE = 128 };

/* The area behind an inode's fields; NULL: it has none. */
static const uint8_t *tail_of(const struct ext4_reader *r, const struct ext4_inode *inode,
                              size_t *length) {
    if (r->inode_size <= SHORT_INODE)
        return NULL;
    size_t start = SHORT_INODE + (size_t)mos_le16(inode->raw + SHORT_INODE);
    if (start + 4 > r->inode_size || mos_le32(inode->raw + start) != (uint32_t)MAGIC)
        return NULL;
    *length = r->inode_size - start - 4;
    return inode->raw + start + 4;
}

/* A list back into the kernel's form. */
static void unconvert_acl(struct mos_buf *b, const uint8_t *value, size_t length) {
    b->length = 0;
    mos_buf_add(b, "\2\0\0", 4);
    for (size_t at = 4; at + 4 <= length;) {
        uint16_t tag = mos_le16(value + at);
        size_t step = tag == 0x02 || tag == 0x08 ? 8 : 4;
        if (step > length - at)
            return;
        mos_buf_add(b, value + at, 4);
        mos_buf_add(b, step == 8 ? value + at + 4 : (const uint8_t *)"\xff\xff\xff\xff", 4);
        at += step;
    }
}

/* Entries from `at` on; values lie at offsets from the area's start. */
static bool take_area(struct ext4_reader *r, const uint8_t *area, size_t length, size_t at,
                      struct mos_attribute_set *set) {
    struct mos_buf name = {.arena = r->ctx->arena}, list = {.arena = r->ctx->arena};
    while (at + 4 <= length && mos_le32(area + at)) {
        if (length - at < ENTRY || set->items.count >= READ_MOST)
            return false;
        const uint8_t *e = area + at;
        size_t n = e[0], offset = mos_le16(e + ATTRIBUTE_VALUE_AT),
               size = mos_le32(e + ATTRIBUTE_VALUE_LENGTH);
        const char *prefix = NULL;
        if (n > length - at - ENTRY || mos_le32(e + ATTRIBUTE_VALUE_INODE) || size > length ||
            offset > length - size)
            return false;
        for (size_t i = 0; i < sizeof prefixes / sizeof *prefixes; i++)
            if (prefixes[i].index == e[1])
                prefix = prefixes[i].text;
        at += (size_t)mos_round_up(ENTRY + n, 4);
        name.length = 0;
        if (!prefix)
            continue;
        mos_buf_text(&name, prefix);
        mos_buf_add(&name, e + ENTRY, n);
        if (strcmp(mos_buf_string(&name), "system.data") == 0)
            continue; /* content, no attribute */
        bool acl = e[1] == 2 || e[1] == 3;
        if (acl)
            unconvert_acl(&list, area + offset, size);
        mos_attribute_add(set, name.data, name.length, acl ? (void *)list.data : area + offset,
                          acl ? list.length : size);
    }
    return true;
}

void ext4_read_attributes(struct ext4_reader *r, const struct ext4_inode *inode,
                          struct mos_buf *out) {
    size_t length;
    const uint8_t *tail = tail_of(r, inode, &length);
    out->length = 0;
    if (!inode->attributes_block && (!tail || !mos_le32(tail)))
        return;
    if (tail && r->last_tail.length == length && r->last_block == inode->attributes_block &&
        memcmp(r->last_tail.data, tail, length) == 0) { /* neighbours often have the same */
        mos_buf_add(out, r->last_list.data, r->last_list.length);
        return;
    }
    if (!r->set.items.arena)
        r->set = mos_attribute_set_make(r->ctx->arena);
    mos_attribute_reset(&r->set);
    bool sound = !tail || take_area(r, tail, length, 0, &r->set);
    if (inode->attributes_block) {
        if (!r->attribute_block)
            r->attribute_block = mos_alloc(r->ctx->arena, r->block_size);
        uint8_t *block = r->attribute_block;
        sound &= ext4_read_block(r, inode->attributes_block, block) &&
                 mos_le32(block) == (uint32_t)MAGIC &&
                 take_area(r, block, r->block_size, BLOCK_HEADER, &r->set);
    }
    if (!sound && r->request)
        mos_volume_problem(r->request, "The extended attributes of inode %u are damaged.",
                           inode->number);
    mos_attribute_pack(&r->set, out);
    r->last_tail.arena = r->last_list.arena = r->ctx->arena;
    r->last_tail.length = r->last_list.length = 0;
    r->last_block = inode->attributes_block;
    mos_buf_add(&r->last_tail, tail ? tail : (const uint8_t *)"", tail ? length : 0);
    mos_buf_add(&r->last_list, mos_buf_string(out), out->length);
}

const uint8_t *ext4_inline_rest(const struct ext4_reader *r, const struct ext4_inode *inode,
                                size_t *length) {
    size_t room;
    const uint8_t *tail = tail_of(r, inode, &room);
    *length = 0;
    for (size_t at = 0; tail && at + ENTRY <= room && mos_le32(tail + at);) {
        const uint8_t *e = tail + at;
        size_t n = e[0], offset = mos_le16(e + ATTRIBUTE_VALUE_AT),
               size = mos_le32(e + ATTRIBUTE_VALUE_LENGTH);
        if (e[1] == 7 && n == 4 && at + ENTRY + 4 <= room && memcmp(e + ENTRY, "data", 4) == 0 &&
            size <= room && offset <= room - size) {
            *length = size;
            return tail + offset;
        }
        at += (size_t)mos_round_up(ENTRY + n, 4);
    }
    return NULL;
}
