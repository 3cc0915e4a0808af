#include "fs/inventory.h"

#include "base/bytes.h"
#include "base/map.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

enum { CHUNK = 1024, MOST_HOPS = 40, ATTRIBUTE_SLOTS = 1024 };
_Static_assert(MOS_ENTRY_SOCKET <= UINT8_MAX, "a node keeps its type in a byte");

struct mos_inv_node *mos_inv_node(const struct mos_inventory *inv, uint32_t index) {
    assert(index < inv->count);
    struct mos_inv_node *chunk = mos_vec_pointer(&inv->chunks, index / CHUNK);
    return &chunk[index % CHUNK];
}

static uint32_t new_node(struct mos_inventory *inv) {
    assert(inv->count < UINT32_MAX);
    if (inv->count % CHUNK == 0)
        mos_vec_push_pointer(&inv->chunks,
                             mos_alloc_array(inv->arena, CHUNK, sizeof(struct mos_inv_node)));
    return inv->count++;
}

struct mos_inventory *mos_inventory_new(struct mos_arena *arena, int64_t date, bool fold_case) {
    struct mos_inventory *inv = mos_alloc(arena, sizeof *inv);
    inv->arena = arena;
    inv->date = date;
    inv->fold_case = fold_case;
    inv->chunks = mos_vec_make(arena, sizeof(void *));
    inv->clashes = mos_vec_make(arena, sizeof(struct mos_inv_clash));
    inv->refusals = mos_vec_make(arena, sizeof(struct mos_inv_refusal));
    inv->attributes = mos_vec_make(arena, sizeof(struct mos_inv_attributes));
    inv->attribute_next = mos_vec_make(arena, sizeof(uint32_t));
    inv->bucket_count = 1024;
    inv->buckets = mos_alloc_array(arena, inv->bucket_count, sizeof *inv->buckets);
    struct mos_inv_node *root = mos_inv_node(inv, (new_node(inv), 0));
    root->name = "";
    root->type = MOS_ENTRY_FOLDER;
    root->mode = 0755;
    root->mtime = date;
    root->links = 1;
    root->implied = true;
    return inv;
}

struct mos_inventory *mos_inventory_copy(struct mos_arena *arena, const struct mos_inventory *of) {
    assert(of->chunks.count == (of->count + CHUNK - 1) / CHUNK);
    struct mos_inventory *inv = mos_alloc(arena, sizeof *inv);
    *inv = *of;
    inv->arena = arena;
    inv->chunks = mos_vec_make(arena, sizeof(void *));
    for (size_t i = 0; i < of->chunks.count; i++) {
        struct mos_inv_node *chunk = mos_alloc_array(arena, CHUNK, sizeof *chunk);
        memcpy(chunk, mos_vec_pointer(&of->chunks, i), CHUNK * sizeof *chunk);
        mos_vec_push_pointer(&inv->chunks, chunk);
    }
    inv->buckets = mos_alloc_array(arena, of->bucket_count, sizeof *inv->buckets);
    memcpy(inv->buckets, of->buckets, of->bucket_count * sizeof *inv->buckets);
    inv->clashes = mos_vec_copy(arena, &of->clashes);
    inv->refusals = mos_vec_copy(arena, &of->refusals);
    inv->attributes = mos_vec_copy(arena, &of->attributes);
    inv->attribute_next = mos_vec_copy(arena, &of->attribute_next);
    if (of->attribute_slots) {
        inv->attribute_slots = mos_alloc_array(arena, ATTRIBUTE_SLOTS, sizeof(uint32_t));
        memcpy(inv->attribute_slots, of->attribute_slots, ATTRIBUTE_SLOTS * sizeof(uint32_t));
    }
    return inv;
}

static uint32_t name_hash(const struct mos_inventory *inv, uint32_t parent, const char *name,
                          size_t length) {
    uint32_t h = 2166136261u ^ parent * 2654435761u;
    for (size_t i = 0; i < length; i++) {
        int c = (unsigned char)name[i];
        h = (h ^ (uint32_t)(inv->fold_case ? tolower(c) : c)) * 16777619u;
    }
    return h ^ h >> 15;
}

static bool same_name(const struct mos_inventory *inv, const char *a, const char *name,
                      size_t length) {
    for (size_t i = 0; i < length; i++) {
        int x = (unsigned char)a[i], y = (unsigned char)name[i];
        if (x != y && !(inv->fold_case && x && tolower(x) == tolower(y)))
            return false;
    }
    return a[length] == 0;
}

