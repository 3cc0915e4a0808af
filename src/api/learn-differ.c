/* What a board's definition says otherwise than the board itself: findings with both places. */
#include "api/learn.h"

#include "base/bytes.h"
#include "base/text.h"
#include "kconfig/fragment.h"
#include "plan/plan.h"
#include "tree/text.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_OF_A_KIND = 8, LONGEST = 120 };

struct differ {
    struct learn_job *j;
    const struct mos_plan *plan;
    struct mos_dt *tree;
    struct mos_dt_phandles phandles, told_phandles; /* of it, and of what was told */
    size_t compared, differ;
    size_t kind; /* findings of the kind that is compared now; the rest are counted */
};

/* ---- one difference ---- */

static const char *short_text(struct differ *d, const char *text) {
    return strlen(text) > LONGEST ? mos_printf(d->j->m->arena, "%.*s…", LONGEST, text) : text;
}

static void differs(struct differ *d, struct mos_place place, const char *what, const char *stated,
                    const char *told, const char *asked) {
    struct mos_findings *list = &d->j->m->ctx.findings;
    struct mos_arena *a = d->j->m->arena;
    d->differ++;
    if (++d->kind > MOST_OF_A_KIND)
        return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOARD_LEARNED, "The board has another %s than stated.", what);
    mos_finding_at(list, f, place);
    mos_finding_at(
        list, f,
        (struct mos_place){.thing = mos_printf(a, "the board: %s%s%s", short_text(d, told),
                                               asked ? ", asked by: " : "",
                                               asked ? short_text(d, asked) : "")});
    mos_finding_why(list, f, "Stated is: %s.", short_text(d, stated));
    mos_finding_try(list, f,
                    "Change what the definition says, or look whether it is the right "
                    "board, loader or kernel.");
}

/* Of a kind there may be hundreds: one more finding says how many. */
static void end_kind(struct differ *d, const char *what, struct mos_place place) {
    struct mos_findings *list = &d->j->m->ctx.findings;
    if (d->kind > MOST_OF_A_KIND) {
        struct mos_finding *f =
            mos_find(list, MOS_RULE_BOARD_LEARNED, "The board differs in %zu more %s.",
                     d->kind - MOST_OF_A_KIND, what);
        mos_finding_at(list, f, place);
        mos_finding_try(list, f,
                        "Compare what learn -o FOLDER writes with the files that the "
                        "definition names.");
    }
    d->kind = 0;
}

/* Stated, and the board did not tell it: it is counted, and not taken for right. */
static void not_told(struct differ *d, const char *what) {
    mos_vec_push_pointer(
        &d->j->m->not_proved,
        mos_printf(d->j->m->arena, "whether %s as stated: the board did not tell", what));
}

static const char *asked_for(struct differ *d, const char *fact) {
    for (size_t i = 0; i < d->j->l.facts.count; i++) {
        const struct mos_told *t = mos_vec_at(&d->j->l.facts, i);
        if (strcmp(t->name, fact) == 0)
            return t->asked;
    }
    return NULL;
}

/* A value that is stated, and one that was told; either may be NULL. */
static void compare_text(struct differ *d, const struct mos_value *stated, const char *told,
                         const char *fact) {
    if (!mos_has(stated) || !told)
        return;
    d->compared++;
    if (strcmp(stated->text, told) != 0)
        differs(d, stated->place, fact, stated->text, told, asked_for(d, fact));
}

/* ---- hardware ---- */

/* "2023.01" is what "2023.01+dfsg-2" begins with. */
static void compare_version(struct differ *d, const struct mos_value *stated, const char *told) {
    size_t n = mos_has(stated) ? strlen(stated->text) : 0;
    if (!n || !told)
        return;
    d->compared++;
    if (strncmp(stated->text, told, n) != 0 || (told[n] >= '0' && told[n] <= '9'))
        differs(d, stated->place, "version", stated->text, told, asked_for(d, "version"));
}

static bool has_size(const struct mos_ram *r, uint64_t size) {
    for (size_t i = 0; i < r->sizes.count; i++)
        if (mos_has(r->sizes.items[i]) && (uint64_t)r->sizes.items[i]->number == size)
            return true;
    return !r->sizes.count;
}

