/* Pins: which ones a node takes, in the forms that the widespread pin controllers are described
 * in (Documentation/devicetree/bindings/pinctrl of the kernel).  One row a form. */
#include "tree/resources.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

/* How cells of a list name pins. */
struct cell_form {
    const char *property, *like; /* like: of controllers whose compatible has this; NULL: any */
    unsigned width;              /* cells of an entry; 0: one more than #pinctrl-cells */
    unsigned pin, pins;          /* the cells with the pin's number, as one number */
    int function;                /* the cell with the function; -1: bits of the only one */
    unsigned shift;              /* function -1: where the upper part begins */
    bool function_low;           /* … and the function is the lower part */
    int line;                    /* the function that makes it a GPIO line; -1: not known */
    const char *by;              /* the property that has the function instead; NULL: none */
};
static const struct cell_form cell_forms[] = {
    {"rockchip,pins", NULL, 4, 0, 2, 2, 0, false, 0, NULL},
    {"fsl,pins", "fsl,imx8qm-iomuxc", 3, 0, 1, 1, 0, false, -1, NULL},
    {"fsl,pins", "fsl,imx8qxp-iomuxc", 3, 0, 1, 1, 0, false, -1, NULL},
    {"fsl,pins", "fsl,imx8dxl-iomuxc", 3, 0, 1, 1, 0, false, -1, NULL},
    {"fsl,pins", "fsl,imx1-iomuxc", 3, 0, 1, 1, 0, false, -1, NULL},
    {"fsl,pins", "fsl,imx27-iomuxc", 3, 0, 1, 1, 0, false, -1, NULL},
    {"fsl,pins", "fsl,imx7ulp-iomuxc", 5, 0, 1, 2, 0, false, -1, NULL},
    {"fsl,pins", "fsl,imx8ulp-iomuxc", 5, 0, 1, 2, 0, false, -1, NULL},
    {"fsl,pins", "fsl,vf610-iomuxc", 2, 0, 1, 1, 0, false, -1, NULL},
    {"fsl,pins", "iomuxc", 6, 0, 1, 3, 0, false, -1, NULL},
    {"pinctrl-single,pins", NULL, 0, 0, 1, 1, 0, false, -1, NULL},
    {"pinmux", "st,stm32", 1, 0, 1, -1, 8, true, 0, NULL},
    {"pinmux", "mediatek,", 1, 0, 1, -1, 8, true, 0, NULL},
    {"pinmux", "renesas,", 1, 0, 1, -1, 16, false, -1, NULL},
    {"atmel,pins", NULL, 4, 0, 2, 2, 0, false, 0, NULL},
    {"brcm,pins", NULL, 1, 0, 1, 0, 0, false, 0, "brcm,function"},
    {"mediatek,pins", NULL, 1, 0, 1, -1, 8, true, 0, NULL},
};

/* Lists of names, and the property that says what they become. */
static const struct {
    const char *property, *function;
} name_forms[] = {
    {"pins", "function"},
    {"groups", "function"},
    {"allwinner,pins", "allwinner,function"},
    {"samsung,pins", "samsung,pin-function"},
    {"nvidia,pins", "nvidia,function"},
    {"marvell,pins", "marvell,function"},
    {"renesas,groups", "renesas,function"},
};

struct taker {
    struct mos_arena *arena;
    const struct mos_dt_node *node, *controller;
    const struct mos_dt_property *property; /* pinctrl-N */
    struct mos_vec *claims;
    size_t entry;
};

static struct mos_dt_claim *pin(struct taker *t, const struct mos_dt_property *group) {
    struct mos_dt_claim *c = mos_vec_push(t->claims);
    *c = (struct mos_dt_claim){.kind = MOS_DT_CLAIM_PIN,
                               .node = t->node,
                               .property = t->property,
                               .of = t->controller,
                               .entry = t->entry,
                               .count = 1,
                               .group = group};
    return c;
}

static void by_cells(struct taker *t, const struct mos_dt_node *group,
                     const struct mos_dt_property *p, const struct cell_form *f) {
    uint32_t width = f->width;
    if (!width)
        width = mos_dt_cell(t->controller, "#pinctrl-cells", &width) ? width + 1 : 2;
    uint32_t stated = 0;
    if (f->by && !mos_dt_cell(group, f->by, &stated))
        return;
    for (size_t at = 0; width && width <= 16 && at + 4 * (size_t)width <= p->length;
         at += 4 * (size_t)width) {
        const uint8_t *cells = p->data + at;
        struct mos_dt_claim *c = pin(t, p);
        c->from = mos_dt_number(cells + 4 * f->pin, f->pins);
        c->split = f->pins > 1 ? 32 : 0;
        if (f->by) {
            c->flags = stated;
        } else if (f->function >= 0) {
            c->flags = mos_be32(cells + 4 * (size_t)f->function);
        } else {
            uint32_t v = mos_be32(cells), low = v & ((1u << f->shift) - 1);
            c->from = f->function_low ? v >> f->shift : low;
            c->flags = f->function_low ? low : v >> f->shift;
        }
    }
}

