/* Network boot: do its addresses fit together? */
#include "rules/rules.h"

#include "plan/network.h"

#include <string.h>

struct network_view {
    const struct mos_network *n;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static bool parse(const char *text, uint32_t *out) {
    const char *end = mos_read_ipv4(text, out);
    return end && !*end;
}

static void complain(const struct network_view *v, const struct mos_value *at,
                     const struct mos_value *other, const char *text, const char *remedy) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_NETWORK, "%s", text);
    mos_finding_at(v->list, f, at ? at->place : v->n->r.key_place);
    if (other)
        mos_finding_at(v->list, f, other->place);
    mos_finding_why(v->list, f, "The loader would wait for an answer that never comes.");
    mos_finding_try(v->list, f, "%s", remedy);
}

/* All of them are addresses? */
static bool check_form(const struct network_view *v) {
    const struct mos_value *const all[] = {v->n->address, v->n->netmask, v->n->gateway,
                                           v->n->server};
    uint32_t ignored;
    bool good = true;
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (mos_has(all[i]) && !parse(all[i]->text, &ignored)) {
            complain(v, all[i], NULL, mos_printf(v->arena, "%s is no address.", all[i]->text),
                     "Write four numbers from 0 to 255, as in 192.0.2.10.");
            good = false;
        }
    return good;
}

static void check_subnet(const struct network_view *v) {
    const struct mos_network *n = v->n;
    uint32_t own = 0, mask = 0xffffff00, other;
    if (mos_has(n->netmask))
        parse(n->netmask->text, &mask);
    if (!mask || (~mask & (~mask + 1))) {
        complain(v, n->netmask, NULL,
                 mos_printf(v->arena, "%s is no mask of a subnet.", n->netmask->text),
                 "Write ones in front and zeros behind, as in 255.255.255.0.");
        return;
    }
    if (!mos_has(n->address))
        return;
    parse(n->address->text, &own);
    if (!(own & ~mask) || (own & ~mask) == ~mask) {
        complain(
            v, n->address, n->netmask,
            mos_printf(v->arena, "%s names the subnet itself, or all of it.", n->address->text),
            "Choose an address between the first and the last of the subnet.");
        return;
    }
    if (mos_has(n->gateway) && parse(n->gateway->text, &other) && (own & mask) != (other & mask)) {
        complain(v, n->gateway, n->address,
                 mos_printf(v->arena, "The gateway %s is not in the board's own subnet.",
                            n->gateway->text),
                 "Choose a gateway that the board reaches directly.");
        return;
    }
    if (mos_has(n->server) && !n->gateway && parse(n->server->text, &other) &&
        (own & mask) != (other & mask))
        complain(v, n->server, n->address,
                 mos_printf(v->arena, "The board at %s cannot reach its server %s.",
                            n->address->text, n->server->text),
                 "Choose a server in its subnet, or add a gateway.");
}

/* The folder becomes a word of the loader's script. */
static void check_folder(const struct network_view *v) {
    const struct mos_value *folder = v->n->folder;
    if (!mos_has(folder) ||
        !folder->text[strspn(folder->text, "abcdefghijklmnopqrstuvwxyz0123456789-_./+"
                                           "ABCDEFGHIJKLMNOPQRSTUVWXYZ")])
        return;
    complain(v, folder, NULL,
             mos_printf(v->arena, "The folder %s cannot be asked for.", folder->text),
             "Use letters, digits and - _ . / + only.");
}

void mos_rule_network(const struct mos_plan *plan) {
    const struct mos_network *n = plan->board->boot ? plan->board->boot->network : NULL;
    struct network_view v = {n, &plan->ctx->findings, plan->ctx->arena};
    if (!n || n->r.broken || !check_form(&v))
        return;
    check_folder(&v);
    bool automatic = mos_true(n->automatic);
    if (automatic && n->address)
        complain(&v, n->automatic, n->address,
                 "The board's address is given, and asked for as well.",
                 "Keep one of the two: the loader would use what it is told last.");
    else if (!automatic && !n->address)
        complain(&v, NULL, NULL, "The board is given no address, and does not ask for one.",
                 "Set automatic: yes, or address: to the board's own.");
    else if (!automatic && !n->server)
        complain(&v, NULL, NULL, "The board is not told which server has its files.",
                 "Set server: to its address.");
    else
        check_subnet(&v);
}