static uint32_t child_of(const struct mos_inventory *inv, uint32_t parent, const char *name,
                         size_t length) {
    assert((inv->bucket_count & (inv->bucket_count - 1)) == 0);
    uint32_t h = name_hash(inv, parent, name, length) & (inv->bucket_count - 1);
    for (uint32_t i = inv->buckets[h]; i;) {
        const struct mos_inv_node *n = mos_inv_node(inv, i);
        if (n->parent == parent && same_name(inv, n->name, name, length))
            return i;
        i = n->same_hash;
    }
    return 0;
}

static void hash_in(struct mos_inventory *inv, uint32_t index) {
    assert(index);
    struct mos_inv_node *n = mos_inv_node(inv, index);
    uint32_t h = name_hash(inv, n->parent, n->name, strlen(n->name)) & (inv->bucket_count - 1);
    n->same_hash = inv->buckets[h];
    inv->buckets[h] = index;
}

static uint32_t add_child(struct mos_inventory *inv, uint32_t parent, const char *name,
                          size_t length) {
    assert(mos_inv_node(inv, parent)->type == MOS_ENTRY_FOLDER);
    assert(length);
    if (inv->count >= inv->bucket_count * 2) { /* old buckets stay in the arena: 1/8 of the nodes */
        inv->bucket_count *= 4;
        inv->buckets = mos_alloc_array(inv->arena, inv->bucket_count, sizeof *inv->buckets);
        for (uint32_t i = 1; i < inv->count; i++)
            hash_in(inv, i);
    }
    uint32_t index = new_node(inv);
    struct mos_inv_node *n = mos_inv_node(inv, index), *p = mos_inv_node(inv, parent);
    n->name = mos_strndup(inv->arena, name, length);
    n->parent = parent;
    n->links = 1;
    if (p->last_child)
        mos_inv_node(inv, p->last_child)->next = index;
    else
        p->first_child = index;
    p->last_child = index;
    hash_in(inv, index);
    return index;
}

void mos_inv_refuse(struct mos_inventory *inv, const char *path, uint16_t fill,
                    const char *reason) {
    if (inv->refusal_count++ >= MOS_INV_SHOWN)
        return;
    struct mos_inv_refusal *r = mos_vec_push(&inv->refusals);
    *r = (struct mos_inv_refusal){mos_strdup(inv->arena, path), reason, fill};
}

static void clash(struct mos_inventory *inv, const char *path, uint16_t first, uint16_t second) {
    if (inv->clash_count++ >= MOS_INV_SHOWN)
        return;
    struct mos_inv_clash *c = mos_vec_push(&inv->clashes);
    *c = (struct mos_inv_clash){mos_strdup(inv->arena, path), first, second};
}

/* Walks the folders of a path, following links inside the volume and making what is missing.
 * *last is the final component.  False: something that is no folder is in the way (*blocker). */
static bool walk(struct mos_inventory *inv, uint32_t *folder, const char *path, size_t length,
                 uint16_t fill, unsigned *hops, uint32_t *blocker) {
    assert(*folder < inv->count);
    size_t at = 0;
    while (at < length) {
        size_t n = 0;
        while (at + n < length && path[at + n] != '/')
            n++;
        const char *name = path + at;
        at += n + 1;
        if (n == 0 || (n == 1 && name[0] == '.'))
            continue;
        if (n == 2 && name[0] == '.' && name[1] == '.') {
            *folder = mos_inv_node(inv, *folder)->parent;
            continue;
        }
        uint32_t child = child_of(inv, *folder, name, n);
        if (!child) {
            child = add_child(inv, *folder, name, n);
            struct mos_inv_node *c = mos_inv_node(inv, child);
            c->type = MOS_ENTRY_FOLDER;
            c->mode = 0755;
            c->mtime = inv->date;
            c->fill = fill;
            c->implied = true;
        }
        const struct mos_inv_node *c = mos_inv_node(inv, child);
        if (c->type == MOS_ENTRY_LINK) {
            if (++*hops > MOST_HOPS)
                return *blocker = child, false;
            uint32_t to = c->more.text[0] == '/' ? 0 : *folder;
            if (!walk(inv, &to, c->more.text, strlen(c->more.text), fill, hops, blocker))
                return false;
            child = to;
        } else if (c->type != MOS_ENTRY_FOLDER) {
            return *blocker = child, false;
        }
        *folder = child;
    }
    return true;
}

