#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

struct loader_view {
    const struct mos_plan *plan;
    const struct mos_environment_plan *env;
    const struct mos_loader_language *language;
    struct mos_findings *list;
    struct mos_arena *arena;
    struct mos_map told; /* names that have their finding */
};

static void too_big(const struct loader_view *v, uint64_t limit, struct mos_place place,
                    const char *what) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LOADER_ENV_TOO_BIG, "Environment %s needs %s, %s has %s.",
                 v->env->def->r.name,
                 mos_size_exact(v->arena, v->env->needed > limit ? v->env->needed : v->env->size),
                 what, mos_size_exact(v->arena, limit));
    mos_finding_at(v->list, f, place);
    mos_finding_at(v->list, f, v->env->def->r.key_place);
    mos_finding_why(v->list, f, "%zu variable%s with names and a sum are stored as one block.",
                    v->env->variables.count, v->env->variables.count == 1 ? "" : "s");
    mos_finding_try(v->list, f,
                    "Set a larger size (the loader must be built with the same), or fewer values.");
}

static void check_sizes(const struct loader_view *v) {
    if (!v->env->size)
        return;
    if (v->env->needed > v->env->size) {
        too_big(v, v->env->size, v->env->def->size->place, "its block");
        return;
    }
    for (size_t m = 0; m < v->plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&v->plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            if (r->environment == v->env && r->length && r->length < v->env->size)
                too_big(v, r->length, r->def->size ? r->def->size->place : r->def->r.key_place,
                        mos_printf(v->arena, "region %s", r->name));
        }
    }
}

/* Every name that any of these texts sets, besides the variables themselves. */
static struct mos_map set_inside(const struct loader_view *v) {
    struct mos_map names = mos_map_make(v->arena);
    for (size_t i = 0; i < v->env->variables.count; i++) {
        const struct mos_loader_variable *s = v->env->variables.items[i].value;
        struct mos_vec uses = v->language->variables(v->arena, s->value, strlen(s->value));
        for (size_t k = 0; k < uses.count; k++) {
            const struct mos_variable_use *u = mos_vec_at(&uses, k);
            if (u->kind == MOS_USE_SET)
                mos_map_set_const(&names, u->name, s);
        }
    }
    return names;
}

static void undefined(struct loader_view *v, const struct mos_loader_variable *s,
                      const struct mos_variable_use *u, const char *const *names, size_t count) {
    if (mos_map_get(&v->told, u->name))
        return;
    mos_map_set_const(&v->told, u->name, s);
    struct mos_place place = s->place;
    if (place.source && place.length >= u->length)
        for (size_t i = 0; i + u->length <= place.length; i++) /* the name itself, if it is there */
            if (memcmp(place.source->text + place.offset + i, u->name, u->length) == 0) {
                place.offset += i;
                place.length = u->length;
                break;
            }
    struct mos_finding *f = mos_find(v->list, MOS_RULE_LOADER_ENV_UNDEFINED,
                                     "Variable %s uses %s, which nothing sets.", s->name, u->name);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f,
                    u->kind == MOS_USE_RUN
                        ? "The loader would stop there with \"not defined\"."
                        : "The loader takes an empty text instead, without a word.");
    const char *near = mos_near(u->name, names, count);
    if (near)
        mos_finding_try(v->list, f, "Write %s.", near);
    else
        mos_finding_try(v->list, f, "Set %s in this environment, or remove its use.", u->name);
}

static void check_uses(struct loader_view *v) {
    const struct mos_map *all = &v->env->variables;
    struct mos_map inside = set_inside(v);
    const char **names = mos_alloc_array(v->arena, all->count, sizeof *names);
    for (size_t i = 0; i < all->count; i++)
        names[i] = all->items[i].key;
    for (size_t i = 0; i < all->count; i++) {
        const struct mos_loader_variable *s = all->items[i].value;
        struct mos_vec uses = v->language->variables(v->arena, s->value, strlen(s->value));
        for (size_t k = 0; k < uses.count; k++) {
            const struct mos_variable_use *u = mos_vec_at(&uses, k);
            if ((u->kind == MOS_USE_VALUE || u->kind == MOS_USE_RUN) &&
                !mos_map_get(all, u->name) && !mos_map_get(&inside, u->name) &&
                !v->language->sets(u->name))
                undefined(v, s, u, names, all->count);
        }
    }
}

/* ---- base ---- */

