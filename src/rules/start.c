/* The first program of the root, as far as the names of a volume tell: is it there, may it be run?
 * A root that holds no system yet (another job fills it) is not judged. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

struct start_view {
    const struct mos_plan *plan;
    const struct mos_entry_plan *e;
    const struct mos_region_plan *root;
    const struct mos_inventory *inv;
    const struct mos_value *asked; /* init=; NULL: the usual places */
};

static bool leads_to(const struct start_view *v, const char *path, uint32_t *index) {
    return mos_inv_follow(v->inv, v->plan->ctx->arena, path, index) && *index;
}

/* Why a path cannot be started; NULL: it can, as far as its name tells. */
static const char *why_not(const struct start_view *v, const char *path) {
    uint32_t index;
    if (!leads_to(v, path, &index))
        return "is not there";
    const struct mos_inv_node *node = mos_inv_node(v->inv, index);
    if (node->link_to)
        node = mos_inv_node(v->inv, node->link_to);
    if (node->type == MOS_ENTRY_FOLDER)
        return "is a folder";
    return node->mode & 0111
               ? NULL
               : mos_printf(v->plan->ctx->arena, "may not be run (mode %04o)", node->mode & 07777u);
}

static void tell(const struct start_view *v, const char *text, struct mos_place place,
                 const char *remedy) {
    struct mos_findings *list = &v->plan->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_FIRST_PROGRAM, "Entry %s: %s", v->e->def->r.name, text);
    mos_finding_at(list, f, place);
    mos_finding_at(list, f, v->root->def->r.key_place);
    mos_finding_why(list, f, "The kernel mounts its root and stops: \"no working init found\".");
    mos_finding_try(list, f, "%s", remedy);
}

static void check_usual(const struct start_view *v) {
    static const char *const usual[] = {"/sbin/init", "/etc/init", "/bin/init", "/bin/sh"};
    const char *first = NULL;
    struct mos_arena *arena = v->plan->ctx->arena;
    for (size_t i = 0; i < sizeof usual / sizeof *usual; i++) {
        const char *why = why_not(v, usual[i]);
        if (!why && i < 3)
            return;
        if (!why && mos_until_of(v->plan->board->boot->until) > MOS_UNTIL_LOG_IN)
            return; /* it is meant to */
        if (!why) {
            tell(v, mos_printf(arena, "only a bare shell starts, for %s.", first),
                 v->e->def->r.key_place,
                 "Add a first program at /sbin/init, or init: with its path to the arguments.");
            return;
        }
        first = first ? first : mos_printf(arena, "%s %s", usual[i], why);
    }
    tell(v,
         mos_printf(arena, "%s, nor is there any other first program in %s.", first, v->root->name),
         v->e->def->r.key_place,
         "Add a first program at /sbin/init, or init: with its path to the arguments.");
}

static void check_entry(const struct start_view *v) {
    if (!mos_inv_is_system(v->inv, v->plan->ctx->arena))
        return;
    if (!v->asked) {
        check_usual(v);
        return;
    }
    const char *why = why_not(v, v->asked->text);
    if (why)
        tell(v,
             mos_printf(v->plan->ctx->arena, "its first program %s %s in %s.", v->asked->text, why,
                        v->root->name),
             v->asked->place, "Set init: to the path of a program that is there.");
}

/* ---- ramdisks that are made from a list ---- */

/* Does anything of it ask for a first program?  Firmware, and what the kernel reads before (folder
 * kernel), do not. */
static bool wants_program(const struct mos_ramdisk *r) {
    bool wants = r->modules != NULL;
    for (size_t i = 0; i < r->files.count && !wants; i++) {
        const struct mos_ramdisk_file *f = r->files.items[i];
        const char *to = mos_text_or(f->to, "");
        to += strspn(to, "/");
        wants = *to && strncmp(to, "lib/firmware/", 13) != 0 && strncmp(to, "kernel/", 7) != 0;
    }
    return wants;
}

static bool has_file(const struct mos_ramdisk *r, const char *path) {
    path += strspn(path, "/");
    for (size_t i = 0; i < r->files.count; i++) {
        const char *to = mos_text_or(((const struct mos_ramdisk_file *)r->files.items[i])->to, "");
        if (strcmp(to + strspn(to, "/"), path) == 0)
            return true;
    }
    return false;
}

static void check_ramdisk(const struct mos_plan *plan, const struct mos_entry_plan *e) {
    const struct mos_ramdisk *r = e->ramdisk ? e->ramdisk->def->ramdisk : NULL;
    const struct mos_argument *rdinit = mos_named_get(&e->def->arguments, "rdinit");
    const char *path =
        rdinit && rdinit->values.count ? mos_text_or(rdinit->values.items[0], "/init") : "/init";
    /* what comes out of a folder or an archive is looked at when the boot is tried */
    bool made = r && (mos_true(r->init) || r->folder || r->archive);
    if (!r || r->r.broken || made || !wants_program(r) || has_file(r, path))
        return;
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_FIRST_PROGRAM, "Entry %s: ramdisk %s has no first program %s.",
                 e->def->r.name, e->ramdisk->def->r.name, path);
    mos_finding_at(list, f, e->def->ramdisk->place);
    mos_finding_at(list, f, e->ramdisk->def->r.key_place);
    mos_finding_why(list, f,
                    "The kernel looks past a ramdisk without one: what it brings is unused.");
    mos_finding_try(list, f, "Set init: yes, or add a file with to: %s.", path);
}

void mos_rule_start(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->entries.count && !mos_findings_full(&plan->ctx->findings); i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const struct mos_argument *init = mos_named_get(&e->def->arguments, "init");
        const struct mos_region_plan *r = e->root;
        struct start_view v = {plan, e, r, r && r->volume ? r->volume->inventory : NULL, NULL};
        if (!e->def->r.broken)
            check_ramdisk(plan, e);
        if (!v.inv || !r->counted || e->ramdisk || e->def->r.broken)
            continue; /* what a ramdisk starts is its own matter */
        if (init && (init->values.count != 1 || !mos_has(init->values.items[0]) ||
                     init->values.items[0]->text[0] != '/'))
            continue;
        v.asked = init ? init->values.items[0] : NULL;
        check_entry(&v);
    }
}
