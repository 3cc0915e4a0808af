/* fdt: the loader's work on the device tree in RAM. */
#include "loaders/u-boot/inside.h"

#include "base/bytes.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_TREE = 4 << 20 };

/* ---- the working tree ---- */

static uint32_t total_size(const struct sim *s, uint64_t at) {
    uint8_t head[8];
    sim_ram_read(s, at, head, 8);
    return mos_be32(head) == MOS_DT_MAGIC ? mos_be32(head + MOS_DT_TOTAL) : 0;
}

/* Puts it back; the room that the blob has stays the same. */
static int write_tree(struct sim *s, struct mos_dt *dt, uint64_t at, uint32_t room) {
    struct mos_error error;
    struct mos_ctx c = mos_ctx_quiet(s->ctx, &error);
    struct mos_buf out = {.arena = s->arena};
    mos_dt_write_blob(&c, dt, false, &out);
    if (out.length > room)
        return sim_trouble(s, "tree: FDT_ERR_NOSPACE");
    mos_put_be32(out.data + MOS_DT_TOTAL, room);
    mos_buf_zeros(&out, room - out.length);
    sim_ram_write(s, at, out.data, out.length);
    return 0;
}

static struct mos_dt_node *find(const struct mos_dt *dt, const char *path) {
    if (*path == '/')
        return mos_dt_find(dt, path);
    const struct mos_dt_node *aliases = mos_dt_child(dt->root, "aliases");
    const char *to = aliases ? mos_dt_string(aliases, path) : NULL;
    return to ? mos_dt_find(dt, to) : NULL;
}

static int not_found(struct sim *s) {
    return sim_trouble(s, "tree: FDT_ERR_NOTFOUND");
}

/* ---- print ---- */

static bool is_text(const struct mos_dt_property *p) {
    if (!p->length || p->data[p->length - 1] || !p->data[0])
        return false;
    for (size_t i = 0; i < p->length; i++)
        if (p->data[i] ? !isprint(p->data[i]) : i + 1 < p->length && !p->data[i + 1])
            return false;
    return true;
}

static void print_value(struct sim *s, const struct mos_dt_property *p) {
    bool cells = p->length % 4 == 0;
    if (is_text(p)) {
        for (size_t i = 0; i < p->length; i += strlen((const char *)p->data + i) + 1)
            sim_print(s, "%s\"%s\"", i ? ", " : "", (const char *)p->data + i);
        return;
    }
    sim_print(s, cells ? "<" : "[");
    for (size_t i = 0; i < p->length; i += cells ? 4 : 1)
        if (cells)
            sim_print(s, "%s0x%08x", i ? " " : "", mos_be32(p->data + i));
        else
            sim_print(s, "%s%02x", i ? " " : "", p->data[i]);
    sim_print(s, cells ? ">" : "]");
}

static void print_node(struct sim *s, const struct mos_dt_node *n, unsigned depth,
                       unsigned levels) {
    static const char tabs[] = "\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t\t";
    sim_print(s, "%.*s%s {\n", (int)depth, tabs, *n->name ? n->name : "/");
    for (const struct mos_dt_property *p = n->properties; p; p = p->next) {
        sim_print(s, "%.*s%s", (int)depth + 1, tabs, p->name);
        if (p->length) {
            sim_print(s, " = ");
            print_value(s, p);
        }
        sim_print(s, ";\n");
    }
    for (const struct mos_dt_node *c = n->first_child; c; c = c->next)
        if (levels > 1 && depth + 2 < sizeof tabs)
            print_node(s, c, depth + 1, levels - 1);
        else
            sim_print(s, "%.*s%s {\n%.*s};\n", (int)depth + 1, tabs, c->name, (int)depth + 1, tabs);
    sim_print(s, "%.*s};\n", (int)depth, tabs);
}