bool mos_inv_find(const struct mos_inventory *inv, const char *path, uint32_t *index) {
    uint32_t at = 0;
    while (*path) {
        size_t n = strcspn(path, "/");
        if (n && !(at = child_of(inv, at, path, n)))
            return false;
        path += n;
        path += *path == '/';
    }
    *index = at;
    return true;
}

enum { MOST_LINKS = 40 };

static bool follow(const struct mos_inventory *inv, struct mos_arena *arena, const char *path,
                   uint32_t *index, unsigned *links) {
    struct mos_buf way = {.arena = arena}; /* what has been resolved, without a link in it */
    *index = 0;
    for (const char *p = path; *(p += strspn(p, "/"));) {
        size_t n = strcspn(p, "/"), before = way.length;
        const char *rest = p + n;
        if (n == 2 && strncmp(p, "..", 2) == 0) {
            const char *slash = strrchr(mos_buf_string(&way), '/');
            way.length = slash ? (size_t)(slash - way.data) : 0;
        } else if (n > 1 || *p != '.') {
            mos_buf_printf(&way, "%s%.*s", way.length ? "/" : "", (int)n, p);
            if (!mos_inv_find(inv, mos_buf_string(&way), index))
                return false;
            const struct mos_inv_node *node = mos_inv_node(inv, *index);
            if (node->type == MOS_ENTRY_LINK) {
                const char *to = node->more.text;
                if (++*links > MOST_LINKS)
                    return false;
                way.length = before;
                const char *from = *to == '/' ? "" : mos_buf_string(&way);
                return follow(inv, arena, mos_printf(arena, "%s/%s%s", from, to, rest), index,
                              links);
            }
        }
        p = rest;
    }
    return true;
}

bool mos_inv_follow(const struct mos_inventory *inv, struct mos_arena *arena, const char *path,
                    uint32_t *index) {
    unsigned links = 0;
    return follow(inv, arena, path, index, &links);
}

bool mos_inv_has(const struct mos_inventory *inv, struct mos_arena *arena, const char *path) {
    uint32_t index;
    return mos_inv_follow(inv, arena, path, &index) && index;
}

bool mos_inv_is_system(const struct mos_inventory *inv, struct mos_arena *arena) {
    static const char *const folders[] = {"bin", "sbin", "usr/bin", "usr/sbin"};
    uint32_t index;
    for (size_t i = 0; i < sizeof folders / sizeof *folders; i++)
        if (mos_inv_follow(inv, arena, folders[i], &index))
            return true;
    for (uint32_t i = 0; i < inv->count; i++) {
        const struct mos_inv_node *node = mos_inv_node(inv, i);
        if (node->type == MOS_ENTRY_FILE && node->mode & 0111)
            return true;
    }
    return false;
}

/* The number of a list of attributes: equal ones share one. */
static uint32_t attributes_of(struct mos_inventory *inv, const struct mos_entry *e) {
    if (!e->attributes_length)
        return 0;
    if (!inv->attribute_slots) {
        inv->attribute_slots = mos_alloc_array(inv->arena, ATTRIBUTE_SLOTS, sizeof(uint32_t));
        mos_vec_push(&inv->attributes); /* number 0 is nobody's */
        mos_vec_push(&inv->attribute_next);
    }
    uint32_t slot = mos_text_hash((const char *)e->attributes, e->attributes_length) %
                    (uint32_t)ATTRIBUTE_SLOTS;
    for (uint32_t i = inv->attribute_slots[slot]; i;
         i = *(uint32_t *)mos_vec_at(&inv->attribute_next, i)) {
        const struct mos_inv_attributes *a = mos_vec_at(&inv->attributes, i);
        if (a->length == e->attributes_length && memcmp(a->list, e->attributes, a->length) == 0)
            return i;
    }
    uint32_t number = (uint32_t)inv->attributes.count;
    struct mos_inv_attributes *a = mos_vec_push(&inv->attributes);
    uint8_t *copy = mos_alloc(inv->arena, e->attributes_length);
    memcpy(copy, e->attributes, e->attributes_length);
    a->list = copy;
    a->length = e->attributes_length;
    *(uint32_t *)mos_vec_push(&inv->attribute_next) = inv->attribute_slots[slot];
    inv->attribute_slots[slot] = number;
    return number;
}

