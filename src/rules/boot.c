#include "rules/rules.h"

#include "base/text.h"
#include "linux/devices.h"
#include "linux/program.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

struct boot_view {
    const struct mos_plan *plan;
    const struct mos_entry_plan *e;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static void check_no_entry(const struct mos_plan *plan) {
    const struct mos_board *b = plan->board;
    struct mos_findings *list = &plan->ctx->findings;
    if (b->r.broken && b->boot && b->boot->r.broken)
        return;
    if (b->boot ? b->boot->entries.count : !b->kernel)
        return;
    if (!b->boot && !mos_has(b->kernel->image)) { /* what it will be is said, and not where it is */
        mos_vec_push_pointer(&plan->ctx->not_proved,
                             "what the board boots: neither boot nor the kernel's image is stated");
        return;
    }
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_NO_ENTRY, "Board %s has nothing to boot.", b->r.name);
    mos_finding_at(list, f, b->boot ? b->boot->r.key_place : b->kernel->r.key_place);
    mos_finding_try(list, f, "Add boot: {via: script, entries: {main: {kernel: …, tree: …}}}.");
}

static void file_missing(const struct boot_view *v, const char *what, struct mos_place place,
                         const char *why, const char *remedy) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_FILE_MISSING, "Entry %s: %s.", v->e->def->r.name, what);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "%s", remedy);
}

static void check_files(const struct boot_view *v) {
    const struct mos_boot_entry *def = v->e->def;
    const struct mos_kernel *k = v->plan->board->kernel;
    if (!def->kernel && !(k && k->image))
        file_missing(v, "no kernel is named", def->r.key_place, "The loader has nothing to start.",
                     "Set kernel: to the name of a piece.");
    else if (mos_board_is_direct(v->plan->board))
        return; /* direct.c */
    else if (v->plan->boots_raw && !mos_board_is_via(v->plan->board, MOS_VIA_ENVIRONMENT))
        file_missing(v,
                     mos_printf(v->plan->ctx->arena,
                                "its parts lie in regions of %s, which only "
                                "stored variables can name",
                                v->plan->boot_medium->name),
                     def->r.key_place, "Scripts, menus and parcels are files of a volume.",
                     "Set boot: {via: environment}.");
    else if (v->plan->media.count && !v->plan->boot_region && !v->plan->boots_raw && v->e->kernel)
        file_missing(v, "no volume holds its files", def->r.key_place,
                     "The boot script loads kernel and tree from the volume it lies in itself.",
                     "Add fills: {boot: {made: boot}} to a volume that the loader can read, or put "
                     "kernel, tree and ramdisk into regions of a flash.");
}

/* An entry that leaves the tree to the loader, on a board that has trees. */
static void check_tree(const struct boot_view *v) {
    const struct mos_board *b = v->plan->board;
    const struct mos_blob_plan *first =
        v->plan->blobs.count ? mos_vec_pointer(&v->plan->blobs, 0) : NULL;
    if (v->e->def->tree || !first || (b->boot && b->boot->trees) || v->e->def->r.broken)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_NO_TREE, "Entry %s names no tree, and there is tree %s.",
                 v->e->def->r.name, first->def->r.name);
    mos_finding_at(v->list, f, v->e->def->r.key_place);
    mos_finding_at(v->list, f, first->def->r.key_place);
    mos_finding_why(v->list, f,
                    "The kernel is given the loader's own tree, where that has one; "
                    "without any it does not say a word.");
    mos_finding_try(v->list, f, "Add tree: %s to the entry.", first->def->r.name);
}

/* A loader that nobody named expands what most do. */
static bool expands(const struct mos_dialect *dialect, const char *compression) {
    const char *const *all = dialect ? dialect->expands : NULL;
    while (all && *all && strcmp(*all, compression) != 0)
        all++;
    return dialect ? all && *all : strcmp(compression, "xz") != 0;
}

