/* Texts that a firmware reads from a volume: the facts in them are those of the board. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

enum { MOST_VALUES = 64 };

struct settings_view {
    const struct mos_plan *plan;
    const struct mos_settings_plan *s;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static struct mos_finding *wrong(const struct settings_view *v, const struct mos_settings_line *x,
                                 const char *text) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_SETTINGS, "%s of %s: %s.", x->key, v->s->path, text);
    mos_finding_at(v->list, f, x->place);
    return f;
}

static bool is_key(const struct mos_list *keys, const char *key) {
    for (size_t i = 0; i < keys->count; i++)
        if (mos_has(keys->items[i]) && strcmp(keys->items[i]->text, key) == 0)
            return true;
    return false;
}

static bool is_in_volume(const struct settings_view *v, const char *path) {
    struct mos_buf buffer = {.arena = v->arena};
    const char *entry = mos_entry_path(&buffer, path);
    uint32_t index;
    const struct mos_inventory *inv = v->s->region->volume->inventory;
    return entry && mos_inv_find(inv, entry, &index) &&
           mos_inv_node(inv, index)->type != MOS_ENTRY_FOLDER;
}

/* The file of the volume whose name is nearest, by its path; NULL: none is near. */
static const char *near_file(const struct settings_view *v, const char *path) {
    const struct mos_inventory *inv = v->s->region->volume->inventory;
    const char **names = mos_alloc_array(v->arena, inv->count + 1, sizeof *names);
    size_t count = 0;
    for (uint32_t i = 1; i < inv->count && count < 1000; i++)
        if (mos_inv_node(inv, i)->type == MOS_ENTRY_FILE)
            names[count++] = mos_inv_path(v->arena, inv, i) + 1;
    return mos_near(path, names, count);
}

static void check_file(const struct settings_view *v, const struct mos_settings_line *x,
                       const char *value) {
    if (!v->s->region->volume || is_in_volume(v, value))
        return;
    struct mos_finding *f =
        wrong(v, x, mos_printf(v->arena, "there is no file %s in %s", value, v->s->region->name));
    mos_finding_at(v->list, f, v->s->region->def->r.key_place);
    mos_finding_why(v->list, f, "The firmware finds nothing by that name, and goes on without.");
    const char *near = near_file(v, value);
    if (near)
        mos_finding_try(v->list, f, "Write %s.", near);
    else
        mos_finding_try(v->list, f,
                        "Bring the file with a fill, or write <kernel>, <tree> or "
                        "<ramdisk>.");
}

/* Which overlay of the boot a value means: its path, its name, or that without its ending. */
static const struct mos_overlay_plan *overlay_meant(const struct settings_view *v,
                                                    const char *value, size_t *index) {
    const char *slash = strrchr(value, '/'), *name = slash ? slash + 1 : value;
    const char *dot = strrchr(name, '.');
    size_t n = dot ? (size_t)(dot - name) : strlen(name);
    for (size_t i = 0; i < v->plan->boot_overlays.count; i++) {
        const struct mos_overlay_plan *o = mos_vec_pointer(&v->plan->boot_overlays, i);
        if (strlen(o->def->r.name) == n && strncmp(o->def->r.name, name, n) == 0) {
            *index = i;
            return o;
        }
    }
    return NULL;
}

struct overlays_seen {
    size_t next; /* the least index that may come now */
    const struct mos_overlay_plan *last;
    bool seen[MOST_VALUES];
};

static void check_overlay(const struct settings_view *v, const struct mos_settings_line *x,
                          const char *value, struct overlays_seen *seen) {
    size_t index;
    const struct mos_overlay_plan *o = overlay_meant(v, value, &index);
    if (!o) {
        check_file(v, x, value); /* one that somebody else brings */
        return;
    }
    if (index < MOST_VALUES)
        seen->seen[index] = true;
    if (index >= seen->next) {
        seen->next = index;
        seen->last = o;
        return;
    }
    struct mos_finding *f = wrong(
        v, x,
        mos_printf(v->arena, "overlay %s comes after %s", o->def->r.name, seen->last->def->r.name));
    mos_finding_at(v->list, f, o->def->r.key_place);
    mos_finding_why(v->list, f,
                    "The definition applies them in the other order, and was checked "
                    "that way.");
    mos_finding_try(v->list, f, "Write a line with <overlays> for all of them.");
}

static void check_console(const struct settings_view *v, const struct mos_settings_line *x) {
    const struct mos_hardware *h = v->plan->board->hardware;
    const struct mos_console *c = h ? h->console : NULL;
    size_t n = strcspn(x->value, ",");
    if (!c || !mos_has(c->port) ||
        (strlen(c->port->text) == n && strncmp(c->port->text, x->value, n) == 0))
        return;
    struct mos_finding *f =
        wrong(v, x, mos_printf(v->arena, "the console is %s, not %s", c->port->text, x->value));
    mos_finding_at(v->list, f, c->port->place);
    mos_finding_why(v->list, f, "Whoever watches the one port sees nothing of the other.");
    mos_finding_try(v->list, f, "Write <console:port>.");
}

