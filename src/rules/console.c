/* The console: one port at one speed in every world, free for it, and a way in. */
#include "rules/rules.h"

#include "linux/devices.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

struct console_view {
    const struct mos_plan *plan;
    const struct mos_console *c;
    const char *port;
    struct mos_findings *list;
    struct mos_arena *arena;
};

/* ---- the kernel's arguments ---- */

static void disagrees(const struct console_view *v, struct mos_place a, struct mos_place b,
                      const char *message, const char *remedy) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_CONSOLE_DISAGREES, "%s", message);
    mos_finding_at(v->list, f, a);
    mos_finding_at(v->list, f, b);
    mos_finding_why(v->list, f, "One side would print nothing readable, or nothing at all.");
    mos_finding_try(v->list, f, "%s", remedy);
}

static void check_arguments(const struct console_view *v, const struct mos_entry_plan *e) {
    const struct mos_argument *a = mos_named_get(&e->def->arguments, "console");
    const struct mos_value *other = NULL;
    for (size_t i = 0; a && i < a->values.count; i++) {
        const struct mos_value *x = a->values.items[i];
        unsigned long baud;
        if (!mos_has(x) || strchr(x->text, '<'))
            return; /* made from the same fact */
        size_t n = mos_port_split(x->text, &baud);
        if (strncmp(x->text, "/dev/", 5) == 0 ||
            (strncasecmp(x->text, v->port, n) == 0 && n == strlen(v->port) &&
             strncmp(x->text, v->port, n) != 0)) {
            disagrees(v, x->place, v->c->port->place,
                      mos_printf(v->arena,
                                 "Entry %s has its console at %s; the kernel calls it %s.",
                                 e->def->r.name, mos_strndup(v->arena, x->text, n), v->port),
                      "Write console: <console>.");
            return;
        }
        if (n == strlen(v->port) && strncmp(x->text, v->port, n) == 0) {
            if (baud && mos_has(v->c->baud) && baud != v->c->baud->number)
                disagrees(v, x->place, v->c->baud->place,
                          mos_printf(v->arena,
                                     "Entry %s runs the console at %lu bits a second, the hardware "
                                     "says %s.",
                                     e->def->r.name, baud, v->c->baud->text),
                          "Write console: <console>.");
            return;
        }
        other = mos_port_is_serial(x->text, n) ? x : other;
    }
    if (other)
        disagrees(v, other->place, v->c->port->place,
                  mos_printf(v->arena, "Entry %s has its console at %s, the board's is %s.",
                             e->def->r.name, other->text, v->port),
                  "Write console: <console>.");
}

/* ---- the tree ---- */

static const struct mos_dt_node *follow(const struct mos_dt *dt, const char *path) {
    const struct mos_dt_node *aliases = mos_dt_child(dt->root, "aliases");
    if (*path == '/')
        return mos_dt_find(dt, path);
    const char *to = aliases ? mos_dt_string(aliases, path) : NULL;
    return to ? mos_dt_find(dt, to) : NULL;
}

static struct mos_place place_of(const struct mos_dt *dt, const struct mos_dt_property *p,
                                 const struct mos_dt_node *n) {
    return p && p->place.source ? p->place : n->place.source ? n->place : dt->place;
}

/* "serial0:115200n8" against the port and its speed. */
static void check_path(const struct console_view *v, const struct mos_dt *dt) {
    const struct mos_dt_node *chosen = mos_dt_child(dt->root, "chosen");
    const char *text = chosen ? mos_dt_string(chosen, "stdout-path") : NULL;
    if (!text)
        return;
    size_t n = strcspn(text, ":");
    struct mos_place place = place_of(dt, mos_dt_property(chosen, "stdout-path"), chosen);
    const struct mos_dt_node *own = mos_has(v->c->node) ? follow(dt, v->c->node->text) : NULL;
    const struct mos_dt_node *named = follow(dt, mos_strndup(v->arena, text, n));
    unsigned long baud = text[n] ? strtoul(text + n + 1, NULL, 10) : 0;
    if (own && named && own != named)
        disagrees(v, place, v->c->node->place,
                  mos_printf(v->arena, "The tree's console is %s, the board's is %s.",
                             mos_dt_path(v->arena, named), v->c->node->text),
                  mos_printf(v->arena, "Set stdout-path = \"%s\".", v->c->node->text));
    else if (baud && mos_has(v->c->baud) && baud != v->c->baud->number)
        disagrees(v, place, v->c->baud->place,
                  mos_printf(v->arena,
                             "The tree runs the console at %lu bits a second, the hardware says "
                             "%s.",
                             baud, v->c->baud->text),
                  mos_printf(v->arena, "Set stdout-path = \"%.*s:%sn8\".", (int)n, text,
                             v->c->baud->text));
}

