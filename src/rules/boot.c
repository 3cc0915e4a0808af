#include "rules/rules.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

struct view {
    const struct mos_plan *plan;
    const struct mos_entry_plan *e;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static void check_no_entry(const struct mos_plan *plan) {
    const struct mos_board *b = plan->board;
    struct mos_findings *list = &plan->ctx->findings;
    if (b->r.broken && b->boot && b->boot->r.broken)
        return;
    if ((b->boot && b->boot->entries.count) || (!b->boot && !b->kernel))
        return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_NO_ENTRY, "Board %s has nothing to boot.", b->r.name);
    mos_finding_at(list, f, b->boot ? b->boot->r.key_place : b->kernel->r.key_place);
    mos_finding_try(list, f, "boot: {via: script, entries: {main: {kernel: …, tree: …}}}");
}

static void file_missing(const struct view *v, const char *what, struct mos_place place,
                         const char *why, const char *remedy) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_FILE_MISSING, "Entry %s: %s.", v->e->def->r.name, what);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "%s", remedy);
}

static void check_files(const struct view *v) {
    const struct mos_boot_entry *def = v->e->def;
    const struct mos_kernel *k = v->plan->board->kernel;
    if (!def->kernel && !(k && k->image))
        file_missing(v, "no kernel is named", def->r.key_place, "The loader has nothing to start.",
                     "kernel: the name of a piece");
    else if (v->plan->media.count && !v->plan->boot_region && v->e->kernel)
        file_missing(v, "no volume holds its files", def->r.key_place,
                     "The boot script loads kernel and tree from the volume it lies in itself.",
                     "fills: {boot: {made: boot}} in a volume that the loader can read.");
}

static void check_format(const struct view *v) {
    const struct mos_entry_plan *e = v->e;
    const struct mos_hardware *h = v->plan->board->hardware;
    const char *cpu = h ? mos_text_or(h->cpu, NULL) : NULL;
    if (!e->kernel || !e->kernel->found)
        return;
    const struct mos_value *named = e->def->kernel ? e->def->kernel : v->plan->board->kernel->image;
    bool wrong_cpu = e->kernel_known && cpu && e->header.cpu && strcmp(cpu, e->header.cpu) != 0;
    if (e->kernel_known && !wrong_cpu)
        return;
    struct mos_finding *f;
    if (wrong_cpu) {
        f = mos_find(v->list, MOS_RULE_BOOT_FORMAT, "Kernel %s is made for %s, the board is %s.",
                     e->kernel->def->r.name, e->header.cpu, cpu);
        mos_finding_at(v->list, f, named->place);
        mos_finding_at(v->list, f, h->cpu->place);
        mos_finding_try(v->list, f, "A kernel that was built for %s.", cpu);
        return;
    }
    f = mos_find(v->list, MOS_RULE_BOOT_FORMAT, "Kernel %s is %s, which the loader cannot start.",
                 e->kernel->def->r.name,
                 e->header.format ? mos_printf(v->arena, "a %s", e->header.format)
                                  : "in no form that is known");
    mos_finding_at(v->list, f, named->place);
    mos_finding_at(v->list, f, e->kernel->def->r.key_place);
    mos_finding_try(v->list, f, "The plain Image of the kernel build (arch/arm64/boot/Image).");
}

/* ---- root ---- */

static void root_unknown(const struct view *v, const struct mos_value *value, const char *message,
                         struct mos_place other, const char *remedy) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_ROOT_UNKNOWN, "Entry %s: root=%s %s.",
                                     v->e->def->r.name, value->text, message);
    mos_finding_at(v->list, f, value->place);
    mos_finding_at(v->list, f, other);
    mos_finding_why(v->list, f, "The kernel would stop with \"unable to mount root\".");
    mos_finding_try(v->list, f, "%s", remedy);
}

/* A partition's number from the kernel's device name: mmcblk0p2, sda2. */
static unsigned device_number(const char *text, const char *medium) {
    size_t n = strlen(medium);
    if (strncmp(text, "/dev/", 5) != 0 || strncmp(text + 5, medium, n) != 0)
        return 0;
    text += 5 + n;
    text += *text == 'p';
    return (unsigned)strtoul(text, NULL, 10);
}

