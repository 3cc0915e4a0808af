/* Device files in roots and ramdisks: those whose numbers the kernel fixes have to have them
 * (Documentation/admin-guide/devices.txt). */
#include "rules/rules.h"

#include "linux/devices.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct device_files_view {
    const struct mos_plan *plan;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static void check(const struct device_files_view *v, const char *path, char kind, unsigned major,
                  unsigned minor, struct mos_place here, struct mos_place there) {
    const char *name = strncmp(path, "dev/", 4) == 0 ? path + 4 : NULL;
    struct mos_device_file is;
    if (!name || !mos_device_file(name, &is) ||
        (is.kind == kind && is.major == major && is.minor == minor))
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_DEVICE_NUMBER,
                                     "Device file /%s is %c %u %u; for the kernel it is %c %u %u.",
                                     path, kind, major, minor, is.kind, is.major, is.minor);
    mos_finding_at(v->list, f, here);
    if (there.source)
        mos_finding_at(v->list, f, there);
    mos_finding_why(v->list, f, "A program that opens it meets another device, or none.");
    mos_finding_try(v->list, f, "Make /%s as %c %u %u in what fills the root.", path, is.kind,
                    is.major, is.minor);
}

static void check_ramdisk(const struct device_files_view *v, const struct mos_ramdisk *def) {
    for (size_t i = 0; i < def->files.count; i++) {
        const struct mos_ramdisk_file *f = def->files.items[i];
        char kind;
        unsigned major, minor;
        if (!f->r.broken && mos_has(f->device) && mos_has(f->to) &&
            sscanf(f->device->text, "%c %u %u", &kind, &major, &minor) == 3)
            check(v, f->to->text + strspn(f->to->text, "/"), kind, major, minor, f->device->place,
                  (struct mos_place){0});
    }
}

static void check_root(const struct device_files_view *v, const struct mos_region_plan *r) {
    const struct mos_inventory *inv = r->volume->inventory;
    uint32_t dev;
    if (!mos_inv_find(inv, "dev", &dev) || !dev)
        return;
    for (uint32_t i = mos_inv_node(inv, dev)->first_child; i; i = mos_inv_node(inv, i)->next) {
        const struct mos_inv_node *n = mos_inv_node(inv, i);
        if (n->type == MOS_ENTRY_CHAR || n->type == MOS_ENTRY_BLOCK)
            check(v, mos_inv_path(v->arena, inv, i) + 1, n->type == MOS_ENTRY_CHAR ? 'c' : 'b',
                  n->device >> 20, n->device & 0xfffff, mos_plan_fill_at(r, n->fill)->r.key_place,
                  r->def->r.key_place);
    }
}

void mos_rule_device_files(const struct mos_plan *plan) {
    const struct device_files_view v = {plan, &plan->ctx->findings, plan->ctx->arena};
    for (size_t i = 0; i < plan->pieces.count; i++) {
        const struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->def->ramdisk && !p->def->ramdisk->r.broken)
            check_ramdisk(&v, p->def->ramdisk);
    }
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            if (r->volume && r->counted && !r->fs->no_owners)
                check_root(&v, r);
        }
    }
}
