/* Writes parcels.  Hashes and the choice's texts come first, signatures last: each is over the
 * bytes of the finished tree, whose lengths do not depend on their values. */
#include "boot/parcel.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <string.h>

static void cells(struct mos_dt *dt, struct mos_dt_node *n, const char *name, uint64_t value) {
    uint8_t b[8];
    mos_put_be64(b, value);
    if (value >> 32)
        mos_dt_set_copy(dt, n, name, b, 8);
    else
        mos_dt_set_copy(dt, n, name, b + 4, 4);
}

static void text(struct mos_dt *dt, struct mos_dt_node *n, const char *name, const char *value) {
    if (value)
        mos_dt_set_text(dt, n, name, value);
}

static void list(struct mos_ctx *ctx, struct mos_dt *dt, struct mos_dt_node *n, const char *name,
                 const struct mos_vec *names) {
    struct mos_buf b = {.arena = ctx->arena};
    for (size_t i = 0; i < names->count; i++) {
        const char *x = mos_vec_pointer(names, i);
        mos_buf_add(&b, x, strlen(x) + 1);
    }
    if (b.length)
        mos_dt_set(dt, n, name, b.data, b.length);
}

static void write_item(struct mos_dt *dt, struct mos_dt_node *images,
                       const struct mos_parcel_item *x) {
    struct mos_dt_node *n = mos_dt_add_node(dt, images, x->name);
    text(dt, n, "description", x->about);
    mos_dt_set(dt, n, "data", x->data, x->length);
    text(dt, n, "type", x->type);
    text(dt, n, "arch", x->cpu);
    text(dt, n, "os", x->os);
    text(dt, n, "compression", x->compression);
    if (x->has_load)
        cells(dt, n, "load", x->load);
    if (x->has_entry)
        cells(dt, n, "entry", x->entry);
    if (!x->hash)
        return;
    uint8_t sum[MOS_SHA256_SIZE];
    size_t length = sizeof sum;
    struct mos_dt_node *h = mos_dt_add_node(dt, n, "hash-1");
    if (strcmp(x->hash, "crc32") == 0) {
        mos_put_be32(sum, mos_crc32(0, x->data, x->length));
        length = 4;
    } else {
        mos_sha256(x->data, x->length, sum);
    }
    text(dt, h, "algo", x->hash);
    mos_dt_set_copy(dt, h, "value", sum, length);
}

/* The nodes that a signature of a choice covers. */
static struct mos_vec covered_nodes(struct mos_ctx *ctx, const struct mos_parcel_wish *wish,
                                    const struct mos_parcel_choice *c) {
    struct mos_vec out = mos_vec_make(ctx->arena, sizeof(char *));
    struct mos_vec names = mos_parcel_uses(ctx->arena, c);
    mos_vec_push_pointer(&out, "/");
    mos_vec_push_pointer(&out, mos_printf(ctx->arena, "/configurations/%s", c->name));
    for (size_t i = 0; i < wish->item_count; i++) {
        const struct mos_parcel_item *x = &wish->items[i];
        bool used = false;
        for (size_t k = 0; k < names.count; k++)
            used |= strcmp(mos_vec_pointer(&names, k), x->name) == 0;
        if (!used)
            continue;
        mos_vec_push_pointer(&out, mos_printf(ctx->arena, "/images/%s", x->name));
        mos_vec_push_pointer(&out, mos_printf(ctx->arena, "/images/%s/hash-1", x->name));
    }
    return out;
}