static bool has_word(const char *text, const char *word, size_t length) {
    for (const char *p = text; (p = strstr(p, word)); p++)
        if ((p == text || p[-1] == ' ') && (!p[length] || p[length] == ' '))
            return true;
    return false;
}

/* console= and root= among the words of a value must be the board's. */
static void check_arguments(const struct settings_view *v, const struct mos_settings_line *x) {
    const struct mos_entry_plan *e =
        v->plan->entries.count ? mos_vec_pointer(&v->plan->entries, 0) : NULL;
    const char *own = e ? e->step.arguments : "";
    for (const char *p = x->value; *p; p += strcspn(p, " "), p += strspn(p, " ")) {
        size_t n = strcspn(p, " "), name = strcspn(p, "= ");
        if (p[name] != '=' || (strncmp(p, "root=", 5) != 0 && strncmp(p, "console=", 8) != 0))
            continue;
        const char *word = mos_strndup(v->arena, p, n), *key = mos_strndup(v->arena, p, name + 1);
        const char *there = strstr(own, key);
        if (!there || has_word(own, word, n))
            continue;
        struct mos_finding *f =
            wrong(v, x,
                  mos_printf(v->arena, "%s is not what entry %s has (%.*s)", word, e->def->r.name,
                             (int)strcspn(there, " "), there));
        mos_finding_at(v->list, f, e->def->r.key_place);
        mos_finding_why(v->list, f, "The kernel is given this one, and the other was checked.");
        mos_finding_try(v->list, f, "Write <arguments>.");
        return;
    }
}

static void check_missing(const struct settings_view *v, const struct overlays_seen *seen) {
    for (size_t i = 0; i < v->plan->boot_overlays.count && i < MOST_VALUES; i++) {
        const struct mos_overlay_plan *o = mos_vec_pointer(&v->plan->boot_overlays, i);
        if (seen->seen[i] || v->plan->dialect)
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_SETTINGS,
                                         "%s applies no overlay %s.", v->s->path, o->def->r.name);
        mos_finding_at(v->list, f, v->s->fill->text->place);
        mos_finding_at(v->list, f, o->def->r.key_place);
        mos_finding_why(v->list, f, "It is to be applied at boot, and nobody else does.");
        mos_finding_try(v->list, f, "Add a line with <overlays>, or set when: build.");
    }
}

static void check_text(struct settings_view *v) {
    const struct mos_settings *s = v->s->fill->settings;
    struct overlays_seen seen = {0};
    for (size_t i = 0; i < v->s->lines.count; i++) {
        const struct mos_settings_line *x = mos_vec_at(&v->s->lines, i);
        const char *values[MOST_VALUES];
        size_t count = mos_plan_settings_values(v->plan, v->s, x->value, values, MOST_VALUES);
        if (!x->holds)
            continue;
        for (size_t k = 0; k < count; k++) {
            if (is_key(&s->files, x->key))
                check_file(v, x, values[k]);
            if (is_key(&s->overlays, x->key))
                check_overlay(v, x, values[k], &seen);
        }
        if (is_key(&s->console, x->key))
            check_console(v, x);
        if (is_key(&s->arguments, x->key))
            check_arguments(v, x);
    }
    if (s->overlays.count)
        check_missing(v, &seen);
}

/* ---- what is given to nobody ---- */

static bool reaches_kernel(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->settings.count; i++) {
        const struct mos_settings_plan *s = mos_vec_pointer(&plan->settings, i);
        if (s->takes_arguments || (s->fill->settings && s->fill->settings->arguments.count))
            return true;
    }
    return plan->dialect || (plan->board->loader && mos_has(plan->board->loader->dialect));
}

/* Without a loader that is known only a text, or the tree, can hold them. */
static void check_nowhere(const struct mos_plan *plan) {
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = 0; i < plan->entries.count && plan->boot_region && !reaches_kernel(plan); i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const struct mos_dt_node *chosen =
            e->tree && e->tree->tree ? mos_dt_child(e->tree->tree->root, "chosen") : NULL;
        if (e->def->r.broken || !e->step.arguments || !*e->step.arguments ||
            (chosen && mos_dt_string(chosen, "bootargs")))
            continue;
        struct mos_finding *f = mos_find(list, MOS_RULE_BOOT_ARGUMENTS_NOWHERE,
                                         "The arguments of entry %s go nowhere.", e->def->r.name);
        mos_finding_at(list, f,
                       e->def->arguments.node ? e->def->arguments.node->key_place
                                              : e->def->r.key_place);
        mos_finding_try(list, f,
                        "Add loader: {dialect: …}, or a fill with text: that has <arguments>, or "
                        "bootargs in the tree.");
        return;
    }
}

void mos_rule_settings(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->settings.count; i++) {
        struct settings_view v = {plan, mos_vec_pointer(&plan->settings, i), &plan->ctx->findings,
                                  plan->ctx->arena};
        if (!v.s->broken && v.s->fill->settings && !v.s->fill->settings->r.broken)
            check_text(&v);
    }
    check_nowhere(plan);
}
