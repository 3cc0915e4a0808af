/* What can be planted into a tree: conflicts, each by the thing that is there already, and what is
 * correct. */
#include "conflicts.h"

#include "base/bytes.h"

#include <string.h>

static unsigned chance(struct site *s, size_t n) {
    s->seed = s->seed * 1664525u + 1013904223u;
    return (unsigned)((s->seed >> 8) % n);
}

__attribute__((format(printf, 2, 3))) static bool plant(struct site *s, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    int length = vsnprintf(s->text, sizeof s->text, format, arguments);
    va_end(arguments);
    return length >= 0 && (size_t)length < sizeof s->text;
}

static const char *path(struct site *s, const struct mos_dt_node *n) {
    const char *p = mos_dt_path(s->core.ctx.arena, n);
    return *p ? p : "/";
}

static uint32_t cell(const struct mos_dt_node *n, const char *name) {
    uint32_t value;
    return mos_dt_cell(n, name, &value) ? value : 0;
}

/* ---- what there is ---- */

struct pick {
    bool (*fits)(struct site *s, const struct mos_dt_node *n);
    struct site *site;
    const struct mos_dt_node *found;
    unsigned count;
};

static bool pick_node(void *self, struct mos_dt_node *n) {
    struct pick *p = self;
    if (p->fits(p->site, n) && chance(p->site, ++p->count) == 0)
        p->found = n;
    return true;
}

/* One of the nodes that fit, by chance; NULL: none does. */
static const struct mos_dt_node *node(struct site *s,
                                      bool (*fits)(struct site *s, const struct mos_dt_node *n)) {
    struct pick p = {fits, s, NULL, 0};
    mos_dt_walk(s->dt->root, pick_node, &p);
    return p.found;
}

/* One of the claims of a kind that fit. */
static const struct mos_dt_claim *claim(struct site *s, enum mos_dt_claim_kind kind,
                                        bool (*fits)(struct site *s,
                                                     const struct mos_dt_claim *c)) {
    const struct mos_dt_claim *found = NULL;
    unsigned count = 0;
    for (size_t i = 0; i < s->claims.count; i++) {
        const struct mos_dt_claim *c = mos_vec_at(&s->claims, i);
        if (c->kind == kind && (!fits || fits(s, c)) && chance(s, ++count) == 0)
            found = c;
    }
    return found;
}

static bool named(const struct mos_dt_node *n, const char *begin) {
    return strncmp(n->name, begin, strlen(begin)) == 0;
}

static bool on(const struct mos_dt_node *n) {
    return !mos_dt_off(n);
}

/* ---- conflicts ---- */

static bool plain_line(struct site *s, const struct mos_dt_claim *c) {
    const char *p = c->property->name;
    return !strstr(p, "interrupts") && !strstr(p, "reset") && strcmp(p, "gpio") != 0 &&
           !strstr(path(s, c->node), "regulator") && cell(c->of, "#gpio-cells") == 2;
}

static bool line_taken(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_LINE, plain_line);
    s->other = c ? path(s, c->node) : NULL;
    return c &&
           plant(s, "&{/} { lamp-x { compatible = \"x,lamp\"; light-gpios = <&{%s} %u 0>; }; };",
                 path(s, c->of), (unsigned)c->from);
}

static bool on_i2c(struct site *s, const struct mos_dt_claim *c) {
    (void)s;
    return named(c->of, "i2c@") && c->from > 8 && c->from < 0x78;
}

static bool address_taken(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_ADDRESS, on_i2c);
    s->other = c ? path(s, c->node) : NULL;
    return c && plant(s, "&{%s} { gauge@%x { compatible = \"x,gauge\"; reg = <0x%x>; }; };",
                      path(s, c->of), (unsigned)c->from, (unsigned)c->from);
}

