/* A schema file and a source whose nodes are judged by it, with a NUL between them. */
#include "harness.h"

#include "bindings/bindings.h"

static void want(struct mos_bindings *b, struct mos_binding *file, const char *compatible) {
    struct mos_vec *files = mos_alloc(b->quiet.arena, sizeof *files);
    *files = mos_vec_make(b->quiet.arena, sizeof(struct mos_binding *));
    mos_vec_push_pointer(files, file);
    mos_map_set(&b->wanted, compatible, files);
}

struct look {
    struct mos_ctx *ctx;
    struct mos_bindings *b;
    struct mos_binding *file;
    struct mos_dt_phandles all;
};

static bool judge(void *self, struct mos_dt_node *node) {
    struct look *l = self;
    const char *compatible = mos_dt_string(node, "compatible");
    size_t unknown = 0;
    bool first;
    if (!compatible)
        return true;
    want(l->b, l->file, compatible);
    if (!mos_bindings_of(l->b, node, &first))
        return true;
    struct mos_vec faults =
        mos_bindings_judge(l->b, l->file, node, first, &l->all, l->ctx->arena, &unknown);
    for (size_t i = 0; i < faults.count; i++) {
        const struct mos_binding_fault *f = mos_vec_at(&faults, i);
        if (!f->node || !f->text || !f->rule)
            __builtin_trap();
    }
    return true;
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    const uint8_t *middle = size ? memchr(data, 0, size) : NULL;
    if (!middle)
        return;
    struct mos_error ignored = {0};
    struct mos_bindings b = {.quiet = mos_ctx_quiet(ctx, &ignored), .folder = "", .shown = ""};
    b.files = mos_map_make(ctx->arena);
    b.wanted = mos_map_make(ctx->arena);
    struct mos_binding file = {.name = "a.yaml", .looked = true};
    file.root = mos_yaml_parse(ctx, fuzz_source(ctx, data, (size_t)(middle - data)));
    struct mos_dt *dt = mos_dt_parse(
        ctx, fuzz_source(ctx, middle + 1, size - (size_t)(middle + 1 - data)), NULL, NULL, 0);
    if (!file.root || file.root->kind != MOS_NODE_MAP || !dt)
        return;
    mos_map_set(&b.files, file.name, &file);
    if (!dt->overlay)
        mos_dt_resolve(ctx, dt);
    struct look l = {ctx, &b, &file, mos_dt_phandles_of(ctx->arena, dt)};
    mos_dt_walk(dt->root, judge, &l);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
