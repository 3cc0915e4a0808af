/* Where a path inside an archive leads: through its links, within it; and what was meant where it
 * leads nowhere. */
#include "plan/pieces_internal.h"
#include "plan/steps.h"

#include "base/text.h"
#include "fs/inventory.h"

#include <string.h>

static bool note_entry(void *self, const struct mos_entry *entry) {
    uint32_t index;
    mos_inv_add(self, entry, 0, true, &index);
    return true;
}

/* What the archive holds, by its index; NULL: it has none, or after an error. */
static struct mos_inventory *inventory_of(struct mos_plan *plan, const struct mos_piece_plan *p) {
    struct mos_inventory *inv = mos_inventory_new(plan->ctx->arena, 0, false);
    struct mos_sink sink = {inv, note_entry, mos_ignore_data, mos_ignore_end};
    return p->index && mos_index_replay(plan->ctx, p->index, &sink) ? inv : NULL;
}

/* A name in the folder that the path's beginning leads to. */
static const char *near_name(struct mos_arena *arena, const struct mos_inventory *inv,
                             const char *path) {
    const char *slash = strrchr(path, '/'), *name = slash ? slash + 1 : path;
    const char *folder = mos_strndup(arena, path, slash ? (size_t)(slash - path) : 0);
    struct mos_vec names = mos_vec_make(arena, sizeof(char *));
    uint32_t at = 0;
    if (*folder && !mos_inv_follow(inv, arena, folder, &at))
        return NULL;
    for (uint32_t i = mos_inv_node(inv, at)->first_child; i; i = mos_inv_node(inv, i)->next)
        mos_vec_push_pointer(&names, mos_inv_node(inv, i)->name);
    const char *near =
        names.count ? mos_near(name, (const char *const *)names.items, names.count) : NULL;
    return near && strcmp(near, name) != 0
               ? mos_printf(arena, "%.*s%s", (int)(name - path), path, near)
               : NULL;
}

const char *mos_plan_member_path(struct mos_plan *plan, const struct mos_piece_plan *archive,
                                 const char *path, const char **near) {
    struct mos_arena *arena = plan->ctx->arena;
    const struct mos_inventory *inv = inventory_of(plan, archive);
    uint32_t index;
    *near = NULL;
    if (!inv)
        return NULL;
    if (!mos_inv_follow(inv, arena, path, &index)) {
        *near = near_name(arena, inv, path);
        return NULL;
    }
    const struct mos_inv_node *n = mos_inv_node(inv, index);
    if (n->type == MOS_ENTRY_HARD_LINK) { /* the entry that has the bytes */
        index = n->link_to;
        n = mos_inv_node(inv, index);
    }
    const char *real = mos_inv_path(arena, inv, index); /* with a slash in front */
    return n->type == MOS_ENTRY_FILE ? real + strspn(real, "/") : NULL;
}

bool pieces_follow_links(struct mos_plan *plan, const struct mos_piece_plan *archive) {
    bool changed = false;
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        const char *near, *path = p->outer == archive && !p->found
                                      ? mos_plan_member_path(plan, archive, p->member, &near)
                                      : NULL;
        if (!path || strcmp(path, p->member) == 0)
            continue;
        p->member = path;
        changed = true;
    }
    return changed;
}
