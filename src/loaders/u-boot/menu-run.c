/* sysboot: the boot menu file, entry by entry. */
#include "loaders/u-boot/menu.h"

#include "loaders/u-boot/boot.h"

#include "base/bytes.h"
#include "loaders/u-boot/legacy.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_MENU = 1 << 20 };

struct menu_run {
    struct sim *s;
    const char *kind, *place; /* "mmc", "0:1" */
    const char *folder;       /* of the menu file: where relative names begin */
    uint64_t at;              /* where the last menu file was put, and how long it is */
    size_t length;
};

/* One file to an address that a variable names; nonzero: it is not there. */
static int retrieve(struct menu_run *r, const char *file, const char *variable, uint64_t at) {
    struct sim *s = r->s;
    const char *set = variable ? sim_get(s, variable) : NULL;
    if (variable && !set)
        return sim_trouble(s, "missing environment variable: %s", variable);
    if (variable)
        at = sim_number(set, NULL, 16);
    const char *path = *file == '/' ? file : mos_printf(s->arena, "%s%s", r->folder, file);
    const char *address = mos_printf(s->arena, "%llx", (unsigned long long)at);
    const char *const words[] = {"load", r->kind, r->place, address, path};
    size_t before = s->console->length;
    sim_print(s, "Retrieving file: %s\n", path);
    size_t shown = s->console->length;
    int code = own(s)->command(s, 5, words);
    const char *said = mos_buf_string(s->console) + shown;
    bool no_volume = code && !strstr(said, "Failed to load");
    if (no_volume) { /* it has said what is not there */
        const char *load_says = strstr(said, "Can't set block device\n");
        s->console->length =
            load_says ? (size_t)(load_says - s->console->data) : s->console->length;
        return code;
    }
    s->console->length = code ? shown : before; /* the loader says it in its own words */
    if (!code)
        sim_print(s, "Retrieving file: %s\n", path);
    else
        sim_trouble(s, "** Unable to read file %s **", path);
    return code;
}

/* ${name} in the arguments. */
static const char *with_variables(struct sim *s, const char *text) {
    struct mos_buf b = {.arena = s->arena};
    for (const char *end; *text; text = end + 1) {
        const char *open = strstr(text, "${");
        if (!open || !(end = strchr(open, '}'))) {
            mos_buf_text(&b, text);
            break;
        }
        const char *value = sim_get(s, mos_strndup(s->arena, open + 2, (size_t)(end - open) - 2));
        mos_buf_add(&b, text, (size_t)(open - text));
        mos_buf_text(&b, value ? value : "");
    }
    return mos_buf_string(&b);
}

static int skip(struct sim *s, const struct mos_menu_entry *e, const char *what) {
    return sim_trouble(s, "Skipping %s for failure retrieving %s", e->name, what);
}

/* The tree: the entry's own, one from its folder, or what a variable already points at. */
static int find_tree(struct menu_run *r, const struct mos_menu_entry *e, const char **tree) {
    struct sim *s = r->s;
    const char *file = e->tree, *fixed = sim_get(s, "fdt_addr");
    *tree = NULL;
    if (!file && e->tree_folder) {
        const char *name = sim_get(s, "fdtfile");
        if (name)
            file = mos_printf(s->arena, "%s%s%s", e->tree_folder,
                              e->tree_folder[strlen(e->tree_folder) - 1] == '/' ? "" : "/", name);
    }
    if (file && sim_get(s, "fdt_addr_r")) {
        *tree = sim_get(s, "fdt_addr_r");
        if (retrieve(r, file, "fdt_addr_r", 0)) {
            if (e->tree)
                return skip(s, e, "FDT");
            *tree = NULL;
        }
    } else if (file) {
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL,
                  "fdt_addr_r is not set: the loader leaves the tree %s out, without a word", file);
    }
    if (!*tree)
        *tree = fixed ? fixed : sim_get(s, "fdtcontroladdr");
    return 0;
}

static int apply_overlays(struct menu_run *r, const struct mos_menu_entry *e, const char *tree) {
    struct sim *s = r->s;
    const char *at = sim_get(s, "fdtoverlay_addr_r");
    if (!e->overlays || !tree)
        return 0;
    if (sim_lacks(s, "overlays")) {
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL,
                  "the loader was built without overlays: it leaves %s out, without a word",
                  e->overlays);
        return 0;
    }
    if (!at)
        return sim_trouble(s, "Invalid fdtoverlay_addr_r for loading overlays");
    own(s)->tree_at = sim_number(tree, NULL, 16);
    const char *const resize[] = {"fdt", "resize", "2000"};
    own(s)->command(s, 3, resize);
    for (const char *p = e->overlays; *(p += strspn(p, " \t"));) {
        size_t n = strcspn(p, " \t");
        const char *file = mos_strndup(s->arena, p, n);
        const char *const apply[] = {"fdt", "apply", at};
        if (retrieve(r, file, "fdtoverlay_addr_r", 0) || own(s)->command(s, 3, apply))
            sim_trouble(s, "Failed to apply overlay %s, skipping", file);
        p += n;
    }
    return 0;
}

