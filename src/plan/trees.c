/* Device trees: compiled, with the overlays that are applied when the image is built, and tried
 * with those that the loader applies. */
#include "plan/steps.h"

#include "base/text.h"
#include "tree/claims.h"

#include <errno.h>
#include <string.h>

enum { BLOB_LIMIT = 64 << 20 };

/* What keeps a file from being read is the board's business, even where it lies wholly in files
 * from outside: such findings get the place that names the file. */
static void tie_to(struct mos_plan *plan, size_t before, struct mos_place place) {
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = before; i < list->items.count; i++) {
        struct mos_finding *f = mos_vec_pointer(&list->items, i);
        const struct mos_place *first = f->places.count ? mos_vec_at(&f->places, 0) : NULL;
        if (first && first->source && first->source->outside)
            mos_finding_at(list, f, place);
    }
}

static struct mos_cpp_store *sources_of(struct mos_plan *plan) {
    struct mos_arena *arena = plan->ctx->arena;
    const struct mos_list *includes = &plan->board->tree->includes;
    const char **folders = mos_alloc_array(arena, includes->count, sizeof *folders);
    size_t count = 0;
    for (size_t i = 0; i < includes->count; i++)
        if (mos_has(includes->items[i]))
            folders[count++] = includes->items[i]->text;
    return mos_dt_sources(arena, plan->board->root, folders, count);
}

static struct mos_dt *read_tree(struct mos_plan *plan, const struct mos_value *path,
                                const char *what) {
    struct mos_ctx *ctx = plan->ctx;
    if (!plan->sources)
        plan->sources = sources_of(plan);
    char *data;
    size_t length;
    if (!mos_plan_source(plan, path, what) ||
        !mos_read_file(ctx, mos_workspace_path(ctx, plan->board->root, path->text), BLOB_LIMIT,
                       &data, &length))
        return NULL;
    size_t before = ctx->findings.items.count;
    struct mos_dt *dt = mos_dt_is_blob(data, length)
                            ? mos_dt_read_blob(ctx, path->text, data, length)
                            : mos_dt_read_source(ctx, plan->sources, path->text);
    if (!dt)
        tie_to(plan, before, path->place);
    return dt;
}

/* A blob that is a piece: collected into memory. */
struct gather {
    struct mos_buf bytes;
};

static bool gather_entry(void *self, const struct mos_entry *entry) {
    (void)self;
    return entry->size <= BLOB_LIMIT;
}

static bool gather_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct gather *g = self;
    if (offset > g->bytes.length)
        mos_buf_zeros(&g->bytes, (size_t)offset - g->bytes.length);
    mos_buf_add(&g->bytes, bytes, length);
    return true;
}

static bool gather_end(void *self, uint64_t sum) {
    (void)self;
    (void)sum;
    return true;
}

static struct mos_dt *read_piece_tree(struct mos_plan *plan, const struct mos_blob *def) {
    struct mos_piece_plan *p = mos_plan_piece(plan, def->piece->target);
    if (!mos_plan_is_there(p))
        return NULL;
    struct gather g = {{.arena = plan->ctx->arena}};
    struct mos_sink sink = {&g, gather_entry, gather_data, gather_end};
    struct mos_entry as = {.path = p->def->r.name};
    if (!mos_plan_stream_piece(plan, p, &as, &sink))
        return NULL;
    if (p->size > g.bytes.length)
        mos_buf_zeros(&g.bytes, (size_t)p->size - g.bytes.length);
    return mos_dt_read_blob(plan->ctx, p->def->r.name, mos_buf_string(&g.bytes), g.bytes.length);
}

static void form_of_blob(struct mos_plan *plan, const struct mos_blob *def) {
    if (def->r.broken || (def->base != NULL) != (def->piece != NULL))
        return;
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_BOARD_SCHEMA,
                                     "Tree blob %s needs either a base or a piece.", def->r.name);
    mos_finding_at(&plan->ctx->findings, f, def->r.key_place);
    mos_finding_try(&plan->ctx->findings, f, "Write {base: tree/….dts}.");
}

static bool at_boot(const struct mos_overlay *o) {
    return mos_moment_of(o->when) == MOS_MOMENT_BOOT;
}