/* "256 MiB or 512 MiB at 0x40000000" */
static const char *sizes_text(struct differ *d, const struct mos_ram *r) {
    struct mos_arena *a = d->j->m->arena;
    struct mos_buf b = {.arena = a};
    for (size_t i = 0; i < r->sizes.count; i++)
        mos_buf_printf(&b, "%s%s", i ? " or " : "", mos_text_or(r->sizes.items[i], "?"));
    mos_buf_printf(&b, " at %s", mos_text_or(r->start, "?"));
    return mos_buf_string(&b);
}

static void compare_ram(struct differ *d, const struct mos_hardware *h) {
    struct mos_arena *a = d->j->m->arena;
    const char *asked = d->j->l.ram_asked;
    for (size_t i = 0; h->ram.count && i < d->j->l.ram.count; i++) {
        const struct mos_told_span *t = mos_vec_at(&d->j->l.ram, i);
        const struct mos_ram *same = NULL, *first = h->ram.items[0];
        for (size_t k = 0; k < h->ram.count; k++) {
            const struct mos_ram *r = h->ram.items[k];
            if (mos_has(r->start) && (uint64_t)r->start->number == t->start)
                same = r;
        }
        const char *told =
            mos_printf(a, "%s at %s", mos_size_text(a, t->length), mos_address_text(a, t->start));
        d->compared++;
        if (!same)
            differs(d, first->r.key_place, "range of RAM", sizes_text(d, first), told, asked);
        else if (!has_size(same, t->length))
            differs(d, same->r.key_place, "size of RAM", sizes_text(d, same), told, asked);
    }
}

static const struct mos_told_medium *told_medium(struct differ *d, const struct mos_medium *m) {
    for (size_t i = 0; i < d->j->l.media.count; i++) {
        const struct mos_told_medium *t = mos_vec_at(&d->j->l.media, i);
        const struct mos_value *name = t->loader ? m->loader : m->kernel;
        if (mos_has(name) && strcmp(name->text, t->loader ? t->loader : t->kernel) == 0)
            return t;
    }
    return NULL;
}

/* A card may be larger than the smallest that will do; smaller it must not be. */
static void compare_size(struct differ *d, const struct mos_medium *m,
                         const struct mos_told_medium *t) {
    struct mos_arena *a = d->j->m->arena;
    const struct mos_value *size = m->size ? m->size->at_least : NULL;
    if (!mos_has(size) || !t->size)
        return;
    d->compared++;
    if (t->size + t->blur < (uint64_t)size->number)
        differs(d, size->place, mos_printf(a, "size of %s", m->r.name), size->text,
                mos_size_text(a, t->size), t->asked);
}

static void compare_partitions(struct differ *d, const struct mos_medium_plan *m,
                               const struct mos_told_medium *t) {
    struct mos_arena *a = d->j->m->arena;
    if (!t->table || !m->table)
        return;
    d->compared++;
    if (strcmp(t->table, m->table->name) != 0)
        differs(d, m->def->r.key_place, "kind of table", m->table->name, t->table, t->table_asked);
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
        const struct mos_told_partition *same = NULL;
        for (size_t k = 0; r->number && k < t->partitions.count; k++) {
            const struct mos_told_partition *p = mos_vec_at(&t->partitions, k);
            same = p->number == r->number ? p : same;
        }
        if (!r->number || !r->placed)
            continue;
        d->compared++;
        const char *stated =
            mos_printf(a, "%s at %s", mos_size_text(a, r->length), mos_size_text(a, r->start));
        const char *what = mos_printf(a, "partition %u", r->number);
        bool grows = mos_true(r->def->grows) || (mos_has(r->def->size) && r->def->size->rest);
        if (!same)
            differs(d, r->place, what, stated, "none", t->table_asked);
        else if (same->start != r->start || (same->length != r->length && !grows))
            differs(d, r->place, what, stated,
                    mos_printf(a, "%s at %s", mos_size_text(a, same->length),
                               mos_size_text(a, same->start)),
                    t->table_asked);
    }
}

static void compare_media(struct differ *d) {
    for (size_t i = 0; i < d->plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&d->plan->media, i);
        const struct mos_told_medium *t = m->medium ? told_medium(d, m->medium) : NULL;
        if (m->medium && !m->area && !t)
            not_told(d, mos_printf(d->j->m->arena, "medium %s is", m->name));
        if (!t || m->area)
            continue;
        compare_size(d, m->medium, t);
        compare_partitions(d, m, t);
        end_kind(d, "partitions", m->def->r.key_place);
    }
}