static bool is_enabled(const struct mos_dt_node *n) {
    const char *status = mos_dt_string(n, "status");
    return !status || strcmp(status, "okay") == 0 || strcmp(status, "ok") == 0;
}

/* A device that sits on the port talks over it: a log-in there would answer it. */
static void check_shared_node(const struct console_view *v, const struct mos_dt *dt) {
    const struct mos_dt_node *port = mos_has(v->c->node) ? follow(dt, v->c->node->text) : NULL;
    for (const struct mos_dt_node *n = port ? port->first_child : NULL; n; n = n->next) {
        const char *what = mos_dt_string(n, "compatible");
        if (!what || !is_enabled(n))
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_CONSOLE_SHARED,
                                         "Port %s is the console and has %s on it.", v->port, what);
        mos_finding_at(v->list, f, place_of(dt, NULL, n));
        mos_finding_at(v->list, f, v->c->port->place);
        mos_finding_why(v->list, f,
                        "What the kernel prints goes to the device, and what that sends "
                        "is taken for a log-in.");
        mos_finding_try(v->list, f,
                        "Choose another port for one of the two, or set console: none.");
        return;
    }
}

static void check_kind(const struct console_view *v, const struct mos_dt *dt) {
    const struct mos_dt_node *n = mos_has(v->c->node) ? follow(dt, v->c->node->text) : NULL;
    const struct mos_dt_property *p = n ? mos_dt_property(n, "compatible") : NULL;
    const char *stem = p ? mos_port_of((const char *)p->data, p->length) : NULL;
    if (!stem || mos_device_has_stem(v->port, stem))
        return;
    disagrees(v, v->c->port->place, place_of(dt, mos_dt_property(n, "compatible"), n),
              mos_printf(v->arena,
                         "The console is said to be %s; the kernel calls a port of %s %s….",
                         v->port, mos_dt_string(n, "compatible"), stem),
              mos_printf(v->arena, "Write port: %s with its number.", stem));
}

/* ---- its driver ---- */

/* The symbol of a port's driver, stated or known; NULL: nobody knows. */
static const char *driver_of(const struct console_view *v) {
    return mos_text_or(v->c->driver, mos_port_driver(v->port));
}

static void check_driver(const struct console_view *v) {
    const char *symbol = driver_of(v);
    const struct mos_setting *s = symbol ? mos_map_get(&v->plan->config, symbol) : NULL;
    if (!s || strcmp(s->value, "m") != 0)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_CONSOLE_LATE,
                                     "The driver of the console %s is a module.", v->port);
    mos_finding_at(v->list, f, s->place);
    mos_finding_at(v->list, f, v->c->port->place);
    mos_finding_why(v->list, f,
                    "Nothing is printed until it is loaded: a kernel that dies before stays "
                    "silent.");
    mos_finding_try(v->list, f, "Set %s=y in a fragment.", symbol);
}

static bool begin(struct console_view *v, const struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    *v = (struct console_view){plan, h ? h->console : NULL, NULL, &plan->ctx->findings,
                               plan->ctx->arena};
    if (!v->c || v->c->r.broken || !mos_has(v->c->port))
        return false;
    v->port = v->c->port->text;
    return true;
}