/* What a root argument written out in full names. */
static bool names_region(const struct mos_medium_plan *m, const struct mos_region_plan *r,
                         const char *text) {
    char id[37];
    const struct mos_value *kernel = m->medium->kernel;
    if (!r->number)
        return false;
    mos_uuid_text(r->id, id);
    if (strncmp(text, "PARTUUID=", 9) == 0)
        return strcmp(text + 9, id) == 0;
    if (strncmp(text, "PARTLABEL=", 10) == 0)
        return strcmp(text + 10, r->label) == 0;
    return mos_has(kernel) && device_number(text, kernel->text) == r->number;
}

static const char *likely_root(const struct view *v) {
    for (size_t m = 0; m < v->plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&v->plan->media, m);
        for (size_t i = medium->regions.count; i; i--) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i - 1);
            if (r->number && r->fs && r != v->plan->boot_region)
                return mos_printf(v->arena, "root: <%s>", r->name);
        }
    }
    return "root: <name of the region with the root file system>";
}

static void check_literal(const struct view *v, const struct mos_value *value) {
    static const char *const forms[] = {"PARTUUID=", "PARTLABEL=", "/dev/"};
    bool judged = false;
    for (size_t i = 0; i < 3; i++)
        judged |= strncmp(value->text, forms[i], strlen(forms[i])) == 0;
    if (!judged || strcmp(value->text, "/dev/nfs") == 0 ||
        strncmp(value->text, "/dev/ram", 8) == 0 || v->e->def->ramdisk || !v->plan->media.count)
        return; /* what a ramdisk makes of it is its own matter */
    bool device_known = strncmp(value->text, "/dev/", 5) != 0;
    for (size_t m = 0; m < v->plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&v->plan->media, m);
        const struct mos_value *kernel = medium->medium->kernel;
        device_known |=
            mos_has(kernel) && strncmp(value->text + 5, kernel->text, strlen(kernel->text)) == 0;
        for (size_t i = 0; i < medium->regions.count; i++)
            if (names_region(medium, mos_vec_pointer(&medium->regions, i), value->text))
                return;
    }
    if (device_known)
        root_unknown(v, value, "names no partition of the layout",
                     v->plan->board->layout.node->key_place, likely_root(v));
    else
        mos_vec_push_pointer(
            &v->plan->ctx->not_proved,
            mos_printf(v->arena, "%s: no medium states that name for the kernel", value->text));
}

static bool has_flag(const struct mos_boot_entry *e, const char *flag) {
    for (size_t i = 0; i < e->flags.count; i++)
        if (mos_has(e->flags.items[i]) && strcmp(e->flags.items[i]->text, flag) == 0)
            return true;
    return false;
}

static void check_root(const struct view *v) {
    const struct mos_boot_entry *e = v->e->def;
    const struct mos_argument *a = mos_named_get(&e->arguments, "root");
    if (!a) {
        if (e->ramdisk || !v->plan->media.count || has_flag(e, "rdinit") || e->r.broken)
            return;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_BOOT_ROOT_UNKNOWN,
                     "Entry %s names no root, and no ramdisk either.", e->r.name);
        mos_finding_at(v->list, f, e->r.key_place);
        mos_finding_try(v->list, f, "arguments: {%s}", likely_root(v));
        return;
    }
    if (a->values.count != 1 || !mos_has(a->values.items[0]))
        return;
    const struct mos_value *value = a->values.items[0];
    if (!strchr(value->text, '<')) {
        check_literal(v, value);
        return;
    }
    const struct mos_region_plan *r = v->e->root;
    if (r && r->number && !r->fs && !r->piece && !r->def->r.broken)
        root_unknown(v, value, "holds no file system", r->def->r.key_place, likely_root(v));
    else if (r && r->number && r == v->plan->boot_region && r->def->volume->fills.count == 1)
        root_unknown(v, value, "holds only the boot files", r->def->r.key_place, likely_root(v));
}

void mos_rule_boot(const struct mos_plan *plan) {
    check_no_entry(plan);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        struct view v = {plan, e, &plan->ctx->findings, plan->ctx->arena};
        check_files(&v);
        check_format(&v);
        check_root(&v);
    }
}