static void compare_hardware(struct differ *d, const struct mos_hardware *h) {
    const struct mos_learned *l = &d->j->l;
    struct mos_arena *a = d->j->m->arena;
    compare_text(d, h->cpu, l->cpu, "processor");
    if (!l->dialect) /* a loader's own tree may be of the board that it was made from */
        compare_text(d, h->compatible, l->compatible, "compatible");
    if (l->cores)
        compare_text(d, h->cores, mos_printf(a, "%u", l->cores), "cores");
    if (h->console)
        compare_text(d, h->console->port, l->console, "console");
    end_kind(d, "values", h->r.key_place);
    if (h->ram.count && !l->ram.count)
        not_told(d, "RAM is");
    compare_ram(d, h);
    end_kind(d, "ranges of RAM", h->r.key_place);
}

/* ---- configurations ---- */

/* Texts, or numbers that are written differently. */
static bool same_value(const char *a, const char *b) {
    char *end_a, *end_b;
    if (strcmp(a, b) == 0)
        return true;
    unsigned long long x = strtoull(a, &end_a, 0), y = strtoull(b, &end_b, 0);
    return end_a > a && end_b > b && !*end_a && !*end_b && x == y;
}

static void compare_symbol(struct differ *d, const struct mos_setting *s, const char *told,
                           const char *asked) {
    d->compared++;
    if (!same_value(s->value, told))
        differs(d, s->place, s->symbol, s->value, told, asked);
}

/* Settings of a whole configuration that was told; what it does not name is off. */
static void compare_config(struct differ *d, const struct mos_map *stated, const char *text,
                           size_t length, const char *what, const char *asked) {
    struct mos_error ignored;
    struct mos_ctx quiet = mos_ctx_quiet(&d->j->m->ctx, &ignored);
    struct mos_source *source = mos_source_make(d->j->m->arena, what, text, length, 0);
    struct mos_config_part *part = mos_config_read(&quiet, what, source);
    struct mos_map told = mos_config_merge(&quiet, &part, 1);
    if (!told.count)
        not_told(d, mos_printf(d->j->m->arena, "%s is", what));
    for (size_t i = 0; told.count && i < stated->count; i++) {
        const struct mos_setting *s = stated->items[i].value;
        const struct mos_setting *t = mos_map_get(&told, s->symbol);
        compare_symbol(d, s, t ? t->value : "n", asked);
    }
}

static void compare_loader(struct differ *d, const struct mos_loader *loader) {
    const struct mos_learned *l = &d->j->l;
    const struct mos_map *stated = &d->plan->loader_config;
    compare_version(d, loader->version, l->version);
    if (l->config)
        compare_config(d, stated, l->config, strlen(l->config), "the loader's configuration",
                       "config");
    for (size_t i = 0; !l->config && i < stated->count; i++) {
        const struct mos_setting *s = stated->items[i].value;
        const struct mos_told *t = mos_map_get(&l->symbols, s->symbol);
        if (t)
            compare_symbol(d, s, t->value, t->asked);
    }
    end_kind(d, "symbols of the loader's configuration", loader->r.key_place);
}

/* Those that are compiled in, or stored: whichever the board had. */
static void compare_variables(struct differ *d, const struct mos_loader *loader) {
    const struct mos_learned *l = &d->j->l;
    const struct mos_environment_plan *e =
        d->plan->environments.count ? mos_vec_pointer(&d->plan->environments, 0) : NULL;
    const struct mos_map *stated = l->variables_are == MOS_VARIABLES_COMPILED ? &d->plan->defaults
                                   : l->variables_are == MOS_VARIABLES_STORED && e ? &e->variables
                                                                                   : NULL;
    if (!stated || !l->variables.count) {
        mos_vec_push_pointer(
            &d->j->m->not_proved,
            !l->variables.count
                ? "whether the loader's variables are as stated: it did not tell them"
            : l->variables_are == MOS_VARIABLES_STORED
                ? "whether the loader's variables are as stated: the board has stored ones, and no "
                  "environment is stated"
                : "whether the loader's variables are as stated: it is not known whether they are "
                  "stored or compiled in; learn knows when it hears the loader start");
        return;
    }
    for (size_t i = 0; i < stated->count; i++) {
        const struct mos_loader_variable *v = stated->items[i].value;
        const char *told = mos_map_get(&l->variables, v->name);
        bool own = d->j->l.dialect->language.sets && d->j->l.dialect->language.sets(v->name);
        if (own && !told)
            continue;
        d->compared++;
        if (!told || strcmp(told, v->value) != 0)
            differs(d, v->place, mos_printf(d->j->m->arena, "variable %s", v->name), v->value,
                    told ? told : "none", "printenv");
    }
    end_kind(d, "variables", loader->r.key_place);
}

