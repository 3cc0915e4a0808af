/* Reading squashfs volumes.  Nothing that is read is trusted. */
#include "fs/squashfs/squashfs_internal.h"

#include "base/bytes.h"

#include <string.h>

enum { BUDGET_FACTOR = 4096, BUDGET_LEAST = 64 << 20, MOST_VALUE = 64 << 10 };

/* ---- the superblock ---- */

static bool table_is_inside(const struct sq_reader *r, uint64_t at) {
    return at >= SQ_SUPER_SIZE && at < r->used;
}

/* *why: NULL: it is no squashfs at all. */
static bool parse(struct sq_reader *r, const uint8_t *s, struct mos_arena *arena,
                  const char **why) {
    unsigned compression = mos_le16(s + SQ_SUPER_COMPRESSION),
             version = mos_le16(s + SQ_SUPER_MAJOR);
    *why = NULL;
    if (mos_le32(s + SQ_SUPER_MAGIC) != SQ_MAGIC)
        return false;
    r->inodes = mos_le32(s + SQ_SUPER_INODES);
    r->block_size = mos_le32(s + SQ_SUPER_BLOCK);
    r->fragments = mos_le32(s + SQ_SUPER_FRAGMENTS);
    r->owners = mos_le16(s + SQ_SUPER_OWNERS);
    r->root = mos_le64(s + SQ_SUPER_ROOT);
    r->used = mos_le64(s + SQ_SUPER_USED);
    r->owner_table = mos_le64(s + SQ_SUPER_OWNER_TABLE);
    r->attribute_table = mos_le64(s + SQ_SUPER_ATTRIBUTE_TABLE);
    r->inode_table = mos_le64(s + SQ_SUPER_INODE_TABLE);
    r->folder_table = mos_le64(s + SQ_SUPER_FOLDER_TABLE);
    r->fragment_table = mos_le64(s + SQ_SUPER_FRAGMENT_TABLE);
    r->codec = sq_codec_with(compression);
    r->foreign = version != 4 || mos_le16(s + SQ_SUPER_MINOR) || !r->codec;
    if (version != 4 || mos_le16(s + SQ_SUPER_MINOR))
        *why = mos_printf(arena, "It is of version %u.%u; 4.0 is read here.", version,
                          mos_le16(s + SQ_SUPER_MINOR));
    else if (!r->codec)
        *why = mos_printf(arena, "It is compressed in a way (number %u) that is not read here.",
                          compression);
    else if (!mos_is_power_of_two(r->block_size) || r->block_size < SQ_LEAST_BLOCK ||
             r->block_size > SQ_MOST_BLOCK ||
             1u << mos_min(mos_le16(s + SQ_SUPER_BLOCK_LOG), 31) != r->block_size)
        *why = "Its superblock is damaged: no such size of blocks.";
    else if (!table_is_inside(r, r->inode_table) || r->folder_table < r->inode_table ||
             !table_is_inside(r, r->folder_table) || !table_is_inside(r, r->owner_table))
        *why = "Its superblock is damaged: tables lie outside of it.";
    return !*why;
}

/* *size: of the volume, as far as it is known. */
static bool load_super(struct sq_reader *r, struct mos_io *io, struct mos_arena *arena,
                       const char **why) {
    uint8_t s[SQ_SUPER_SIZE];
    *why = NULL;
    if (io->size < sizeof s || mos_io_read(io, s, sizeof s, 0) || !parse(r, s, arena, why))
        return false;
    if (r->used > io->size) {
        *why = mos_printf(arena, "It is cut off: %llu of %llu bytes are there.",
                          (unsigned long long)io->size, (unsigned long long)r->used);
        return false;
    }
    return true;
}

/* ---- metadata ---- */

static bool expand(struct sq_reader *r, const uint8_t *from, size_t packed, uint8_t *to,
                   size_t *length) {
    if (*length > r->budget)
        return false;
    if (!r->codec->decode(from, packed, to, length))
        return false;
    r->budget -= *length;
    return true;
}