static int fdt_print(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    const struct mos_dt_node *n = find(dt, argc > 2 ? argv[2] : "/");
    if (!n)
        return not_found(s);
    if (argc < 4) {
        print_node(s, n, 0, argv[1][0] == 'l' ? 1 : 64);
        return 0;
    }
    const struct mos_dt_property *p = mos_dt_property(n, argv[3]);
    if (!p)
        return sim_trouble(s, "tree: FDT_ERR_NOTFOUND");
    sim_print(s, "%s", argv[3]);
    if (p->length) {
        sim_print(s, " = ");
        print_value(s, p);
    }
    sim_print(s, "\n");
    return 0;
}

/* ---- get ---- */

static int get_value(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    const struct mos_dt_node *n = find(dt, argv[4]);
    const struct mos_dt_property *p = n && argc > 5 ? mos_dt_property(n, argv[5]) : NULL;
    if (!n)
        return not_found(s);
    if (!p)
        return sim_trouble(s, "tree: FDT_ERR_NOTFOUND");
    if (is_text(p)) {
        uint64_t skip = argc > 6 ? sim_number(argv[6], NULL, 10) : 0;
        const char *text = (const char *)p->data, *end = text + p->length;
        while (skip-- && text < end)
            text += strlen(text) + 1;
        if (text >= end)
            return 1;
        sim_set(s, argv[3], text);
    } else if (p->length == 4) {
        sim_set(s, argv[3], mos_printf(s->arena, "0x%08x", mos_be32(p->data)));
    } else {
        struct mos_buf hex = {.arena = s->arena};
        for (size_t i = 0; i < p->length; i++)
            mos_buf_printf(&hex, "%02x", p->data[i]);
        sim_set(s, argv[3], mos_buf_string(&hex));
    }
    return 0;
}

static int fdt_get(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    if (argc < 5)
        return -1;
    if (argv[2][0] == 'v')
        return get_value(s, argc, argv, dt);
    const struct mos_dt_node *n = find(dt, argv[4]);
    if (!n)
        return not_found(s);
    if (argv[2][0] == 'n' && argc > 5) {
        uint64_t skip = sim_number(argv[5], NULL, 10);
        const struct mos_dt_node *c = n->first_child;
        while (c && skip--)
            c = c->next;
        if (!c)
            return sim_trouble(s, "libfdt node not found");
        sim_set(s, argv[3], c->name);
        return 0;
    }
    if (argv[2][0] == 's') {
        uint64_t count = 0;
        const struct mos_dt_property *p = argc > 5 ? mos_dt_property(n, argv[5]) : NULL;
        for (const struct mos_dt_node *c = n->first_child; c; c = c->next)
            count++;
        if (p)
            sim_set(s, argv[3], mos_printf(s->arena, "0x%08zx", p->length));
        else
            sim_set_number(s, argv[3], argc > 5 ? 0 : count);
        return 0;
    }
    return -1;
}

/* ---- changes ---- */

/* The loader's way to write values: <1 2>, [01 02], or texts. */
static void parse_value(int argc, const char *const *argv, struct mos_buf *out) {
    char open = 0;
    for (int i = 0; i < argc; i++) {
        const char *p = argv[i];
        if (!open && *p != '<' && *p != '[') {
            mos_buf_add(out, p, strlen(p) + 1);
            continue;
        }
        if (!open)
            open = *p++;
        while (*p && *p != '>' && *p != ']') {
            const char *end;
            uint64_t v = sim_number(p, &end, open == '<' ? 0 : 16);
            if (end == p) {
                p++;
                continue;
            }
            if (open == '<')
                mos_buf_be32(out, (uint32_t)v);
            else
                mos_buf_char(out, (char)v);
            p = end;
        }
        if (*p)
            open = 0;
    }
}

/* What is new comes first, as the loader's library puts it. */
static int fdt_set(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    struct mos_buf value = {.arena = s->arena};
    if (argc < 4)
        return -1;
    struct mos_dt_node *n = find(dt, argv[2]);
    if (!n)
        return not_found(s);
    parse_value(argc - 4, argv + 4, &value);
    bool is_new = !mos_dt_property(n, argv[3]);
    struct mos_dt_property *p = mos_dt_set(dt, n, argv[3], value.data, value.length);
    if (is_new)
        mos_dt_property_first(n, p);
    return 0;
}

