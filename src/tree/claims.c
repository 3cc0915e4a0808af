#include "tree/claims.h"

#include "base/bytes.h"
#include "base/text.h"

#include <stdlib.h>
#include <string.h>

static const struct mos_dt_kind kinds[] = {
    {"clocks", "#clock-cells", "clock-names", false, false, false},
    {"assigned-clocks", "#clock-cells", NULL, false, false, false},
    {"assigned-clock-parents", "#clock-cells", NULL, false, false, false},
    {"interrupts-extended", "#interrupt-cells", "interrupt-names", false, false, false},
    {"dmas", "#dma-cells", "dma-names", false, false, false},
    {"resets", "#reset-cells", "reset-names", false, false, true},
    {"phys", "#phy-cells", "phy-names", false, false, false},
    {"pwms", "#pwm-cells", "pwm-names", false, false, true},
    {"mboxes", "#mbox-cells", "mbox-names", false, false, false},
    {"power-domains", "#power-domain-cells", "power-domain-names", false, false, true},
    {"io-channels", "#io-channel-cells", "io-channel-names", false, false, true},
    {"iommus", "#iommu-cells", NULL, false, false, false},
    {"thermal-sensors", "#thermal-sensor-cells", NULL, false, false, false},
    {"hwlocks", "#hwlock-cells", NULL, false, false, false},
    {"interconnects", "#interconnect-cells", NULL, false, false, false},
    {"sound-dai", "#sound-dai-cells", NULL, false, false, false},
    {"cooling-device", "#cooling-cells", NULL, false, false, false},
    {"nvmem-cells", "#nvmem-cell-cells", "nvmem-cell-names", false, true, true},
    {"gpios", "#gpio-cells", NULL, false, false, true},
    {"gpio", "#gpio-cells", NULL, false, false, true},
    {"-gpios", "#gpio-cells", NULL, true, false, true},
    {"-gpio", "#gpio-cells", NULL, true, false, true},
    {"-supply", NULL, NULL, true, false, true},
};

bool mos_dt_has_free_names(const struct mos_dt_node *node) {
    while (node->parent && node->parent->parent)
        node = node->parent;
    return node->parent &&
           (strcmp(node->name, "aliases") == 0 || strncmp(node->name, "__", 2) == 0);
}

const struct mos_dt_kind *mos_dt_kind_of(const struct mos_dt_node *node, const char *property) {
    if (mos_dt_has_free_names(node))
        return NULL;
    /* a number of lines, and a line that is taken at once: its node is below the controller */
    if (strcmp(property, "nr-gpios") == 0 || mos_text_ends(property, ",nr-gpios") ||
        (strcmp(property, "gpios") == 0 && mos_dt_property(node, "gpio-hog")))
        return NULL;
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)
        if (kinds[i].suffix ? mos_text_ends(property, kinds[i].property)
                            : strcmp(property, kinds[i].property) == 0)
            return &kinds[i];
    return NULL;
}

/* ---- phandles ---- */

struct gather {
    struct mos_vec *rows;
};

static bool add_phandle(void *self, struct mos_dt_node *node) {
    const struct gather *g = self;
    uint32_t number;
    if (mos_dt_cell(node, "phandle", &number) || mos_dt_cell(node, "linux,phandle", &number))
        *(struct mos_dt_phandle *)mos_vec_push(g->rows) = (struct mos_dt_phandle){number, node};
    return true;
}

static int by_number(const void *a, const void *b) {
    const struct mos_dt_phandle *x = a, *y = b;
    return (x->number > y->number) - (x->number < y->number);
}

struct mos_dt_phandles mos_dt_phandles_of(struct mos_arena *arena, const struct mos_dt *dt) {
    struct mos_dt_phandles all = {mos_vec_make(arena, sizeof(struct mos_dt_phandle))};
    struct gather g = {&all.rows};
    mos_dt_walk(dt->root, add_phandle, &g);
    if (all.rows.count)
        qsort(all.rows.items, all.rows.count, sizeof(struct mos_dt_phandle), by_number);
    return all;
}

const struct mos_dt_node *mos_dt_by_phandle(const struct mos_dt_phandles *all, uint32_t number) {
    struct mos_dt_phandle key = {number, NULL};
    const struct mos_dt_phandle *found =
        all->rows.count ? bsearch(&key, all->rows.items, all->rows.count, sizeof key, by_number)
                        : NULL;
    return found ? found->node : NULL;
}

/* ---- entries ---- */