static bool is_text(const struct mos_dt_property *p) {
    if (!p->length || p->data[p->length - 1] || !p->data[0])
        return false;
    for (size_t i = 0; i < p->length; i++)
        if (p->data[i] && (p->data[i] < 0x20 || p->data[i] > 0x7e))
            return false;
    return true;
}

static void by_names(struct taker *t, const struct mos_dt_node *group,
                     const struct mos_dt_property *p, const char *function) {
    uint32_t number = 0;
    const struct mos_dt_property *f = mos_dt_property(group, function);
    if (!f || !is_text(p))
        return; /* only its electrical side is set */
    bool by_number = mos_dt_cell(group, function, &number) && !is_text(f);
    for (size_t at = 0; at < p->length; at += strlen((const char *)p->data + at) + 1) {
        struct mos_dt_claim *c = pin(t, p);
        c->name = (const char *)p->data + at;
        c->function = by_number || !is_text(f) ? NULL : (const char *)f->data;
        c->flags = number;
    }
}

static void list_group(struct taker *t, const struct mos_dt_node *group, unsigned depth) {
    enum { DEEPEST = 3 };
    for (size_t i = 0; i < sizeof cell_forms / sizeof *cell_forms; i++) {
        const struct cell_form *f = &cell_forms[i];
        const struct mos_dt_property *p = mos_dt_property(group, f->property);
        if (!p || (f->like && !mos_dt_is_like(t->controller, f->like)))
            continue;
        by_cells(t, group, p, f);
        break;
    }
    for (size_t i = 0; i < sizeof name_forms / sizeof *name_forms; i++) {
        const struct mos_dt_property *p = mos_dt_property(group, name_forms[i].property);
        if (p)
            by_names(t, group, p, name_forms[i].function);
    }
    for (const struct mos_dt_node *c = group->first_child; c && depth < DEEPEST; c = c->next)
        list_group(t, c, depth + 1);
}

static const struct mos_dt_node *controller_of(const struct mos_dt_node *group) {
    for (const struct mos_dt_node *n = group->parent; n; n = n->parent)
        if (mos_dt_property(n, "compatible"))
            return n;
    return NULL;
}

/* The state that a driver starts with: "default", or the first where they have no names. */
static size_t first_state(const struct mos_dt_node *node) {
    const struct mos_dt_property *names = mos_dt_property(node, "pinctrl-names");
    size_t index = 0, at = 0;
    for (const char *s; (s = mos_dt_next_string(names, &at)); index++)
        if (strcmp(s, "default") == 0)
            return index;
    return names ? SIZE_MAX : 0;
}

void mos_dt_pins_of(struct mos_arena *arena, const struct mos_dt_phandles *all,
                    const struct mos_dt_node *node, struct mos_vec *claims) {
    size_t state = first_state(node);
    char name[] = "pinctrl-0";
    if (state > 9)
        return;
    name[8] = (char)('0' + state);
    struct taker t = {
        .arena = arena, .node = node, .property = mos_dt_property(node, name), .claims = claims};
    for (size_t at = 0; t.property && at + 4 <= t.property->length; at += 4) {
        const struct mos_dt_node *group = mos_dt_by_phandle(all, mos_be32(t.property->data + at));
        t.entry = at / 4;
        t.controller = group ? controller_of(group) : NULL;
        if (t.controller)
            list_group(&t, group, 0);
    }
}

/* ---- lines and pins ---- */

static const struct cell_form *form_of(const struct mos_dt_claim *c) {
    for (size_t i = 0; i < sizeof cell_forms / sizeof *cell_forms; i++)
        if (strcmp(cell_forms[i].property, c->group->name) == 0 &&
            (!cell_forms[i].like || mos_dt_is_like(c->of, cell_forms[i].like)))
            return &cell_forms[i];
    return NULL;
}