static void check_base(const struct loader_view *v) {
    const struct mos_environment *d = v->env->def;
    if (d->base || d->r.broken)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_LOADER_ENV_WITHOUT_BASE,
                                     "Environment %s does not say what it is added to.", d->r.name);
    mos_finding_at(v->list, f, d->r.key_place);
    mos_finding_why(v->list, f,
                    "A stored environment replaces the compiled-in one as a whole: the loader "
                    "would know nothing but %zu variable%s.",
                    v->env->variables.count, v->env->variables.count == 1 ? "" : "s");
    mos_finding_try(v->list, f, "Set base: defaults, or base: none if that is meant.");
}

/* ---- circles ---- */

enum { MOST_DEPTH = 32 };

/* Follows `run` from a variable; true when it comes back to the first on the path. */
static bool goes_round(const struct loader_view *v, const struct mos_loader_variable **path,
                       size_t depth) {
    const struct mos_loader_variable *s = path[depth - 1];
    struct mos_vec uses = v->language->variables(v->arena, s->value, strlen(s->value));
    for (size_t i = 0; i < uses.count && depth < MOST_DEPTH; i++) {
        const struct mos_variable_use *u = mos_vec_at(&uses, i);
        if (u->kind != MOS_USE_RUN)
            continue;
        if (strcmp(u->name, path[0]->name) == 0) {
            path[depth] = NULL;
            return true;
        }
        const struct mos_loader_variable *next = mos_map_get(&v->env->variables, u->name);
        bool seen = !next;
        for (size_t k = 0; k < depth; k++)
            seen |= path[k] == next;
        if (seen)
            continue;
        path[depth] = next;
        if (goes_round(v, path, depth + 1))
            return true;
    }
    return false;
}

static void check_circles(struct loader_view *v) {
    const struct mos_loader_variable *path[MOST_DEPTH + 1];
    for (size_t i = 0; i < v->env->variables.count; i++) {
        path[0] = v->env->variables.items[i].value;
        if (mos_map_get(&v->told, path[0]->name) || !goes_round(v, path, 1))
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_LOADER_ENV_CYCLE, "Variable %s runs itself.", path[0]->name);
        for (size_t k = 0; path[k]; k++) {
            mos_finding_at(v->list, f, path[k]->place);
            mos_map_set_const(&v->told, path[k]->name, path[k]);
        }
        mos_finding_why(v->list, f, "The loader would go round until its stack is used up.");
        mos_finding_try(v->list, f, "Remove one of these run commands.");
    }
}

/* ---- against the hardware ---- */

static void check_limits(const struct loader_view *v) {
    const struct mos_hardware *h = v->plan->board->hardware;
    const char *const *names =
        v->plan->dialect ? v->plan->dialect->symbols.relocation_limits : NULL;
    if (!h || !mos_has(h->cpu))
        return;
    size_t digits = strstr(h->cpu->text, "64") ? 16 : 8;
    for (; names && *names; names++) {
        const struct mos_loader_variable *s = mos_map_get(&v->env->variables, *names);
        if (!s || strncmp(s->value, "0x", 2) != 0)
            continue;
        size_t n = strspn(s->value + 2, "fF");
        if (s->value[2 + n] || n == digits || n < 8)
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_LOADER_HIGH_MISTYPED,
                                         "%s has %zu digits; \"do not move\" has %zu on %s.",
                                         s->name, n, digits, h->cpu->text);
        mos_finding_at(v->list, f, s->place);
        mos_finding_at(v->list, f, h->cpu->place);
        mos_finding_why(v->list, f, "It is taken as an address, and things are moved below it.");
        mos_finding_try(v->list, f, "Write 0x%.*s.", (int)digits, "ffffffffffffffff");
    }
}

/* ---- what a menu needs ---- */

static bool is_set(const struct mos_plan *plan, const char *name) {
    bool set = plan->has_defaults && mos_map_get(&plan->defaults, name);
    for (size_t i = 0; i < plan->environments.count; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        set = mos_map_get(&e->variables, name) != NULL; /* it hides what is compiled in */
    }
    return set;
}

