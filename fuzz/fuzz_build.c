/* A build file and a source of a kernel, cut at the first NUL: what they say of drivers. */
#include "harness.h"

#include "kconfig/build.h"

/* On, off, and as a module, by their first letter. */
static enum mos_tri said(void *self, const char *symbol) {
    (void)self;
    return (enum mos_tri)((unsigned char)*symbol % 3);
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_kc_build *b = mos_kc_build_new(ctx->arena);
    const char *text = mos_strndup(ctx->arena, (const char *)data, size);
    size_t first = strlen(text);
    mos_kc_build_add(ctx->arena, b, "drivers/tide/Makefile", text);
    mos_kc_build_add(ctx->arena, b, "drivers/tide/gauge.c", text + first + (first < size));
    mos_kc_build_finish(b);
    for (size_t i = 0; i < b->drivers.count; i++) {
        const struct mos_kc_source_driver *d = mos_vec_at(&b->drivers, i), *found;
        if (!mos_kc_build_drivers(b, d->compatible, &found))
            __builtin_trap(); /* what is there is not found */
    }
    for (size_t i = 0; i < b->rules.count; i++) {
        const struct mos_kc_rule *x = mos_vec_at(&b->rules, i);
        struct mos_vec symbols = mos_vec_make(ctx->arena, sizeof(char *));
        const char *module;
        size_t own;
        mos_kc_build_symbols(b, ctx->arena, x->object, said, NULL, &symbols, &own, &module);
        if (own > symbols.count)
            __builtin_trap();
        enum mos_kc_certainty certainty;
        if (i < 16 && mos_kc_build_value(b, ctx->arena, x->object, said, NULL, &certainty) &&
            certainty == MOS_KC_UNNAMED)
            __builtin_trap(); /* something that nobody builds */
        if (x->symbol)
            mos_kc_build_objects(b, x->symbol, &symbols);
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
