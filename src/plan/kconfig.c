/* Configurations of kernel and loader as their own sources settle them, where they are there. */
#include "plan/steps.h"

#include "base/text.h"
#include "kconfig/probe.h"
#include "plan/kconfig.h"
#include "plan/shared.h"
#include "store/store.h"

#include <string.h>

static void note(struct mos_plan *plan, const char *who, const char *why) {
    mos_vec_push_pointer(
        &plan->ctx->not_proved,
        mos_printf(plan->ctx->arena, "what the %s makes of its configuration: %s", who, why));
}

const char *mos_plan_kernel_arch(const struct mos_plan *plan) {
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
    if (tree)
        tree->version = mos_map_get(&reading.vars, "KERNELVERSION");
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
    const char *key = mos_printf(ctx->arena, "%s %s %s", world->arch ? world->arch : "",
                                 world->source, world->compiler ? world->compiler : "");
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
static struct mos_map values_of(struct mos_arena *arena, const struct mos_map *asked_for,
                                struct mos_kc_config *c) {
    struct mos_map resolved = mos_map_make(arena);
    for (size_t i = 0; i < c->tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&c->tree->all, i);
        const struct mos_kc_value *v = &c->values[i];
        bool three = s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE;
        if (!s->entry || s->is_choice || (!v->written && !three))
            continue; /* what cannot be seen is off, too */
        const char *name = mos_printf(arena, "CONFIG_%s", s->name), *text = mos_kc_text(c, s);
        if (s->type == MOS_KC_STRING)
            text = mos_kc_quoted(c, text);
        struct mos_setting *asked = mos_map_get(asked_for, name);
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
    return resolved;
}

/* Settles all parts over the sources; NULL after a note why not. */
static struct mos_kc_config *settle(struct mos_plan *plan, const char *who,
                                    const struct mos_kc_world *world,
                                    struct mos_config_part *const *parts, size_t count,
                                    struct mos_kc_requests *requests) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_error error = {0};
    struct mos_kc_tree *tree = tree_at(plan, world, &error);
    if (!tree) {
        note(plan, who, mos_strdup(ctx->arena, error.message));
        return NULL;
    }
    mos_stamp_add_hash(ctx->stamp, mos_printf(ctx->arena, "the %s's Kconfig files", who),
                       tree->sha256);
    struct mos_vec all = mos_vec_make(ctx->arena, sizeof(void *));
    for (size_t i = 0; i < count; i++)
        for (size_t n = 0; n < parts[i]->settings.count; n++)
            mos_vec_push_pointer(&all, mos_vec_pointer(&parts[i]->settings, n));
    *requests = (struct mos_kc_requests){all.items, all.count};
    return mos_kc_with(ctx->arena, tree, requests, NULL, 0);
}

void mos_plan_kconfig(struct mos_plan *plan, struct mos_config_part *const *parts, size_t count) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_kernel *k = plan->board->kernel;
    const char *arch = mos_plan_kernel_arch(plan);
    if (!plan->kernel_settled.source)
        return;
    if (!mos_exists(ctx, mos_path_join(ctx->arena, plan->kernel_settled.source, "Kconfig"))) {
        note(plan, "kernel", mos_printf(ctx->arena, "there is no Kconfig in %s", k->source->text));
        return;
    }
    if (!arch) {
        note(plan, "kernel", "hardware: cpu says for which processor");
        return;
    }
    const struct mos_kc_world world = {plan->kernel_settled.source, k->source->text, arch,
                                       mos_has(k->compiler) ? k->compiler->text : NULL, NULL};
    plan->kernel_settled.config =
        settle(plan, "kernel", &world, parts, count, &plan->kernel_settled.requests);
    if (plan->kernel_settled.config)
        plan->config = values_of(ctx->arena, &plan->config, plan->kernel_settled.config);
}

void mos_plan_loader_kconfig(struct mos_plan *plan, struct mos_config_part *const *parts,
                             size_t count) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_loader *l = plan->board->loader;
    const char *source = plan->loader_settled.source;
    const struct mos_kc_world world = {source, l->source->text, NULL,
                                       mos_has(l->compiler) ? l->compiler->text : NULL, NULL};
    if (!mos_exists(ctx, mos_path_join(ctx->arena, source, "Kconfig"))) {
        note(plan, "loader", mos_printf(ctx->arena, "there is no Kconfig in %s", l->source->text));
        return;
    }
    plan->loader_settled.config =
        settle(plan, "loader", &world, parts, count, &plan->loader_settled.requests);
    if (plan->loader_settled.config)
        plan->loader_config =
            values_of(ctx->arena, &plan->loader_config, plan->loader_settled.config);
}