/* The block at `start`; NULL: damaged. */
static const struct sq_cached *metadata_block(struct sq_reader *r, uint64_t start) {
    struct sq_cached *c = &r->cache[(start ^ start >> 13) % SQ_CACHE];
    uint8_t head[2], packed[SQ_METADATA];
    if (c->bytes && c->start == start)
        return c;
    if (start < SQ_SUPER_SIZE || start > r->used || r->used - start < sizeof head ||
        mos_io_read(r->io, head, sizeof head, start))
        return NULL;
    size_t n = mos_le16(head) & (SQ_STORED - 1), length = SQ_METADATA;
    bool stored = mos_le16(head) & SQ_STORED;
    if (!c->bytes)
        c->bytes = mos_alloc(r->ctx->arena, SQ_METADATA);
    c->start = SQ_NO_TABLE;
    if (!n || n > SQ_METADATA || n > r->used - start - sizeof head ||
        mos_io_read(r->io, stored ? c->bytes : packed, n, start + sizeof head))
        return NULL;
    if (!stored && !expand(r, packed, n, c->bytes, &length))
        return NULL;
    c->start = start;
    c->next = start + sizeof head + n;
    c->length = stored ? n : length;
    return c;
}

bool sq_metadata(struct sq_reader *r, uint64_t *block, uint32_t *offset, void *to, size_t length) {
    uint8_t *out = to;
    while (length) {
        const struct sq_cached *c = metadata_block(r, *block);
        if (!c || *offset > c->length || (*offset == c->length && c->length < SQ_METADATA))
            return false;
        size_t n = mos_min(length, c->length - *offset);
        memcpy(out, c->bytes + *offset, n);
        out += n;
        length -= n;
        *offset += (uint32_t)n;
        if (*offset == SQ_METADATA) {
            *block = c->next;
            *offset = 0;
        }
    }
    return true;
}

/* Entry `number`, of `size` bytes, of a table whose blocks are listed at `index`. */
static bool indexed(struct sq_reader *r, uint64_t index, uint64_t number, void *to, size_t size) {
    uint8_t pointer[8];
    uint64_t at = number * size, slot = index + at / SQ_METADATA * sizeof pointer;
    uint32_t offset = (uint32_t)(at % SQ_METADATA);
    if (slot < index || slot > r->used || r->used - slot < sizeof pointer ||
        mos_io_read(r->io, pointer, sizeof pointer, slot))
        return false;
    uint64_t block = mos_le64(pointer);
    return sq_metadata(r, &block, &offset, to, size);
}

static bool owner(struct sq_reader *r, unsigned number, uint32_t *out) {
    uint8_t id[4];
    if (number >= r->owners || !indexed(r, r->owner_table, number, id, sizeof id))
        return false;
    *out = mos_le32(id);
    return true;
}

/* ---- inodes ---- */

static void read_folder(const uint8_t *p, bool wide, struct sq_inode *i) {
    if (wide) {
        i->links = mos_le32(p + SQ_WIDE_FOLDER_LINKS);
        i->size = mos_le32(p + SQ_WIDE_FOLDER_BYTES);
        i->start = mos_le32(p + SQ_WIDE_FOLDER_BLOCK);
        i->offset = mos_le16(p + SQ_WIDE_FOLDER_OFFSET);
        i->attributes = mos_le32(p + SQ_WIDE_FOLDER_ATTRIBUTES);
        return;
    }
    i->links = mos_le32(p + SQ_FOLDER_LINKS);
    i->size = mos_le16(p + SQ_FOLDER_BYTES);
    i->start = mos_le32(p + SQ_FOLDER_BLOCK);
    i->offset = mos_le16(p + SQ_FOLDER_OFFSET);
}

