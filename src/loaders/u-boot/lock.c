#include "loaders/u-boot/lock.h"

#include "base/bytes.h"
#include "boot/parcel.h"
#include "loaders/u-boot/legacy.h"

#include <string.h>

enum { BLOCK = 512, PADDING = 64 << 10 };

struct work {
    struct mos_ctx *ctx;
    bool (*change)(void *self, struct mos_dt *dt);
    void *self;
    const char *problem;
};

static bool refuse(struct work *w, const char *problem) {
    w->problem = problem;
    return false;
}

/* ---- a tree ---- */

static bool change_tree(struct work *w, const uint8_t *bytes, size_t length, struct mos_buf *out) {
    struct mos_error ignored;
    struct mos_ctx quiet = mos_ctx_quiet(w->ctx, &ignored);
    struct mos_dt *dt = mos_dt_read_blob(&quiet, "loader", bytes, length);
    if (!dt)
        return refuse(w, "its tree is damaged");
    if (!w->change(w->self, dt))
        return refuse(w, "its tree cannot be changed");
    mos_dt_write_blob(w->ctx, dt, false, out);
    return true;
}

static bool is_padding(const uint8_t *bytes, size_t length) {
    for (size_t i = 0; i < length && length <= PADDING; i++)
        if (bytes[i] && bytes[i] != 0xff)
            return false;
    return length <= PADDING;
}

/* Where the tree behind a program begins: the last one that reaches to the end. */
static size_t last_tree(const uint8_t *bytes, size_t length) {
    for (size_t at = length & ~(size_t)3; at; at -= 4) {
        size_t from = at - 4;
        if (length - from >= 40 && mos_be32(bytes + from) == MOS_DT_MAGIC) {
            size_t size = mos_be32(bytes + from + MOS_DT_TOTAL);
            if (size >= 40 && size <= length - from &&
                is_padding(bytes + from + size, length - from - size))
                return from;
        }
    }
    return SIZE_MAX;
}

/* ---- what contains it ---- */

static bool change_any(struct work *w, const uint8_t *bytes, size_t length, struct mos_buf *out);

/* 64 bytes in front: size and sums (legacy.h) follow the payload. */
static bool change_legacy(struct work *w, const uint8_t *bytes, size_t length,
                          struct mos_buf *out) {
    struct mos_legacy h;
    const char *problem;
    uint8_t head[MOS_LEGACY_HEADER];
    struct mos_buf inner = {.arena = w->ctx->arena};
    if (!mos_legacy_read(bytes, length, &h, &problem))
        return refuse(w, problem);
    if (h.compression)
        return refuse(w, "its legacy file is compressed");
    if (!change_any(w, bytes + MOS_LEGACY_HEADER, h.size, &inner))
        return false;
    memcpy(head, bytes, sizeof head);
    mos_legacy_seal(head, inner.data, inner.length);
    mos_buf_add(out, head, sizeof head);
    mos_buf_add(out, inner.data, inner.length);
    return true;
}

static const char *hash_kind(const struct mos_dt_node *n) {
    return strncmp(n->name, "hash", 4) == 0 ? mos_dt_string(n, "algo") : NULL;
}

/* Hashes of a part after its data has changed; false: one of them is of another kind. */
static bool hash_again(struct mos_dt *dt, struct mos_dt_node *part, const struct mos_buf *data) {
    uint8_t sum[MOS_SHA256_SIZE];
    for (struct mos_dt_node *n = part->first_child; n; n = n->next) {
        const char *kind = hash_kind(n);
        if (!kind)
            continue;
        if (strcmp(kind, "sha256") == 0) {
            mos_sha256(data->data, data->length, sum);
            mos_dt_set_copy(dt, n, "value", sum, sizeof sum);
        } else if (strcmp(kind, "crc32") == 0) {
            mos_put_be32(sum, mos_crc32(0, data->data, data->length));
            mos_dt_set_copy(dt, n, "value", sum, 4);
        } else {
            return false;
        }
    }
    return true;
}

/* Every tree of the parcel that a configuration names. */
static bool change_parcel(struct work *w, const uint8_t *bytes, size_t length,
                          struct mos_buf *out) {
    struct mos_parcel *p = mos_parcel_read(w->ctx, bytes, length, &w->problem);
    size_t changed = 0;
    if (!p)
        return false;
    if (p->tree_length < length && !is_padding(bytes + p->tree_length, length - p->tree_length))
        return refuse(w, "the parcel that it lies in keeps its data behind its tree");
    struct mos_dt_node *images = mos_dt_child(p->dt->root, "images");
    for (size_t i = 0; i < p->parts.count; i++) {
        const struct mos_parcel_part *part = mos_vec_at(&p->parts, i);
        struct mos_buf *inner = mos_alloc(w->ctx->arena, sizeof *inner);
        inner->arena = w->ctx->arena;
        struct mos_dt_node *n = mos_dt_child(images, part->name);
        if (!part->type || strcmp(part->type, "flat_dt") != 0 || !part->data)
            continue;
        if (!change_tree(w, part->data, part->length, inner))
            return false;
        mos_dt_set(p->dt, n, "data", inner->data, inner->length);
        if (!hash_again(p->dt, n, inner))
            return refuse(w, "a hash in the parcel that it lies in is of a kind that is not known");
        changed++;
    }
    if (!changed)
        return refuse(w, "the parcel that it lies in has no tree");
    mos_dt_write_blob(w->ctx, p->dt, false, out);
    return true;
}

/* The first container at a block's boundary that reaches to the end; what is before it stays. */
static size_t container_at(const uint8_t *bytes, size_t length) {
    for (size_t at = 0; at + MOS_LEGACY_HEADER <= length; at += BLOCK) {
        struct mos_legacy h;
        const char *problem;
        size_t rest = length - at;
        if (mos_legacy_is(bytes + at, rest) && mos_legacy_read(bytes + at, rest, &h, &problem) &&
            is_padding(bytes + at + MOS_LEGACY_HEADER + h.size, rest - MOS_LEGACY_HEADER - h.size))
            return at;
        if (mos_parcel_is(bytes + at, rest) && mos_be32(bytes + at + 4) <= rest)
            return at;
    }
    return SIZE_MAX;
}

static bool change_any(struct work *w, const uint8_t *bytes, size_t length, struct mos_buf *out) {
    size_t at = container_at(bytes, length);
    if (at != SIZE_MAX) {
        mos_buf_add(out, bytes, at);
        return mos_legacy_is(bytes + at, length - at)
                   ? change_legacy(w, bytes + at, length - at, out)
                   : change_parcel(w, bytes + at, length - at, out);
    }
    at = last_tree(bytes, length);
    if (at == SIZE_MAX)
        return refuse(w, "no tree stands at its end, in a legacy file or in a parcel");
    mos_buf_add(out, bytes, at);
    return change_tree(w, bytes + at, mos_be32(bytes + at + 4), out);
}

bool mos_lock_loader(struct mos_ctx *ctx, const uint8_t *bytes, size_t length,
                     bool (*change)(void *self, struct mos_dt *dt), void *self, struct mos_buf *out,
                     const char **problem) {
    struct work w = {ctx, change, self, NULL};
    bool ok = change_any(&w, bytes, length, out);
    *problem = w.problem;
    return ok;
}