/* Why the loader cannot make a kernel of it, although it is one; NULL: it can. */
static const char *hindrance(const struct boot_view *v, const char **remedy) {
    const struct mos_entry_plan *e = v->e;
    const struct mos_kernel_header *h = &e->header;
    bool parcel = mos_board_is_via(v->plan->board, MOS_VIA_PARCEL);
    *remedy = "Use gzip, or the plain form of the kernel build.";
    if (h->compression && !expands(v->plan->starter, h->compression))
        return mos_printf(v->arena, "is compressed with %s, which the loader cannot expand",
                          h->compression);
    if (h->compression && !h->wrapped && !parcel && h->form == MOS_KERNEL_ZIMAGE)
        return mos_printf(v->arena,
                          "expands itself and is compressed once more, which %s cannot take",
                          v->e->step.command);
    *remedy = "Use the kernel as it was before it was wrapped: the parcel has its own header.";
    if (h->wrapped && parcel)
        return "has a legacy header, which is not looked for inside of a parcel";
    *remedy = "Use a kernel in the form that it starts.";
    if (v->plan->dialect && !parcel && !e->step.command)
        return mos_printf(v->arena, "is a %s, which a loader of dialect %s does not start",
                          h->format, v->plan->dialect->name);
    *remedy = "Get the whole file again.";
    if (h->stated_size > h->held_size)
        return mos_printf(v->arena, "is cut off: its header says %s, it has %s",
                          mos_size_about(v->arena, h->stated_size),
                          mos_size_about(v->arena, h->held_size));
    return NULL;
}

/* What a header says about places in RAM: only a wrapped kernel brings its own. */
static void check_header(const struct boot_view *v, const struct mos_value *named) {
    const struct mos_kernel_header *h = &v->e->header;
    uint64_t length = h->plain_size ? h->plain_size : v->e->kernel->size;
    if (!h->wrapped)
        return;
    bool outside = h->entry < h->load || h->entry - h->load >= length;
    bool uneven = h->alignment && (h->load - h->text_offset) % h->alignment != 0;
    bool in_ram = !v->plan->has_ram || (h->load >= v->plan->ram.start &&
                                        h->load - v->plan->ram.start < v->plan->ram.length);
    if (!outside && !uneven && in_ram)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_RAM_HEADER_DISAGREES,
                 outside  ? "Kernel %s is put at %s and started at %s, which is not inside of it."
                 : uneven ? "Kernel %s is put at %s, where it cannot run (started at %s)."
                          : "Kernel %s is put at %s, where this board has no RAM (started at %s).",
                 v->e->kernel->def->r.name, mos_address_text(v->arena, h->load),
                 mos_address_text(v->arena, h->entry));
    mos_finding_at(v->list, f, named->place);
    mos_finding_at(v->list, f, v->e->kernel->def->r.key_place);
    mos_finding_why(v->list, f, "%s",
                    uneven ? mos_printf(v->arena, "It must lie %s behind a multiple of %s.",
                                        mos_size_text(v->arena, h->text_offset),
                                        mos_size_text(v->arena, h->alignment))
                           : "Both addresses stand in the file's own header.");
    mos_finding_try(v->list, f, "Use the plain kernel: then the addresses are chosen to fit.");
}

