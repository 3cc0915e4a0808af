/* The network and the time zone of the system, and whether its root can use what is written. */
#include "rules/rules.h"

#include "base/text.h"
#include "plan/network.h"

#include <string.h>

struct network_view {
    const struct mos_plan *plan;
    const struct mos_system_network *n;
    const struct mos_network_port *p;
    const struct mos_region_plan *root; /* NULL: not known what it holds */
    struct mos_findings *list;
    struct mos_arena *arena;
};

static struct mos_finding *wrong(const struct network_view *v, struct mos_place place,
                                 const char *message, const char *why, const char *remedy) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_ACCESS_NETWORK, "%s", message);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "%s", remedy);
    return f;
}

static bool is_there(const struct network_view *v, const char *path) {
    return mos_inv_has(v->root->volume->inventory, v->arena, path);
}

static bool is_one(const struct mos_value *x) {
    uint32_t a;
    const char *end = mos_read_ipv4(x->text, &a);
    return end && !*end;
}

static void check_address(const struct network_view *v) {
    const struct mos_value *a = v->p->address, *g = v->p->gateway;
    uint32_t own = 0, other = 0;
    unsigned prefix = 0;
    if (!mos_has(a) || mos_asks_server(v->p))
        return;
    if (!mos_read_ipv4_prefix(a->text, &own, &prefix)) {
        wrong(v, a->place,
              mos_printf(v->arena, "Network port %s: %s is no address with a prefix.", v->p->r.name,
                         a->text),
              "The prefix says which addresses the board reaches directly.",
              "Write server, or an address as in 192.0.2.17/24.");
        return;
    }
    uint32_t mask = UINT32_MAX << (32 - prefix);
    if (prefix < 31 && (!(own & ~mask) || (own & ~mask) == ~mask)) {
        wrong(v, a->place,
              mos_printf(v->arena, "Network port %s: %s names the subnet itself, or all of it.",
                         v->p->r.name, a->text),
              "No board can have it.",
              "Choose an address between the first and the last of the subnet.");
        return;
    }
    if (!mos_has(g) || !is_one(g) ||
        (mos_read_ipv4(g->text, &other), (own & mask) == (other & mask)))
        return;
    struct mos_finding *f =
        wrong(v, g->place,
              mos_printf(v->arena, "The gateway %s is not in the subnet of port %s.", g->text,
                         v->p->r.name),
              "The board could not reach it.", "Choose a gateway in the subnet of the address.");
    mos_finding_at(v->list, f, a->place);
}

static void check_one(const struct network_view *v, const struct mos_value *x) {
    if (mos_has(x) && !is_one(x))
        wrong(v, x->place,
              mos_printf(v->arena, "Network port %s: %s is no address.", v->p->r.name, x->text),
              "It is written into a file that the board's programs read.",
              "Write four numbers from 0 to 255, as in 192.0.2.1.");
}