static void describe(struct mos_inventory *inv, struct mos_inv_node *n, const struct mos_entry *e,
                     uint16_t fill) {
    assert(e->type != MOS_ENTRY_HARD_LINK);
    n->type = (uint8_t)e->type;
    n->mode = e->mode;
    n->uid = (uint32_t)e->uid;
    n->gid = (uint32_t)e->gid;
    n->mtime = e->mtime;
    n->mtime_ns = e->mtime_ns;
    n->size = e->type == MOS_ENTRY_FILE ? e->size : 0;
    n->device = e->major << 20 | (e->minor & 0xfffff);
    n->attributes = attributes_of(inv, e);
    n->fill = fill;
    n->implied = false;
    n->extent_count = 0;
    n->sum = 0;
    n->more.text =
        e->type == MOS_ENTRY_LINK ? mos_strdup(inv->arena, e->target ? e->target : "") : NULL;
}

static enum mos_inv_result meet_folder(struct mos_inventory *inv, uint32_t index,
                                       const struct mos_entry *e, uint16_t fill, bool replaces) {
    struct mos_inv_node *n = mos_inv_node(inv, index);
    if (n->type == MOS_ENTRY_LINK) /* it stays a link; what follows goes where it points */
        return MOS_INV_KEPT;
    if (n->type != MOS_ENTRY_FOLDER) {
        clash(inv, e->path, n->fill, fill);
        return MOS_INV_KEPT;
    }
    if (n->implied || replaces || !index || n->fill == fill) { /* in one archive the last wins */
        n->mode = e->mode;
        n->uid = (uint32_t)e->uid;
        n->gid = (uint32_t)e->gid;
        n->mtime = e->mtime;
        n->mtime_ns = e->mtime_ns;
        n->attributes = attributes_of(inv, e);
        n->fill = fill;
        n->implied = false;
    }
    return MOS_INV_KEPT;
}

static bool same_thing(const struct mos_inv_node *n, const struct mos_entry *e) {
    if (n->type != e->type)
        return false;
    if (e->type == MOS_ENTRY_LINK)
        return strcmp(n->more.text, e->target ? e->target : "") == 0;
    return n->device == (e->major << 20 | (e->minor & 0xfffff));
}

static enum mos_inv_result meet(struct mos_inventory *inv, uint32_t index,
                                const struct mos_entry *e, uint16_t fill, bool replaces) {
    assert(index && index < inv->count);
    if (e->type == MOS_ENTRY_FOLDER)
        return meet_folder(inv, index, e, fill, replaces);
    struct mos_inv_node *n = mos_inv_node(inv, index);
    bool both_files = n->type == MOS_ENTRY_FILE && e->type == MOS_ENTRY_FILE;
    if (n->type == MOS_ENTRY_FOLDER) {
        clash(inv, e->path, n->fill, fill);
        return MOS_INV_KEPT;
    }
    if (replaces || n->fill == fill) { /* inside one archive the later entry wins, as tar does */
        if (n->link_to) {
            mos_inv_node(inv, n->link_to)->links--;
            assert(mos_inv_node(inv, n->link_to)->links);
            n->link_to = 0;
        }
        return MOS_INV_REPLACED;
    }
    if (both_files && n->size == e->size)
        return MOS_INV_COMPARE;
    if (!both_files && e->type != MOS_ENTRY_FILE && same_thing(n, e))
        return MOS_INV_KEPT;
    clash(inv, e->path, n->fill, fill);
    return MOS_INV_KEPT;
}

static enum mos_inv_result add_hard_link(struct mos_inventory *inv, uint32_t index,
                                         const struct mos_entry *e, uint16_t fill) {
    assert(e->target && index);
    uint32_t to = 0, blocker;
    unsigned hops = 0;
    const char *slash = strrchr(e->target, '/');
    size_t folder = slash ? (size_t)(slash - e->target) : 0;
    if (walk(inv, &to, e->target, folder, fill, &hops, &blocker)) {
        const char *name = slash ? slash + 1 : e->target;
        to = child_of(inv, to, name, strlen(name));
    } else {
        to = 0;
    }
    if (to && mos_inv_node(inv, to)->link_to)
        to = mos_inv_node(inv, to)->link_to;
    if (!to || to == index || mos_inv_node(inv, to)->type == MOS_ENTRY_FOLDER) {
        mos_inv_refuse(inv, e->path, fill, "is a hard link to something that is not there");
        return MOS_INV_REFUSED;
    }
    mos_inv_node(inv, index)->type = MOS_ENTRY_HARD_LINK;
    mos_inv_node(inv, index)->link_to = to;
    mos_inv_node(inv, to)->links++;
    return MOS_INV_NEW;
}

static bool is_nobody(uint64_t id) {
    return id >= UINT32_MAX; /* -1 is what changing an owner leaves as it is */
}

