/* What stands behind the data of a squashfs volume: inodes, folders, fragments, the list for
 * network servers, owners, attributes.  All of it is made in memory first. */
#include "fs/squashfs/squashfs_internal.h"

#include "base/bytes.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

/* ---- metadata ---- */

struct sq_table sq_table_make(struct mos_arena *arena, const struct sq_codec *codec,
                              uint32_t block_size) {
    assert(codec && codec->encode);
    return (struct sq_table){.codec = codec,
                             .block_size = block_size,
                             .packed = {.arena = arena},
                             .starts = mos_vec_make(arena, sizeof(uint64_t))};
}

static void close_block(struct sq_table *t) {
    uint8_t packed[SQ_METADATA], head[2];
    if (!t->filled)
        return;
    size_t n = t->codec->encode(t->block, t->filled, packed, t->filled - 1, t->block_size);
    assert(n < t->filled);
    *(uint64_t *)mos_vec_push(&t->starts) = t->packed.length;
    mos_put_le16(head, (uint16_t)(n ? n : t->filled | SQ_STORED));
    mos_buf_add(&t->packed, head, sizeof head);
    mos_buf_add(&t->packed, n ? packed : t->block, n ? n : t->filled);
    t->filled = 0;
}

void sq_table_add(struct sq_table *t, const void *bytes, size_t length) {
    assert(t->filled < SQ_METADATA);
    const uint8_t *p = bytes;
    while (length) {
        size_t n = mos_min(length, SQ_METADATA - t->filled);
        memcpy(t->block + t->filled, p, n);
        t->filled += n;
        p += n;
        length -= n;
        if (t->filled == SQ_METADATA)
            close_block(t);
    }
}

uint64_t sq_table_at(struct sq_table *t) {
    assert(t->filled < SQ_METADATA);
    return (uint64_t)t->packed.length << 16 | t->filled;
}

void sq_table_end(struct sq_table *t) {
    close_block(t);
}

/* ---- the tables together ---- */

/* A name in its folder, in order of bytes. */
struct child {
    const char *name;
    uint32_t index; /* of the inventory; of what a hard link names */
};

struct making {
    struct sq_writer *v;
    const struct mos_inventory *inv;
    struct sq_table inodes, folders;
    uint64_t *references; /* of inodes, by number less one */
    uint32_t *numbers;    /* of inodes, by inventory index */
    uint32_t next_number;
    uint32_t *lists; /* of attributes: the number on the volume, by the inventory's */
    uint32_t list_count;
    struct mos_vec owners; /* of uint32_t */
    struct mos_map known;  /* owner in text -> its place in `owners`, plus one */
    uint32_t last_owner, last_number;
    struct mos_buf scratch;
};

/* At most SQ_MOST_OWNERS: finish() refuses what is more. */
static uint16_t owner_number(struct making *m, uint32_t id) {
    if (m->owners.count && m->last_owner == id)
        return (uint16_t)m->last_number;
    const char *text = mos_printf(m->v->base.ctx->arena, "%u", id);
    uintptr_t place = (uintptr_t)mos_map_get(&m->known, text);
    if (!place) {
        *(uint32_t *)mos_vec_push(&m->owners) = id;
        place = m->owners.count;
        mos_map_set(&m->known, text, (void *)place);
    }
    m->last_owner = id;
    m->last_number = (uint32_t)place - 1;
    return (uint16_t)(place - 1);
}

static uint32_t type_of(const struct mos_inv_node *n) {
    static const uint8_t types[] = {
        [MOS_ENTRY_FILE] = SQ_FILE,    [MOS_ENTRY_FOLDER] = SQ_FOLDER, [MOS_ENTRY_LINK] = SQ_LINK,
        [MOS_ENTRY_CHAR] = SQ_CHAR,    [MOS_ENTRY_BLOCK] = SQ_BLOCK,   [MOS_ENTRY_FIFO] = SQ_FIFO,
        [MOS_ENTRY_SOCKET] = SQ_SOCKET};
    assert(n->type != MOS_ENTRY_HARD_LINK);
    return types[n->type];
}

/* Which of the volume's lists of attributes an inode has. */
static uint32_t list_of(const struct making *m, const struct mos_inv_node *n) {
    return n->attributes ? m->lists[n->attributes] : SQ_NONE;
}

