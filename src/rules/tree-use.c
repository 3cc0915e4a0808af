/* What the definition says of the board, and what its trees say of the same. */
#include "rules/rules.h"

#include "linux/devices.h"

#include "base/bytes.h"
#include "base/text.h"
#include "tree/claims.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

struct tree_use_view {
    const struct mos_plan *plan;
    const struct mos_dt *dt;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static struct mos_place place_of(const struct tree_use_view *v, const struct mos_dt_node *n,
                                 const char *property) {
    const struct mos_dt_property *p = property ? mos_dt_property(n, property) : NULL;
    return p && p->place.source ? p->place : n && n->place.source ? n->place : v->dt->place;
}

static struct mos_finding *tell(const struct tree_use_view *v, enum mos_rule_id rule,
                                struct mos_place here, struct mos_place there, const char *text) {
    struct mos_finding *f = mos_find(v->list, rule, "%s", text);
    mos_finding_at(v->list, f, here);
    mos_finding_at(v->list, f, there);
    return f;
}

/* ---- the board ---- */

static void check_board(const struct tree_use_view *v) {
    const struct mos_value *own = v->plan->board->hardware->compatible;
    const struct mos_dt_property *p = mos_dt_property(v->dt->root, "compatible");
    if (!mos_has(own) || !p || mos_dt_is_compatible(v->dt->root, own->text))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_OTHER_BOARD, place_of(v, v->dt->root, "compatible"), own->place,
             mos_printf(v->arena, "The tree is that of %s, the board is %s.",
                        mos_dt_string(v->dt->root, "compatible"), own->text));
    mos_finding_why(v->list, f, "The kernel would use the addresses and pins of another board.");
    mos_finding_try(v->list, f, "Use the board's own tree, or set compatible: \"%s\" in hardware.",
                    mos_dt_string(v->dt->root, "compatible"));
}

/* ---- nodes that are named ---- */

static const struct mos_dt_node *aliases_of(const struct tree_use_view *v) {
    return mos_dt_child(v->dt->root, "aliases");
}

/* A path or an alias; NULL: it names nothing. */
static const struct mos_dt_node *node_of(const struct tree_use_view *v, const char *path) {
    const struct mos_dt_node *aliases = aliases_of(v);
    if (*path == '/')
        return mos_dt_find(v->dt, path);
    const char *to = aliases ? mos_dt_string(aliases, path) : NULL;
    return to ? mos_dt_find(v->dt, to) : NULL;
}

static void check_node(const struct tree_use_view *v, const struct mos_value *path,
                       const char *what) {
    const struct mos_dt_node *n = mos_has(path) ? node_of(v, path->text) : NULL;
    if (!mos_has(path))
        return;
    if (!n) {
        struct mos_finding *f =
            tell(v, MOS_RULE_TREE_NODE_MISSING, path->place, v->dt->place,
                 mos_printf(v->arena, "The tree has no node %s, which %s is said to be.",
                            path->text, what));
        mos_finding_why(v->list, f, "What hangs on this name would be checked against nothing.");
        mos_finding_try(v->list, f, "Write the path of the node as the tree has it.");
        return;
    }
    const struct mos_dt_node *down = mos_dt_off(n);
    if (!down)
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_SWITCHED_OFF, place_of(v, down, "status"), path->place,
             mos_printf(v->arena, "%s (%s) is switched off in the tree: status is \"%s\".",
                        mos_printf(v->arena, "%c%s", toupper((unsigned char)*what), what + 1),
                        mos_dt_path(v->arena, down), mos_dt_string(down, "status")));
    mos_finding_why(v->list, f, "The kernel never looks for it.");
    mos_finding_try(v->list, f, "Set status = \"okay\"; there.");
}

/* The path or alias that the kernel opens first of all. */
static void check_standard_output(const struct tree_use_view *v) {
    const struct mos_dt_node *chosen = mos_dt_child(v->dt->root, "chosen");
    const char *text = chosen ? mos_dt_string(chosen, "stdout-path") : NULL;
    if (!text)
        return;
    const char *name = mos_strndup(v->arena, text, strcspn(text, ":"));
    if (node_of(v, name))
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_TREE_NODE_MISSING,
                                     "The tree's console is %s, and there is no such %s.", name,
                                     *name == '/' ? "node" : "alias");
    mos_finding_at(v->list, f, place_of(v, chosen, "stdout-path"));
    mos_finding_why(v->list, f, "Early messages, and a loader that uses this tree, stay silent.");
    mos_finding_try(v->list, f, "Set stdout-path to an alias or a path that the tree has.");
}