/* The loader reads each file of a menu's entry to where a variable says. */
static void check_menu(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    struct mos_findings *list = &plan->ctx->findings;
    bool tree = false, ramdisk = false;
    if (!b || !plan->dialect || !mos_board_is_via(plan->board, MOS_VIA_MENU) ||
        (!plan->has_defaults && !plan->environments.count))
        return;
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        tree |= e->tree != NULL;
        ramdisk |= e->ramdisk != NULL;
    }
    const char *const *names = plan->dialect->symbols.address_of;
    const struct {
        const char *name, *what;
        bool needed;
    } rows[] = {
        {names[0], "the kernel", plan->entries.count != 0},
        {names[1], "the tree", tree},
        {names[2], "the ramdisk", ramdisk},
        {plan->dialect->symbols.overlay_address, "overlays", plan->boot_overlays.count != 0}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        if (!rows[i].needed || !rows[i].name || is_set(plan, rows[i].name))
            continue;
        struct mos_finding *f =
            mos_find(list, MOS_RULE_LOADER_ENV_UNDEFINED,
                     "The menu needs the variable %s for %s, and nothing sets it.", rows[i].name,
                     rows[i].what);
        mos_finding_at(list, f, b->via->place);
        mos_finding_why(list, f, "The loader reads the file to where that variable says.");
        mos_finding_try(list, f, "Set %s: \"0x…\" among the values of the environment.",
                        rows[i].name);
    }
}

static void check_speed(const struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    const struct mos_setting *s =
        plan->dialect ? mos_plan_loader_symbol(plan, plan->dialect->symbols.baud) : NULL;
    const struct mos_console *c = h ? h->console : NULL;
    const struct mos_value *baud = !c ? NULL : mos_has(c->loader_baud) ? c->loader_baud : c->baud;
    if (!s || !mos_has(baud) || strcmp(s->value, baud->text) == 0)
        return;
    struct mos_finding *f = mos_find(
        &plan->ctx->findings, MOS_RULE_LOADER_SPEED,
        baud == c->baud ? "The loader was built for %s bits a second, the console runs at %s."
                        : "The loader was built for %s bits a second, and is said to run at %s.",
        s->value, baud->text);
    mos_finding_at(&plan->ctx->findings, f, baud->place);
    mos_finding_at(&plan->ctx->findings, f, s->place);
    mos_finding_why(&plan->ctx->findings, f, "One of the two would print nothing readable.");
    mos_finding_try(&plan->ctx->findings, f,
                    baud == c->baud
                        ? "Set baud: %s; or loader-baud: %s, where the kernel changes it."
                        : "Set loader-baud: %s.",
                    s->value, s->value);
}

/* ---- choices at boot ---- */

/* Is all known that the loader has when it starts? */
static bool knows_variables(const struct mos_plan *plan) {
    bool known = plan->has_defaults;
    for (size_t i = 0; i < plan->environments.count; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        known |= mos_base_of(e->def->base) == MOS_BASE_NONE;
    }
    return known;
}

static void check_choice(const struct mos_plan *plan, const struct mos_value *variable,
                         const char *what) {
    struct mos_findings *list = &plan->ctx->findings;
    if (!mos_has(variable) || mos_plan_loader_variable(plan, variable->text))
        return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_CHOICE_UNSET, "Variable %s chooses %s, and nothing sets it.",
                 variable->text, what);
    mos_finding_at(list, f, variable->place);
    mos_finding_try(list, f, "Set %s among the values of the environment, or on each board.",
                    variable->text);
}

static void check_choices(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    const char *told = NULL;
    if (!b || !knows_variables(plan))
        return;
    if (b->trees)
        check_choice(plan, b->trees->variable, "the tree");
    for (size_t i = 0; i < plan->boot_overlays.count; i++) {
        const struct mos_overlay *o =
            ((struct mos_overlay_plan *)mos_vec_pointer(&plan->boot_overlays, i))->def;
        if (mos_has(o->one_of) && !(told && strcmp(told, o->one_of->text) == 0))
            check_choice(plan, o->one_of, "an overlay");
        told = mos_has(o->one_of) ? o->one_of->text : told;
    }
}

void mos_rule_loader(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->environments.count; i++) {
        struct loader_view v = {.plan = plan,
                                .env = mos_vec_pointer(&plan->environments, i),
                                .language = &plan->dialect->language,
                                .list = &plan->ctx->findings,
                                .arena = plan->ctx->arena,
                                .told = mos_map_make(plan->ctx->arena)};
        check_sizes(&v);
        check_base(&v);
        if (v.language->variables) {
            check_uses(&v);
            check_circles(&v);
        }
        check_limits(&v);
    }
    check_speed(plan);
    check_menu(plan);
    check_choices(plan);
}