static void put_head(struct making *m, uint8_t *p, const struct mos_inv_node *n, bool wide,
                     uint32_t number) {
    int64_t time = n->mtime < 0 ? 0 : n->mtime > UINT32_MAX ? UINT32_MAX : n->mtime;
    mos_put_le16(p + SQ_INODE_TYPE, (uint16_t)(type_of(n) + (wide ? SQ_EXTENDED : 0)));
    mos_put_le16(p + SQ_INODE_MODE, n->mode);
    mos_put_le16(p + SQ_INODE_USER, owner_number(m, n->uid));
    mos_put_le16(p + SQ_INODE_GROUP, owner_number(m, n->gid));
    mos_put_le32(p + SQ_INODE_TIME, (uint32_t)time);
    mos_put_le32(p + SQ_INODE_NUMBER, number);
}

static void put_inode(struct making *m, uint32_t number, const void *bytes, size_t length) {
    assert(number && length);
    m->references[number - 1] = sq_table_at(&m->inodes);
    sq_table_add(&m->inodes, bytes, length);
}

/* ---- files ---- */

static uint64_t holes_of(const struct sq_writer *v, const struct sq_content *c, uint64_t size) {
    uint64_t holes = 0;
    for (uint32_t i = 0; i < c->count; i++)
        if (!c->blocks[i])
            holes += mos_min(v->block_size, size - (uint64_t)i * v->block_size);
    return holes;
}

static void put_file(struct making *m, uint32_t index, const struct mos_inv_node *n,
                     uint32_t number) {
    uint8_t head[SQ_WIDE_FILE_SIZE];
    const struct sq_content *c = sq_content_of(m->v, index);
    uint64_t holes = holes_of(m->v, c, n->size);
    uint32_t list = list_of(m, n);
    bool wide =
        n->links > 1 || holes || list != SQ_NONE || n->size > UINT32_MAX || c->start > UINT32_MAX;
    put_head(m, head, n, wide, number);
    if (wide) {
        mos_put_le64(head + SQ_WIDE_FILE_BLOCK, c->start);
        mos_put_le64(head + SQ_WIDE_FILE_BYTES, n->size);
        mos_put_le64(head + SQ_WIDE_FILE_SPARSE, holes);
        mos_put_le32(head + SQ_WIDE_FILE_LINKS, n->links);
        mos_put_le32(head + SQ_WIDE_FILE_FRAGMENT, c->fragment);
        mos_put_le32(head + SQ_WIDE_FILE_OFFSET, c->offset);
        mos_put_le32(head + SQ_WIDE_FILE_ATTRIBUTES, list);
    } else {
        mos_put_le32(head + SQ_FILE_BLOCK, (uint32_t)c->start);
        mos_put_le32(head + SQ_FILE_FRAGMENT, c->fragment);
        mos_put_le32(head + SQ_FILE_OFFSET, c->offset);
        mos_put_le32(head + SQ_FILE_BYTES, (uint32_t)n->size);
    }
    put_inode(m, number, head, wide ? SQ_WIDE_FILE_SIZE : SQ_FILE_SIZE);
    for (uint32_t i = 0; i < c->count; i++) {
        uint8_t size[4];
        mos_put_le32(size, c->blocks[i]);
        sq_table_add(&m->inodes, size, sizeof size);
    }
}

/* ---- links, devices, pipes, sockets ---- */

static void put_other(struct making *m, const struct mos_inv_node *n, uint32_t number) {
    assert(n->type != MOS_ENTRY_FILE && n->type != MOS_ENTRY_FOLDER);
    uint32_t list = list_of(m, n), type = type_of(n);
    struct mos_buf *b = &m->scratch;
    uint8_t head[SQ_OTHER_WIDE];
    size_t size = type == SQ_FIFO || type == SQ_SOCKET ? SQ_OTHER_SIZE : SQ_OTHER_WIDE;
    put_head(m, head, n, list != SQ_NONE, number);
    mos_put_le32(head + SQ_OTHER_LINKS, n->links);
    if (type == SQ_LINK)
        mos_put_le32(head + SQ_LINK_BYTES, (uint32_t)strlen(n->more.text));
    else if (size == SQ_OTHER_WIDE) {
        uint32_t major = n->device >> 20, minor = n->device & 0xfffff;
        mos_put_le32(head + SQ_DEVICE_NUMBER, (minor & 0xff) | major << 8 | (minor & ~0xffu) << 12);
    }
    b->length = 0;
    mos_buf_add(b, head, size);
    if (type == SQ_LINK)
        mos_buf_text(b, n->more.text);
    if (list != SQ_NONE) {
        uint8_t tail[4];
        mos_put_le32(tail, list);
        mos_buf_add(b, tail, sizeof tail);
    }
    put_inode(m, number, b->data, b->length);
}