void mos_rule_console(const struct mos_plan *plan) {
    struct console_view v;
    if (!begin(&v, plan) || strcmp(v.port, "none") == 0)
        return;
    for (size_t i = 0; i < plan->entries.count; i++)
        check_arguments(&v, mos_vec_pointer(&plan->entries, i));
    for (size_t i = 0; i < plan->blobs.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        if (b->tree) {
            check_path(&v, b->tree);
            check_shared_node(&v, b->tree);
            check_kind(&v, b->tree);
        }
    }
    check_driver(&v);
}

/* ---- log-ins, by the files of the root ---- */

/* The next line of an inittab that is no comment and does something for a terminal. */
static const char *next_action(const char *text, size_t *length) {
    while (text && *text) {
        *length = strcspn(text, "\n");
        if (*text != '#' && memchr(text, ':', *length))
            return text;
        text += *length + (text[*length] == '\n');
    }
    return NULL;
}

/* The terminal that a line of an inittab is for: its first field, or a /dev/tty… in its command. */
static bool is_for(const char *line, size_t length, const char *port) {
    size_t n = strlen(port);
    for (const char *p = line; (size_t)(p - line) + n <= length; p++)
        if (strncmp(p, port, n) == 0 && (p == line || !isalnum((unsigned char)p[-1])) &&
            !isalnum((unsigned char)p[n]))
            return true;
    return false;
}

static bool contains(const char *line, size_t length, const char *word) {
    size_t n = strlen(word);
    for (size_t i = 0; i + n <= length; i++)
        if (strncmp(line + i, word, n) == 0)
            return true;
    return false;
}

static bool is_log_in(const char *line, size_t length) {
    static const char *const programs[] = {"getty", "login", "askfirst", "/sh", "-sh", "bash"};
    for (size_t i = 0; i < sizeof programs / sizeof *programs; i++)
        if (contains(line, length, programs[i]))
            return !contains(line, length, "sysinit") && !contains(line, length, "shutdown");
    return false;
}

/* Is there a file of that name, whatever its folder? */
static bool has_file(const struct mos_region_plan *root, const char *name) {
    const struct mos_inventory *inventory = root->volume->inventory;
    for (uint32_t i = 1; i < inventory->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(inventory, i);
        if (n->type == MOS_ENTRY_FILE && strcmp(n->name, name) == 0)
            return true;
    }
    return false;
}

/* Scripts that start programs of their own: what they start is not looked into. */
static bool has_start_scripts(const struct mos_region_plan *root) {
    const struct mos_inventory *inventory = root->volume->inventory;
    uint32_t folder;
    if (!mos_inv_find(inventory, "etc/init.d", &folder) || !folder)
        return false;
    for (uint32_t i = 1; i < inventory->count; i++)
        if (mos_inv_node(inventory, i)->parent == folder)
            return true;
    return false;
}

static void check_two_uses(const struct console_view *v, const struct mos_region_plan *root,
                           const struct mos_text_file *t) {
    const char *login = NULL, *other = NULL;
    size_t length;
    for (const char *l = t->text; (l = next_action(l, &length)); l += length) {
        if (!is_for(l, length, v->port))
            continue;
        if (is_log_in(l, length))
            login = l;
        else
            other = l;
    }
    if (!login || !other)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_CONSOLE_SHARED,
                                     "Port %s has a log-in, and another program uses it.", v->port);
    mos_finding_at(v->list, f, v->c->port->place);
    mos_finding_at(v->list, f,
                   mos_place_thing(mos_printf(v->arena, "/%s in %s: %.*s", t->path, root->name,
                                              (int)strcspn(other, "\n"), other)));
    mos_finding_why(v->list, f, "Both read what comes in, each of them a part.");
    mos_finding_try(v->list, f, "Choose another port for one of the two, or set console: none.");
}

/* A serial port's name in a line: "ttyS0"; NULL: none. */
static const char *port_in(struct mos_arena *arena, const char *line, size_t length) {
    for (const char *p = line; p + 4 < line + length; p++)
        if (strncmp(p, "tty", 3) == 0 && isupper((unsigned char)p[3]) &&
            (p == line || !isalnum((unsigned char)p[-1]))) {
            size_t n = 3;
            while (p + n < line + length && isalnum((unsigned char)p[n]))
                n++;
            return mos_strndup(arena, p, n);
        }
    return NULL;
}