/* ---- numbers ---- */

/* The number that aliases give a node: "serial1" → 1; -1: none. */
static long number_of(const struct tree_use_view *v, const struct mos_dt_node *node,
                      const char *stem, const struct mos_dt_property **alias) {
    const struct mos_dt_node *aliases = aliases_of(v);
    size_t n = strlen(stem);
    for (const struct mos_dt_property *p = aliases ? aliases->properties : NULL; p; p = p->next) {
        if (strncmp(p->name, stem, n) != 0 || !isdigit((unsigned char)p->name[n]))
            continue;
        const char *to = mos_dt_string(aliases, p->name);
        if (!to || mos_dt_find(v->dt, to) != node)
            continue;
        *alias = p;
        return strtol(p->name + n, NULL, 10);
    }
    return -1;
}

static bool has_stem(const struct mos_dt_node *n, const struct mos_dt_node *like) {
    size_t length = strcspn(like->name, "@");
    return strncmp(n->name, like->name, length) == 0 &&
           (!n->name[length] || n->name[length] == '@');
}

struct brothers {
    const struct mos_dt_node *like, *other;
};

static bool find_brother(void *self, struct mos_dt_node *n) {
    struct brothers *b = self;
    if (!b->other && n != b->like && has_stem(n, b->like) && mos_dt_property(n, "compatible") &&
        !mos_dt_off(n))
        b->other = n;
    return true;
}

static void tell_no_alias(const struct tree_use_view *v, const struct mos_value *name,
                          const struct mos_dt_node *node, const char *alias, const char *text,
                          const char *why) {
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_ALIAS_MISSING, name->place, place_of(v, node, NULL), text);
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "Add %s = \"%s\"; to the aliases of the tree.", alias,
                    mos_dt_path(v->arena, node));
}

/* Without an alias the order in which devices appear decides, where there are several. */
static void check_unnumbered(const struct tree_use_view *v, const struct mos_value *name,
                             const struct mos_dt_node *node, const char *stem,
                             unsigned long stated) {
    struct brothers b = {node, NULL};
    mos_dt_walk(v->dt->root, find_brother, &b);
    if (!b.other || mos_dt_off(node))
        return;
    tell_no_alias(v, name, node, mos_printf(v->arena, "%s%lu", stem, stated),
                  mos_printf(v->arena,
                             "%s is %s, and the tree has no alias %s%lu for it; %s is "
                             "there, too.",
                             mos_dt_path(v->arena, node), name->text, stem, stated,
                             mos_dt_path(v->arena, b.other)),
                  "Which of them gets the number is decided by the order in which they appear.");
}

/* "ttyAMA0", "mmcblk0": stem and number. */
static void check_number(const struct tree_use_view *v, const struct mos_value *name,
                         const struct mos_value *path, const char *stem) {
    const struct mos_dt_node *node = mos_has(path) ? node_of(v, path->text) : NULL;
    const struct mos_dt_property *alias;
    if (!mos_has(name) || !node)
        return;
    size_t digits;
    unsigned long stated;
    long number = number_of(v, node, stem, &alias);
    if (!mos_device_number(name->text, &digits, &stated) ||
        (number >= 0 && (unsigned long)number == stated))
        return;
    if (number < 0) {
        check_unnumbered(v, name, node, stem, stated);
        return;
    }
    struct mos_finding *f = tell(
        v, MOS_RULE_TREE_NUMBER_DIFFERS, name->place,
        alias->place.source ? alias->place : place_of(v, aliases_of(v), NULL),
        mos_printf(v->arena, "The definition calls %s %s; the tree's alias %s makes it %.*s%ld.",
                   path->text, name->text, alias->name, (int)digits, name->text, number));
    mos_finding_why(v->list, f, "The kernel numbers devices by these aliases.");
    mos_finding_try(v->list, f, "Write %.*s%ld, or change the alias.", (int)digits, name->text,
                    number);
}

/* A flash of parallel kind is called by its address in the tree: "4000000.flash" at the node
 * flash@4000000 (drivers/mtd/maps/physmap-core.c takes the device's name). */