/* An address that nobody has, also not behind a multiplexer. */
static unsigned free_address(struct site *s) {
    unsigned a;
    bool taken;
    do {
        a = 0x10 + chance(s, 0x60);
        taken = false;
        for (size_t i = 0; i < s->claims.count; i++) {
            const struct mos_dt_claim *c = mos_vec_at(&s->claims, i);
            taken |= c->kind == MOS_DT_CLAIM_ADDRESS && c->from == a;
        }
    } while (taken);
    return a;
}

static bool address_free(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_ADDRESS, on_i2c);
    unsigned a = free_address(s);
    return c && plant(s, "&{%s} { gauge@%x { compatible = \"x,gauge\"; reg = <0x%x>; }; };",
                      path(s, c->of), a, a);
}

static bool unit_address(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_ADDRESS, on_i2c);
    unsigned a = free_address(s);
    return c && plant(s, "&{%s} { gauge@%x { compatible = \"x,gauge\"; reg = <0x%x>; }; };",
                      path(s, c->of), a, a ^ 0x80);
}

static bool level(struct site *s, const struct mos_dt_claim *c) {
    (void)s;
    uint32_t cells = cell(c->of, "#interrupt-cells");
    return mos_dt_property(c->of, "interrupt-controller") && (cells == 2 || cells == 3) &&
           (c->flags & MOS_DT_TRIGGER) >= 4;
}

/* The cells of a claim's number. */
static const char *number(struct site *s, const struct mos_dt_claim *c) {
    struct mos_arena *arena = s->core.ctx.arena;
    return c->split ? mos_printf(arena, "%u %u", (unsigned)(c->from >> c->split),
                                 (unsigned)(c->from & ((1ull << c->split) - 1)))
                    : mos_printf(arena, "%u", (unsigned)c->from);
}

static bool trigger(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_INTERRUPT, level);
    s->other = c ? path(s, c->node) : NULL;
    return c && plant(s,
                      "&{/} { gauge-x { compatible = \"x,gauge\"; interrupt-parent = <&{%s}>; "
                      "interrupts = <%s 1>; }; };",
                      path(s, c->of), number(s, c));
}

static bool interrupt_cells(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_INTERRUPT, level);
    return c && plant(s,
                      "&{/} { gauge-x { compatible = \"x,gauge\"; interrupt-parent = <&{%s}>; "
                      "interrupts = <%s>; }; };",
                      path(s, c->of), number(s, c));
}

static bool clock_provider(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return on(n) && cell(n, "#clock-cells") == 1;
}

static bool clock_with(struct site *s, const char *cells) {
    const struct mos_dt_node *n = node(s, clock_provider);
    return n && plant(s, "&{/} { gauge-x { compatible = \"x,gauge\"; clocks = <&{%s}%s>; }; };",
                      path(s, n), cells);
}

static bool clock_few(struct site *s) {
    return clock_with(s, "");
}

static bool clock_many(struct site *s) {
    return clock_with(s, " 1 2");
}

static bool clock_right(struct site *s) {
    return clock_with(s, " 1");
}

static bool clock_names(struct site *s) {
    const struct mos_dt_node *n = node(s, clock_provider);
    return n &&
           plant(s,
                 "&{/} { gauge-x { compatible = \"x,gauge\"; clocks = <&{%s} 1>; clock-names = "
                 "\"a\", \"b\"; }; };",
                 path(s, n));
}

static bool no_reset(struct site *s) {
    return mos_dt_child(s->dt->root, "cpus") &&
           plant(s, "&{/} { gauge-x { compatible = \"x,gauge\"; resets = <&{/cpus} 1>; }; };");
}

static bool bus_off(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    const char *status = mos_dt_string(n, "status");
    return (named(n, "i2c@") || named(n, "spi@")) && status && strcmp(status, "disabled") == 0 &&
           on(n->parent) && cell(n, "#address-cells") == 1;
}

static bool below_off(struct site *s) {
    const struct mos_dt_node *n = node(s, bus_off);
    return n &&
           plant(s, "&{%s} { gauge@3 { compatible = \"x,gauge\"; reg = <3>; }; };", path(s, n));
}