static void check_wireless(const struct network_view *v) {
    const struct mos_wireless *x = v->p->wireless;
    if (mos_has(x->network) && (!*x->network->text || strlen(x->network->text) > 32))
        wrong(v, x->network->place,
              mos_printf(v->arena, "The name of the network of %s has %zu bytes.", v->p->r.name,
                         strlen(x->network->text)),
              "IEEE 802.11: 1 to 32 bytes.", "Write the name that the access point has.");
    if (mos_has(x->country) && (strlen(x->country->text) != 2 ||
                                strspn(x->country->text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") != 2))
        wrong(v, x->country->place,
              mos_printf(v->arena, "%s is no country of two letters.", x->country->text),
              "ISO 3166-1: the radio then uses no channel that not all countries allow.",
              "Write two capital letters, as in DE.");
}

/* WPA takes 8 to 63 visible characters, or 64 hexadecimal digits. */
static void check_secret(const struct network_view *v) {
    const struct mos_value *x = v->p->wireless->secret_file;
    struct mos_ctx *ctx = v->plan->ctx;
    struct mos_error ignored = {0}, *saved = ctx->error;
    char *data = NULL;
    size_t length;
    const char *full = mos_has(x) ? mos_workspace_path(ctx, v->plan->board->root, x->text) : NULL;
    if (!full || !mos_exists(ctx, full)) /* plan/network.c has said so */
        return;
    ctx->error = &ignored;
    bool ok = mos_read_file(ctx, full, 64 << 10, &data, &length);
    ctx->error = saved;
    if (!ok)
        return;
    length = strcspn(data, "\r\n");
    bool plain = true;
    for (size_t i = 0; i < length; i++)
        plain &= data[i] >= 32 && data[i] < 127;
    bool key = length == 64 && strspn(data, "0123456789abcdefABCDEF") >= 64;
    if (key || (plain && length >= 8 && length <= 63))
        return;
    wrong(v, x->place,
          plain ? mos_printf(v->arena, "The passphrase of %s has %zu characters.", v->p->r.name,
                             length)
                : mos_printf(v->arena, "The passphrase of %s has bytes that are no ASCII.",
                             v->p->r.name),
          "WPA takes 8 to 63 characters of ASCII, or 64 hexadecimal digits.",
          "Write the passphrase into the first line of that file.");
}

struct program {
    const char *paths[3], *name;
};

static void need_program(const struct network_view *v, const struct program *p,
                         struct mos_place place, const char *what) {
    for (size_t i = 0; i < 3 && p->paths[i]; i++)
        if (is_there(v, p->paths[i]))
            return;
    struct mos_finding *f = wrong(
        v, place,
        mos_printf(v->arena, "%s needs %s, which is not in root %s.", what, p->name, v->root->name),
        "The files are written, and nobody reads them.",
        mos_printf(v->arena, "Add %s to the root.", p->name));
    mos_finding_at(v->list, f, v->root->def->r.key_place);
}

/* Links to one program with many names may be made by the board itself, at its start. */
static bool may_be_made(const struct network_view *v) {
    return is_there(v, "/bin/busybox");
}

/* busybox asks the server, and leaves it to a script to use the answer. */
static void check_script(const struct network_view *v, const struct mos_network_port *p) {
    static const char *const others[] = {"/usr/share/udhcpc/default.script",
                                         "/etc/udhcpc/default.script",
                                         "/sbin/dhclient",
                                         "/usr/sbin/dhclient",
                                         "/sbin/dhcpcd",
                                         "/usr/sbin/dhcpcd"};
    if (mos_network_form_of(v->n->form) != MOS_NETWORK_INTERFACES || !mos_asks_server(p) ||
        !may_be_made(v))
        return;
    for (size_t i = 0; i < sizeof others / sizeof *others; i++)
        if (is_there(v, others[i]))
            return;
    struct mos_finding *f =
        wrong(v, p->address->place,
              mos_printf(v->arena,
                         "Port %s asks a server, and root %s has no script that uses "
                         "the answer.",
                         p->r.name, v->root->name),
              "busybox gets an address and leaves it to udhcpc's script to set it.",
              "Add /usr/share/udhcpc/default.script to the root (/etc/udhcpc/default.script for "
              "Debian's busybox).");
    mos_finding_at(v->list, f, v->root->def->r.key_place);
}

static void check_programs(const struct network_view *v) {
    static const struct program ifup = {{"/sbin/ifup", "/usr/sbin/ifup"}, "ifup"};
    static const struct program networkd = {
        {"/lib/systemd/systemd-networkd", "/usr/lib/systemd/systemd-networkd"}, "systemd-networkd"};
    static const struct program wpa = {{"/sbin/wpa_supplicant", "/usr/sbin/wpa_supplicant"},
                                       "wpa_supplicant"};
    bool networkd_reads = mos_network_form_of(v->n->form) == MOS_NETWORK_NETWORKD;
    if (mos_has(v->n->form) && (networkd_reads || !may_be_made(v)))
        need_program(v, networkd_reads ? &networkd : &ifup, v->n->form->place,
                     mos_printf(v->arena, "The form %s", v->n->form->text));
    for (size_t i = 0; i < v->n->ports.count; i++) {
        const struct mos_network_port *p = v->n->ports.items[i];
        if (!p->r.broken)
            check_script(v, p);
        if (p->wireless && !p->wireless->r.broken)
            need_program(v, &wpa, p->wireless->r.key_place,
                         mos_printf(v->arena, "Wireless on %s", p->r.name));
    }
}

static void check_zone(const struct network_view *v, const struct mos_value *zone) {
    if (!mos_has(zone) || !v->root)
        return;
    const char *path = mos_printf(v->arena, MOS_ZONES "/%s", zone->text);
    struct mos_buf clean = {.arena = v->arena};
    const char *inside = mos_entry_path(&clean, path);
    if (inside && strncmp(inside, MOS_ZONES "/", sizeof MOS_ZONES) == 0 && is_there(v, path))
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_TIME_ZONE,
                                     "Time zone %s is not in root %s.", zone->text, v->root->name);
    mos_finding_at(v->list, f, zone->place);
    mos_finding_at(v->list, f, v->root->def->r.key_place);
    mos_finding_why(v->list, f, "All times would be those of UTC, and nothing says so.");
    mos_finding_try(v->list, f, "%s",
                    is_there(v, MOS_ZONES) ? "Write a name below /" MOS_ZONES
                                             " of the root, as in Etc/UTC."
                                           : "Add the time zones (/" MOS_ZONES ") to the root.");
}

void mos_rule_system_network(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    const struct mos_region_plan *root = mos_plan_root(plan);
    struct network_view v = {.plan = plan, .list = &plan->ctx->findings, .arena = plan->ctx->arena};
    if (root && root->volume && root->counted && !root->fs->no_owners)
        v.root = root;
    if (!s || s->r.broken)
        return;
    check_zone(&v, s->time_zone);
    v.n = s->network;
    for (size_t i = 0; v.n && i < v.n->ports.count; i++) {
        v.p = v.n->ports.items[i];
        if (v.p->r.broken)
            continue;
        check_address(&v);
        check_one(&v, v.p->gateway);
        for (size_t k = 0; k < v.p->name_servers.count; k++)
            check_one(&v, v.p->name_servers.items[k]);
        if (v.p->wireless && !v.p->wireless->r.broken) {
            check_wireless(&v);
            check_secret(&v);
        }
    }
    if (v.n && !v.n->r.broken && v.root)
        check_programs(&v);
}