static void check_flash_name(const struct tree_use_view *v, const struct mos_medium *m) {
    const struct mos_dt_node *node = mos_has(m->node) ? node_of(v, m->node->text) : NULL;
    const char *at = node ? strchr(node->name, '@') : NULL;
    if (!mos_has(m->flash_id) || !at || !mos_dt_is_compatible(node, "cfi-flash"))
        return;
    const char *own = mos_printf(v->arena, "%s.%.*s", at + 1, (int)(at - node->name), node->name);
    if (strcmp(own, m->flash_id->text) == 0)
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_NUMBER_DIFFERS, m->flash_id->place, place_of(v, node, "compatible"),
             mos_printf(v->arena,
                        "The definition calls flash %s %s; by its node the kernel calls it %s.",
                        m->r.name, m->flash_id->text, own));
    mos_finding_why(v->list, f,
                    "The kernel does not find the flash that mtdparts names, and makes "
                    "no partitions of it.");
    mos_finding_try(v->list, f, "Set flash-id: %s.", own);
}

/* The loader writes the addresses of its environment into the nodes that the aliases name. */
static void check_network_address(const struct tree_use_view *v,
                                  const struct mos_environment_plan *e) {
    const struct mos_dialect *d = v->plan->dialect;
    const char *const *names = d ? d->language.port_addresses : NULL;
    for (unsigned i = 0; names && names[i]; i++) {
        const char *name = names[i], *alias = mos_printf(v->arena, "ethernet%u", i);
        const struct mos_loader_variable *var = mos_map_get(&e->variables, name);
        if (!var || !var->value || node_of(v, alias))
            continue;
        struct mos_finding *f =
            tell(v, MOS_RULE_TREE_ALIAS_MISSING, var->place, place_of(v, aliases_of(v), NULL),
                 mos_printf(v->arena, "The loader has %s, and the tree no alias %s.", name, alias));
        mos_finding_why(v->list, f, "The address does not reach the kernel, which makes up one.");
        mos_finding_try(v->list, f, "Add %s = &LABEL; to the aliases of the tree.", alias);
    }
}

/* ---- parts that are not there ---- */

/* What switched a node on: its status, else itself. */
static struct mos_place switch_of(const struct tree_use_view *v, const struct mos_dt_node *n) {
    return place_of(v, n, "status");
}

static void check_unfitted(void *self, struct mos_dt *dt) {
    const struct mos_plan *plan = self;
    struct tree_use_view v = {plan, dt, &plan->ctx->findings, plan->ctx->arena};
    const struct mos_named *parts = &plan->board->hardware->unfitted;
    for (size_t i = 0; i < parts->count; i++) {
        const struct mos_unfitted *u = parts->items[i];
        const struct mos_dt_node *n = mos_has(u->node) ? node_of(&v, u->node->text) : NULL;
        if (!mos_has(u->node) || u->r.broken || (n && mos_dt_off(n)))
            continue;
        struct mos_finding *f;
        if (!n) {
            f = tell(&v, MOS_RULE_TREE_NODE_MISSING, u->node->place, dt->place,
                     mos_printf(v.arena,
                                "The tree has no node %s, and %s is said not to be fitted.",
                                u->node->text, u->r.name));
            f->severity = MOS_SEVERITY_WARNING;
            mos_finding_why(v.list, f,
                            "If the name is wrong, the part is looked for all the same.");
            mos_finding_try(v.list, f, "Write the path of the node as the tree has it, or ~%s.",
                            u->r.name);
            continue;
        }
        f = tell(&v, MOS_RULE_TREE_NOT_FITTED, switch_of(&v, n), u->r.key_place,
                 mos_printf(v.arena, "%s is switched on, and %s is not fitted.",
                            mos_dt_path(v.arena, n), u->r.name));
        mos_finding_why(v.list, f,
                        "The kernel looks for it, waits and fails; what needs it never starts.");
        mos_finding_try(v.list, f, "Set status = \"disabled\" there, or leave out the overlay.");
    }
}

/* ---- memory ---- */