static bool ranged(struct site *s, const struct mos_dt_claim *c) {
    (void)s;
    return (named(c->node, "serial@") || named(c->node, "mmc@")) && c->entry == 0 &&
           c->node->parent->parent;
}

/* The cells of `reg` of a claim's node without the last `less` ones. */
static const char *cells_of(struct site *s, const struct mos_dt_node *n, size_t less) {
    struct mos_buf b = {.arena = s->core.ctx.arena};
    const struct mos_dt_property *p = mos_dt_property(n, "reg");
    size_t entry = mos_dt_address_cells(n->parent) + (size_t)mos_dt_size_cells(n->parent);
    for (size_t i = 0; i + less < entry && 4 * i < p->length; i++)
        mos_buf_printf(&b, "%s0x%x", i ? " " : "", (unsigned)mos_be32(p->data + 4 * i));
    return mos_buf_string(&b);
}

static bool registers_with(struct site *s, size_t less) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_REGISTERS, ranged);
    const char *at = c ? strchr(c->node->name, '@') : NULL;
    s->other = c && !less ? path(s, c->node) : NULL;
    return at && plant(s, "&{%s} { gauge%s { compatible = \"x,gauge\"; reg = <%s>; }; };",
                       path(s, c->node->parent), at, cells_of(s, c->node, less));
}

static bool registers_taken(struct site *s) {
    return registers_with(s, 0);
}

static bool registers_short(struct site *s) {
    return registers_with(s, 1);
}

static bool in_group(struct site *s, const struct mos_dt_claim *c) {
    (void)s;
    return c->group != NULL;
}

static bool owner_of_group(struct site *s, const struct mos_dt_claim *c, char out[200]) {
    size_t at = 0;
    for (size_t i = 0; i < s->all.rows.count; i++) {
        const struct mos_dt_phandle *h = mos_vec_at(&s->all.rows, i);
        const struct mos_dt_property *p = mos_dt_property(c->node, "pinctrl-0");
        for (size_t k = 0; p && k + 4 <= p->length; k += 4)
            if (mos_be32(p->data + k) == h->number && !at)
                at = (size_t)snprintf(out, 200, "%s", path(s, h->node));
    }
    return at;
}

static bool pins_taken(struct site *s) {
    char group[200];
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_PIN, in_group);
    if (!c || !owner_of_group(s, c, group))
        return false;
    return plant(
        s,
        "&{/} { gauge-x { compatible = \"x,gauge\"; pinctrl-names = \"default\"; pinctrl-0 "
        "= <&{%s}>; }; };",
        group);
}

static bool supply(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return on(n) && mos_dt_property(n, "regulator-min-microvolt");
}

static bool voltage(struct site *s) {
    const struct mos_dt_node *n = node(s, supply);
    return n && plant(s, "&{%s} { regulator-min-microvolt = <9900000>; };", path(s, n));
}

static bool loop(struct site *s) {
    const struct mos_dt_node *n = node(s, supply);
    return n && plant(s, "&{%s} { vin-supply = <&{%s}>; };", path(s, n), path(s, n));
}

static bool supply_right(struct site *s) {
    const struct mos_dt_node *n = node(s, supply);
    return n && plant(s, "&{/} { gauge-x { compatible = \"x,gauge\"; vdd-supply = <&{%s}>; }; };",
                      path(s, n));
}

static bool fixed(struct site *s, const struct mos_dt_node *n) {
    return supply(s, n) && mos_dt_is_compatible(n, "regulator-fixed");
}

static bool supply_off(struct site *s) {
    const struct mos_dt_node *n = node(s, fixed);
    return n &&
           plant(s,
                 "&{%s} { status = \"disabled\"; }; &{/} { gauge-x { compatible = \"x,gauge\"; "
                 "vdd-supply = <&{%s}>; }; };",
                 path(s, n), path(s, n));
}

static bool card(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return on(n) && !mos_dt_property(n, "vqmmc-supply") &&
           (named(n, "mmc@") || named(n, "sdhci@") || named(n, "sdmmc@"));
}