enum mos_inv_result mos_inv_add(struct mos_inventory *inv, const struct mos_entry *entry,
                                uint16_t fill, bool replaces, uint32_t *index) {
    if (is_nobody(entry->uid) || is_nobody(entry->gid)) {
        mos_inv_refuse(inv, entry->path, fill, "belongs to a user or group of more than 32 bits");
        return MOS_INV_REFUSED;
    }
    if (!*entry->path) {
        *index = 0;
        return entry->type == MOS_ENTRY_FOLDER ? meet_folder(inv, 0, entry, fill, replaces)
                                               : MOS_INV_KEPT;
    }
    const char *slash = strrchr(entry->path, '/'), *name = slash ? slash + 1 : entry->path;
    uint32_t folder = 0, blocker = 0;
    unsigned hops = 0;
    if (!walk(inv, &folder, entry->path, slash ? (size_t)(slash - entry->path) : 0, fill, &hops,
              &blocker)) {
        clash(inv, entry->path, mos_inv_node(inv, blocker)->fill, fill);
        return MOS_INV_REFUSED;
    }
    uint32_t found = child_of(inv, folder, name, strlen(name));
    enum mos_inv_result result = MOS_INV_NEW;
    if (found && strcmp(mos_inv_node(inv, found)->name, name) != 0) {
        mos_inv_refuse(inv, entry->path, fill, "has the name of another entry but for its case");
        return MOS_INV_REFUSED;
    }
    if (found) {
        result = meet(inv, found, entry, fill, replaces);
    } else if (entry->type == MOS_ENTRY_HARD_LINK && !entry->target) {
        return MOS_INV_REFUSED;
    } else {
        found = add_child(inv, folder, name, strlen(name));
    }
    *index = found;
    return result == MOS_INV_NEW ? mos_inv_replace(inv, found, entry, fill) : result;
}

enum mos_inv_result mos_inv_replace(struct mos_inventory *inv, uint32_t index,
                                    const struct mos_entry *entry, uint16_t fill) {
    assert(index < inv->count);
    if (entry->type == MOS_ENTRY_HARD_LINK) {
        mos_inv_node(inv, index)->fill = fill;
        return add_hard_link(inv, index, entry, fill);
    }
    describe(inv, mos_inv_node(inv, index), entry, fill);
    return MOS_INV_NEW;
}

bool mos_inv_compare(struct mos_inventory *inv, uint32_t index, const struct mos_entry *entry,
                     uint64_t sum, uint16_t fill) {
    assert(index < inv->count);
    const struct mos_inv_node *n = mos_inv_node(inv, index);
    if (n->sum == sum && n->size == entry->size)
        return true;
    clash(inv, entry->path, n->fill, fill);
    return false;
}

static void write_path(const struct mos_inventory *inv, uint32_t index, struct mos_buf *b) {
    if (!index)
        return;
    const struct mos_inv_node *n = mos_inv_node(inv, index);
    write_path(inv, n->parent, b);
    mos_buf_printf(b, "/%s", n->name);
}

const char *mos_inv_path(struct mos_arena *arena, const struct mos_inventory *inv, uint32_t index) {
    struct mos_buf b = {.arena = arena};
    write_path(inv, index, &b);
    return b.length ? mos_buf_string(&b) : "/";
}

const struct mos_extent *mos_inv_extents(const struct mos_inv_node *node) {
    return node->extent_count > 1 ? node->more.extents : &node->extent;
}

void mos_inv_extend(struct mos_inventory *inv, struct mos_inv_node *node, struct mos_extent extent,
                    uint32_t longest) {
    assert(longest && extent.length && extent.length <= longest);
    uint32_t n = node->extent_count;
    struct mos_extent *last = n > 1 ? &node->more.extents[n - 1] : &node->extent;
    if (n && last->logical + last->length == extent.logical &&
        last->physical + last->length == extent.physical && last->length < longest) {
        uint32_t more = (uint32_t)mos_min(longest - last->length, extent.length);
        last->length += more;
        extent.logical += more;
        extent.physical += more;
        extent.length -= more;
        if (!extent.length)
            return;
    }
    if (n == 0) {
        node->extent = extent;
    } else if (n == 1 || (n & (n - 1)) == 0) { /* room for a power of two */
        struct mos_extent *grown = mos_alloc_array(inv->arena, (size_t)n * 2, sizeof *grown);
        memcpy(grown, n == 1 ? &node->extent : node->more.extents, n * sizeof *grown);
        node->more.extents = grown;
    }
    if (n)
        node->more.extents[n] = extent;
    node->extent_count++;
}
