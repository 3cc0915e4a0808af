/* Speeds and modes that a bus cannot have, as far as the tree states its limits. */
#include "rules/rules.h"

#include "base/text.h"
#include "rules/tree-view.h"

#include <string.h>

/* A finding at one property, with another one beside it where there is one; NULL: none of it is
 * ours. */
static struct mos_finding *tell(struct mos_tree_view *v, const struct mos_dt_node *n,
                                const struct mos_dt_property *p, const struct mos_dt_node *other,
                                const struct mos_dt_property *q, const char *text, const char *why,
                                const char *remedy) {
    if (!mos_tree_is_ours(p) && !mos_tree_is_ours(q))
        return NULL;
    struct mos_finding *f = mos_tree_tell(v, MOS_RULE_TREE_BUS_LIMIT, n, p, text);
    if (!f)
        return NULL;
    if (q)
        mos_finding_at(v->list, f, mos_tree_place(v, other, q));
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "%s", remedy);
    return f;
}

static const char *hertz(struct mos_arena *arena, uint64_t n) {
    return n && n % 1000000 == 0 ? mos_printf(arena, "%llu MHz", (unsigned long long)(n / 1000000))
           : n && n % 1000 == 0  ? mos_printf(arena, "%llu kHz", (unsigned long long)(n / 1000))
                                 : mos_printf(arena, "%llu Hz", (unsigned long long)n);
}

/* ---- I2C: I2C-bus specification, revision 7, section 1: up to 5 MHz ---- */

static void check_i2c(struct mos_tree_view *v, const struct mos_dt_node *n) {
    enum { FASTEST = 5000000 };
    uint32_t speed;
    bool bus = strncmp(n->name, "i2c", 3) == 0 && mos_dt_property(n, "#size-cells") &&
               !mos_dt_size_cells(n);
    if (!bus || !mos_dt_cell(n, "clock-frequency", &speed) || (speed && speed <= FASTEST))
        return;
    tell(v, n, mos_dt_property(n, "clock-frequency"), NULL, NULL,
         mos_printf(v->arena, "%s is to run at %s, and I²C has no such mode.", mos_tree_path(v, n),
                    hertz(v->arena, speed)),
         "Its modes are 100 kHz, 400 kHz, 1 MHz, 3.4 MHz and 5 MHz.",
         "Set clock-frequency to the fastest that all devices of the bus have.");
}

/* ---- SPI: a controller that states its own limit ---- */

static void check_spi(struct mos_tree_view *v, const struct mos_dt_node *n) {
    uint32_t own, most;
    const struct mos_dt_node *bus = n->parent;
    if (!bus || strncmp(bus->name, "spi", 3) != 0 || !mos_dt_cell(n, "spi-max-frequency", &own) ||
        !mos_dt_cell(bus, "spi-max-frequency", &most) || own <= most)
        return;
    tell(v, n, mos_dt_property(n, "spi-max-frequency"), bus,
         mos_dt_property(bus, "spi-max-frequency"),
         mos_printf(v->arena, "%s is to run at %s, and its bus does at most %s.",
                    mos_tree_path(v, n), hertz(v->arena, own), hertz(v->arena, most)),
         "The controller cannot make that clock.",
         mos_printf(v->arena, "Set spi-max-frequency = <%u>, or less.", most));
}

/* ---- Ethernet: what a connection to the PHY carries (ethernet-controller binding) ---- */

static const struct {
    const char *mode;
    uint32_t most; /* Mbit/s */
} connections[] = {{"mii", 100},         {"rmii", 100},        {"100base-x", 100},
                   {"gmii", 1000},       {"rgmii", 1000},      {"rgmii-id", 1000},
                   {"rgmii-rxid", 1000}, {"rgmii-txid", 1000}, {"sgmii", 1000},
                   {"1000base-x", 1000}, {"tbi", 1000},        {"qsgmii", 1000},
                   {"2500base-x", 2500}, {"5gbase-r", 5000},   {"xgmii", 10000},
                   {"10gbase-r", 10000}, {"usxgmii", 10000}};

static void check_carried(struct mos_tree_view *v, const struct mos_dt_node *mac, const char *mode,
                          uint32_t most, const struct mos_dt_node *at, const char *name) {
    uint32_t speed;
    if (!at || !mos_dt_cell(at, name, &speed) || speed <= most)
        return;
    const char *property = mos_dt_property(mac, "phy-mode") ? "phy-mode" : "phy-connection-type";
    tell(v, at, mos_dt_property(at, name), mac, mos_dt_property(mac, property),
         mos_printf(v->arena, "%s of %s is %u Mbit/s, and %s carries at most %u.", name,
                    mos_tree_path(v, at), speed, mode, most),
         "The link comes up, and passes no frame, or does not come up at all.",
         "Choose a speed that the connection carries, or the connection that the PHY has.");
}

