/* Squashfs volumes: what they will hold is settled first, from names alone; then each file that
 * stayed brings its bytes, which are compressed and written from front to back. */
#include "fs/squashfs/squashfs_internal.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

static uint64_t smallest(uint32_t sector) {
    (void)sector;
    return SQ_PADDING;
}

static struct sq_writer *make(struct mos_ctx *ctx, const struct mos_volume_wish *wish) {
    struct sq_writer *v = mos_alloc(ctx->arena, sizeof *v);
    v->base = (struct mos_volume_base){.driver = &mos_fs_squashfs, .ctx = ctx, .wish = *wish};
    v->codec = sq_codec_named(wish->compress);
    v->block_size = wish->unit ? wish->unit : SQ_USUAL_BLOCK;
    v->at = SQ_SUPER_SIZE;
    v->contents = mos_vec_make(ctx->arena, sizeof(struct sq_content));
    v->fragments = mos_vec_make(ctx->arena, sizeof(struct sq_fragment));
    v->kept = mos_map_make(ctx->arena);
    v->path.arena = ctx->arena;
    return v;
}

static struct mos_volume_base *begin(struct mos_ctx *ctx, struct mos_io *io,
                                     const struct mos_volume_wish *wish) {
    struct sq_writer *v = make(ctx, wish);
    v->base.io = io;
    v->base.inventory = mos_inventory_new(ctx->arena, wish->date, false);
    return &v->base;
}

static struct mos_volume_base *copy(struct mos_ctx *ctx, const struct mos_volume_base *of,
                                    const struct mos_volume_wish *wish) {
    const struct sq_writer *from = (const struct sq_writer *)of;
    struct sq_writer *v = make(ctx, wish);
    assert(!of->io && !from->second);
    v->base.inventory = mos_inventory_copy(ctx->arena, of->inventory);
    v->contents = mos_vec_copy(ctx->arena, &from->contents);
    for (size_t i = 0; i < from->kept.count; i++)
        mos_map_set(&v->kept, from->kept.items[i].key, from->kept.items[i].value);
    return &v->base;
}

/* ---- the first coming: names ---- */

static const char *foreign_attribute(const struct mos_entry *e) {
    struct mos_attribute a;
    for (size_t at = 0; mos_attribute_next(e->attributes, e->attributes_length, &at, &a);) {
        size_t i = 0;
        while (sq_prefixes[i] && (a.name_length <= strlen(sq_prefixes[i]) ||
                                  memcmp(a.name, sq_prefixes[i], strlen(sq_prefixes[i])) != 0))
            i++;
        if (!sq_prefixes[i])
            return "has access control lists, or other attributes outside of user., trusted. and "
                   "security.";
    }
    return NULL;
}

/* Why an entry cannot be stored; NULL: it can. */
static const char *unfit(const struct mos_entry *e) {
    const char *slash = strrchr(e->path, '/');
    if (strlen(slash ? slash + 1 : e->path) >= SQ_LONGEST_NAME)
        return "has a name of more than 255 bytes";
    if (e->type == MOS_ENTRY_LINK && e->target && strlen(e->target) > SQ_LONGEST_LINK)
        return "is a link to a path that is too long";
    return foreign_attribute(e);
}

static const char *key_of(struct sq_writer *v, uint32_t index) {
    return mos_printf(v->base.ctx->arena, "%u", index);
}

static void settle_entry(struct sq_writer *v, const struct mos_entry *e) {
    assert(e->path);
    struct mos_inventory *inv = v->base.inventory;
    v->mode = mos_inv_add(inv, e, v->base.fill, v->base.replaces, &v->current);
    if (v->mode == MOS_INV_REPLACED) {
        const struct mos_inv_node *old = mos_inv_node(inv, v->current);
        struct sq_content *c = sq_content_of(v, v->current);
        bool again = old->type == MOS_ENTRY_FILE && old->fill == v->base.fill;
        c->passed = again ? c->passed + 1 : 0;
        if (mos_map_get(&v->kept, key_of(v, v->current)))
            mos_map_set(&v->kept, key_of(v, v->current), NULL);
        v->mode = mos_inv_replace(inv, v->current, e, v->base.fill);
    }
    if (v->mode == MOS_INV_NEW && e->type == MOS_ENTRY_FILE && v->base.once) {
        struct sq_kept *k = mos_alloc(v->base.ctx->arena, sizeof *k);
        k->bytes = e->size ? mos_alloc(v->base.ctx->arena, (size_t)e->size) : NULL;
        k->length = (size_t)e->size;
        mos_map_set(&v->kept, key_of(v, v->current), k);
        v->keeping = k;
    }
}

/* ---- the second coming: bytes ---- */

