/* The kernel's configuration as its own sources settle it, where they are there. */
#include "plan/steps.h"

#include "base/text.h"
#include "kconfig/probe.h"
#include "plan/kconfig.h"
#include "plan/shared.h"
#include "store/store.h"

#include <string.h>

static void note(struct mos_plan *plan, const char *why) {
    mos_vec_push_pointer(
        &plan->ctx->not_proved,
        mos_printf(plan->ctx->arena, "what the kernel makes of its configuration: %s", why));
}

static const char *arch_of(const struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    switch (h ? mos_cpu_of(h->cpu) : MOS_CPU_UNSTATED) {
    case MOS_CPU_ARM64:
        return "arm64";
    case MOS_CPU_ARM:
        return "arm";
    case MOS_CPU_RISCV64:
        return "riscv";
    case MOS_CPU_X86_64:
        return "x86_64";
    default:
        return NULL;
    }
}

/* Programs are looked for where the shell does: the guard is told. */
static void allow_programs(struct mos_ctx *ctx) {
    const char *path = ctx->host->environment(ctx->host, "PATH");
    for (size_t n; ctx->guard && path && *path; path += n + (path[n] != 0)) {
        n = strcspn(path, ":");
        if (n)
            mos_guard_allow(ctx->guard, mos_strndup(ctx->arena, path, n), MOS_REACH_READ);
    }
}

struct mos_kc_tree *mos_kc_open(struct mos_ctx *ctx, const struct mos_kc_world *world) {
    struct mos_kc_reading reading = {
        .source = world->source, .shown = world->shown, .vars = mos_map_make(ctx->arena)};
    if (!mos_exists(ctx, mos_path_join(ctx->arena, world->source, "Kconfig")) &&
        mos_exists(ctx, mos_path_join(ctx->arena, world->source, "Config.in")))
        reading.start = "Config.in"; /* as small trees call it */
    if (!mos_kc_variables(ctx, world, &reading.vars) ||
        !mos_kc_manner(ctx, world->source, &reading.vars, &reading.manner))
        return NULL;
    const char *temporary = ctx->host->environment(ctx->host, "TMPDIR");
    struct mos_kc_probes probes = mos_kc_probes_make(
        ctx, mos_kc_environment(ctx->arena, &reading.vars), temporary ? temporary : "/tmp");
    char hex[65], *known;
    size_t length;
    allow_programs(ctx);
    mos_kc_probes_key(&probes, hex);
    const char *key = mos_printf(ctx->arena, "probes-%s", hex);
    if (mos_store_get(ctx, key, &known, &length))
        mos_kc_probes_take(&probes, known, length);
    reading.probes = &probes;
    struct mos_kc_tree *tree =
        mos_kc_version_text(&probes, &reading.vars) ? mos_kc_read(ctx, &reading) : NULL;
    if (tree && probes.runs) {
        const char *text = mos_kc_probes_text(&probes, &length);
        mos_store_put(ctx, key, text, length);
    }
    return tree;
}

/* Read once for all boards of a worker that name the same sources in the same way. */
static struct mos_kc_tree *tree_at(struct mos_plan *plan, const struct mos_kc_world *world,
                                   struct mos_error *error) {
    struct mos_ctx *ctx = plan->ctx, quiet = mos_ctx_quiet(ctx, error);
    struct mos_shared *shared = ctx->shared;
    quiet.stamp = NULL; /* the tree's own hash goes in */
    if (!shared)
        return mos_kc_open(&quiet, world);
    const char *key = mos_printf(ctx->arena, "%s %s %s", world->arch, plan->kernel_source,
                                 world->compiler ? world->compiler : "");
    struct mos_kc_tree *tree = mos_map_get(&shared->kconfigs, key);
    if (tree)
        return tree;
    quiet.arena = shared->arena;
    struct mos_kc_world own = *world;
    own.source = mos_strdup(shared->arena, world->source);
    own.shown = mos_strdup(shared->arena, world->shown);
    tree = mos_kc_open(&quiet, &own);
    if (tree)
        mos_map_set(&shared->kconfigs, mos_strdup(shared->arena, key), tree);
    return tree;
}

/* What each symbol came to takes the place of what was asked for. */
static void take_values(struct mos_plan *plan, struct mos_kc_config *c) {
    struct mos_arena *arena = plan->ctx->arena;
    struct mos_map resolved = mos_map_make(arena);
    for (size_t i = 0; i < c->tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&c->tree->all, i);
        const struct mos_kc_value *v = &c->values[i];
        if (!s->entry || s->is_choice || !v->written)
            continue;
        const char *name = mos_printf(arena, "CONFIG_%s", s->name), *text = mos_kc_text(c, s);
        if (s->type == MOS_KC_STRING)
            text = mos_kc_quoted(c, text);
        struct mos_setting *asked = mos_map_get(&plan->config, name);
        if (asked && strcmp(asked->value, text) == 0) {
            mos_map_set(&resolved, name, asked);
            continue;
        }
        struct mos_setting *own = mos_alloc(arena, sizeof *own);
        *own = (struct mos_setting){.symbol = name,
                                    .value = text,
                                    .place = asked ? asked->place : s->entry->place,
                                    .part = asked ? asked->part : NULL};
        mos_map_set(&resolved, name, own);
    }
    plan->config = resolved;
}

void mos_plan_kconfig(struct mos_plan *plan, struct mos_config_part *const *parts, size_t count) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_kernel *k = plan->board->kernel;
    const char *arch = plan->kernel_arch = arch_of(plan);
    if (!plan->kernel_source)
        return;
    if (!mos_exists(ctx, mos_path_join(ctx->arena, plan->kernel_source, "Kconfig"))) {
        note(plan, mos_printf(ctx->arena, "there is no Kconfig in %s", k->source->text));
        return;
    }
    if (!arch) {
        note(plan, "hardware: cpu says for which processor");
        return;
    }
    struct mos_error error = {0};
    const struct mos_kc_world world = {plan->kernel_source, k->source->text, arch,
                                       mos_has(k->compiler) ? k->compiler->text : NULL, NULL};
    struct mos_kc_tree *tree = tree_at(plan, &world, &error);
    if (!tree) {
        note(plan, mos_strdup(ctx->arena, error.message));
        return;
    }
    mos_stamp_add_hash(ctx->stamp, "the kernel's Kconfig files", tree->sha256);
    struct mos_vec all = mos_vec_make(ctx->arena, sizeof(void *));
    for (size_t i = 0; i < count; i++)
        for (size_t n = 0; n < parts[i]->settings.count; n++)
            mos_vec_push_pointer(&all, mos_vec_pointer(&parts[i]->settings, n));
    plan->kconfig = mos_kc_config_new(ctx->arena, tree);
    mos_kc_ask(plan->kconfig, all.items, all.count);
    mos_kc_settle(plan->kconfig);
    plan->requests = (struct mos_kc_requests){all.items, all.count};
    take_values(plan, plan->kconfig);
}