/* A signature with its room, but without its value. */
static void begin_signature(struct mos_ctx *ctx, struct mos_dt *dt, struct mos_dt_node *n,
                            const struct mos_parcel_wish *wish, const struct mos_parcel_choice *c) {
    static const uint8_t zeros[512];
    struct mos_dt_node *s = mos_dt_add_node(dt, n, "signature-1");
    struct mos_vec nodes = covered_nodes(ctx, wish, c), parts;
    text(dt, s, "algo", mos_printf(ctx->arena, "sha256,rsa%u", wish->signer->bits));
    text(dt, s, "key-name-hint", wish->signer->key_name);
    parts = mos_vec_make(ctx->arena, sizeof(char *));
    if (c->kernel)
        mos_vec_push_pointer(&parts, "kernel");
    if (c->firmware)
        mos_vec_push_pointer(&parts, "firmware");
    if (c->trees.count)
        mos_vec_push_pointer(&parts, "fdt");
    if (c->ramdisk)
        mos_vec_push_pointer(&parts, "ramdisk");
    list(ctx, dt, s, "sign-images", &parts);
    mos_dt_set(dt, s, "value", zeros, wish->signer->bits / 8);
    list(ctx, dt, s, "hashed-nodes", &nodes);
    mos_dt_set(dt, s, "hashed-strings", zeros, 8);
}

static void write_choice(struct mos_ctx *ctx, struct mos_dt *dt, struct mos_dt_node *all,
                         const struct mos_parcel_wish *wish, const struct mos_parcel_choice *c) {
    struct mos_dt_node *n = mos_dt_add_node(dt, all, c->name);
    text(dt, n, "description", c->about);
    text(dt, n, "compatible", c->compatible);
    text(dt, n, "kernel", c->kernel);
    text(dt, n, "firmware", c->firmware);
    list(ctx, dt, n, "fdt", &c->trees);
    text(dt, n, "ramdisk", c->ramdisk);
    list(ctx, dt, n, "loadables", &c->loadables);
    if (wish->signer)
        begin_signature(ctx, dt, n, wish, c);
}

/* Writes the values: lengths stay, so places do. */
static bool sign_choices(struct mos_ctx *ctx, struct mos_dt *dt, const struct mos_parcel_wish *wish,
                         struct mos_buf *out) {
    struct mos_dt_node *all = mos_dt_child(dt->root, "configurations");
    uint32_t strings = mos_be32(out->data + 32);
    for (size_t i = 0; i < wish->choices.count; i++) {
        const struct mos_parcel_choice *c = mos_vec_at(&wish->choices, i);
        struct mos_vec nodes = covered_nodes(ctx, wish, c);
        struct mos_dt_node *s = mos_dt_child(mos_dt_child(all, c->name), "signature-1");
        uint8_t digest[32], value[512], covered[8] = {0};
        if (!mos_parcel_digest((const uint8_t *)out->data, out->length, nodes.items, nodes.count,
                               strings, digest))
            return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "No memory to sign a parcel");
        if (!wish->signer->sign(wish->signer->self, digest, value))
            return false;
        mos_put_be32(covered + 4, strings);
        mos_dt_set_copy(dt, s, "value", value, wish->signer->bits / 8);
        mos_dt_set_copy(dt, s, "hashed-strings", covered, 8);
    }
    out->length = 0;
    mos_dt_write_blob(ctx, dt, false, out);
    return true;
}

bool mos_parcel_write(struct mos_ctx *ctx, const struct mos_parcel_wish *wish,
                      struct mos_buf *out) {
    struct mos_dt *dt = mos_dt_new(ctx->arena, "parcel");
    text(dt, dt->root, "description", wish->about);
    cells(dt, dt->root, "#address-cells", 1);
    cells(dt, dt->root, "timestamp", (uint32_t)wish->date);
    struct mos_dt_node *images = mos_dt_add_node(dt, dt->root, "images");
    for (size_t i = 0; i < wish->item_count; i++)
        write_item(dt, images, &wish->items[i]);
    struct mos_dt_node *all = mos_dt_add_node(dt, dt->root, "configurations");
    for (size_t i = 0; i < wish->choices.count; i++) {
        const struct mos_parcel_choice *c = mos_vec_at(&wish->choices, i);
        if (!i)
            text(dt, all, "default", c->name);
        write_choice(ctx, dt, all, wish, c);
    }
    mos_dt_write_blob(ctx, dt, false, out);
    return !wish->signer || sign_choices(ctx, dt, wish, out);
}