/* ---- folders ---- */

static int by_name(const void *a, const void *b) {
    return strcmp(((const struct child *)a)->name, ((const struct child *)b)->name);
}

/* What a folder's listing is, and where it begins. */
struct listing {
    uint64_t at; /* reference */
    uint32_t bytes, folders;
    struct mos_buf indexes;
    uint16_t index_count;
};

static struct mos_vec children_of(const struct making *m, uint32_t folder) {
    assert(mos_inv_node(m->inv, folder)->type == MOS_ENTRY_FOLDER);
    struct mos_vec all = mos_vec_make(m->v->base.ctx->arena, sizeof(struct child));
    for (uint32_t i = mos_inv_node(m->inv, folder)->first_child; i;
         i = mos_inv_node(m->inv, i)->next) {
        const struct mos_inv_node *n = mos_inv_node(m->inv, i);
        *(struct child *)mos_vec_push(&all) = (struct child){n->name, n->link_to ? n->link_to : i};
    }
    if (all.count)
        qsort(all.items, all.count, sizeof(struct child), by_name);
    return all;
}

/* How many of the names from `from` on may stand behind one head: their inodes are in one block,
 * and their numbers near the first one's. */
static size_t run_length(const struct making *m, const struct mos_vec *all, size_t from) {
    assert(from < all->count);
    const struct child *c = all->items;
    uint32_t first = m->numbers[c[from].index];
    assert(first);
    uint64_t block = m->references[first - 1] >> 16;
    size_t n = 1;
    for (; from + n < all->count && n < SQ_RUN; n++) {
        uint32_t number = m->numbers[c[from + n].index];
        int64_t more = (int64_t)number - first;
        if (m->references[number - 1] >> 16 != block || more > INT16_MAX || more < INT16_MIN)
            break;
    }
    return n;
}

static void add_index(struct making *m, struct listing *l, const char *name) {
    uint8_t x[SQ_INDEX_SIZE];
    size_t length = strlen(name);
    mos_put_le32(x + SQ_INDEX_AT, l->bytes);
    mos_put_le32(x + SQ_INDEX_BLOCK, (uint32_t)(sq_table_at(&m->folders) >> 16));
    mos_put_le32(x + SQ_INDEX_LENGTH, (uint32_t)length - 1);
    mos_buf_add(&l->indexes, x, sizeof x);
    mos_buf_add(&l->indexes, name, length);
    l->index_count++;
}

static void put_entry(struct making *m, struct listing *l, const struct child *c, uint32_t first) {
    uint8_t e[SQ_ENTRY_SIZE];
    size_t length = strlen(c->name);
    uint32_t number = m->numbers[c->index];
    mos_put_le16(e + SQ_ENTRY_OFFSET, (uint16_t)m->references[number - 1]);
    mos_put_le16(e + SQ_ENTRY_NUMBER, (uint16_t)(number - first));
    mos_put_le16(e + SQ_ENTRY_TYPE, (uint16_t)type_of(mos_inv_node(m->inv, c->index)));
    mos_put_le16(e + SQ_ENTRY_LENGTH, (uint16_t)(length - 1));
    sq_table_add(&m->folders, e, sizeof e);
    sq_table_add(&m->folders, c->name, length);
    l->bytes += (uint32_t)(sizeof e + length);
}

static struct listing put_listing(struct making *m, uint32_t folder) {
    struct mos_vec all = children_of(m, folder);
    const struct child *c = all.items;
    struct listing l = {.at = sq_table_at(&m->folders), .indexes.arena = m->v->base.ctx->arena};
    uint64_t indexed = l.at >> 16; /* the last block that an index, or the folder itself, names */
    for (size_t i = 0; i < all.count;) {
        size_t n = run_length(m, &all, i);
        uint32_t first = m->numbers[c[i].index];
        uint8_t head[SQ_HEAD_SIZE];
        uint64_t block = sq_table_at(&m->folders) >> 16;
        if (block != indexed && l.index_count < UINT16_MAX) {
            add_index(m, &l, c[i].name);
            indexed = block;
        }
        mos_put_le32(head + SQ_HEAD_COUNT, (uint32_t)n - 1);
        mos_put_le32(head + SQ_HEAD_BLOCK, (uint32_t)(m->references[first - 1] >> 16));
        mos_put_le32(head + SQ_HEAD_NUMBER, first);
        sq_table_add(&m->folders, head, sizeof head);
        l.bytes += SQ_HEAD_SIZE;
        for (size_t k = 0; k < n; k++) {
            put_entry(m, &l, &c[i + k], first);
            l.folders += type_of(mos_inv_node(m->inv, c[i + k].index)) == SQ_FOLDER;
        }
        i += n;
    }
    return l;
}