/* The node that an entry of the first coming led to. */
static bool find_again(struct sq_writer *v, const char *path, uint32_t *index) {
    const struct mos_inventory *inv = v->base.inventory;
    struct mos_arena *arena = v->base.ctx->arena;
    const char *slash = strrchr(path, '/');
    uint32_t folder;
    if (mos_inv_find(inv, path, index))
        return true;
    if (!slash ||
        !mos_inv_follow(inv, arena, mos_strndup(arena, path, (size_t)(slash - path)), &folder))
        return false;
    return mos_inv_find(
        inv, mos_printf(arena, "%s/%s", mos_inv_path(arena, inv, folder) + 1, slash + 1), index);
}

static void take_entry(struct sq_writer *v, const struct mos_entry *e) {
    v->taking = false;
    if (e->type != MOS_ENTRY_FILE || !find_again(v, e->path, &v->current))
        return;
    const struct mos_inv_node *n = mos_inv_node(v->base.inventory, v->current);
    struct sq_content *c = sq_content_of(v, v->current);
    if (n->type != MOS_ENTRY_FILE || n->fill != v->base.fill || c->done)
        return;
    if (c->passed) {
        c->passed--; /* a later one of the same name has taken its place */
        return;
    }
    if (n->size != e->size) /* complete() tells it */
        return;
    v->taking = true;
    sq_pipe_begin(v->pipe, v->current, n->size);
}

/* ---- the sink ---- */

static bool begin_entry(void *self, const struct mos_entry *entry) {
    struct sq_writer *v = self;
    const char *reason;
    if (v->second) {
        take_entry(v, entry);
        return true;
    }
    v->keeping = NULL;
    v->mode = MOS_INV_REFUSED;
    if ((reason = unfit(entry))) {
        mos_inv_refuse(v->base.inventory, entry->path, v->base.fill, reason);
        return true;
    }
    settle_entry(v, entry);
    v->entry = *entry;
    v->path.length = 0;
    mos_buf_text(&v->path, entry->path);
    v->entry.path = mos_buf_string(&v->path);
    return true;
}

static bool add_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct sq_writer *v = self;
    assert(!v->second || !v->keeping);
    if (v->keeping && bytes && offset <= v->keeping->length &&
        length <= v->keeping->length - offset)
        memcpy(v->keeping->bytes + offset, bytes, length);
    if (v->second && v->taking)
        sq_pipe_data(v->pipe, offset, bytes, length);
    if (v->base.errnum)
        return mos_fail(v->base.ctx->error, MOS_ERROR_SYSTEM, v->base.errnum,
                        "Cannot write the image");
    return true;
}

static bool changed(struct sq_writer *v, uint32_t index) {
    assert(index < v->base.inventory->count);
    return mos_fail(v->base.ctx->error, MOS_ERROR_SYSTEM, 0,
                    "%s was not the same when it was read for the second time",
                    mos_inv_path(v->base.ctx->arena, v->base.inventory, index));
}

static bool end_entry(void *self, uint64_t sum) {
    struct sq_writer *v = self;
    if (v->second) {
        if (!v->taking)
            return true;
        v->taking = false;
        sq_pipe_end(v->pipe);
        return mos_inv_node(v->base.inventory, v->current)->sum == sum || changed(v, v->current);
    }
    v->keeping = NULL;
    if (v->mode == MOS_INV_COMPARE)
        mos_inv_compare(v->base.inventory, v->current, &v->entry, sum, v->base.fill);
    else if (v->mode == MOS_INV_NEW && v->entry.type == MOS_ENTRY_FILE)
        mos_inv_node(v->base.inventory, v->current)->sum = sum;
    return true;
}

static struct mos_sink sink(struct mos_volume_base *volume) {
    return (struct mos_sink){volume, begin_entry, add_data, end_entry};
}

static struct mos_sink contents(struct mos_volume_base *volume) {
    struct sq_writer *v = (struct sq_writer *)volume;
    assert(!v->second);
    v->second = true;
    v->pipe = sq_pipe_new(v);
    return sink(volume);
}

/* ---- the end ---- */

/* Everything that the size of a volume hangs on. */
static bool digest(const struct mos_volume_base *volume, uint8_t key[MOS_SHA256_SIZE]) {
    const struct sq_writer *v = (const struct sq_writer *)volume;
    const struct mos_inventory *inv = volume->inventory;
    struct mos_sha256 *hash = mos_sha256_new();
    struct mos_buf b = {.arena = volume->ctx->arena};
    if (!hash)
        return false;
    mos_buf_printf(&b, "squashfs 1 %s %s %u\n", v->codec->name, sq_codec_version(v->codec),
                   v->block_size);
    for (uint32_t i = 0; i < inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(inv, i);
        const struct mos_inv_attributes *a =
            n->attributes ? mos_vec_at(&inv->attributes, n->attributes) : NULL;
        mos_buf_printf(&b, "%u %u %o %u %u %lld %llu %llx %u %u %u %zu %s\n%s\n", n->parent,
                       n->type, n->mode, n->uid, n->gid, (long long)n->mtime,
                       (unsigned long long)n->size, (unsigned long long)n->sum, n->link_to,
                       n->links, n->device, a ? a->length : 0, i ? n->name : "",
                       n->type == MOS_ENTRY_LINK ? n->more.text : "");
        if (a)
            mos_buf_add(&b, a->list, a->length);
        mos_sha256_update(hash, b.data, b.length);
        b.length = 0;
    }
    mos_sha256_final(hash, key);
    mos_sha256_free(hash);
    return true;
}