/* ---- the system ---- */

static void compare_arguments(struct differ *d) {
    const char *told = d->j->l.arguments;
    const struct mos_entry_plan *first =
        d->plan->entries.count ? mos_vec_pointer(&d->plan->entries, 0) : NULL;
    if (!told || !first || !first->step.arguments)
        return;
    d->compared++;
    for (size_t i = 0; i < d->plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&d->plan->entries, i);
        if (e->step.arguments && strcmp(e->step.arguments, told) == 0)
            return;
    }
    differs(d, first->def->r.key_place, "command line", first->step.arguments, told,
            asked_for(d, "arguments"));
}

/* The properties that say what a node is, and whether it is used. */
static bool compare_node(void *self, struct mos_dt_node *node) {
    static const char *const names[] = {"compatible", "status", "reg", "interrupts", NULL};
    struct differ *d = self;
    struct mos_arena *a = d->j->m->arena;
    const char *path = mos_dt_path(a, node), *type = mos_dt_string(node, "device_type");
    const struct mos_dt_node *told = mos_dt_find(d->j->tree, path);
    if (strcmp(path, "/chosen") == 0 || (type && strcmp(type, "memory") == 0))
        return true; /* the loader writes there */
    d->compared++;
    if (!told) {
        differs(d, node->place, mos_printf(a, "tree: node %s", path), "it is there",
                "there is none", NULL);
        return true;
    }
    for (const char *const *name = names; *name; name++) {
        const struct mos_dt_property *p = mos_dt_property(node, *name);
        const struct mos_dt_property *q = mos_dt_property(told, *name);
        if (p && (!q || p->length != q->length || memcmp(p->data, q->data, p->length) != 0))
            differs(d, p->place, mos_printf(a, "tree: %s of %s", *name, path),
                    mos_dt_shown_value(a, d->tree, &d->phandles, node, p),
                    q ? mos_dt_shown_value(a, d->j->tree, &d->told_phandles, told, q) : "none",
                    NULL);
    }
    return true;
}

static void compare_trees(struct differ *d, struct mos_dt *stated) {
    d->tree = stated;
    d->phandles = mos_dt_phandles_of(d->j->m->arena, stated);
    d->told_phandles = mos_dt_phandles_of(d->j->m->arena, d->j->tree);
    mos_dt_walk(stated->root, compare_node, d);
}

static void compare_system(struct differ *d) {
    const struct mos_board *b = d->plan->board;
    const struct mos_learned *l = &d->j->l;
    const struct mos_entry_plan *e =
        d->plan->entries.count ? mos_vec_pointer(&d->plan->entries, 0) : NULL;
    if (b->kernel)
        compare_text(d, b->kernel->release, l->release, "kernel's release");
    if (b->system)
        compare_text(d, b->system->host_name, l->host_name, "host name");
    compare_arguments(d);
    end_kind(d, "values", b->r.key_place);
    if (d->plan->has_config && l->kernel_config.length)
        compare_config(d, &d->plan->config, l->kernel_config.data, l->kernel_config.length,
                       "the kernel's configuration", asked_for(d, "kernel's configuration"));
    end_kind(d, "symbols of the kernel's configuration", b->r.key_place);
    if (e && e->tree && e->tree->tree && d->j->tree)
        compare_trees(d, e->tree->tree);
    end_kind(d, "nodes of the tree", b->r.key_place);
}

bool learn_differ(struct learn_job *j) {
    struct differ d = {.j = j};
    const struct mos_selection *s = run_select_one(j->m, j->request->name, "learn");
    struct run_task *t = s ? run_one(j->m, s) : NULL;
    d.plan = t ? run_plan_alone(t) : NULL;
    if (!d.plan) {
        if (t) { /* its findings say why */
            run_finish(t);
            run_collect(j->m, t->result, 1, false);
        }
        return false;
    }
    const struct mos_board *b = d.plan->board;
    j->m->ctx.findings.selector = s->text;
    if (b->hardware)
        compare_hardware(&d, b->hardware);
    if (j->l.dialect && b->loader) {
        compare_loader(&d, b->loader);
        compare_variables(&d, b->loader);
    }
    if (!j->l.dialect)
        compare_system(&d);
    compare_media(&d);
    run_publish_workspace(j->m);
    run_merge(j->m);
    j->compared = d.compared;
    j->differ = d.differ;
    return true;
}