static void check_format(const struct boot_view *v) {
    const struct mos_entry_plan *e = v->e;
    const struct mos_hardware *h = v->plan->board->hardware;
    const char *cpu = h ? mos_text_or(h->cpu, NULL) : NULL;
    if (!mos_plan_is_there(e->kernel))
        return;
    const struct mos_value *named = e->def->kernel ? e->def->kernel : v->plan->board->kernel->image;
    bool wrong_cpu = e->kernel_known && cpu && e->header.cpu && !mos_start_fits(cpu, e->header.cpu);
    const char *remedy, *why = e->kernel_known && !wrong_cpu ? hindrance(v, &remedy) : NULL;
    if (e->kernel_known && !wrong_cpu && !why) {
        check_header(v, named);
        return;
    }
    struct mos_finding *f;
    if (why) {
        f = mos_find(v->list, MOS_RULE_BOOT_FORMAT, "Kernel %s %s.", e->kernel->def->r.name, why);
        mos_finding_at(v->list, f, named->place);
        mos_finding_at(v->list, f, e->kernel->def->r.key_place);
        mos_finding_try(v->list, f, "%s", remedy);
        return;
    }
    if (wrong_cpu) {
        f = mos_find(v->list, MOS_RULE_BOOT_FORMAT, "Kernel %s is made for %s, the board is %s.",
                     e->kernel->def->r.name, e->header.cpu, cpu);
        mos_finding_at(v->list, f, named->place);
        mos_finding_at(v->list, f, h->cpu->place);
        mos_finding_try(v->list, f, "Use a kernel that was built for %s.", cpu);
        return;
    }
    f = mos_find(v->list, MOS_RULE_BOOT_FORMAT, "Kernel %s is %s, which the loader cannot start.",
                 e->kernel->def->r.name,
                 e->header.format ? mos_printf(v->arena, "a %s", e->header.format)
                                  : "in no form that is known");
    mos_finding_at(v->list, f, named->place);
    mos_finding_at(v->list, f, e->kernel->def->r.key_place);
    mos_finding_try(v->list, f, "Use the plain Image of the kernel build (arch/arm64/boot/Image).");
}

/* ---- root ---- */

static void root_unknown(const struct boot_view *v, const struct mos_value *value,
                         const char *message, struct mos_place other, const char *remedy) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_ROOT_UNKNOWN, "Entry %s: root=%s %s.",
                                     v->e->def->r.name, value->text, message);
    mos_finding_at(v->list, f, value->place);
    mos_finding_at(v->list, f, other);
    mos_finding_why(v->list, f, "The kernel would stop with \"unable to mount root\".");
    mos_finding_try(v->list, f, "Write %s.", remedy);
}

/* "/dev/mmcblk0p2" is partition 2 of a medium that the kernel calls mmcblk0; 0: all of it. */
static bool is_on(const char *text, const struct mos_value *kernel, unsigned *number) {
    return mos_has(kernel) && strncmp(text, "/dev/", 5) == 0 &&
           mos_device_is_of(text + 5, kernel->text, number);
}

/* PARTUUID=ID and PARTUUID=ID/PARTNROFF=N: letters of either case, as Linux compares. */
static bool has_id(const struct mos_medium_plan *m, const struct mos_region_plan *r,
                   const char *text) {
    size_t n = strcspn(text, "/");
    long off = strncmp(text + n, "/PARTNROFF=", 11) == 0 ? strtol(text + n + 11, NULL, 10) : 0;
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *o = mos_vec_pointer(&m->regions, i);
        if (o->number && strlen(o->id_text) == n && strncasecmp(o->id_text, text, n) == 0)
            return (long)o->number + off == (long)r->number;
    }
    return false;
}

/* What a root argument written out in full names. */
static bool names_region(const struct mos_medium_plan *m, const struct mos_region_plan *r,
                         const char *text) {
    const struct mos_value *kernel = m->medium->kernel;
    if (!r->number)
        return false;
    if (strncmp(text, "PARTUUID=", 9) == 0)
        return has_id(m, r, text + 9);
    if (strncmp(text, "PARTLABEL=", 10) == 0)
        return strcmp(text + 10, r->label) == 0;
    unsigned number;
    return is_on(text, kernel, &number) && number == r->number;
}

static const char *likely_root(const struct boot_view *v) {
    for (size_t m = 0; m < v->plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&v->plan->media, m);
        for (size_t i = medium->regions.count; i; i--) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i - 1);
            if (r->number && r->fs && r != v->plan->boot_region)
                return mos_printf(v->arena, "root: <%s>", r->name);
        }
    }
    return "root: <name of the region with the root file system>";
}

/* A region that root= names must hold one. */
static void check_holder(const struct boot_view *v, const struct mos_value *value,
                         const struct mos_region_plan *r) {
    if (!r->number)
        return;
    if (!r->fs && !r->strange_fs && !r->piece && !r->def->r.broken)
        root_unknown(v, value, "holds no file system", r->def->r.key_place, likely_root(v));
    else if (r == v->plan->boot_region && r->def->volume && r->def->volume->fills.count == 1)
        root_unknown(v, value, "holds only the boot files", r->def->r.key_place, likely_root(v));
}