/* A speed among the words of a line; 0: none. */
static unsigned long speed_in(const char *line, size_t length) {
    for (const char *p = line; p < line + length; p++)
        if (isdigit((unsigned char)*p) && p > line && (p[-1] == ' ' || p[-1] == ',')) {
            char *end;
            unsigned long n = strtoul(p, &end, 10);
            if (n >= 1200 && (end == line + length || *end == ' ' || *end == ',' || *end == '\n'))
                return n;
        }
    return 0;
}

/* The root's own log-ins against the port and its speed. */
static void check_log_ins(const struct console_view *v, const struct mos_region_plan *root,
                          const struct mos_text_file *t) {
    const char *other = NULL;
    size_t length, other_length = 0;
    struct mos_place here = mos_place_thing(mos_printf(v->arena, "/%s in %s", t->path, root->name));
    for (const char *l = t->text; (l = next_action(l, &length)); l += length) {
        unsigned long baud = speed_in(l, length);
        if (!is_log_in(l, length))
            continue;
        if (!is_for(l, length, v->port)) {
            bool serial = port_in(v->arena, l, length) != NULL;
            other = serial ? l : other;
            other_length = serial ? length : other_length;
            if (!serial)
                return; /* a log-in on whatever the console is */
            continue;
        }
        if (baud && mos_has(v->c->baud) && baud != v->c->baud->number)
            disagrees(
                v, here, v->c->baud->place,
                mos_printf(v->arena,
                           "The root's log-in runs at %lu bits a second, the hardware says %s.",
                           baud, v->c->baud->text),
                mos_printf(v->arena, "Write %s in that line, or set log-in: inittab.",
                           v->c->baud->text));
        return;
    }
    if (other)
        disagrees(v, here, v->c->port->place,
                  mos_printf(v->arena, "The root's log-in is on %s, the console is %s.",
                             port_in(v->arena, other, other_length), v->port),
                  "Set system: {log-in: inittab}, which makes the line for this port.");
}

static bool logs_in_somewhere(const struct mos_text_file *t) {
    size_t length;
    for (const char *l = t->text; (l = next_action(l, &length)); l += length)
        if (is_log_in(l, length))
            return true;
    return false;
}

/* Said of what is meant to be used: a selection with a purpose. */
static void check_way_in(const struct console_view *v, const struct mos_region_plan *root,
                         const struct mos_text_file *inittab) {
    /* systemd opens a log-in on the console by itself; keys of a user are a way over the network */
    if (!inittab || !v->plan->board->purpose || logs_in_somewhere(inittab) ||
        has_file(root, "systemd") || has_file(root, "authorized_keys"))
        return;
    if (has_start_scripts(root)) {
        mos_vec_push_pointer(&v->plan->ctx->not_proved,
                             mos_printf(v->arena,
                                        "that somebody can log in: what the scripts in /etc/init.d "
                                        "of %s start is not known",
                                        root->name));
        return;
    }
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_CONSOLE_NO_WAY_IN,
                 "Nobody can log in: there is no log-in on %s, and no user has a key for one over "
                 "the network.",
                 v->port);
    mos_finding_at(v->list, f, v->c->port->place);
    mos_finding_at(v->list, f,
                   mos_place_thing(mos_printf(v->arena, "/etc/inittab in %s", root->name)));
    mos_finding_why(v->list, f, "A board that misbehaves outside can only be opened.");
    mos_finding_try(v->list, f,
                    "Set system: {log-in: inittab}, or add a waiver that says how it is reached.");
}

void mos_rule_console_files(const struct mos_plan *plan) {
    struct console_view v;
    const struct mos_region_plan *root = mos_plan_root(plan);
    if (!begin(&v, plan) || !root || !root->volume)
        return;
    const struct mos_text_file *inittab = mos_plan_text(root, "etc/inittab");
    if (inittab && strcmp(v.port, "none") != 0) {
        check_two_uses(&v, root, inittab);
        check_log_ins(&v, root, inittab);
    }
    check_way_in(&v, root, inittab);
}