bool mos_dt_is_line_function(const struct mos_dt_claim *c) {
    if (c->function)
        return strstr(c->function, "gpio") || strstr(c->function, "irq") ||
               strcmp(c->function, "normal") == 0 || strstr(c->function, "func") == c->function;
    if (c->name) /* samsung: input, output, external interrupt */
        return c->flags < 2 || c->flags == 15;
    const struct cell_form *f = form_of(c);
    if (!f || f->line < 0)
        return true; /* not known */
    return c->flags == (uint32_t)f->line || (f->by && c->flags == 1) ||
           (mos_dt_is_like(c->of, "st,stm32") && c->flags == 0x11);
}

/* The number of a bank: that of its alias, or of its place among its brothers. */
static bool bank_number(const struct mos_dt *dt, const struct mos_dt_node *bank, uint64_t *number) {
    const struct mos_dt_node *aliases = mos_dt_child(dt->root, "aliases");
    for (const struct mos_dt_property *p = aliases ? aliases->properties : NULL; p; p = p->next) {
        const char *to = mos_dt_string(aliases, p->name);
        if (strncmp(p->name, "gpio", 4) == 0 && to && mos_dt_find(dt, to) == bank) {
            *number = strtoul(p->name + 4, NULL, 10);
            return true;
        }
    }
    *number = 0;
    for (const struct mos_dt_node *n = bank->parent ? bank->parent->first_child : NULL; n;
         n = n->next) {
        if (n == bank)
            return true;
        *number += mos_dt_property(n, "gpio-controller") != NULL;
    }
    return false;
}

/* gpio-ranges = <&pins line pin count>, …: the number of a line's pin. */
static bool ranged(const struct mos_dt_phandles *all, const struct mos_dt_node *controller,
                   uint64_t line, struct mos_dt_pin *out) {
    const struct mos_dt_property *p = mos_dt_property(controller, "gpio-ranges");
    for (size_t at = 0; p && at + 16 <= p->length; at += 16) {
        uint64_t from = mos_be32(p->data + at + 4), count = mos_be32(p->data + at + 12);
        if (line < from || line - from >= count)
            continue;
        out->of = mos_dt_by_phandle(all, mos_be32(p->data + at));
        out->number = mos_be32(p->data + at + 8) + (line - from);
        return out->of;
    }
    return false;
}

bool mos_dt_pin_of_line(struct mos_arena *arena, const struct mos_dt *dt,
                        const struct mos_dt_phandles *all, const struct mos_dt_node *controller,
                        uint64_t line, struct mos_dt_pin *out) {
    *out = (struct mos_dt_pin){.of = controller, .number = line};
    uint64_t bank;
    if (mos_dt_is_like(controller, "allwinner,") && mos_dt_is_like(controller, "pinctrl")) {
        /* three cells: bank and pin; "PA5", from PL on for the second controller */
        bool second = mos_dt_is_like(controller, "-r-pinctrl");
        out->name = mos_printf(arena, "P%c%u", (char)((second ? 'L' : 'A') + (line >> 16)),
                               (unsigned)(line & 0xffff));
        return true;
    }
    if (mos_dt_is_like(controller, "rockchip,gpio-bank")) {
        if (!bank_number(dt, controller, &bank))
            return false;
        if (!ranged(all, controller, line, out))
            out->of = controller->parent;
        out->number = bank << 32 | line;
        return out->of;
    }
    if (mos_dt_is_like(controller, "brcm,bcm2835-gpio") ||
        mos_dt_is_like(controller, "brcm,bcm2711-gpio"))
        return true;
    if (controller->parent && mos_dt_is_like(controller->parent, "samsung,") &&
        mos_dt_property(controller, "gpio-controller") && strncmp(controller->name, "gp", 2) == 0) {
        out->of = controller->parent;
        out->name = mos_printf(arena, "%.*s-%u", (int)strcspn(controller->name, "-"),
                               controller->name, (unsigned)line);
        return true;
    }
    if (mos_dt_is_like(controller, "qcom,") && mos_dt_property(controller, "gpio-ranges")) {
        bool pmic = mos_dt_is_like(controller, "qcom,pm"); /* its lines count from 1 */
        if (!pmic && !ranged(all, controller, line, out))
            return false;
        out->name = mos_printf(arena, "gpio%u", (unsigned)line);
        out->of = controller;
        return true;
    }
    if (mos_dt_is_like(controller, "mediatek,"))
        return true;
    if (!ranged(all, controller, line, out) || mos_dt_is_like(out->of, "fsl,"))
        return false; /* their pins are named by registers */
    if (mos_dt_is_like(out->of, "marvell,"))
        out->name = mos_printf(arena, "mpp%u", (unsigned)out->number);
    return true;
}