/* One overlay as it was written; NULL after a finding. */
static struct mos_dt *read_overlay(struct mos_plan *plan, const struct mos_overlay *def) {
    struct mos_dt *overlay = mos_has(def->file) ? read_tree(plan, def->file, def->r.name) : NULL;
    if (!overlay || overlay->overlay)
        return overlay;
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_TREE_SYNTAX,
                                     "Overlay %s is not written as one.", def->r.name);
    mos_finding_at(&plan->ctx->findings, f, def->file->place);
    mos_finding_at(&plan->ctx->findings, f, overlay->place);
    mos_finding_try(&plan->ctx->findings, f, "Write /dts-v1/; /plugin/; in its first line.");
    return NULL;
}

/* Their names, for findings; the base is 0. */
static const char **overlay_names(struct mos_plan *plan) {
    const struct mos_named *overlays = &plan->board->tree->overlays;
    const char **names = mos_alloc_array(plan->ctx->arena, overlays->count + 1, sizeof *names);
    names[0] = "the base";
    for (size_t i = 0; i < overlays->count; i++)
        names[i + 1] = ((const struct mos_overlay *)overlays->items[i])->r.name;
    return names;
}

static unsigned number_of(const struct mos_plan *plan, const struct mos_overlay *def) {
    const struct mos_named *overlays = &plan->board->tree->overlays;
    unsigned n = 1;
    while (n < overlays->count && overlays->items[n - 1] != def)
        n++;
    return n;
}

static void both_applied(struct mos_plan *plan, const struct mos_overlay *a,
                         const struct mos_overlay *b) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_SCHEMA,
                                     "Overlays %s and %s are alternatives, and both are "
                                     "applied.",
                                     a->r.name, b->r.name);
    mos_finding_at(list, f, a->one_of->place);
    mos_finding_at(list, f, b->one_of->place);
    mos_finding_try(list, f,
                    "Write ~%s: in the variant that has the other, or when: boot for both.",
                    b->r.name);
}

/* An overlay may say in its root which boards it is for. */
static void check_board_of(struct mos_plan *plan, const struct mos_overlay *def,
                           const struct mos_dt *base, const struct mos_dt *overlay) {
    const struct mos_dt_property *p = mos_dt_property(overlay->root, "compatible");
    const struct mos_dt_property *own = mos_dt_property(base->root, "compatible");
    if (!p || !own || !p->length || p->data[p->length - 1] ||
        !mos_dt_string(base->root, "compatible"))
        return;
    size_t at = 0;
    for (const char *name; (name = mos_dt_next_string(p, &at));)
        if (mos_dt_is_compatible(base->root, name))
            return;
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_TREE_OTHER_BOARD,
                                     "Overlay %s is for %s, and the tree is that of %s.",
                                     def->r.name, (const char *)p->data, (const char *)own->data);
    f->severity = MOS_SEVERITY_WARNING;
    mos_finding_at(list, f, p->place.source ? p->place : def->file->place);
    mos_finding_at(list, f, own->place.source ? own->place : base->place);
    mos_finding_why(list, f, "Its pins and addresses are those of another board.");
    mos_finding_try(list, f, "Use the overlay of this board, or add its name to that compatible.");
}

/* What labels an overlay brings that is not applied yet. */
static void note_labels(struct mos_dt *base, const struct mos_dt *overlay, const char *name) {
    struct mos_vec labels = mos_dt_labels(overlay);
    for (size_t i = 0; i < labels.count; i++)
        if (!mos_map_get(&base->later, mos_vec_pointer(&labels, i)))
            mos_map_set_const(&base->later, mos_vec_pointer(&labels, i), name);
}

/* Overlays onto a base, in order; NULL ones are left out.  false: one of them does not fit. */
static bool apply_in_order(struct mos_plan *plan, struct mos_dt *base,
                           struct mos_dt *const *overlays, const struct mos_overlay *const *defs,
                           size_t count) {
    const char **names = overlay_names(plan);
    bool whole = true;
    for (size_t i = 0; i < count; i++) {
        if (!overlays[i])
            continue;
        base->later = mos_map_make(base->arena);
        for (size_t k = i + 1; k < count; k++)
            if (overlays[k])
                note_labels(base, overlays[k], defs[k]->r.name);
        check_board_of(plan, defs[i], base, overlays[i]);
        whole &= mos_dt_apply(plan->ctx, base, overlays[i], number_of(plan, defs[i]), names);
    }
    base->later = mos_map_make(base->arena);
    return whole;
}