static void put_folder(struct making *m, uint32_t index, const struct mos_inv_node *n,
                       uint32_t number) {
    uint8_t head[SQ_WIDE_FOLDER_SIZE];
    struct listing l = put_listing(m, index);
    uint32_t list = list_of(m, n), bytes = l.bytes + 3; /* as if "." and ".." stood there */
    uint32_t parent = index ? m->numbers[n->parent] : m->next_number;
    bool wide = l.index_count || list != SQ_NONE || bytes > UINT16_MAX;
    put_head(m, head, n, wide, number);
    if (!wide) {
        mos_put_le32(head + SQ_FOLDER_BLOCK, (uint32_t)(l.at >> 16));
        mos_put_le32(head + SQ_FOLDER_LINKS, l.folders + 2);
        mos_put_le16(head + SQ_FOLDER_BYTES, (uint16_t)bytes);
        mos_put_le16(head + SQ_FOLDER_OFFSET, (uint16_t)l.at);
        mos_put_le32(head + SQ_FOLDER_PARENT, parent);
        put_inode(m, number, head, SQ_FOLDER_SIZE);
        return;
    }
    mos_put_le32(head + SQ_WIDE_FOLDER_LINKS, l.folders + 2);
    mos_put_le32(head + SQ_WIDE_FOLDER_BYTES, bytes);
    mos_put_le32(head + SQ_WIDE_FOLDER_BLOCK, (uint32_t)(l.at >> 16));
    mos_put_le32(head + SQ_WIDE_FOLDER_PARENT, parent);
    mos_put_le16(head + SQ_WIDE_FOLDER_INDEXES, l.index_count);
    mos_put_le16(head + SQ_WIDE_FOLDER_OFFSET, (uint16_t)l.at);
    mos_put_le32(head + SQ_WIDE_FOLDER_ATTRIBUTES, list);
    put_inode(m, number, head, SQ_WIDE_FOLDER_SIZE);
    sq_table_add(&m->inodes, l.indexes.data, l.indexes.length);
}

/* ---- in order ---- */

/* Numbers are given to folders before what is in them, so that a folder knows its parent's. */
static void give_numbers(struct making *m) {
    for (uint32_t i = 0; i < m->inv->count; i++)
        if (!mos_inv_node(m->inv, i)->link_to)
            m->numbers[i] = m->next_number++;
}

/* Inodes of a folder's entries come before its own, which needs to know where they are: the deepest
 * ones first.  Hard links may lead anywhere, so all that is no folder comes before all folders. */
static void put_inodes(struct making *m) {
    for (uint32_t i = 0; i < m->inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(m->inv, i);
        if (n->link_to || n->type == MOS_ENTRY_FOLDER)
            continue;
        if (n->type == MOS_ENTRY_FILE)
            put_file(m, i, n, m->numbers[i]);
        else
            put_other(m, n, m->numbers[i]);
    }
    for (uint32_t i = m->inv->count; i-- > 0;) { /* what is in a folder is made behind it */
        const struct mos_inv_node *n = mos_inv_node(m->inv, i);
        assert(!i || n->parent < i);
        if (!n->link_to && n->type == MOS_ENTRY_FOLDER)
            put_folder(m, i, n, m->numbers[i]);
    }
}

/* ---- attributes ---- */

const char *const sq_prefixes[] = {"user.", "trusted.", "security.", NULL};

static size_t prefix_of(const struct mos_attribute *a) {
    for (size_t i = 0; sq_prefixes[i]; i++) {
        size_t n = strlen(sq_prefixes[i]);
        if (a->name_length > n && memcmp(a->name, sq_prefixes[i], n) == 0)
            return i;
    }
    return 0;
}