/* Why Linux by itself finds no root by that text, whatever the layout is; NULL: it may. */
static const char *never_found(const struct boot_view *v, const char *text) {
    static const char *const exact[] = {"PARTUUID=", "PARTLABEL="};
    for (size_t i = 0; i < 2; i++)
        if (strncasecmp(text, exact[i], strlen(exact[i])) == 0)
            return strncmp(text, exact[i], strlen(exact[i])) == 0
                       ? NULL
                       : mos_printf(v->arena, "is not written as Linux compares it (%s…)",
                                    exact[i]);
    if (strncasecmp(text, "UUID=", 5) == 0 || strncasecmp(text, "LABEL=", 6) == 0)
        return "is looked for inside of file systems, which only a ramdisk's program does";
    if (strncmp(text, "/dev/disk/", 10) == 0)
        return "is a link that only the running system makes";
    if (strcmp(text, "/dev/nfs") == 0)
        return mos_named_get(&v->e->def->arguments, "ip") ? NULL
                                                          : "needs an address: ip=… beside it";
    return strncmp(text, "/dev/", 5) != 0 && strpbrk(text, " /") ? "is nothing that Linux looks for"
                                                                 : NULL;
}

/* Devices that no medium of a board stands for. */
static bool is_made_later(const char *text) {
    static const char *const names[] = {"/dev/ram", "/dev/nfs",     "/dev/mtdblock", "/dev/ubi",
                                        "/dev/dm-", "/dev/mapper/", "/dev/md",       "/dev/root"};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strncmp(text, names[i], strlen(names[i])) == 0)
            return true;
    return false;
}

static void check_literal(const struct boot_view *v, const struct mos_value *value) {
    const char *text = value->text;
    bool device = strncmp(text, "/dev/", 5) == 0, named = true, whole = false, found = false;
    if (v->e->def->ramdisk || !v->plan->media.count)
        return; /* what a ramdisk makes of it is its own matter */
    struct mos_place layout = v->plan->board->layout.node->key_place;
    const char *never = never_found(v, text);
    if (never) {
        root_unknown(v, value, never, layout, likely_root(v));
        return;
    }
    if ((!device && strncmp(text, "PART", 4) != 0) || is_made_later(text))
        return;
    for (size_t m = 0; m < v->plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&v->plan->media, m);
        const struct mos_value *kernel = medium->medium->kernel;
        unsigned number;
        bool here = device && is_on(text, kernel, &number);
        named = named && mos_has(kernel);
        found |= here;
        whole |= here && !number && medium->table;
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            if (!names_region(medium, r, text))
                continue;
            check_holder(v, value, r);
            return;
        }
    }
    if (!device || found || named)
        root_unknown(v, value,
                     whole              ? "is a whole medium with a partition table"
                     : !device || found ? "names no partition of the layout"
                                        : "names a device that no medium of this board is",
                     layout, likely_root(v));
    else
        mos_vec_push_pointer(
            &v->plan->ctx->not_proved,
            mos_printf(v->arena, "%s: no medium states that name for the kernel", text));
}

static bool has_flag(const struct mos_boot_entry *e, const char *flag) {
    for (size_t i = 0; i < e->flags.count; i++)
        if (mos_has(e->flags.items[i]) && strcmp(e->flags.items[i]->text, flag) == 0)
            return true;
    return false;
}

static void check_root(const struct boot_view *v) {
    const struct mos_boot_entry *e = v->e->def;
    const struct mos_argument *a = mos_named_get(&e->arguments, "root");
    if (!a) {
        if (e->ramdisk || !v->plan->media.count || has_flag(e, "rdinit") || e->r.broken)
            return;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_BOOT_ROOT_UNKNOWN,
                     "Entry %s names no root, and no ramdisk either.", e->r.name);
        mos_finding_at(v->list, f, e->r.key_place);
        mos_finding_try(v->list, f, "Add arguments: {%s}.", likely_root(v));
        return;
    }
    if (a->values.count != 1 || !mos_has(a->values.items[0]))
        return;
    const struct mos_value *value = a->values.items[0];
    if (!strchr(value->text, '<')) {
        check_literal(v, value);
        return;
    }
    if (v->e->root)
        check_holder(v, value, v->e->root);
}