static void read_entry(const struct mos_dt_phandles *all, const struct mos_dt_kind *kind,
                       struct mos_dt_reference *r) {
    r->provider = mos_dt_by_phandle(all, r->phandle);
    r->broken = MOS_DT_WHOLE;
    if (!r->provider)
        r->broken = r->phandle ? MOS_DT_NO_NODE : MOS_DT_WHOLE;
    else if (kind->cells && !mos_dt_cell(r->provider, kind->cells, &r->cells))
        r->broken = kind->defaults ? MOS_DT_WHOLE : MOS_DT_NO_PROVIDER;
    if (!r->broken && r->cells > r->left)
        r->broken = MOS_DT_CUT;
}

size_t mos_dt_references(const struct mos_dt_phandles *all, const struct mos_dt_kind *kind,
                         const struct mos_dt_property *property,
                         void (*each)(void *self, size_t index, const struct mos_dt_reference *r),
                         void *self) {
    size_t count = 0, words = property->length / 4;
    if (property->length % 4) {
        each(self, 0, &(struct mos_dt_reference){.broken = MOS_DT_UNEVEN});
        return 0;
    }
    for (size_t at = 0; at < words; count++) {
        struct mos_dt_reference r = {.phandle = mos_be32(property->data + 4 * at),
                                     .left = words - at - 1,
                                     .arguments = property->data + 4 * (at + 1)};
        read_entry(all, kind, &r);
        each(self, count, &r);
        if (r.broken)
            return count;
        at += 1 + (size_t)r.cells;
    }
    return count;
}

/* ---- nodes ---- */

bool mos_dt_is_on(const struct mos_dt_node *node) {
    const char *status = mos_dt_string(node, "status");
    return !status || strcmp(status, "okay") == 0 || strcmp(status, "ok") == 0;
}

const struct mos_dt_node *mos_dt_off(const struct mos_dt_node *node) {
    while (node && mos_dt_is_on(node))
        node = node->parent;
    return node;
}

const struct mos_dt_node *mos_dt_interrupt_parent(const struct mos_dt_phandles *all,
                                                  const struct mos_dt_node *node) {
    enum { MOST_HOPS = 64 };
    uint32_t number;
    for (unsigned hops = 0; node && hops < MOST_HOPS; hops++) {
        node = mos_dt_cell(node, "interrupt-parent", &number) ? mos_dt_by_phandle(all, number)
                                                              : node->parent;
        if (node && mos_dt_property(node, "#interrupt-cells"))
            return node;
    }
    return NULL;
}

size_t mos_dt_string_count(const struct mos_dt_property *property) {
    size_t count = 0;
    for (size_t i = 0; i < property->length; i++)
        count += property->data[i] == 0;
    return count;
}

/* ---- values of nodes ---- */

uint64_t mos_dt_number(const uint8_t *data, uint32_t cells) {
    uint64_t value = 0;
    for (uint32_t i = 0; i < cells; i++)
        value = value << 32 | mos_be32(data + 4 * (size_t)i);
    return value;
}

static uint32_t cell_or(const struct mos_dt_node *n, const char *name, uint32_t usual) {
    uint32_t value;
    return mos_dt_cell(n, name, &value) ? value : usual;
}

uint32_t mos_dt_address_cells(const struct mos_dt_node *bus) {
    return cell_or(bus, "#address-cells", 2);
}

uint32_t mos_dt_size_cells(const struct mos_dt_node *bus) {
    return cell_or(bus, "#size-cells", 1);
}

const char *mos_dt_next_string(const struct mos_dt_property *property, size_t *at) {
    if (!property || *at >= property->length)
        return NULL;
    const char *s = (const char *)property->data + *at;
    size_t n = strnlen(s, property->length - *at);
    if (*at + n == property->length)
        return NULL;
    *at += n + 1;
    return s;
}

/* Calls for each string of a property; stops when one says true. */
static bool any_string(const struct mos_dt_property *p, const char *text, bool whole) {
    size_t at = 0;
    for (const char *s; (s = mos_dt_next_string(p, &at));)
        if (whole ? strcmp(s, text) == 0 : strstr(s, text) != NULL)
            return true;
    return false;
}

bool mos_dt_is_like(const struct mos_dt_node *node, const char *text) {
    return any_string(mos_dt_property(node, "compatible"), text, false);
}

bool mos_dt_is_compatible(const struct mos_dt_node *node, const char *name) {
    return any_string(mos_dt_property(node, "compatible"), name, true);
}
