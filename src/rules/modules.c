/* The kernel's release and its modules: declared, configured and shipped alike? */
#include "rules/rules.h"

#include "base/text.h"
#include "linux/module.h"
#include "plan/bytes.h"
#include "plan/drivers.h"

#include <string.h>

struct modules_view {
    const struct mos_plan *plan;
    const struct mos_value *release; /* as it is declared; NULL: it is not */
    const struct mos_region_plan *root;
    const struct mos_inventory *inv;
    struct mos_findings *list;
    struct mos_arena *arena;
};

/* ---- the release ---- */

static void check_suffix(const struct modules_view *v) {
    const struct mos_setting *s = mos_map_get(&v->plan->config, "CONFIG_LOCALVERSION");
    const char *own = s ? s->value : "", *declared = v->release->text;
    size_t n = strlen(own), base = strspn(declared, "0123456789.");
    if (n > 1 && *own == '"') { /* quotes are part of a value */
        own = mos_strndup(v->arena, own + 1, n - 2);
        n -= 2;
    }
    const char *suffix = declared + base;
    if (!v->plan->has_config)
        return;
    if (!n && *suffix && !v->plan->entries.count) /* who builds a kernel may add to its version */
        mos_vec_push_pointer(&v->plan->ctx->not_proved,
                             mos_printf(v->arena,
                                        "whether the kernel is release %s: its configuration adds "
                                        "nothing to the version, and no image of it is booted",
                                        declared));
    if (!n || strstr(suffix, own))
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_KERNEL_RELEASE,
                 "The kernel is said to be release %s; its configuration makes it end in \"%s\".",
                 declared, own);
    mos_finding_at(v->list, f, v->release->place);
    mos_finding_at(v->list, f, s->place);
    mos_finding_why(v->list, f, "A kernel looks for its modules in the folder of its own release.");
    mos_finding_try(v->list, f, "Set CONFIG_LOCALVERSION=\"%s\" in a fragment, or release: %.*s%s.",
                    suffix, (int)base, declared, own);
}

/* Where the kernel's image is named. */
static struct mos_place image_place(const struct modules_view *v) {
    const struct mos_entry_plan *e = mos_vec_pointer(&v->plan->entries, 0);
    const struct mos_piece *p = e->kernel->def;
    return mos_has(p->file) ? p->file->place : p->r.key_place;
}

/* What the image itself says. */
static void check_banner(const struct modules_view *v, const char *banner) {
    if (strcmp(banner, v->release->text) == 0)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_KERNEL_RELEASE,
                 "The kernel is said to be release %s; its image says that it is %s.",
                 v->release->text, banner);
    mos_finding_at(v->list, f, v->release->place);
    mos_finding_at(v->list, f, image_place(v));
    mos_finding_why(v->list, f, "A kernel looks for its modules in the folder of its own release.");
    mos_finding_try(v->list, f, "Set release: %s, or use the kernel that is meant.", banner);
}

/* The sources' version with what the settled configuration adds; whoever builds may call it
 * otherwise, so it is a warning.  With a suffix by itself its beginning alone is known. */
static void check_sources(const struct modules_view *v, const char *release,
                          struct mos_place place) {
    const struct mos_plan *plan = v->plan;
    if (!plan->kernel_settled.config || !plan->kernel_settled.config->tree->version)
        return;
    const struct mos_setting *own = mos_map_get(&plan->config, "CONFIG_LOCALVERSION"),
                             *by_itself = mos_map_get(&plan->config, "CONFIG_LOCALVERSION_AUTO");
    const char *added = own ? own->value : "";
    size_t n = strlen(added);
    if (n > 1 && *added == '"') {
        added++;
        n -= 2;
    }
    const char *made =
        mos_printf(v->arena, "%s%.*s", plan->kernel_settled.config->tree->version, (int)n, added);
    bool open = by_itself && strcmp(by_itself->value, "y") == 0;
    if (open ? strncmp(release, made, strlen(made)) == 0 : strcmp(release, made) == 0)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_KERNEL_RELEASE,
                                     "The kernel is release %s; its sources and configuration "
                                     "make %s%s.",
                                     release, made, open ? "…" : "");
    f->severity = MOS_SEVERITY_WARNING;
    mos_finding_at(v->list, f, place);
    mos_finding_at(v->list, f, own ? own->place : plan->board->kernel->source->place);
    mos_finding_why(v->list, f,
                    "What is settled over these sources is not said of the kernel that runs.");
    mos_finding_try(v->list, f,
                    "Use the sources that this kernel was built from, or build it anew.");
}

/* ---- what is shipped ---- */

/* The folder with all releases' modules; 0: there is none. */
static uint32_t modules_folder(const struct modules_view *v) {
    uint32_t index;
    return mos_inv_follow(v->inv, v->arena, "lib/modules", &index) ? index : 0;
}

static uint32_t child(const struct modules_view *v, uint32_t folder, const char *name) {
    for (uint32_t i = mos_inv_node(v->inv, folder)->first_child; i;
         i = mos_inv_node(v->inv, i)->next)
        if (strcmp(mos_inv_node(v->inv, i)->name, name) == 0)
            return i;
    return 0;
}

static const struct mos_fill *fill_of(const struct modules_view *v, uint32_t index) {
    return mos_plan_fill_at(v->root, mos_inv_node(v->inv, index)->fill);
}