/* Those of the build, in order; of alternatives there may be one. */
static void apply_at_build(struct mos_plan *plan, struct mos_dt *base) {
    const struct mos_named *all = &plan->board->tree->overlays;
    struct mos_dt **read = mos_alloc_array(plan->ctx->arena, all->count, sizeof *read);
    for (size_t i = 0; i < all->count; i++)
        read[i] = at_boot(all->items[i]) ? NULL : read_overlay(plan, all->items[i]);
    apply_in_order(plan, base, read, (const struct mos_overlay *const *)all->items, all->count);
}

static void check_alternatives(struct mos_plan *plan) {
    const struct mos_named *overlays = &plan->board->tree->overlays;
    for (size_t i = 0; i < overlays->count; i++)
        for (size_t k = i + 1; k < overlays->count; k++) {
            const struct mos_overlay *a = overlays->items[i], *b = overlays->items[k];
            if (mos_has(a->one_of) && mos_has(b->one_of) && !at_boot(a) && !at_boot(b) &&
                strcmp(a->one_of->text, b->one_of->text) == 0)
                both_applied(plan, a, b);
        }
}

/* Those of the boot become files of their own, once for all trees. */
static void keep_boot_overlays(struct mos_plan *plan) {
    const struct mos_named *overlays = &plan->board->tree->overlays;
    for (size_t i = 0; i < overlays->count; i++) {
        const struct mos_overlay *def = overlays->items[i];
        struct mos_dt *overlay = at_boot(def) ? read_overlay(plan, def) : NULL;
        if (!overlay)
            continue;
        struct mos_overlay_plan *o = mos_alloc(plan->ctx->arena, sizeof *o);
        *o = (struct mos_overlay_plan){.def = def, .blob = {.arena = plan->ctx->arena}};
        mos_dt_write_overlay(plan->ctx, overlay, true, &o->blob);
        mos_vec_push_pointer(&plan->boot_overlays, o);
    }
}

/* ---- what the loader will make of a tree ---- */

enum { MOST_COMBINATIONS = 256, MOST_GROUPS = 16 };

/* Alternatives among the overlays of the boot: of each group one is chosen, or none. */
struct groups {
    const char *names[MOST_GROUPS];
    size_t members[MOST_GROUPS], count;
};

static size_t group_of(const struct groups *g, const char *name) {
    size_t i = 0;
    while (i < g->count && strcmp(g->names[i], name) != 0)
        i++;
    return i;
}

static struct groups find_groups(const struct mos_plan *plan) {
    struct groups g = {.count = 0};
    for (size_t i = 0; i < plan->boot_overlays.count; i++) {
        const struct mos_overlay_plan *o = mos_vec_pointer(&plan->boot_overlays, i);
        if (!mos_has(o->def->one_of))
            continue;
        size_t k = group_of(&g, o->def->one_of->text);
        if (k == MOST_GROUPS)
            continue;
        if (k == g.count)
            g.names[g.count++] = o->def->one_of->text;
        g.members[k]++;
    }
    return g;
}

/* The same finding of several combinations is told once. */
static void forget_repeated(struct mos_findings *list, size_t from) {
    size_t to = from;
    for (size_t i = from; i < list->items.count; i++) {
        struct mos_finding *f = mos_vec_pointer(&list->items, i);
        bool again = false;
        for (size_t k = 0; k < to && !again; k++) {
            const struct mos_finding *g = mos_vec_pointer(&list->items, k);
            again = g->rule == f->rule && strcmp(g->message, f->message) == 0;
        }
        if (!again)
            ((struct mos_finding **)list->items.items)[to++] = f;
    }
    list->items.count = to;
}

/* One combination, on a copy of the tree: chosen[g] is the member of group g, from 1; 0: none.
 * NULL: an overlay of it cannot be applied. */