static void read_file(const uint8_t *p, bool wide, struct sq_inode *i) {
    if (wide) {
        i->start = mos_le64(p + SQ_WIDE_FILE_BLOCK);
        i->size = mos_le64(p + SQ_WIDE_FILE_BYTES);
        i->links = mos_le32(p + SQ_WIDE_FILE_LINKS);
        i->fragment = mos_le32(p + SQ_WIDE_FILE_FRAGMENT);
        i->offset = mos_le32(p + SQ_WIDE_FILE_OFFSET);
        i->attributes = mos_le32(p + SQ_WIDE_FILE_ATTRIBUTES);
        return;
    }
    i->links = 1;
    i->start = mos_le32(p + SQ_FILE_BLOCK);
    i->size = mos_le32(p + SQ_FILE_BYTES);
    i->fragment = mos_le32(p + SQ_FILE_FRAGMENT);
    i->offset = mos_le32(p + SQ_FILE_OFFSET);
}

static void read_device(const uint8_t *p, struct sq_inode *i) {
    i->device = mos_le32(p + SQ_DEVICE_NUMBER);
}

static const struct {
    size_t size, wide_size;
} forms[] = {[SQ_FOLDER] = {SQ_FOLDER_SIZE, SQ_WIDE_FOLDER_SIZE},
             [SQ_FILE] = {SQ_FILE_SIZE, SQ_WIDE_FILE_SIZE},
             [SQ_LINK] = {SQ_OTHER_WIDE, SQ_OTHER_WIDE},
             [SQ_BLOCK] = {SQ_OTHER_WIDE, SQ_OTHER_WIDE + 4},
             [SQ_CHAR] = {SQ_OTHER_WIDE, SQ_OTHER_WIDE + 4},
             [SQ_FIFO] = {SQ_OTHER_SIZE, SQ_OTHER_SIZE + 4},
             [SQ_SOCKET] = {SQ_OTHER_SIZE, SQ_OTHER_SIZE + 4}};

/* A link's number of attributes stands behind its text. */
static bool read_link(struct sq_reader *r, const uint8_t *p, bool wide, struct sq_inode *i) {
    uint8_t skipped[SQ_LONGEST_LINK + 1], list[4];
    uint64_t block = i->after;
    uint32_t offset = i->after_offset;
    i->size = mos_le32(p + SQ_LINK_BYTES);
    if (i->size > SQ_LONGEST_LINK)
        return false;
    if (!wide)
        return true;
    if (!sq_metadata(r, &block, &offset, skipped, (size_t)i->size) ||
        !sq_metadata(r, &block, &offset, list, sizeof list))
        return false;
    i->attributes = mos_le32(list);
    return true;
}

bool sq_inode(struct sq_reader *r, uint64_t reference, struct sq_inode *i) {
    uint8_t p[SQ_WIDE_FILE_SIZE];
    uint64_t block = reference >> 16;
    uint32_t offset = (uint32_t)(reference & 0xffff);
    if (block > r->used - r->inode_table)
        return false;
    block += r->inode_table;
    *i = (struct sq_inode){.fragment = SQ_NONE, .attributes = SQ_NONE};
    if (!sq_metadata(r, &block, &offset, p, SQ_INODE_HEAD))
        return false;
    unsigned type = mos_le16(p + SQ_INODE_TYPE);
    bool wide = type > SQ_EXTENDED;
    type -= wide ? SQ_EXTENDED : 0;
    if (!type || type > SQ_SOCKET)
        return false;
    size_t size = wide ? forms[type].wide_size : forms[type].size;
    if (!sq_metadata(r, &block, &offset, p + SQ_INODE_HEAD, size - SQ_INODE_HEAD) ||
        !owner(r, mos_le16(p + SQ_INODE_USER), &i->uid) ||
        !owner(r, mos_le16(p + SQ_INODE_GROUP), &i->gid))
        return false;
    i->type = (uint8_t)type;
    i->mode = mos_le16(p + SQ_INODE_MODE) & 07777;
    i->mtime = mos_le32(p + SQ_INODE_TIME);
    i->number = mos_le32(p + SQ_INODE_NUMBER);
    i->after = block;
    i->after_offset = offset;
    if (type == SQ_FOLDER) {
        read_folder(p, wide, i);
    } else if (type == SQ_FILE) {
        read_file(p, wide, i);
    } else {
        i->links = mos_le32(p + SQ_OTHER_LINKS);
        if (wide && type != SQ_LINK)
            i->attributes = mos_le32(p + size - 4);
        if (type == SQ_BLOCK || type == SQ_CHAR)
            read_device(p, i);
        if (type == SQ_LINK)
            return read_link(r, p, wide, i);
    }
    return true;
}