/* All lists that somebody has; `found` gets where each begins. */
static void put_lists(struct making *m, struct sq_table *values, struct sq_table *lists) {
    for (size_t i = 1; i < m->inv->attributes.count; i++) {
        const struct mos_inv_attributes *a = mos_vec_at(&m->inv->attributes, i);
        uint8_t x[SQ_LIST_SIZE];
        struct mos_attribute one;
        uint32_t count = 0, bytes = 0;
        if (m->lists[i] == SQ_NONE)
            continue;
        mos_put_le64(x + SQ_LIST_AT, sq_table_at(values));
        for (size_t at = 0; mos_attribute_next(a->list, a->length, &at, &one); count++) {
            uint8_t head[SQ_ATTRIBUTE_HEAD], length[4];
            size_t type = prefix_of(&one), skip = strlen(sq_prefixes[type]);
            mos_put_le16(head + SQ_ATTRIBUTE_TYPE, (uint16_t)type);
            mos_put_le16(head + SQ_ATTRIBUTE_LENGTH, (uint16_t)(one.name_length - skip));
            mos_put_le32(length, (uint32_t)one.value_length);
            sq_table_add(values, head, sizeof head);
            sq_table_add(values, one.name + skip, one.name_length - skip);
            sq_table_add(values, length, sizeof length);
            sq_table_add(values, one.value, one.value_length);
            bytes += (uint32_t)(one.name_length + 1); /* as a listing of the names has them */
        }
        mos_put_le32(x + SQ_LIST_COUNT, count);
        mos_put_le32(x + SQ_LIST_BYTES, bytes);
        sq_table_add(lists, x, sizeof x);
    }
}

/* Numbers for the lists that a node of the finished tree has, in order of nodes. */
static void number_lists(struct making *m) {
    size_t count = m->inv->attributes.count;
    m->lists = mos_alloc_array(m->v->base.ctx->arena, count + 1, sizeof *m->lists);
    for (size_t i = 0; i < count; i++)
        m->lists[i] = SQ_NONE;
    for (uint32_t i = 0; i < m->inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(m->inv, i);
        if (!n->link_to && n->attributes)
            m->lists[n->attributes] = 0;
    }
    for (size_t i = 1; i < count; i++) /* in the order in which put_lists() comes to them */
        if (m->lists[i] != SQ_NONE)
            m->lists[i] = m->list_count++;
}

/* ---- on the volume ---- */

static uint64_t put(struct sq_writer *v, const void *bytes, size_t length) {
    uint64_t at = v->at;
    if (length)
        mos_volume_write(&v->base, bytes, length, at);
    v->at += length;
    return at;
}

/* The blocks of a table, and behind them where each begins.  Returns where that is. */
static uint64_t put_indexed(struct sq_writer *v, struct sq_table *t) {
    sq_table_end(t);
    uint64_t from = put(v, t->packed.data, t->packed.length), at = v->at;
    for (size_t i = 0; i < t->starts.count; i++) {
        uint8_t x[8];
        mos_put_le64(x, from + *(uint64_t *)mos_vec_at(&t->starts, i));
        put(v, x, sizeof x);
    }
    return at;
}

static uint64_t put_fragments(struct sq_writer *v) {
    struct sq_table t = sq_table_make(v->base.ctx->arena, v->codec, v->block_size);
    for (size_t i = 0; i < v->fragments.count; i++) {
        const struct sq_fragment *f = mos_vec_at(&v->fragments, i);
        uint8_t x[SQ_FRAGMENT_SIZE] = {0};
        mos_put_le64(x + SQ_FRAGMENT_BLOCK, f->start);
        mos_put_le32(x + SQ_FRAGMENT_BYTES, f->size);
        sq_table_add(&t, x, sizeof x);
    }
    return put_indexed(v, &t);
}

static uint64_t put_numbers(struct sq_writer *v, const void *numbers, size_t count, size_t size) {
    struct sq_table t = sq_table_make(v->base.ctx->arena, v->codec, v->block_size);
    for (size_t i = 0; i < count; i++) {
        uint8_t x[8];
        if (size == 8)
            mos_put_le64(x, ((const uint64_t *)numbers)[i]);
        else
            mos_put_le32(x, ((const uint32_t *)numbers)[i]);
        sq_table_add(&t, x, size);
    }
    return put_indexed(v, &t);
}