static bool fast_card(struct site *s) {
    const struct mos_dt_node *n = node(s, card);
    return n &&
           plant(s,
                 "&{/} { vx: vx { compatible = \"regulator-fixed\"; regulator-name = \"vx\"; "
                 "regulator-min-microvolt = <3300000>; regulator-max-microvolt = <3300000>; }; "
                 "}; &{%s} { vqmmc-supply = <&vx>; mmc-hs200-1_8v; };",
                 path(s, n));
}

static bool alias(struct site *s) {
    return plant(s, "&{/} { aliases { i2c77 = \"/nowhere@5\"; }; };");
}

static bool reserved(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_MEMORY, NULL);
    if (!c || !c->count || !c->node->parent)
        return false;
    bool wide = mos_dt_address_cells(c->node->parent) == 2,
         wide_size = mos_dt_size_cells(c->node->parent) == 2;
    s->other = path(s, c->node);
    return plant(s, "&{%s} { x@%llx { reg = <%s0x%x %s0x1000>; no-map; }; };",
                 path(s, c->node->parent), (unsigned long long)c->from,
                 wide ? mos_printf(s->core.ctx.arena, "0x%x ", (unsigned)(c->from >> 32)) : "",
                 (unsigned)c->from, wide_size ? "0 " : "");
}

static bool selects(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return named(n, "spi@") && on(n) &&
           (mos_dt_property(n, "num-cs") || mos_dt_property(n, "cs-gpios"));
}

static bool chip_select(struct site *s) {
    const struct mos_dt_node *n = node(s, selects);
    return n &&
           plant(s, "&{%s} { gauge@17 { compatible = \"x,gauge\"; reg = <0x17>; }; };", path(s, n));
}

static bool lines(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return on(n) && mos_dt_property(n, "ngpios") && cell(n, "#gpio-cells") == 2;
}

static bool beyond(struct site *s) {
    const struct mos_dt_node *n = node(s, lines);
    return n &&
           plant(s, "&{/} { lamp-x { compatible = \"x,lamp\"; light-gpios = <&{%s} %u 0>; }; };",
                 path(s, n), cell(n, "ngpios"));
}

static bool endpoint(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return named(n, "endpoint") && mos_dt_property(n, "remote-endpoint");
}

static bool alone(struct site *s) {
    const struct mos_dt_node *n = node(s, endpoint);
    return n && plant(s,
                      "&{/} { cam-x { compatible = \"x,cam\"; port { endpoint { remote-endpoint = "
                      "<&{%s}>; }; }; }; };",
                      path(s, n));
}

static bool off_with(struct site *s, enum mos_dt_claim_kind kind) {
    const struct mos_dt_claim *c = claim(s, kind, NULL);
    if (!c || !c->of || !on(c->of) || !on(c->node))
        return false;
    for (const struct mos_dt_node *n = c->node; n; n = n->parent)
        if (n == c->of)
            return false; /* it would be off, too */
    return plant(s, "&{%s} { status = \"disabled\"; };", path(s, c->of));
}

static bool domain_off(struct site *s) {
    return off_with(s, MOS_DT_CLAIM_DOMAIN);
}

static bool reset_off(struct site *s) {
    return off_with(s, MOS_DT_CLAIM_RESET);
}

static bool lines_off(struct site *s) {
    return off_with(s, MOS_DT_CLAIM_LINE);
}

static bool names_of(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return on(n) && mos_dt_property(n, "reg-names") && mos_dt_property(n, "reg");
}

static bool too_many_names(struct site *s) {
    const struct mos_dt_node *n = node(s, names_of);
    return n && plant(s,
                      "&{%s} { reg-names = \"a\", \"b\", \"c\", \"d\", \"e\", \"f\", \"g\", \"h\", "
                      "\"i\", \"j\", \"k\", \"l\", \"m\"; };",
                      path(s, n));
}

static bool bus(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return named(n, "i2c@") && on(n) && mos_dt_property(n, "#size-cells");
}