static struct mos_dt *combine(struct mos_plan *plan, struct mos_arena *arena,
                              const struct mos_dt *base, const struct groups *g,
                              const size_t *chosen) {
    size_t seen[MOST_GROUPS] = {0}, count = plan->boot_overlays.count;
    struct mos_dt *copy = mos_dt_copy(arena, base);
    struct mos_dt **read = mos_alloc_array(arena, count, sizeof *read);
    const struct mos_overlay **defs = mos_alloc_array(arena, count, sizeof *defs);
    for (size_t i = 0; i < count; i++) {
        defs[i] = ((struct mos_overlay_plan *)mos_vec_pointer(&plan->boot_overlays, i))->def;
        size_t k = mos_has(defs[i]->one_of) ? group_of(g, defs[i]->one_of->text) : MOST_GROUPS;
        bool in = k >= g->count || ++seen[k] == chosen[k];
        read[i] = in ? read_overlay(plan, defs[i]) : NULL;
    }
    return apply_in_order(plan, copy, read, defs, count) ? copy : NULL;
}

/* Every combination that can be reached, each by itself and never their union. */
static void each_combination(struct mos_plan *plan, const struct mos_blob_plan *b,
                             void (*each)(void *self, struct mos_dt *dt), void *self) {
    struct groups g = find_groups(plan);
    size_t chosen[MOST_GROUPS] = {0}, tried = 0, k = 0;
    if (!plan->boot_overlays.count)
        return;
    while (k < g.count || !tried) {
        size_t before = plan->ctx->findings.items.count;
        if (tried++ == MOST_COMBINATIONS) {
            if (!each)
                mos_vec_push_pointer(&plan->ctx->not_proved,
                                     mos_printf(plan->ctx->arena,
                                                "combinations of overlays beyond the first %d",
                                                MOST_COMBINATIONS));
            return;
        }
        struct mos_arena *arena = mos_arena_child(plan->ctx->arena);
        struct mos_dt *dt = combine(plan, arena, b->tree, &g, chosen);
        if (each) /* what cannot be applied was told before */
            plan->ctx->findings.items.count = before;
        if (each && dt)
            each(self, dt);
        mos_arena_free(arena);
        forget_repeated(&plan->ctx->findings, before);
        for (k = 0; k < g.count && ++chosen[k] > g.members[k]; k++)
            chosen[k] = 0;
    }
}

void mos_plan_each_tree(struct mos_plan *plan, const struct mos_blob_plan *b,
                        void (*each)(void *self, struct mos_dt *dt), void *self) {
    each(self, b->tree);
    each_combination(plan, b, each, self);
}

bool mos_plan_trees(struct mos_plan *plan) {
    const struct mos_trees *t = plan->board->tree;
    if (t) {
        check_alternatives(plan);
        keep_boot_overlays(plan);
    }
    for (size_t i = 0; t && i < t->blobs.count; i++) {
        struct mos_blob_plan *b = mos_alloc(plan->ctx->arena, sizeof *b);
        b->def = t->blobs.items[i];
        b->blob.arena = plan->ctx->arena;
        mos_vec_push_pointer(&plan->blobs, b);
        form_of_blob(plan, b->def);
        size_t before = mos_findings_count(&plan->ctx->findings, MOS_SEVERITY_ERROR);
        struct mos_dt *base = NULL;
        if (mos_has(b->def->base))
            base = read_tree(plan, b->def->base, b->def->r.name);
        else if (mos_has(b->def->piece))
            base = read_piece_tree(plan, b->def);
        if (!base)
            continue;
        if (!base->from_blob) {
            base->place = b->def->base->place;
            mos_dt_resolve(plan->ctx, base);
        }
        apply_at_build(plan, base);
        mos_plan_tell_flash(plan, base);
        if (mos_findings_count(&plan->ctx->findings, MOS_SEVERITY_ERROR) != before)
            continue;
        mos_dt_write_blob(plan->ctx, base, t->overlays.count != 0, &b->blob);
        b->tree = base;
        each_combination(plan, b, NULL, NULL);
    }
    return plan->ctx->error->kind == MOS_ERROR_NONE;
}