static uint64_t put_attributes(struct making *m) {
    struct sq_writer *v = m->v;
    struct sq_table values = sq_table_make(v->base.ctx->arena, v->codec, v->block_size),
                    lists = sq_table_make(v->base.ctx->arena, v->codec, v->block_size);
    uint8_t head[SQ_ATTRIBUTE_TABLE_SIZE] = {0};
    if (!m->list_count)
        return SQ_NO_TABLE;
    put_lists(m, &values, &lists);
    sq_table_end(&values);
    sq_table_end(&lists);
    mos_put_le64(head, put(v, values.packed.data, values.packed.length));
    uint64_t from = put(v, lists.packed.data, lists.packed.length);
    mos_put_le32(head + 8, m->list_count);
    uint64_t at = put(v, head, sizeof head);
    for (size_t i = 0; i < lists.starts.count; i++) {
        uint8_t x[8];
        mos_put_le64(x, from + *(uint64_t *)mos_vec_at(&lists.starts, i));
        put(v, x, sizeof x);
    }
    return at;
}

static void put_super(struct making *m, uint8_t *s) {
    const struct sq_writer *v = m->v;
    uint16_t log = 0;
    while ((1u << log) < v->block_size)
        log++;
    int64_t date = v->base.wish.date;
    mos_put_le32(s + SQ_SUPER_MAGIC, SQ_MAGIC);
    mos_put_le32(s + SQ_SUPER_INODES, m->next_number - 1);
    mos_put_le32(s + SQ_SUPER_TIME, (uint32_t)(date < 0 ? 0 : mos_min(date, UINT32_MAX)));
    mos_put_le32(s + SQ_SUPER_BLOCK, v->block_size);
    mos_put_le32(s + SQ_SUPER_FRAGMENTS, (uint32_t)v->fragments.count);
    mos_put_le16(s + SQ_SUPER_COMPRESSION, (uint16_t)v->codec->id);
    mos_put_le16(s + SQ_SUPER_BLOCK_LOG, log);
    mos_put_le16(s + SQ_SUPER_FLAGS,
                 (uint16_t)(SQ_FLAG_EXPORT |
                            (v->fragments.count ? SQ_FLAG_ALWAYS_FRAGMENTS : SQ_FLAG_NO_FRAGMENTS) |
                            (m->list_count ? 0 : SQ_FLAG_NO_ATTRIBUTES)));
    mos_put_le16(s + SQ_SUPER_OWNERS, (uint16_t)m->owners.count);
    mos_put_le16(s + SQ_SUPER_MAJOR, 4);
    mos_put_le64(s + SQ_SUPER_ROOT, m->references[m->numbers[0] - 1]);
}

uint64_t sq_write_tables(struct sq_writer *v) {
    struct mos_arena *arena = v->base.ctx->arena;
    struct making m = {.v = v,
                       .inv = v->base.inventory,
                       .inodes = sq_table_make(arena, v->codec, v->block_size),
                       .folders = sq_table_make(arena, v->codec, v->block_size),
                       .next_number = 1,
                       .owners = mos_vec_make(arena, sizeof(uint32_t)),
                       .known = mos_map_make(arena),
                       .scratch = {.arena = arena}};
    uint8_t super[SQ_SUPER_SIZE] = {0}, zeros[SQ_PADDING] = {0};
    m.numbers = mos_alloc_array(arena, m.inv->count, sizeof *m.numbers);
    m.references = mos_alloc_array(arena, m.inv->count, sizeof *m.references);
    number_lists(&m);
    give_numbers(&m);
    put_inodes(&m);
    sq_table_end(&m.inodes);
    sq_table_end(&m.folders);
    if (m.owners.count > SQ_MOST_OWNERS)
        mos_inv_refuse(v->base.inventory, "", 0, "has files of more than 65535 owners");
    put_super(&m, super);
    mos_put_le64(super + SQ_SUPER_INODE_TABLE,
                 put(v, m.inodes.packed.data, m.inodes.packed.length));
    mos_put_le64(super + SQ_SUPER_FOLDER_TABLE,
                 put(v, m.folders.packed.data, m.folders.packed.length));
    mos_put_le64(super + SQ_SUPER_FRAGMENT_TABLE, put_fragments(v));
    mos_put_le64(super + SQ_SUPER_EXPORT_TABLE,
                 put_numbers(v, m.references, m.next_number - 1, sizeof *m.references));
    mos_put_le64(super + SQ_SUPER_OWNER_TABLE,
                 put_numbers(v, m.owners.items, m.owners.count, sizeof(uint32_t)));
    mos_put_le64(super + SQ_SUPER_ATTRIBUTE_TABLE, put_attributes(&m));
    uint64_t used = v->at;
    mos_put_le64(super + SQ_SUPER_USED, used);
    put(v, zeros, (size_t)(mos_round_up(used, SQ_PADDING) - used));
    mos_volume_write(&v->base, super, sizeof super, 0);
    return used;
}