static bool too_fast(struct site *s) {
    const struct mos_dt_node *n = node(s, bus);
    return n && plant(s, "&{%s} { clock-frequency = <12000000>; };", path(s, n));
}

static bool fast_enough(struct site *s) {
    const struct mos_dt_node *n = node(s, bus);
    return n && plant(s, "&{%s} { clock-frequency = <400000>; };", path(s, n));
}

static bool four_lines(struct site *s, const struct mos_dt_node *n) {
    (void)s;
    return named(n, "mmc@") && on(n) && cell(n, "bus-width") == 4;
}

static bool wide_mode(struct site *s) {
    const struct mos_dt_node *n = node(s, four_lines);
    return n && plant(s, "&{%s} { mmc-hs400-1_2v; };", path(s, n));
}

static bool interrupts_off(struct site *s) {
    return off_with(s, MOS_DT_CLAIM_INTERRUPT);
}

/* ---- the same thing, said by a node of our own ---- */

static bool lonely_pin(struct site *s, const struct mos_dt_claim *c) {
    if (!c->group)
        return false;
    for (size_t i = 0; i < s->claims.count; i++) {
        const struct mos_dt_claim *o = mos_vec_at(&s->claims, i);
        if (o != c && o->kind == MOS_DT_CLAIM_PIN && o->of == c->of && o->from == c->from &&
            (!o->name || !c->name || strcmp(o->name, c->name) == 0))
            return false;
    }
    return true;
}

struct holder {
    const struct mos_dt_property *property;
    const struct mos_dt_node *found;
};

static bool has_it(void *self, struct mos_dt_node *n) {
    struct holder *h = self;
    for (const struct mos_dt_property *p = n->properties; p; p = p->next)
        if (p == h->property)
            h->found = n;
    return true;
}

/* A node's properties but its phandle, as bytes. */
static const char *copied(struct site *s, const struct mos_dt_node *n) {
    struct mos_buf b = {.arena = s->core.ctx.arena};
    for (const struct mos_dt_property *p = n->properties; p; p = p->next) {
        if (strcmp(p->name, "phandle") == 0)
            continue;
        mos_buf_printf(&b, p->length ? "%s = [" : "%s;", p->name);
        for (size_t i = 0; i < p->length; i++)
            mos_buf_printf(&b, "%02x ", p->data[i]);
        mos_buf_printf(&b, p->length ? "]; " : " ");
    }
    return mos_buf_string(&b);
}

/* A group of our own with the pins of one that is in use, in the form that this controller has. */
static bool own_group(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_PIN, lonely_pin);
    struct holder h = {c ? c->group : NULL, NULL};
    if (!c)
        return false;
    mos_dt_walk(s->dt->root, has_it, &h);
    const char *list = copied(s, h.found);
    s->other = path(s, c->node);
    bool direct = h.found->parent == c->of || mos_dt_property(h.found, "phandle");
    return plant(s,
                 "&{%s} { grp_x: gauge-pins { %s%s%s }; }; &{/} { gauge-x { compatible = "
                 "\"x,gauge\"; pinctrl-names = \"default\"; pinctrl-0 = <&grp_x>; }; };",
                 path(s, direct ? h.found->parent : h.found->parent->parent),
                 direct ? "" : "pins-x { ", list, direct ? "" : "};");
}

static bool muxed(struct site *s, const struct mos_dt_claim *c) {
    return lonely_pin(s, c) && !mos_dt_is_line_function(c);
}

struct line_of {
    struct site *site;
    const struct mos_dt_claim *pin;
    const struct mos_dt_node *found;
    unsigned line;
};

static bool find_line(void *self, struct mos_dt_node *n) {
    struct line_of *l = self;
    struct site *s = l->site;
    for (unsigned i = 0;
         i < 320 && on(n) && mos_dt_property(n, "gpio-controller") && cell(n, "#gpio-cells") == 2;
         i++) {
        struct mos_dt_pin pin;
        if (mos_dt_pin_of_line(s->core.ctx.arena, s->dt, &s->all, n, i, &pin) &&
            pin.of == l->pin->of &&
            (pin.name ? l->pin->name && strcmp(pin.name, l->pin->name) == 0
                      : !l->pin->name && pin.number == l->pin->from)) {
            l->found = n;
            l->line = i;
        }
    }
    return true;
}