/* Settings that make modules of something; *first: one of them. */
static size_t made_as_modules(const struct modules_view *v, const struct mos_setting **first) {
    size_t count = 0;
    for (size_t i = 0; i < v->plan->config.count; i++) {
        const struct mos_setting *s = v->plan->config.items[i].value;
        if (strcmp(s->value, "m") != 0)
            continue;
        *first = count++ ? *first : s;
    }
    return count;
}

static void tell_missing(const struct modules_view *v, uint32_t folder) {
    const struct mos_setting *s = NULL;
    size_t count = made_as_modules(v, &s);
    if (!folder && !count)
        return;
    if (!folder) {
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_KERNEL_MODULES_MISSING,
                     "The configuration makes modules of %zu thing%s, and region %s has none.",
                     count, count == 1 ? "" : "s", v->root->name);
        mos_finding_at(v->list, f, s->place);
        mos_finding_at(v->list, f, v->root->def->r.key_place);
        mos_finding_why(v->list, f, "What needs them is not there, and says nothing.");
        mos_finding_try(v->list, f, "Add a fill with lib/modules/%s, or set =y instead of =m.",
                        v->release->text);
        return;
    }
    uint32_t other = mos_inv_node(v->inv, folder)->first_child;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_KERNEL_MODULES_OTHER,
                 "The kernel is release %s; region %s has modules of %s%s.", v->release->text,
                 v->root->name, other ? mos_inv_node(v->inv, other)->name : "none",
                 other && mos_inv_node(v->inv, other)->next ? " and others" : "");
    mos_finding_at(v->list, f, v->release->place);
    mos_finding_at(v->list, f, fill_of(v, other ? other : folder)->r.key_place);
    mos_finding_why(v->list, f, "It looks in /lib/modules/%s and loads none of them.",
                    v->release->text);
    mos_finding_try(v->list, f, "Use the modules of this very kernel.");
}

static void check_allowed(const struct modules_view *v, uint32_t folder) {
    const struct mos_setting *s = mos_map_get(&v->plan->config, "CONFIG_MODULES");
    if (!s || strcmp(s->value, "n") != 0)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_KERNEL_DRIVER_MISSING,
                 "The kernel loads no modules, and region %s has some.", v->root->name);
    mos_finding_at(v->list, f, s->place);
    mos_finding_at(v->list, f, fill_of(v, folder)->r.key_place);
    mos_finding_why(v->list, f, "Every one of them is refused.");
    mos_finding_try(v->list, f, "Set CONFIG_MODULES=y in a fragment.");
}

/* ---- the modules themselves ---- */

static void check_modules(const struct modules_view *v, uint32_t folder) {
    const struct mos_hardware *h = v->plan->board->hardware;
    const char *cpu = h ? mos_text_or(h->cpu, NULL) : NULL;
    struct mos_vec facts = mos_vec_make(v->arena, sizeof(struct mos_module_fact));
    if (!mos_plan_modules(v->plan->self, v->root, folder, &facts))
        return;
    for (size_t i = 0; i < facts.count; i++) {
        const struct mos_module_fact *m = mos_vec_at(&facts, i);
        bool other_cpu = cpu && m->good && (!m->cpu || strcmp(m->cpu, cpu) != 0);
        bool other_release = m->good && m->release && strcmp(m->release, v->release->text) != 0;
        if (m->good && !other_cpu && !other_release)
            continue;
        struct mos_finding *f =
            !m->good    ? mos_find(v->list, MOS_RULE_KERNEL_MODULES_OTHER,
                                   "Module %s is damaged: it is cut off, or no module.", m->path)
            : other_cpu ? mos_find(v->list, MOS_RULE_KERNEL_MODULES_OTHER,
                                   "Module %s is made for %s, the board is %s.", m->path,
                                   m->cpu ? m->cpu : "another processor", cpu)
                        : mos_find(v->list, MOS_RULE_KERNEL_MODULES_OTHER,
                                   "Module %s was made for release %s, the kernel is %s.", m->path,
                                   m->release, v->release->text);
        mos_finding_at(v->list, f, fill_of(v, folder)->r.key_place);
        mos_finding_at(v->list, f, v->release->place);
        mos_finding_why(v->list, f, "The kernel refuses to load it.");
        mos_finding_try(v->list, f, "Use the modules of this very kernel.");
        return; /* one stands for all that were made together */
    }
}

void mos_rule_modules(const struct mos_plan *plan) {
    const struct mos_kernel *k = plan->board->kernel;
    struct modules_view v = {.plan = plan,
                             .release = k && mos_has(k->release) ? k->release : NULL,
                             .root = mos_plan_root(plan),
                             .list = &plan->ctx->findings,
                             .arena = plan->ctx->arena};
    const struct mos_kernel_inside *inside = mos_plan_kernel_inside(plan->self);
    const char *banner = inside ? inside->release : NULL;
    struct mos_value said = {.text = banner};
    if ((!v.release && !banner) || (k && k->r.broken))
        return;
    if (v.release && banner)
        check_banner(&v, banner);
    if (v.release)
        check_suffix(&v);
    if (!v.release) { /* what it says of itself is as good */
        said.place = image_place(&v);
        v.release = &said;
    }
    check_sources(&v, banner ? banner : v.release->text, v.release->place);
    if (!v.root || !v.root->volume || !v.root->counted || v.root->fs->no_owners)
        return;
    v.inv = v.root->volume->inventory;
    uint32_t all = modules_folder(&v), own = all ? child(&v, all, v.release->text) : 0;
    if (!own) {
        tell_missing(&v, all);
        return;
    }
    check_allowed(&v, own);
    check_modules(&v, own);
}
