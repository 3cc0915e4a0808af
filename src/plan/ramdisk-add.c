/* What a ramdisk's list comes to, one entry at a time. */
#include "plan/ramdisk_internal.h"

#include <string.h>

struct mos_finding *ramdisk_complain(struct ramdisk *m, enum mos_rule_id rule,
                                     struct mos_place place, const char *text) {
    struct mos_findings *list = &m->plan->ctx->findings;
    struct mos_finding *f = mos_find(list, rule, "Ramdisk %s: %s", m->piece->def->r.name, text);
    mos_finding_at(list, f, place);
    mos_finding_try(list, f, "Correct this row of the list, or remove it.");
    m->wrong = true;
    return f;
}

struct ramdisk_item *ramdisk_add(struct ramdisk *m, const char *to, enum mos_entry_type type,
                                 unsigned mode) {
    struct mos_buf path = {.arena = m->plan->ctx->arena};
    const char *normal = mos_entry_path(&path, to);
    struct ramdisk_item *x = mos_vec_push(&m->items);
    *x = (struct ramdisk_item){.to = normal ? normal : to, .mode = (uint16_t)mode, .type = type};
    return x;
}

/* A path of the ramdisk, below its root. */
bool ramdisk_stays_inside(struct ramdisk *m, const struct mos_value *path) {
    struct mos_buf buffer = {.arena = m->plan->ctx->arena};
    const char *normal = mos_entry_path(&buffer, path->text);
    if (normal && *normal)
        return true;
    ramdisk_complain(m, MOS_RULE_PIECE_PATH, path->place,
                     mos_printf(m->plan->ctx->arena, "%s is no path below its root.", path->text));
    return false;
}