/* A line whose pin was given another function. */
static bool line_of_pin(struct site *s) {
    struct line_of l = {.site = s, .pin = claim(s, MOS_DT_CLAIM_PIN, muxed)};
    if (l.pin)
        mos_dt_walk(s->dt->root, find_line, &l);
    s->other = l.found ? path(s, l.pin->node) : NULL;
    return l.found &&
           plant(s, "&{/} { lamp-x { compatible = \"x,lamp\"; light-gpios = <&{%s} %u 0>; }; };",
                 path(s, l.found), l.line);
}

static bool clock_off(struct site *s) {
    return off_with(s, MOS_DT_CLAIM_CLOCK);
}

static bool dma_off(struct site *s) {
    return off_with(s, MOS_DT_CLAIM_DMA);
}

/* What a claim's entry says, written again by another node. */
static bool again_with(struct site *s, enum mos_dt_claim_kind kind, const char *property,
                       const char *cells) {
    const struct mos_dt_claim *c = claim(s, kind, NULL);
    size_t at = 0, count = c ? cell(c->of, cells) : 0, entries = 0;
    uint32_t of = c ? cell(c->of, "phandle") : 0;
    struct mos_buf b = {.arena = s->core.ctx.arena};
    if (!count || count > 4)
        return false;
    /* all entries before it are of the same provider: its cells stand where it is counted */
    for (at = 0; at + 4 * (count + 1) <= c->property->length; at += 4 * (count + 1), entries++) {
        if (mos_be32(c->property->data + at) != of)
            return false;
        for (size_t i = 1; i <= count && entries == c->entry; i++)
            mos_buf_printf(&b, " %u", (unsigned)mos_be32(c->property->data + at + 4 * i));
    }
    s->other = path(s, c->node);
    return plant(s, "&{/} { gauge-x { compatible = \"x,gauge\"; %s = <&{%s}%s>; }; };", property,
                 path(s, c->of), mos_buf_string(&b));
}

static bool channel_taken(struct site *s) {
    return again_with(s, MOS_DT_CLAIM_PWM, "pwms", "#pwm-cells");
}

static bool request_taken(struct site *s) {
    return again_with(s, MOS_DT_CLAIM_DMA, "dmas", "#dma-cells");
}

static bool on_spi(struct site *s, const struct mos_dt_claim *c) {
    (void)s;
    return named(c->of, "spi@");
}

static bool select_taken(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_ADDRESS, on_spi);
    s->other = c ? path(s, c->node) : NULL;
    return c && plant(s, "&{%s} { gauge@%x { compatible = \"x,gauge\"; reg = <0x%x>; }; };",
                      path(s, c->of), (unsigned)c->from, (unsigned)c->from);
}

static bool behind(struct site *s, const struct mos_dt_claim *c) {
    (void)s;
    const struct mos_dt_node *mux = c->of->parent;
    return named(c->of, "i2c@") && mux && mux->parent && named(mux->parent, "i2c@") &&
           mos_dt_is_like(mux, "nxp,pca954");
}

static bool before_channel(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_ADDRESS, behind);
    s->other = c ? path(s, c->node) : NULL;
    return c && plant(s, "&{%s} { gauge@%x { compatible = \"x,gauge\"; reg = <0x%x>; }; };",
                      path(s, c->of->parent->parent), (unsigned)c->from, (unsigned)c->from);
}

/* The same address behind another channel is another device. */
static bool other_channel(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_ADDRESS, behind);
    const struct mos_dt_node *n = c ? c->of->parent->first_child : NULL;
    for (; n && (n == c->of || n->first_child || !named(n, "i2c@")); n = n->next)
        ;
    return n && plant(s, "&{%s} { gauge@%x { compatible = \"x,gauge\"; reg = <0x%x>; }; };",
                      path(s, n), (unsigned)c->from, (unsigned)c->from);
}