static void check_ethernet(struct mos_tree_view *v, const struct mos_dt_node *n) {
    const char *mode = mos_dt_string(n, "phy-mode");
    mode = mode ? mode : mos_dt_string(n, "phy-connection-type");
    for (size_t i = 0; mode && i < sizeof connections / sizeof *connections; i++) {
        if (strcmp(mode, connections[i].mode) != 0)
            continue;
        check_carried(v, n, mode, connections[i].most, n, "max-speed");
        check_carried(v, n, mode, connections[i].most, mos_dt_child(n, "fixed-link"), "speed");
    }
}

/* ---- cards: lines that a mode needs (Linux: drivers/mmc/core/mmc.c, sd.c) ---- */

static const struct {
    const char *begin; /* of the property */
    uint32_t least;    /* data lines */
} modes[] = {{"mmc-hs400-", 8}, {"mmc-hs200-", 4}, {"sd-uhs-", 4}};

static void check_card(struct mos_tree_view *v, const struct mos_dt_node *n) {
    uint32_t width;
    const struct mos_dt_property *lines = mos_dt_property(n, "bus-width");
    bool card =
        strncmp(n->name, "mmc", 3) == 0 || strstr(n->name, "sdhci") || strstr(n->name, "sdmmc");
    if (!card || !lines || !mos_dt_cell(n, "bus-width", &width))
        return;
    if (width != 1 && width != 4 && width != 8)
        tell(v, n, lines, NULL, NULL,
             mos_printf(v->arena, "%s has a bus of %u lines.", mos_tree_path(v, n), width),
             "There are 1, 4 or 8; the driver refuses the port.",
             "Set bus-width = <4>, or what is wired.");
    for (size_t i = 0; i < sizeof modes / sizeof *modes; i++)
        for (const struct mos_dt_property *p = n->properties; p; p = p->next) {
            if (width >= modes[i].least ||
                strncmp(p->name, modes[i].begin, strlen(modes[i].begin)) != 0)
                continue;
            struct mos_finding *f =
                tell(v, n, p, n, lines,
                     mos_printf(v->arena, "%s has the mode %s, which needs %u lines, and has %u.",
                                mos_tree_path(v, n), p->name, modes[i].least, width),
                     "The mode is never used.",
                     mos_printf(v->arena, "Remove %s, or set bus-width = <%u>.", p->name,
                                modes[i].least));
            if (f)
                f->severity = MOS_SEVERITY_WARNING;
        }
}

/* ---- serial ports: a bit is 16 clocks ---- */

/* The clock of a port, where it is fixed; 0: not known. */
static uint32_t clock_of(const struct mos_tree_view *v, const struct mos_dt_node *n,
                         const struct mos_dt_node **of) {
    uint32_t number, speed;
    *of = n;
    if (mos_dt_cell(n, "clock-frequency", &speed))
        return speed;
    const struct mos_dt_property *clocks = mos_dt_property(n, "clocks");
    if (!clocks || clocks->length < 4)
        return 0;
    number = (uint32_t)mos_dt_number(clocks->data, 1);
    *of = mos_dt_by_phandle(&v->phandles, number);
    return *of && mos_dt_is_compatible(*of, "fixed-clock") &&
                   mos_dt_cell(*of, "clock-frequency", &speed)
               ? speed
               : 0;
}

static void check_serial(struct mos_tree_view *v, const struct mos_dt_node *n) {
    enum { CLOCKS = 16 };
    const struct mos_dt_node *of;
    uint32_t speed, clock;
    if (!mos_dt_is_like(n, "ns16550") && !mos_dt_is_like(n, "arm,pl011") &&
        !mos_dt_is_like(n, "dw-apb-uart"))
        return;
    for (const struct mos_dt_node *at = n; at; at = at == n ? n->first_child : at->next) {
        if (!mos_dt_is_on(at) || !mos_dt_cell(at, "current-speed", &speed) ||
            !(clock = clock_of(v, n, &of)) || speed <= clock / CLOCKS + clock / CLOCKS / 32)
            continue;
        tell(v, at, mos_dt_property(at, "current-speed"), of,
             mos_dt_property(of, "clock-frequency"),
             mos_printf(v->arena, "%s is to run at %u baud, and a clock of %s gives at most %u.",
                        mos_tree_path(v, at), speed, hertz(v->arena, clock), clock / CLOCKS),
             "The port samples each bit 16 times.",
             mos_printf(v->arena, "Set current-speed = <%u>, or less.", clock / CLOCKS));
    }
}

static bool check_node(void *self, struct mos_dt_node *n) {
    struct mos_tree_view *v = self;
    if (mos_dt_has_free_names(n) || mos_dt_off(n))
        return true;
    check_i2c(v, n);
    check_spi(v, n);
    check_ethernet(v, n);
    check_card(v, n);
    check_serial(v, n);
    return true;
}

void mos_tree_check_speeds(struct mos_tree_view *v) {
    struct mos_dt_node *root = v->dt->root;
    mos_dt_walk(root, check_node, v);
}