/* ---- arguments ---- */

/* COMMAND_LINE_SIZE of the kernel, by architecture. */
static size_t longest_line(const char *cpu) {
    return !cpu ? 0 : strcmp(cpu, "arm64") == 0 ? 2048 : 1024;
}

/* Arguments that may be given more than once. */
static bool may_repeat(const char *name) {
    static const char *const names[] = {
        "console",          "earlycon",     "earlyprintk", "initcall_blacklist",
        "module_blacklist", "memmap",       "mem",         "cma",
        "hugepages",        "hugepagesz",   "ip",          "mtdparts",
        "dyndbg",           "loglevel.",    "video",       "usbcore.quirks",
        "systemd.mask",     "systemd.wants"};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strcmp(names[i], name) == 0)
            return true;
    return strchr(name, '.') != NULL;
}

static void twice(const struct boot_view *v, const char *name, const struct mos_value *a,
                  const struct mos_value *b) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_ARGUMENTS, "Entry %s states %s twice: %s and %s.",
                 v->e->def->r.name, name, a->text, b->text);
    mos_finding_at(v->list, f, a->place);
    mos_finding_at(v->list, f, b->place);
    mos_finding_why(v->list, f, "The kernel takes one of them, and nobody sees which.");
    mos_finding_try(v->list, f, "Remove one of them.");
}

static void check_twice(const struct boot_view *v) {
    const struct mos_boot_entry *e = v->e->def;
    for (size_t i = 0; i < e->arguments.count; i++) {
        const struct mos_argument *a = e->arguments.items[i];
        for (size_t k = 1; k < a->values.count && !may_repeat(a->r.name); k++)
            if (mos_has(a->values.items[k]) && mos_has(a->values.items[0]) &&
                strcmp(a->values.items[0]->text, a->values.items[k]->text) != 0)
                twice(v, a->r.name, a->values.items[0], a->values.items[k]);
        size_t n = strlen(a->r.name);
        for (size_t k = 0; k < e->flags.count && a->values.count; k++)
            if (mos_has(e->flags.items[k]) && !may_repeat(a->r.name) &&
                strncmp(e->flags.items[k]->text, a->r.name, n) == 0 &&
                e->flags.items[k]->text[n] == '=')
                twice(v, a->r.name, a->values.items[0], e->flags.items[k]);
    }
    const struct mos_value *ro = NULL, *rw = NULL;
    for (size_t k = 0; k < e->flags.count; k++) {
        if (!mos_has(e->flags.items[k]))
            continue;
        ro = strcmp(e->flags.items[k]->text, "ro") == 0 ? e->flags.items[k] : ro;
        rw = strcmp(e->flags.items[k]->text, "rw") == 0 ? e->flags.items[k] : rw;
    }
    if (ro && rw)
        twice(v, "the mode of the root", ro, rw);
}