static bool no_lines(struct site *s) {
    return mos_dt_child(s->dt->root, "cpus") &&
           plant(s,
                 "&{/} { gauge-x { compatible = \"x,gauge\"; lamp-gpios = <&{/cpus} 1 0>; }; };");
}

static bool state_names(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_PIN, in_group);
    return c &&
           plant(s,
                 "&{%s} { pinctrl-names = \"default\", \"sleep\", \"idle\", \"off\", \"more\"; };",
                 path(s, c->node));
}

/* A line that nobody has, of a controller that has more than its users need. */
static bool line_free(struct site *s) {
    const struct mos_dt_claim *c = claim(s, MOS_DT_CLAIM_LINE, plain_line);
    for (unsigned line = 0; c && line < 32; line++) {
        bool taken = line >= (cell(c->of, "ngpios") ? cell(c->of, "ngpios") : 8);
        struct mos_dt_pin pin;
        bool known = mos_dt_pin_of_line(s->core.ctx.arena, s->dt, &s->all, c->of, line, &pin);
        for (size_t i = 0; i < s->claims.count; i++) {
            const struct mos_dt_claim *o = mos_vec_at(&s->claims, i);
            taken |= o->kind == MOS_DT_CLAIM_LINE && o->of == c->of && o->from == line;
            taken |= known && o->kind == MOS_DT_CLAIM_PIN && o->of == pin.of;
        }
        if (!taken)
            return plant(
                s, "&{/} { lamp-x { compatible = \"x,lamp\"; light-gpios = <&{%s} %u 0>; }; };",
                path(s, c->of), line);
    }
    return false;
}

const struct conflict conflicts[] = {{"tree.claimed-twice", line_taken},
                                     {"tree.claimed-twice", registers_taken},
                                     {"tree.claimed-twice", pins_taken},
                                     {"tree.address-taken", address_taken},
                                     {"tree.cells", unit_address},
                                     {"tree.cells", registers_short},
                                     {"tree.trigger-differs", trigger},
                                     {"tree.broken-reference", interrupt_cells},
                                     {"tree.broken-reference", clock_few},
                                     {"tree.broken-reference", clock_many},
                                     {"tree.broken-reference", clock_names},
                                     {"tree.broken-reference", no_reset},
                                     {"tree.broken-reference", too_many_names},
                                     {"tree.bus-off", below_off},
                                     {"tree.voltage", voltage},
                                     {"tree.voltage", fast_card},
                                     {"tree.supply-loop", loop},
                                     {"tree.provider-off", supply_off},
                                     {"tree.provider-off", domain_off},
                                     {"tree.provider-off", reset_off},
                                     {"tree.provider-off", lines_off},
                                     {"tree.provider-off", interrupts_off},
                                     {"tree.bus-limit", too_fast},
                                     {"tree.bus-limit", wide_mode},
                                     {"tree.node-missing", alias},
                                     {"tree.reserved-overlap", reserved},
                                     {"tree.beyond-limit", chip_select},
                                     {"tree.beyond-limit", beyond},
                                     {"tree.endpoint-alone", alone},
                                     {"tree.claimed-twice", own_group},
                                     {"tree.claimed-twice", line_of_pin},
                                     {"tree.claimed-twice", channel_taken},
                                     {"tree.claimed-twice", request_taken},
                                     {"tree.address-taken", select_taken},
                                     {"tree.address-taken", before_channel},
                                     {"tree.provider-off", clock_off},
                                     {"tree.provider-off", dma_off},
                                     {"tree.broken-reference", no_lines},
                                     {"tree.broken-reference", state_names},
                                     {NULL, address_free},
                                     {NULL, other_channel},
                                     {NULL, line_free},
                                     {NULL, clock_right},
                                     {NULL, fast_enough},
                                     {NULL, supply_right},
                                     {NULL, NULL}};