/* Bytes that came only once, and a look at whether all have come. */
static bool complete(struct sq_writer *v) {
    for (uint32_t i = 0; i < v->base.inventory->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(v->base.inventory, i);
        struct sq_content *c = sq_content_of(v, i);
        if (n->type != MOS_ENTRY_FILE || c->done || !n->size)
            continue;
        const struct sq_kept *k = mos_map_get(&v->kept, key_of(v, i));
        if (!k)
            return changed(v, i);
        sq_pipe_begin(v->pipe, i, n->size);
        sq_pipe_data(v->pipe, 0, k->bytes, k->length);
        sq_pipe_end(v->pipe);
    }
    sq_pipe_finish(v->pipe);
    return true;
}

static bool finish(struct mos_volume_base *base, struct mos_volume_result *result) {
    struct sq_writer *v = (struct sq_writer *)base;
    struct mos_vec *spans = &result->spans;
    if (!base->known_bytes) {
        if (!v->second)
            contents(base);
        if (!complete(v))
            return false;
        base->known_content = v->at - SQ_SUPER_SIZE;
        base->known_bytes = sq_write_tables(v);
    }
    uint64_t whole = mos_round_up(base->known_bytes, SQ_PADDING), need = whole + base->wish.spare;
    *result = (struct mos_volume_result){
        .fits = need <= base->wish.size,
        .block_size = v->block_size,
        .content = base->known_content,
        .structure = whole - base->known_content,
        .free = whole < base->wish.size ? base->wish.size - whole : 0,
        .spare = base->wish.spare,
        .entries = base->inventory->count,
        .spans = mos_vec_make(base->ctx->arena, sizeof(struct mos_span))};
    if (!result->fits) {
        result->missing = need - base->wish.size;
        return true;
    }
    *(struct mos_span *)mos_vec_push(spans) = (struct mos_span){0, whole, MOS_SPAN_DATA};
    if (whole < base->wish.size)
        *(struct mos_span *)mos_vec_push(spans) =
            (struct mos_span){whole, base->wish.size - whole, MOS_SPAN_FREE};
    return base->errnum ? mos_fail(base->ctx->error, MOS_ERROR_SYSTEM, base->errnum,
                                   "Cannot write the image")
                        : true;
}

static const struct mos_fs_need *needs(const struct mos_volume_wish *wish) {
    static const char why[] = "It would know squashfs, but not this compression of it.";
    static struct mos_fs_need rows[][2] = {{{"CONFIG_SQUASHFS_ZLIB", why}},
                                           {{"CONFIG_SQUASHFS_XZ", why}},
                                           {{"CONFIG_SQUASHFS_ZSTD", why}}};
    const struct sq_codec *codec = sq_codec_named(wish->compress);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (strcmp(rows[i][0].symbol, codec->symbol) == 0)
            return rows[i];
    return NULL;
}

static void foresee(struct mos_arena *arena, const struct mos_volume_wish *wish,
                    struct mos_volume_info *out) {
    (void)arena;
    out->label = out->id = "";
    out->block_size = wish->unit ? wish->unit : SQ_USUAL_BLOCK;
}

static const char *const options[] = {"errors", "threads", NULL};

static const struct mos_fs_loader loaders[] = {
    {.dialect = "u-boot", .word = "squashfs", .symbol = "CONFIG_FS_SQUASHFS", .optional = true},
    {NULL}};

const struct mos_fs_driver mos_fs_squashfs = {.name = "squashfs",
                                              .family = "squashfs",
                                              .partition = "linux",
                                              .kernel = "squashfs",
                                              .symbol = "CONFIG_SQUASHFS",
                                              .needs = needs,
                                              .options = options,
                                              .loaders = loaders,
                                              .read_only = true,
                                              .heeds = MOS_HEEDS_COMPRESS,
                                              .smallest = smallest,
                                              .units = {SQ_LEAST_BLOCK, SQ_MOST_BLOCK},
                                              .begin = begin,
                                              .copy = copy,
                                              .sink = sink,
                                              .contents = contents,
                                              .digest = digest,
                                              .finish = finish,
                                              .foresee = foresee,
                                              .probe = sq_probe,
                                              .stream = sq_stream};