static int fdt_mknode(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    if (argc < 4)
        return -1;
    struct mos_dt_node *n = find(dt, argv[2]);
    if (!n)
        return not_found(s);
    if (mos_dt_child(n, argv[3]))
        return sim_trouble(s, "tree: FDT_ERR_EXISTS");
    struct mos_dt_node *child = mos_dt_add_node(dt, n, argv[3]);
    mos_dt_child_first(child);
    return 0;
}

static int fdt_rm(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    struct mos_dt_node *n = argc > 2 ? find(dt, argv[2]) : NULL;
    if (argc < 3)
        return -1;
    if (!n)
        return not_found(s);
    if (argc > 3 && !mos_dt_remove_property(n, argv[3])) {
        sim_trouble(s, "tree: FDT_ERR_NOTFOUND");
        return -1; /* the loader shows its help, too */
    }
    if (argc == 3)
        mos_dt_remove_node(n);
    return 0;
}

/* The loader takes a node's phandle from the base; it makes none. */
struct needs_phandles {
    const struct mos_dt *base, *overlay;
    const char *missing;
};

static bool look_for_phandles(void *self, struct mos_dt_node *node) {
    struct needs_phandles *n = self;
    for (const struct mos_dt_property *p = node->properties; p && !n->missing; p = p->next)
        for (size_t i = 0; i < p->marks.count; i++) {
            const struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
            const struct mos_dt_node *target =
                *m->name != '/' && !mos_dt_by_label(n->overlay, m->name)
                    ? mos_dt_by_label(n->base, m->name)
                    : NULL;
            if (target && !mos_dt_property(target, "phandle"))
                n->missing = m->name;
        }
    return !n->missing;
}

static int fdt_apply(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    uint64_t at;
    const char *names[2] = {"the base", "the overlay"};
    struct mos_error error;
    struct mos_ctx c = mos_ctx_quiet(s->ctx, &error);
    if (argc != 3 || !sim_address(argv[2], &at) || sim_lacks(s, "overlays"))
        return -1;
    struct mos_dt *overlay = sim_tree(s, at);
    if (!overlay)
        return sim_trouble(s, "fdt_overlay_apply(): FDT_ERR_BADMAGIC");
    struct needs_phandles needs = {dt, overlay, NULL};
    mos_dt_walk(overlay->root, look_for_phandles, &needs);
    if (needs.missing) {
        static const uint8_t no_magic[4];
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "node %s of the tree has no phandle",
                  needs.missing);
        sim_ram_write(s, own(s)->tree_at, no_magic, 4);
        return sim_trouble(s, "failed on fdt_overlay_apply(): FDT_ERR_NOTFOUND");
    }
    struct sim_thing *t = sim_ram_at(s, at);
    if (t)
        t->spent = true;
    overlay->by_loader = true;
    mos_dt_apply(&c, dt, overlay, 1, names);
    if (!mos_findings_count(&c.findings, MOS_SEVERITY_ERROR))
        return 0;
    const struct mos_finding *f = mos_vec_pointer(&c.findings.items, 0);
    sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "%s", f->message);
    sim_print(s, "base fdt does did not have a /__symbols__ node\n");
    /* the loader marks a base as spoiled once an overlay failed half way */
    static const uint8_t spoiled[4];
    sim_ram_write(s, own(s)->tree_at, spoiled, 4);
    return sim_trouble(s, "failed on fdt_overlay_apply(): FDT_ERR_NOTFOUND");
}