/* ---- data ---- */

/* A block of the data area into `to`, which has room for block_size bytes.  0: damaged. */
static size_t block_into(struct sq_reader *r, uint64_t at, uint32_t size, uint8_t *to) {
    size_t n = size & (SQ_STORED_DATA - 1), length = r->block_size;
    bool stored = size & SQ_STORED_DATA;
    if (size & ~(uint32_t)(SQ_STORED_DATA | (SQ_STORED_DATA - 1)) || !n || n > r->block_size ||
        at < SQ_SUPER_SIZE || at > r->used || n > r->used - at)
        return 0;
    if (stored) {
        if (n > r->budget)
            return 0;
        r->budget -= n;
        return mos_io_read(r->io, to, n, at) ? 0 : n;
    }
    return mos_io_read(r->io, r->packed, n, at) || !expand(r, r->packed, n, to, &length) ? 0
                                                                                         : length;
}

size_t sq_data(struct sq_reader *r, uint64_t at, uint32_t size) {
    return block_into(r, at, size, r->block);
}

const struct sq_cached *sq_fragment(struct sq_reader *r, uint32_t number) {
    uint8_t x[SQ_FRAGMENT_SIZE];
    if (number >= r->fragments || !indexed(r, r->fragment_table, number, x, sizeof x))
        return NULL;
    uint64_t at = mos_le64(x + SQ_FRAGMENT_BLOCK);
    if (r->tail.bytes && r->tail.start == at)
        return &r->tail;
    if (!r->tail.bytes)
        r->tail.bytes = mos_alloc(r->ctx->arena, r->block_size);
    r->tail.start = SQ_NO_TABLE;
    r->tail.length = block_into(r, at, mos_le32(x + SQ_FRAGMENT_BYTES), r->tail.bytes);
    if (!r->tail.length)
        return NULL;
    r->tail.start = at;
    return &r->tail;
}

/* ---- attributes ---- */

/* One name and value; *block and *offset go on behind it. */
static bool attribute(struct sq_reader *r, uint64_t *block, uint32_t *offset, struct mos_buf *name,
                      struct mos_buf *value) {
    uint8_t head[SQ_ATTRIBUTE_HEAD], length[4], elsewhere[8];
    char text[SQ_LONGEST_NAME];
    if (!sq_metadata(r, block, offset, head, sizeof head))
        return false;
    unsigned type = mos_le16(head + SQ_ATTRIBUTE_TYPE);
    size_t n = mos_le16(head + SQ_ATTRIBUTE_LENGTH);
    size_t prefix = type & ~(unsigned)SQ_ATTRIBUTE_ELSEWHERE;
    if (prefix > 2 || n > sizeof text || !sq_metadata(r, block, offset, text, n) ||
        !sq_metadata(r, block, offset, length, sizeof length))
        return false;
    name->length = value->length = 0;
    mos_buf_text(name, sq_prefixes[prefix]);
    mos_buf_add(name, text, n);
    uint64_t from = *block;
    uint32_t at = *offset;
    if (type & SQ_ATTRIBUTE_ELSEWHERE) { /* eight bytes stand here: where the value is */
        if (mos_le32(length) != sizeof elsewhere ||
            !sq_metadata(r, block, offset, elsewhere, sizeof elsewhere))
            return false;
        uint64_t reference = mos_le64(elsewhere);
        if (reference >> 16 > r->used)
            return false;
        from = r->lists_from + (reference >> 16);
        at = (uint32_t)(reference & 0xffff);
        if (!sq_metadata(r, &from, &at, length, sizeof length))
            return false;
    }
    size_t bytes = mos_le32(length);
    if (bytes > MOST_VALUE)
        return false;
    mos_buf_zeros(value, bytes);
    if (bytes && !sq_metadata(r, &from, &at, value->data, bytes))
        return false;
    if (!(type & SQ_ATTRIBUTE_ELSEWHERE)) {
        *block = from;
        *offset = at;
    }
    return true;
}