static int start(struct menu_run *r, const struct mos_menu_entry *e) {
    struct sim *s = r->s;
    const char *ramdisk = NULL, *tree, *name = sim_get(s, "kernel_addr_r"), *choice;
    uint8_t head[MOS_LEGACY_HEADER];
    if (e->local) { /* what comes of it does not matter to the loader */
        if (!e->stays && !sim_get(s, "localcmd"))
            sim_trouble(s, "missing environment variable: localcmd");
        else if (!e->stays)
            ub_run_variable(s, "localcmd");
        return 0;
    }
    if (!e->kernel)
        return sim_trouble(s, "No kernel given, skipping %s", e->name);
    if (e->ramdisk) {
        if (retrieve(r, e->ramdisk, "ramdisk_addr_r", 0))
            return skip(s, e, "initrd");
        ramdisk =
            mos_printf(s->arena, "%s:%s", sim_get(s, "ramdisk_addr_r"), sim_get(s, "filesize"));
    }
    choice = strchr(e->kernel, '#');
    const char *file =
        choice ? mos_strndup(s->arena, e->kernel, (size_t)(choice - e->kernel)) : e->kernel;
    if (retrieve(r, file, "kernel_addr_r", 0))
        return skip(s, e, "kernel");
    if (e->arguments && s->rig->most_line && strlen(e->arguments) + 1 > s->rig->most_line)
        return sim_trouble(s, "bootarg overflow %zu+0+0+1 > %llu", strlen(e->arguments),
                           (unsigned long long)s->rig->most_line);
    if (e->arguments) {
        sim_set(s, "bootargs", with_variables(s, e->arguments));
        sim_print(s, "append: %s\n", sim_get(s, "bootargs"));
    }
    int code = find_tree(r, e, &tree);
    if (code)
        return code;
    apply_overlays(r, e, tree);
    uint64_t at = sim_number(name, NULL, 16);
    sim_ram_read(s, at, head, sizeof head);
    if (mos_dt_is_blob(head, sizeof head))
        return ub_boot_container(s, at, choice ? choice + 1 : NULL, false, ramdisk,
                                 e->tree || e->tree_folder ? tree : NULL, "sysboot");
    if (mos_legacy_is(head, sizeof head))
        return ub_boot_container(s, at, NULL, false, ramdisk, tree, "sysboot");
    bool zimage = s->rig->cpu && strcmp(s->rig->cpu, "arm") == 0;
    return ub_boot_plain(s, at, ramdisk, tree, zimage);
}

static void show(const struct mos_menu *m, struct sim *s) {
    if (m->title)
        sim_print(s, "%s\n", m->title);
    for (size_t i = 0; i < m->entries.count; i++) {
        const struct mos_menu_entry *e = mos_vec_at(&m->entries, i);
        sim_print(s, "%zu:\t%s\n", i + 1, e->title ? e->title : e->name);
    }
    sim_print(s, "Enter choice: ");
}

static int try(struct menu_run *r, const struct mos_menu *m, const struct mos_menu_entry *e) {
    struct sim *s = r->s;
    size_t index = (size_t)(e - (const struct mos_menu_entry *)m->entries.items);
    sim_try(s, e->name);
    sim_print(s, "%zu:\t%s\n", index + 1, e->title ? e->title : e->name);
    sim_event(s, MOS_EVENT_RUN, 0, 0, NULL, "menu entry %s", e->name);
    return start(r, e);
}

/* A menu file into RAM, and its text; false: it is not there. */
static bool fetch(struct menu_run *r, uint64_t at, const char *file, const char **text,
                  size_t *length) {
    struct sim *s = r->s;
    if (retrieve(r, file, NULL, at))
        return false;
    const char *size = sim_get(s, "filesize");
    *text = (const char *)sim_ram_copy(s, at, size ? sim_number(size, NULL, 16) : 0, MOST_MENU);
    struct sim_thing *t = sim_ram_at(s, at);
    if (t)
        t->spent = true;
    *length = *text ? strlen(*text) : 0;
    return *text != NULL;
}

static bool fetch_included(void *self, struct mos_menu *m, const char *path, const char **text,
                           size_t *length) {
    struct menu_run *r = self;
    sim_print(r->s, "%s", mos_buf_string(&m->said));
    m->said.length = 0;
    r->at = mos_round_up(r->at + r->length + 1, 4); /* behind the one that includes it */
    bool found = fetch(r, r->at, path, text, length);
    r->length = *length;
    return found;
}

int ub_menu(struct sim *s, const char *kind, const char *place, uint64_t at, const char *file) {
    const char *slash = strrchr(file, '/');
    struct menu_run r = {.s = s,
                         .kind = kind,
                         .place = place,
                         .folder =
                             slash ? mos_strndup(s->arena, file, (size_t)(slash - file) + 1) : "",
                         .at = at};
    struct mos_menu_files files = {&r, fetch_included};
    const char *text;
    if (!fetch(&r, at, file, &text, &r.length))
        return sim_trouble(s, "Error reading config file");
    struct mos_menu m = mos_menu_read(s->arena, text, r.length, &files);
    sim_print(s, "%s", mos_buf_string(&m.said));
    if (m.wrong)
        return sim_trouble(s, "Error parsing config file");
    if (m.prompt)
        show(&m, s);
    if (m.prompt && !m.timeout) {
        sim_trouble(s, "the menu asks which entry to start, and waits for ever: TIMEOUT is 0");
        s->stop = SIM_HANGS;
        return 1;
    }
    const struct mos_menu_entry *first = m.usual ? mos_menu_find(&m, m.usual) : NULL;
    if (first && !try(&r, &m, first))
        return 0; /* it did what it should, and comes back */
    for (size_t i = 0; i < m.entries.count && !s->stop; i++)
        if (mos_vec_at(&m.entries, i) != (const void *)first)
            try(&r, &m, mos_vec_at(&m.entries, i));
    return 0;
}