/* One bank here and there; the loader may put its own figures in, so it is a warning. */
static void check_memory(const struct tree_use_view *v) {
    const struct mos_named *banks = &v->plan->board->hardware->ram;
    const struct mos_ram *ram = banks->count == 1 ? banks->items[0] : NULL;
    const struct mos_dt_node *found = NULL;
    for (const struct mos_dt_node *n = v->dt->root->first_child; n; n = n->next) {
        const char *type = mos_dt_string(n, "device_type");
        if (type && strcmp(type, "memory") == 0 && found)
            return;
        found = type && strcmp(type, "memory") == 0 ? n : found;
    }
    const struct mos_dt_property *reg = found ? mos_dt_property(found, "reg") : NULL;
    uint32_t a = mos_dt_address_cells(v->dt->root), s = mos_dt_size_cells(v->dt->root);
    if (!ram || ram->r.broken || !mos_has(ram->start) || !reg || !a || !s || a > 2 || s > 2 ||
        reg->length != 4 * (a + s))
        return;
    uint64_t start = mos_dt_number(reg->data, a),
             size = mos_dt_number(reg->data + 4 * (size_t)a, s);
    if (!size || (start == ram->start->number && mos_ram_has(ram, size)))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_MEMORY_DIFFERS, place_of(v, found, "reg"), ram->r.key_place,
             mos_printf(v->arena, "The tree has %s of RAM at %s, the hardware %s%s at %s.",
                        mos_size_text(v->arena, size), mos_address_text(v->arena, start),
                        ram->sizes.count && mos_has(ram->sizes.items[0]) ? ram->sizes.items[0]->text
                                                                         : "?",
                        ram->sizes.count > 1 ? " and more" : "",
                        mos_address_text(v->arena, ram->start->number)));
    mos_finding_why(v->list, f,
                    "A loader that does not put its own figures in leaves the kernel "
                    "with memory that is not there.");
    mos_finding_try(v->list, f, "State the same figures in both.");
}

/* ---- arguments ---- */

static void check_arguments(const struct tree_use_view *v, const struct mos_entry_plan *e) {
    const struct mos_dt_node *chosen = mos_dt_child(v->dt->root, "chosen");
    const char *own = chosen ? mos_dt_string(chosen, "bootargs") : NULL;
    if (mos_board_is_direct(v->plan->board)) /* it has the entry's by now */
        own = e && e->tree ? e->tree->own_arguments : NULL;
    if (!own || !*own || !e || (!e->def->arguments.count && !e->def->flags.count))
        return;
    struct mos_finding *f = tell(
        v, MOS_RULE_TREE_ARGUMENTS_UNUSED, place_of(v, chosen, "bootargs"), e->def->r.key_place,
        mos_printf(v->arena, "The tree's own arguments have no effect: entry %s has others.",
                   e->def->r.name));
    mos_finding_why(v->list, f,
                    mos_board_is_direct(v->plan->board)
                        ? "A build puts those of the entry over them."
                        : "The loader puts those of the entry over them.");
    mos_finding_try(v->list, f, "Remove bootargs from the tree, or move them into the entry.");
}

static const struct mos_entry_plan *user_of(const struct mos_plan *plan,
                                            const struct mos_blob_plan *b) {
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        if (e->tree == b)
            return e;
    }
    return NULL;
}

void mos_rule_tree_use(const struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    for (size_t i = 0; h && i < plan->blobs.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        struct tree_use_view v = {plan, b->tree, &plan->ctx->findings, plan->ctx->arena};
        if (!b->tree || b->tree->overlay)
            continue;
        check_board(&v);
        if (h->console && !h->console->r.broken) {
            check_node(&v, h->console->node, "the console");
            check_number(&v, h->console->port, h->console->node, "serial");
        }
        for (size_t k = 0; k < h->media.count; k++) {
            const struct mos_medium *m = h->media.items[k];
            check_node(&v, m->node, mos_printf(v.arena, "medium %s", m->r.name));
            if (mos_has(m->kernel) && mos_device_has_stem(m->kernel->text, "mmcblk"))
                check_number(&v, m->kernel, m->node, "mmc");
            check_flash_name(&v, m);
        }
        for (size_t k = 0; k < plan->environments.count; k++)
            check_network_address(&v, mos_vec_pointer(&plan->environments, k));
        if (h->unfitted.count)
            mos_plan_each_tree(plan->self, b, check_unfitted, plan->self);
        check_standard_output(&v);
        check_memory(&v);
        check_arguments(&v, user_of(plan, b));
    }
}