bool sq_attributes(struct sq_reader *r, uint32_t list, struct mos_attribute_set *set,
                   struct mos_buf *out) {
    uint8_t x[SQ_LIST_SIZE];
    out->length = 0;
    if (list == SQ_NONE)
        return true;
    if (list >= r->list_count ||
        !indexed(r, r->attribute_table + SQ_ATTRIBUTE_TABLE_SIZE, list, x, sizeof x))
        return false;
    uint64_t reference = mos_le64(x + SQ_LIST_AT);
    if (reference >> 16 > r->used)
        return false;
    uint64_t block = r->lists_from + (reference >> 16);
    uint32_t offset = (uint32_t)(reference & 0xffff);
    mos_attribute_reset(set);
    for (uint32_t i = 0, n = mos_le32(x + SQ_LIST_COUNT); i < n; i++) {
        if (!attribute(r, &block, &offset, &r->name, &r->value))
            return false;
        mos_attribute_add(set, r->name.data, r->name.length, r->value.data, r->value.length);
    }
    mos_attribute_pack(set, out);
    return true;
}

/* ---- opening ---- */

static void open_attributes(struct sq_reader *r) {
    uint8_t head[SQ_ATTRIBUTE_TABLE_SIZE];
    if (r->attribute_table == SQ_NO_TABLE || r->attribute_table > r->used ||
        r->used - r->attribute_table < sizeof head ||
        mos_io_read(r->io, head, sizeof head, r->attribute_table))
        return;
    r->lists_from = mos_le64(head);
    r->list_count = r->lists_from <= r->used ? mos_le32(head + 8) : 0;
}

bool sq_open(struct sq_reader *r, struct mos_ctx *ctx, struct mos_io *io, const char **why) {
    *r = (struct sq_reader){.ctx = ctx, .io = io};
    if (!load_super(r, io, ctx->arena, why)) {
        *why = *why ? *why : "It is no squashfs.";
        return false;
    }
    r->budget = io->size > (UINT64_MAX - BUDGET_LEAST) / BUDGET_FACTOR
                    ? UINT64_MAX
                    : io->size * BUDGET_FACTOR + BUDGET_LEAST;
    r->packed = mos_alloc(ctx->arena, r->block_size);
    r->block = mos_alloc(ctx->arena, r->block_size);
    r->name.arena = r->value.arena = ctx->arena;
    open_attributes(r);
    return true;
}

bool sq_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    struct sq_reader r = {.io = io};
    const char *why;
    bool good = load_super(&r, io, arena, &why);
    if (!good && (!why || r.foreign)) /* recognised by fs/foreign.c, and left as it is */
        return false;
    *out = (struct mos_volume_info){.kind = "squashfs",
                                    .label = "",
                                    .id = "",
                                    .size = mos_round_up(mos_min(r.used, io->size), SQ_PADDING),
                                    .files = good ? r.inodes : 0,
                                    .block_size = good ? r.block_size : 0,
                                    .has_free = good,
                                    .damaged = !good,
                                    .problem = why,
                                    .names = mos_vec_make(arena, sizeof(char *))};
    out->size = mos_min(out->size, io->size);
    return true;
}