static int fdt_addr(struct sim *s, int argc, const char *const *argv) {
    bool quiet = false; /* about what is no tree */
    int i = 2;
    uint64_t at;
    for (; i < argc && *argv[i] == '-'; i++)
        quiet |= argv[i][1] == 'q';
    if (i >= argc) {
        if (!own(s)->tree_at)
            return 1;
        if (!total_size(s, own(s)->tree_at))
            return sim_trouble(s, "tree: FDT_ERR_BADMAGIC");
        sim_print(s, "Working fdt: %llx\n", (unsigned long long)own(s)->tree_at);
        return 0;
    }
    if (!sim_address(argv[i], &at))
        return 1;
    if (!at)
        return sim_trouble(s, "The address of the fdt is invalid (NULL).");
    if (sim_aborts(s, at))
        return 1;
    if (!total_size(s, at))
        return quiet ? 1 : sim_trouble(s, "tree: FDT_ERR_BADMAGIC");
    own(s)->tree_at = at;
    sim_set_number(s, "fdtaddr", at);
    sim_print(s, "Working FDT set to %llx\n", (unsigned long long)at);
    return 0;
}

/* More room behind the tree, up to a whole page. */
static int fdt_resize(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt) {
    struct mos_error error;
    struct mos_ctx c = mos_ctx_quiet(s->ctx, &error);
    struct mos_buf out = {.arena = s->arena};
    uint64_t extra = argc > 2 ? sim_number(argv[2], NULL, 16) : 0;
    mos_dt_write_blob(&c, dt, false, &out);
    uint64_t room = mos_round_up(own(s)->tree_at + out.length + mos_min(extra, MOST_TREE), 4096);
    room -= own(s)->tree_at;
    if (room > MOST_TREE)
        return 1;
    const struct sim_thing *t = sim_ram_at(s, own(s)->tree_at);
    if (t && room > t->span.length) {
        struct sim_thing *larger = sim_ram_claim(s, own(s)->tree_at, room, t->what);
        if (larger)
            larger->file = t->file;
    }
    return write_tree(s, dt, own(s)->tree_at, (uint32_t)room);
}

static int run_fdt(struct sim *s, int argc, const char *const *argv) {
    static const struct {
        const char *name;
        int (*run)(struct sim *s, int argc, const char *const *argv, struct mos_dt *dt);
        bool changes;
    } verbs[] = {{"print", fdt_print, false}, {"list", fdt_print, false},   {"get", fdt_get, false},
                 {"set", fdt_set, true},      {"mknode", fdt_mknode, true}, {"rm", fdt_rm, true},
                 {"apply", fdt_apply, true},  {"resize", fdt_resize, false}};
    static const char *const idle[] = {"chosen", "header", "boardsetup",  "checksign",
                                       "memory", "rsvmem", "systemsetup", "bootcpu"};
    if (argc < 2)
        return -1;
    if (strncmp(argv[1], "addr", 4) == 0)
        return fdt_addr(s, argc, argv);
    if (!own(s)->tree_at)
        return sim_trouble(s, "No FDT memory address configured. Please configure\n"
                              "the FDT address via \"fdt addr <address>\" command.\nAborting!");
    struct mos_dt *dt = sim_tree(s, own(s)->tree_at);
    if (!dt)
        return sim_trouble(s, "tree: FDT_ERR_BADMAGIC");
    for (size_t i = 0; i < sizeof verbs / sizeof *verbs; i++) {
        if (strcmp(verbs[i].name, argv[1]) != 0)
            continue;
        int code = verbs[i].run(s, argc, argv, dt);
        if (code == 0 && verbs[i].changes)
            code = write_tree(s, dt, own(s)->tree_at, total_size(s, own(s)->tree_at));
        return code;
    }
    for (size_t i = 0; i < sizeof idle / sizeof *idle; i++)
        if (strcmp(idle[i], argv[1]) == 0) {
            sim_unknown(s, "what fdt %s changes", argv[1]);
            return 0;
        }
    return -1;
}

const struct ub_command ub_commands_tree[] = {{"fdt", run_fdt, 0}, {NULL, NULL, 0}};
