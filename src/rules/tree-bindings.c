/* Nodes of a tree against the kernel's bindings. */
#include "rules/rules.h"

#include "base/text.h"
#include "plan/shared.h"
#include "rules/tree-view.h"

#include <ctype.h>
#include <string.h>

enum { MOST_TOLD = 24, LONGEST_SENTENCE = 200 };

struct bound {
    struct mos_tree_view *v;
    struct mos_bindings *b;
    bool all; /* whoever wrote it */
    struct mos_bindings_count *count;
    struct mos_vec told; /* of struct mos_binding_fault: a file may say the same twice */
};

/* Does a node, or one below it that belongs to it, have something of ours? */
static bool is_touched(const struct mos_dt_node *n) {
    bool ours = mos_tree_has_our_node(n);
    for (const struct mos_dt_property *p = n->properties; p && !ours; p = p->next)
        ours = mos_tree_is_ours(p);
    for (const struct mos_dt_node *c = n->first_child; c && !ours; c = c->next)
        ours = !mos_dt_property(c, "compatible") && is_touched(c);
    return ours;
}

static bool is_ours(const struct bound *s, const struct mos_binding_fault *f) {
    if (s->all)
        return true;
    return f->property ? mos_tree_is_ours(f->property) : mos_tree_has_our_node(f->node);
}

static bool was_told(const struct bound *s, const struct mos_binding_fault *f) {
    for (size_t i = 0; i < s->told.count; i++) {
        const struct mos_binding_fault *t = mos_vec_at(&s->told, i);
        if (t->node == f->node && t->property == f->property &&
            (f->missing ? t->missing && strcmp(t->missing, f->missing) == 0
                        : !t->missing && (f->property || strcmp(t->text, f->text) == 0)))
            return true;
    }
    return false;
}

/* The first sentence of a description, on one line. */
static const char *first_sentence(struct mos_arena *arena, const char *text) {
    struct mos_buf b = {.arena = arena};
    for (const char *p = text; *p && b.length < LONGEST_SENTENCE; p++) {
        bool blank = isspace((unsigned char)*p);
        if (blank && (!b.length || b.data[b.length - 1] == ' '))
            continue;
        if (blank && b.length && b.data[b.length - 1] == '.')
            break;
        mos_buf_char(&b, blank ? ' ' : *p);
    }
    while (b.length && b.data[b.length - 1] == ' ')
        b.length--;
    if (b.length && b.data[b.length - 1] != '.')
        mos_buf_text(&b, b.length < LONGEST_SENTENCE ? "." : " …");
    return mos_buf_string(&b);
}

static void tell(struct bound *s, const struct mos_binding_fault *f) {
    struct mos_arena *arena = s->v->arena;
    const char *path = *f->node->name ? mos_tree_path(s->v, f->node) : "/";
    const char *text = f->missing ? mos_printf(arena, "%s of %s %s.", f->missing, path, f->text)
                       : f->property
                           ? mos_printf(arena, "%s of %s %s.", f->property->name, path, f->text)
                           : mos_printf(arena, "%s %s.", path, f->text);
    struct mos_findings *list = s->v->list;
    struct mos_finding *found = mos_find(list, MOS_RULE_TREE_BINDING, "%s", text);
    mos_finding_at(list, found, mos_tree_place(s->v, f->node, f->property));
    mos_finding_at(list, found,
                   f->rule->kind == MOS_NODE_SCALAR ? f->rule->place : f->rule->key_place);
    const char *about = f->description ? first_sentence(arena, f->description->text) : NULL;
    if (about && *about)
        mos_finding_why(list, found, "%s", about);
    if (f->remedy)
        mos_finding_try(list, found, "%s", f->remedy);
    else
        mos_finding_try(list, found, "Set %s as %s says.",
                        f->missing    ? f->missing
                        : f->property ? "it"
                                      : "the node up",
                        f->file->name);
}

static void judge(struct bound *s, const struct mos_dt_node *n) {
    bool first = false;
    const struct mos_binding *file = mos_bindings_of(s->b, n, &first);
    if (!file) {
        s->count->without++;
        return;
    }
    s->count->judged++;
    struct mos_arena *own = mos_arena_child(s->v->arena); /* most of it is thrown away */
    struct mos_vec faults =
        mos_bindings_judge(s->b, file, n, first, &s->v->phandles, own, &s->count->unknown);
    for (size_t i = 0; i < faults.count; i++) {
        const struct mos_binding_fault *f = mos_vec_at(&faults, i);
        if (!is_ours(s, f) || was_told(s, f))
            continue;
        struct mos_binding_fault *kept = mos_vec_push(&s->told);
        *kept = *f;
        kept->text = mos_strdup(s->v->arena, f->text);
        if (s->all || s->told.count <= MOST_TOLD)
            tell(s, f);
    }
    mos_arena_free(own);
}