static void check_line(const struct boot_view *v) {
    const struct mos_hardware *h = v->plan->board->hardware;
    size_t most = longest_line(h ? mos_text_or(h->cpu, NULL) : NULL);
    size_t length = strlen(v->e->step.arguments);
    const struct mos_setting *forced = mos_map_get(&v->plan->config, "CONFIG_CMDLINE_FORCE");
    struct mos_finding *f = NULL;
    if (most && length >= most) {
        f = mos_find(v->list, MOS_RULE_BOOT_ARGUMENTS,
                     "The arguments of entry %s have %zu characters; the kernel takes %zu.",
                     v->e->def->r.name, length, most - 1);
        mos_finding_at(v->list, f, v->e->def->r.key_place);
        mos_finding_why(v->list, f, "The rest is cut off without a word.");
        mos_finding_try(v->list, f, "State fewer or shorter arguments.");
    } else if (forced && strcmp(forced->value, "y") == 0 && length) {
        f = mos_find(v->list, MOS_RULE_BOOT_ARGUMENTS,
                     "The kernel ignores the arguments of entry %s: it was built with its own.",
                     v->e->def->r.name);
        mos_finding_at(v->list, f,
                       v->e->def->arguments.node ? v->e->def->arguments.node->key_place
                                                 : v->e->def->r.key_place);
        mos_finding_at(v->list, f, forced->place);
        mos_finding_why(v->list, f, "CONFIG_CMDLINE_FORCE is set: no loader can pass any.");
        mos_finding_try(v->list, f, "Write # CONFIG_CMDLINE_FORCE is not set.");
    }
}

/* ---- arguments that are missing, or do nothing ---- */

/* Cards and USB sticks are found while the kernel goes on: without a ramdisk somebody must wait. */
static void check_wait(const struct mos_plan *plan, const struct mos_entry_plan *e) {
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_medium_plan *on = NULL;
    for (size_t i = 0; i < plan->media.count && e->root; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < m->regions.count; k++)
            on = mos_vec_pointer(&m->regions, k) == e->root ? m : on;
    }
    enum mos_medium_kind kind = on ? mos_medium_kind_of(on->medium->kind) : MOS_MEDIUM_UNSTATED;
    if (e->ramdisk || e->def->r.broken || mos_named_get(&e->def->arguments, "rootdelay") ||
        mos_named_get(&e->def->arguments, "rootwait") ||
        (kind != MOS_MEDIUM_SD && kind != MOS_MEDIUM_EMMC && kind != MOS_MEDIUM_USB))
        return;
    for (size_t i = 0; i < e->def->flags.count; i++)
        if (!mos_has(e->def->flags.items[i]) ||
            strncmp(e->def->flags.items[i]->text, "rootwait", 8) == 0 ||
            strncmp(e->def->flags.items[i]->text, "rootdelay", 9) == 0)
            return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_NO_WAIT, "Entry %s does not wait for its root on %s.",
                 e->def->r.name, on->name);
    mos_finding_at(list, f, e->def->r.key_place);
    mos_finding_at(list, f, on->medium->kind->place);
    mos_finding_why(list, f,
                    "The kernel finds a medium of kind %s while it goes on, and may look for "
                    "its root before that is there.",
                    on->medium->kind->text);
    mos_finding_try(list, f, "Add flags: [rootwait] to the entry.");
}

/* For a ramdisk that the entry does not have. */
static void check_idle(const struct mos_plan *plan, const struct mos_entry_plan *e) {
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_argument *a = mos_named_get(&e->def->arguments, "rdinit");
    struct mos_place place = a ? a->r.key_place : (struct mos_place){0};
    for (size_t i = 0; i < e->def->flags.count && !a; i++)
        if (mos_has(e->def->flags.items[i]) &&
            strncmp(e->def->flags.items[i]->text, "rdinit", 6) == 0)
            place = e->def->flags.items[i]->place;
    if (e->ramdisk || !place.source)
        return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_ARGUMENTS,
                 "Entry %s names the first program of a ramdisk, and has none.", e->def->r.name);
    mos_finding_at(list, f, place);
    mos_finding_at(list, f, e->def->r.key_place);
    mos_finding_why(list, f, "The kernel reads rdinit= in a ramdisk only; init= is for its root.");
    mos_finding_try(list, f, "Add init: with the path of the program to the arguments.");
    f->severity = MOS_SEVERITY_WARNING;
}

void mos_rule_boot(const struct mos_plan *plan) {
    check_no_entry(plan);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        struct boot_view v = {plan, e, &plan->ctx->findings, plan->ctx->arena};
        check_files(&v);
        check_tree(&v);
        check_format(&v);
        check_root(&v);
        check_twice(&v);
        check_line(&v);
        check_wait(plan, e);
        check_idle(plan, e);
    }
}
