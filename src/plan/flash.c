/* What the kernel must be told about flash without a partition table: a string of its own, or a
 * node in the tree; and what a programmer must erase, write and read back. */
#include "plan/steps.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

bool mos_plan_is_flash(const struct mos_medium_plan *m) {
    enum mos_medium_kind kind = mos_medium_kind_of(m->medium->kind);
    return !m->area && (kind == MOS_MEDIUM_NOR || kind == MOS_MEDIUM_NAND);
}

static int by_start(const void *a, const void *b) {
    const struct mos_region_plan *x = *(struct mos_region_plan *const *)a;
    const struct mos_region_plan *y = *(struct mos_region_plan *const *)b;
    return (x->start > y->start) - (x->start < y->start);
}

struct mos_vec mos_plan_by_place(const struct mos_plan *plan, const struct mos_medium_plan *m) {
    struct mos_vec out = mos_vec_make(plan->ctx->arena, sizeof(void *));
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
        if (r->placed)
            mos_vec_push_pointer(&out, r);
    }
    if (out.count)
        qsort(out.items, out.count, sizeof(void *), by_start);
    return out;
}

struct mos_flash_range mos_plan_flash_range(const struct mos_medium_plan *m,
                                            const struct mos_region_plan *r) {
    assert(r->placed);
    const struct mos_medium *d = m->medium;
    uint64_t erase = mos_has(d->erase) && d->erase->number ? d->erase->number : m->sector;
    uint64_t page = mos_has(d->page) && d->page->number ? d->page->number : 1;
    uint64_t content = mos_min(r->fs ? r->length : r->content, r->length);
    uint64_t at = r->start + (r->fs ? 0 : r->content_at), end = r->start + r->length;
    struct mos_flash_range x = {.erase_from = mos_round_down(r->start, erase)};
    x.erase_length = mos_round_up(r->start + r->length, erase) - x.erase_from;
    x.blocks = x.erase_length / erase;
    x.write_from = mos_max(mos_round_down(at, page), r->start);
    x.write_length = content ? mos_min(mos_round_up(at + content, page), end) - x.write_from : 0;
    x.content = content;
    assert(x.write_from >= x.erase_from &&
           x.write_from + x.write_length <= x.erase_from + x.erase_length);
    return x;
}

/* "64k", "0x1234": as the kernel's command line has it. */
static const char *short_size(struct mos_arena *arena, uint64_t bytes) {
    if (bytes % (1 << 20) == 0 && bytes)
        return mos_printf(arena, "%llum", (unsigned long long)(bytes >> 20));
    if (bytes % 1024 == 0)
        return mos_printf(arena, "%lluk", (unsigned long long)(bytes >> 10));
    return mos_printf(arena, "0x%llx", (unsigned long long)bytes);
}

static bool keeps(const struct mos_region_plan *r) {
    return mos_owner_of(r->def->owner) == MOS_OWNER_FACTORY;
}

const char *mos_plan_flash_string(const struct mos_plan *plan, const struct mos_medium_plan *m) {
    assert(mos_plan_is_flash(m));
    struct mos_arena *arena = plan->ctx->arena;
    struct mos_buf b = {.arena = arena};
    struct mos_vec regions = mos_plan_by_place(plan, m);
    uint64_t at = 0;
    if (!mos_has(m->medium->flash_id))
        return NULL;
    mos_buf_printf(&b, "%s:", m->medium->flash_id->text);
    for (size_t i = 0; i < regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
        mos_buf_printf(&b, "%s%s", i ? "," : "", short_size(arena, r->length));
        if (r->start != at)
            mos_buf_printf(&b, "@%s", short_size(arena, r->start));
        mos_buf_printf(&b, "(%s)%s", r->label, keeps(r) ? "ro" : "");
        at = r->start + r->length;
    }
    return mos_buf_string(&b);
}

/* ---- the node ---- */

static struct mos_dt_node *chip_node(const struct mos_dt *dt, const struct mos_medium_plan *m) {
    return mos_has(m->medium->node) ? mos_dt_find(dt, m->medium->node->text) : NULL;
}

struct mos_dt_node *mos_plan_flash_node(const struct mos_dt *dt, const struct mos_medium_plan *m) {
    struct mos_dt_node *chip = chip_node(dt, m);
    for (struct mos_dt_node *c = chip ? chip->first_child : NULL; c; c = c->next) {
        const char *compatible = mos_dt_string(c, "compatible");
        if (compatible && strcmp(compatible, "fixed-partitions") == 0)
            return c;
    }
    return NULL;
}

static void put_cell(struct mos_dt *dt, struct mos_dt_node *node, const char *name,
                     uint32_t value) {
    uint8_t *raw = mos_alloc(dt->arena, 4); /* the tree keeps it by reference */
    mos_put_be32(raw, value);
    mos_dt_set(dt, node, name, raw, 4);
}

/* A number of one or two cells. */
static size_t put_number(uint8_t *to, unsigned cells, uint64_t value) {
    assert(cells == 2 || value <= UINT32_MAX);
    if (cells == 2)
        mos_put_be32(to, (uint32_t)(value >> 32));
    mos_put_be32(to + 4 * (cells - 1), (uint32_t)value);
    return 4 * cells;
}

static void add_region(struct mos_dt *dt, struct mos_dt_node *list, unsigned cells,
                       const struct mos_region_plan *r) {
    uint8_t *reg = mos_alloc(dt->arena, 16);
    struct mos_dt_node *n = mos_dt_add_node(
        dt, list, mos_printf(dt->arena, "partition@%llx", (unsigned long long)r->start));
    mos_dt_set_text(dt, n, "label", r->label);
    size_t at = put_number(reg, cells, r->start);
    mos_dt_set(dt, n, "reg", reg, at + put_number(reg + at, cells, r->length));
    if (keeps(r))
        mos_dt_set(dt, n, "read-only", "", 0);
}

/* A tree without such a node is given one; one that has it is checked by a rule. */
void mos_plan_tell_flash(struct mos_plan *plan, struct mos_dt *dt) {
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        struct mos_dt_node *chip = mos_plan_is_flash(m) ? chip_node(dt, m) : NULL;
        if (!chip || mos_plan_flash_node(dt, m))
            continue;
        struct mos_vec regions = mos_plan_by_place(plan, m);
        struct mos_dt_node *list = mos_dt_add_node(dt, chip, "partitions");
        mos_dt_set_text(dt, list, "compatible", "fixed-partitions");
        unsigned cells = m->size > UINT32_MAX ? 2 : 1;
        put_cell(dt, list, "#address-cells", cells);
        put_cell(dt, list, "#size-cells", cells);
        for (size_t k = 0; k < regions.count; k++)
            add_region(dt, list, cells, mos_vec_pointer(&regions, k));
    }
}