/* What is off is not looked at, nor what is below it. */
static void judge_below(struct bound *s, const struct mos_dt_node *n) {
    if (!mos_dt_is_on(n))
        return;
    if (mos_dt_property(n, "compatible") && (s->all || is_touched(n)))
        judge(s, n);
    for (const struct mos_dt_node *c = n->first_child; c; c = c->next)
        judge_below(s, c);
}

static void judge_tree(struct mos_tree_view *v, struct mos_bindings *b, bool all,
                       struct mos_bindings_count *count) {
    struct bound s = {v, b, all, count, mos_vec_make(v->arena, sizeof(struct mos_binding_fault))};
    mos_bindings_want(b, v->dt);
    mos_bindings_look(b);
    judge_below(&s, v->dt->root);
    count->unread = b->unread;
    if (!all && s.told.count > MOST_TOLD)
        count->untold += s.told.count - MOST_TOLD;
}

void mos_rules_bindings(struct mos_ctx *ctx, struct mos_bindings *b, struct mos_dt *dt,
                        struct mos_bindings_count *count) {
    struct mos_tree_view v = {.dt = dt, .list = &ctx->findings, .arena = ctx->arena};
    v.phandles = mos_dt_phandles_of(ctx->arena, dt);
    judge_tree(&v, b, true, count);
}

/* A board's trees. */
struct board_trees {
    const struct mos_plan *plan;
    struct mos_bindings *b;
    struct mos_bindings_count count;
};

static void judge_one(void *self, struct mos_dt *dt) {
    struct board_trees *t = self;
    struct mos_ctx *ctx = t->plan->ctx;
    struct mos_tree_view v = {
        .plan = t->plan, .dt = dt, .list = &ctx->findings, .arena = ctx->arena};
    v.phandles = mos_dt_phandles_of(ctx->arena, dt);
    judge_tree(&v, t->b, false, &t->count);
}

static void note(struct mos_ctx *ctx, const char *text) {
    mos_vec_push_pointer(&ctx->not_proved, text);
}

/* Read once for all boards of a worker that name the same kernel. */
static struct mos_bindings *bindings_at(struct mos_ctx *ctx, const char *folder,
                                        const char *shown) {
    struct mos_error error = {0};
    struct mos_ctx quiet = mos_ctx_quiet(ctx, &error);
    struct mos_shared *shared = ctx->shared;
    if (!shared)
        return mos_bindings_open(&quiet, folder, shown);
    if (shared->bindings && strcmp(shared->bindings_folder, folder) == 0)
        return shared->bindings;
    quiet.arena = shared->arena;
    shared->bindings = mos_bindings_open(&quiet, mos_strdup(shared->arena, folder),
                                         mos_strdup(shared->arena, shown));
    shared->bindings_folder = mos_strdup(shared->arena, folder);
    return shared->bindings;
}

void mos_rule_tree_bindings(const struct mos_plan *plan) {
    static const char below[] = "Documentation/devicetree/bindings";
    struct mos_ctx *ctx = plan->ctx;
    if (!plan->kernel_settled.source || !plan->blobs.count)
        return;
    const char *shown = mos_path_join(ctx->arena, plan->board->kernel->source->text, below);
    struct board_trees t = {.plan = plan};
    t.b = bindings_at(ctx, mos_path_join(ctx->arena, plan->kernel_settled.source, below), shown);
    if (!t.b || !t.b->files.count) {
        note(ctx, mos_printf(ctx->arena, "bindings: there are none in %s", shown));
        return;
    }
    for (size_t i = 0; i < plan->blobs.count; i++) {
        const struct mos_blob_plan *blob = mos_vec_pointer(&plan->blobs, i);
        if (blob->tree && !blob->tree->overlay)
            mos_plan_each_tree(plan->self, blob, judge_one, &t);
    }
    if (t.b->hashed)
        mos_stamp_add_hash(ctx->stamp, "the kernel's bindings", t.b->sha256);
    const struct mos_bindings_count *c = &t.count;
    if (c->unread)
        note(ctx, mos_printf(ctx->arena, "bindings: %zu file%s or folder%s cannot be read",
                             c->unread, c->unread == 1 ? "" : "s", c->unread == 1 ? "" : "s"));
    if (c->unknown || c->without)
        note(ctx, mos_printf(ctx->arena,
                             "bindings: %zu of your nodes judged, %zu have none; %zu parts of them "
                             "say what cannot be judged here",
                             c->judged, c->without, c->unknown));
    if (c->untold)
        note(ctx, mos_printf(ctx->arena, "bindings: %zu more breaches, the first %d are told",
                             c->untold, MOST_TOLD));
}
