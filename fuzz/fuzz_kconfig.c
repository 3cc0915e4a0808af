/* A Kconfig file and a configuration for it, cut at the first NUL: read, settled, written, and what
 * is dropped explained. */
#include "harness.h"

#include "kconfig/lack.h"
#include "kconfig/probe.h"

static void explain(struct mos_ctx *ctx, struct mos_kc_config *c,
                    const struct mos_config_part *part) {
    enum { MOST = 8 };
    const struct mos_kc_requests all = {part->settings.items, part->settings.count};
    for (size_t i = 0; i < all.count && i < MOST; i++) {
        struct mos_kc_way way = {0};
        if (mos_kc_answer(c, all.settings[i]).reason == MOS_KC_HIDDEN)
            way = mos_kc_lack(ctx->arena, c, all.settings[i]);
        if (!way.set)
            continue;
        struct mos_kc_config *again = mos_kc_config_again(ctx->arena, c);
        mos_kc_ask(again, way.set, way.count);
        mos_kc_settle(again);
        if (mos_kc_answer(again, all.settings[i]).reason != MOS_KC_KEPT)
            __builtin_trap(); /* what is proposed does not help */
    }
}

/* The fewest settings give the same again. */
static void minimize(struct mos_ctx *ctx, struct mos_kc_config *c) {
    struct mos_vec said = mos_vec_make(ctx->arena, sizeof(void *));
    size_t differ = mos_kc_minimal(c, &said), length, more;
    const struct mos_kc_requests all = {said.items, said.count};
    struct mos_kc_config *again = mos_kc_with(ctx->arena, c->tree, &all, NULL, 0);
    if (!differ && mos_kc_changes(c, again).count)
        __builtin_trap();
    enum { MOST = 12 };
    for (size_t i = 0; !differ && i < said.count && i < MOST; i++) {
        struct mos_vec rest = mos_vec_make(ctx->arena, sizeof(void *));
        for (size_t k = 0; k < said.count; k++)
            if (k != i)
                mos_vec_push_pointer(&rest, mos_vec_pointer(&said, k));
        const struct mos_kc_requests fewer = {rest.items, rest.count};
        struct mos_kc_config *other = mos_kc_with(ctx->arena, c->tree, &fewer, NULL, 0);
        const char *x = mos_kc_write(c, &length), *y = mos_kc_write(other, &more);
        if (length == more && memcmp(x, y, length) == 0)
            __builtin_trap(); /* it is not needed */
    }
    const char *a = mos_kc_write(c, &length), *b = mos_kc_write(again, &more);
    if (!differ && (length != more || memcmp(a, b, length) != 0))
        __builtin_trap();
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const char *const none[] = {"CC=cc", "srctree=/nowhere", NULL};
    const uint8_t *cut = memchr(data, 0, size);
    size_t first = cut ? (size_t)(cut - data) : size;
    struct mos_kc_probes probes = mos_kc_probes_make(ctx, none, NULL);
    struct mos_kc_reading reading = {
        .source = "nowhere",
        .shown = "nowhere",
        .manner = {.ends = size & 1, .capped = size & 2, .zeros = size & 4},
        .vars = mos_map_make(ctx->arena),
        .probes = &probes,
        .files = mos_map_make(ctx->arena)};
    mos_map_set_const(&reading.files, "Kconfig", fuzz_source(ctx, data, first));
    mos_map_set_const(&probes.results, "known", "y");
    struct mos_kc_tree *tree = mos_kc_read(ctx, &reading);
    if (!tree)
        return;
    struct mos_config_part *part =
        mos_config_read(ctx, "asked", fuzz_source(ctx, data + first, size - first));
    struct mos_kc_config *c = mos_kc_config_new(ctx->arena, tree);
    mos_kc_ask(c, part->settings.items, part->settings.count);
    mos_kc_settle(c);
    size_t length, more;
    const char *text = mos_kc_write(c, &length);
    mos_kc_settle(c);
    const char *again = mos_kc_write(c, &more);
    if (length != more || memcmp(text, again, length) != 0)
        __builtin_trap(); /* it depends on what was looked at before */
    minimize(ctx, c);
    explain(ctx, c, part);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return size ? fuzz_run(data, size, body) : 0;
}
