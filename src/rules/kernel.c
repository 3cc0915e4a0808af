/* What is used, and what the kernel must have for it: only what its configuration states is judged.
 * One row each; a symbol that is a module is too late where it is needed to reach the root, and no
 * ramdisk loads it. */
#include "rules/rules.h"

#include "linux/devices.h"
#include "plan/bytes.h"

#include "base/text.h"

#include <string.h>

struct kernel_view {
    const struct mos_plan *plan;
    const struct mos_entry_plan *e; /* the default one */
    const struct mos_region_plan *root;
    const struct mos_medium_plan *medium; /* that the root is on; NULL: not known */
    struct mos_findings *list;
};

/* Where it is used, and as what; false: it is not. */
typedef bool use_fn(const struct kernel_view *v, struct mos_place *place, const char **as);

struct need {
    const char *symbol;
    use_fn *used;
    bool early; /* needed before anything can load a module */
    const char *why;
};

/* ---- uses ---- */

static bool kind_is(const struct kernel_view *v, enum mos_medium_kind kind, struct mos_place *place,
                    const char **as) {
    if (!v->medium || mos_medium_kind_of(v->medium->medium->kind) != kind)
        return false;
    *place = v->medium->medium->kind->place;
    *as = mos_printf(v->plan->ctx->arena, "its root on %s", v->medium->name);
    return true;
}

static bool card(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return kind_is(v, MOS_MEDIUM_SD, place, as) || kind_is(v, MOS_MEDIUM_EMMC, place, as);
}

static bool usb(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return kind_is(v, MOS_MEDIUM_USB, place, as);
}

static bool nvme(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return kind_is(v, MOS_MEDIUM_NVME, place, as);
}

static bool root_on_medium(const struct kernel_view *v, struct mos_place *place, const char **as) {
    if (!v->root || !v->medium)
        return false;
    *place = v->root->def->r.key_place;
    *as = mos_printf(v->plan->ctx->arena, "its root on %s", v->medium->name);
    return true;
}

static bool table_is(const struct kernel_view *v, const char *kind, struct mos_place *place,
                     const char **as) {
    const struct mos_table *t = v->medium ? v->medium->def->table : NULL;
    if (!v->root || !v->root->number || !t || !mos_has(t->kind) || strcmp(t->kind->text, kind) != 0)
        return false;
    *place = t->kind->place;
    *as = mos_printf(v->plan->ctx->arena, "the table of %s", v->medium->name);
    return true;
}

static bool gpt(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return table_is(v, "gpt", place, as);
}

static bool mbr(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return table_is(v, "mbr", place, as);
}

static bool any_root(const struct kernel_view *v, struct mos_place *place, const char **as) {
    *place = v->e->def->r.key_place;
    *as = "its first program";
    return true;
}

static bool console(const struct kernel_view *v, struct mos_place *place, const char **as) {
    const char *port = mos_board_port(v->plan->board);
    if (!port)
        return false;
    *place = v->plan->board->hardware->console->port->place;
    *as = mos_printf(v->plan->ctx->arena, "the console %s", port);
    return true;
}

static bool port_is(const struct kernel_view *v, const char *prefix, struct mos_place *place,
                    const char **as) {
    return console(v, place, as) && !mos_has(v->plan->board->hardware->console->driver) &&
           mos_device_has_stem(mos_board_port(v->plan->board), prefix);
}

static bool pl011(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return port_is(v, "ttyAMA", place, as);
}

static bool ns8250(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return port_is(v, "ttyS", place, as);
}

/* The first ramdisk that an entry has. */
static const struct mos_boot_entry *with_ramdisk(const struct kernel_view *v) {
    for (size_t i = 0; i < v->plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&v->plan->entries, i);
        if (e->ramdisk)
            return e->def;
    }
    return NULL;
}

static bool ramdisk(const struct kernel_view *v, struct mos_place *place, const char **as) {
    const struct mos_boot_entry *e = with_ramdisk(v);
    if (!e)
        return false;
    *place = e->ramdisk->place;
    *as = mos_printf(v->plan->ctx->arena, "the ramdisk of entry %s", e->r.name);
    return true;
}

static bool packed_as(const struct kernel_view *v, const char *magic, size_t length,
                      struct mos_place *place, const char **as) {
    for (size_t i = 0; i < v->plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&v->plan->entries, i);
        if (e->ramdisk && e->ramdisk->head_length >= length &&
            memcmp(e->ramdisk->head, magic, length) == 0) {
            *place = e->def->ramdisk->place;
            *as = mos_printf(v->plan->ctx->arena, "the ramdisk of entry %s", e->def->r.name);
            return true;
        }
    }
    return false;
}

static bool ramdisk_gz(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return packed_as(v, "\x1f\x8b", 2, place, as);
}

static bool ramdisk_xz(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return packed_as(v, "\xfd\x37zXZ", 5, place, as);
}

static bool ramdisk_zst(const struct kernel_view *v, struct mos_place *place, const char **as) {
    return packed_as(v, "\x28\xb5\x2f\xfd", 4, place, as);
}

static bool flash_strings(const struct kernel_view *v, struct mos_place *place, const char **as) {
    for (size_t i = 0; i < v->plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&v->plan->entries, i);
        const struct mos_argument *a = mos_named_get(&e->def->arguments, "mtdparts");
        if (!a)
            continue;
        *place = a->r.key_place;
        *as = "mtdparts";
        return true;
    }
    return false;
}

static bool wide(const struct kernel_view *v, struct mos_place *place, const char **as) {
    const struct mos_hardware *h = v->plan->board->hardware;
    enum mos_cpu cpu = h ? mos_cpu_of(h->cpu) : MOS_CPU_UNSTATED;
    if (cpu == MOS_CPU_UNSTATED || cpu == MOS_CPU_ARM)
        return false;
    *place = h->cpu->place;
    *as = h->cpu->text;
    return true;
}

/* No device is in the root itself: the kernel must bring the first ones. */
static bool empty_dev(const struct kernel_view *v, struct mos_place *place, const char **as) {
    uint32_t index;
    if (!v->root || !v->root->volume || !v->root->counted || v->e->ramdisk ||
        mos_inv_find(v->root->volume->inventory, "dev/console", &index))
        return false;
    *place = v->root->def->r.key_place;
    *as = mos_printf(v->plan->ctx->arena, "region %s without /dev/console", v->root->name);
    return true;
}

/* The first program is a script, as far as its bytes can be had. */
static bool script_first(const struct kernel_view *v, struct mos_place *place, const char **as) {
    static const char *const usual[] = {"sbin/init", "etc/init", "bin/init"};
    const struct mos_argument *a = mos_named_get(&v->e->def->arguments, "init");
    const char *asked =
        a && a->values.count && mos_has(a->values.items[0]) ? a->values.items[0]->text : NULL;
    const uint8_t *bytes;
    size_t length;
    if (!v->root || !v->root->volume || !v->root->counted || v->e->ramdisk)
        return false;
    for (size_t i = 0; i < (asked ? 1 : 3); i++) {
        const char *path = asked ? asked + strspn(asked, "/") : usual[i];
        uint32_t index;
        if (!mos_inv_follow(v->root->volume->inventory, v->plan->ctx->arena, path, &index) ||
            !index)
            continue;
        *place = v->e->def->r.key_place;
        *as = mos_printf(v->plan->ctx->arena, "its first program %s, a script,", path);
        return mos_plan_file_bytes(v->plan->self, v->root, index, &bytes, &length) && length > 2 &&
               memcmp(bytes, "#!", 2) == 0;
    }
    return false;
}

/* A device file that the root does not have, and that the kernel would make. */
static bool lacks_device(const struct kernel_view *v, const char *name) {
    uint32_t index;
    return v->root && v->root->volume && v->root->counted && !v->e->ramdisk &&
           !mos_inv_find(v->root->volume->inventory,
                         mos_printf(v->plan->ctx->arena, "dev/%s", name), &index);
}

/* The log-in opens a port. */
static bool log_in_port(const struct kernel_view *v, struct mos_place *place, const char **as) {
    const struct mos_system *system = v->plan->board->system;
    const struct mos_hardware *h = v->plan->board->hardware;
    const struct mos_value *port = h && h->console ? h->console->port : NULL;
    if (!system || !system->log_in || !mos_has(port) || !lacks_device(v, port->text))
        return false;
    *place = system->log_in->r.key_place;
    *as = mos_printf(v->plan->ctx->arena, "the log-in on /dev/%s", port->text);
    return true;
}

/* The root mounts no file system of devices itself: the kernel has to. */
static bool log_in_port_unmounted(const struct kernel_view *v, struct mos_place *place,
                                  const char **as) {
    static const char *const files[] = {"sbin/init", "etc/inittab", "etc/fstab", "etc/init.d/rcS"};
    const struct mos_inventory *inv;
    uint32_t index;
    const uint8_t *bytes;
    size_t length;
    if (!log_in_port(v, place, as))
        return false;
    inv = v->root->volume->inventory;
    if (mos_inv_follow(inv, v->plan->ctx->arena, "lib/systemd/systemd", &index))
        return false;
    for (size_t i = 0; i < sizeof files / sizeof *files; i++)
        if (mos_inv_follow(inv, v->plan->ctx->arena, files[i], &index) &&
            (!mos_plan_file_bytes(v->plan->self, v->root, index, &bytes, &length) ||
             strstr(mos_strndup(v->plan->ctx->arena, (const char *)bytes, length), "devtmpfs")))
            return false; /* it does, or nobody knows */
    return true;
}

/* The loader starts a watchdog, and somebody has to go on with it. */
static bool loader_watchdog(const struct kernel_view *v, struct mos_place *place, const char **as) {
    const struct mos_loader *l = v->plan->board->loader;
    if (!l || !l->facts || !mos_has(l->facts->watchdog) || !l->facts->watchdog->number)
        return false;
    *place = l->facts->watchdog->place;
    *as = "the watchdog that the loader starts";
    return true;
}

/* ---- the table ---- */

#define SILENT "The kernel starts and prints nothing."
#define NO_ROOT "The kernel stops with \"unable to mount root\"."
#define NO_INIT "The first program cannot start."

static const struct need needs[] = {
    {"CONFIG_64BIT", wide, true, "It would be a kernel for another processor."},
    {"CONFIG_PRINTK", console, true, SILENT},
    {"CONFIG_TTY", console, true, SILENT},
    {"CONFIG_SERIAL_AMBA_PL011", pl011, false, SILENT}, /* a module: rule console.late */
    {"CONFIG_SERIAL_AMBA_PL011_CONSOLE", pl011, false, SILENT},
    {"CONFIG_SERIAL_8250", ns8250, false, SILENT},
    {"CONFIG_SERIAL_8250_CONSOLE", ns8250, false, SILENT},
    {"CONFIG_BLOCK", root_on_medium, true, NO_ROOT},
    {"CONFIG_MMC", card, true, NO_ROOT},
    {"CONFIG_MMC_BLOCK", card, true, NO_ROOT},
    {"CONFIG_USB_STORAGE", usb, true, NO_ROOT},
    {"CONFIG_BLK_DEV_SD", usb, true, NO_ROOT},
    {"CONFIG_BLK_DEV_NVME", nvme, true, NO_ROOT},
    {"CONFIG_EFI_PARTITION", gpt, true, NO_ROOT},
    {"CONFIG_MSDOS_PARTITION", mbr, true, NO_ROOT},
    {"CONFIG_BINFMT_ELF", any_root, true, NO_INIT},
    {"CONFIG_BINFMT_SCRIPT", script_first, true, NO_INIT},
    {"CONFIG_DEVTMPFS", empty_dev, true, "Programs would have no console to open."},
    {"CONFIG_DEVTMPFS", log_in_port, false, "Nobody makes that device file."},
    {"CONFIG_DEVTMPFS_MOUNT", log_in_port_unmounted, false, "Nobody mounts the device files."},
    {"CONFIG_WATCHDOG", loader_watchdog, false, "The board starts anew when its time is over."},
    {"CONFIG_BLK_DEV_INITRD", ramdisk, true, "The kernel does not look at its ramdisk."},
    {"CONFIG_RD_GZIP", ramdisk_gz, true, "The kernel cannot unpack its ramdisk."},
    {"CONFIG_RD_XZ", ramdisk_xz, true, "The kernel cannot unpack its ramdisk."},
    {"CONFIG_RD_ZSTD", ramdisk_zst, true, "The kernel cannot unpack its ramdisk."},
    {"CONFIG_MTD", flash_strings, false, "The flash would have no partitions."},
    {"CONFIG_MTD_CMDLINE_PARTS", flash_strings, false, "The flash would have no partitions."},
};

static void tell(const struct kernel_view *v, const struct need *n, const struct mos_setting *s,
                 struct mos_place place, const char *as, bool module) {
    struct mos_finding *f =
        module
            ? mos_find(v->list, MOS_RULE_KERNEL_NEEDED_EARLY,
                       "%s is a module, and %s needs it before any can be loaded.", n->symbol, as)
            : mos_find(v->list, MOS_RULE_KERNEL_DRIVER_MISSING,
                       "The kernel is configured without %s, which %s needs.", n->symbol, as);
    mos_finding_at(v->list, f, s->place);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f, "%s", n->why);
    mos_finding_try(v->list, f,
                    module ? "Set %s=y in a fragment, or use a ramdisk that loads it."
                           : "Set %s=y in a fragment.",
                    n->symbol);
}

/* One symbol.  early: before any module could be loaded. */
static void check_symbol(const struct kernel_view *v, const struct need *n) {
    const struct mos_setting *s = mos_map_get(&v->plan->config, n->symbol);
    struct mos_place place;
    const char *as;
    bool off = s && strcmp(s->value, "n") == 0;
    bool module = s && strcmp(s->value, "m") == 0 && n->early && !v->e->ramdisk;
    if ((off || module) && n->used(v, &place, &as))
        tell(v, n, s, place, as, module);
}

/* What a volume of this kind needs of the kernel; that it can use the kind at all is
 * volume.kernel-cannot-mount. */
static void check_file_system(const struct kernel_view *v, const struct mos_region_plan *r,
                              bool root, struct mos_place place, const char *as) {
    const struct mos_fs_need *more = r->fs->needs ? r->fs->needs(&r->wish) : NULL;
    const struct mos_setting *s =
        root && r->fs->symbol ? mos_map_get(&v->plan->config, r->fs->symbol) : NULL;
    if (s && strcmp(s->value, "m") == 0 && !v->e->ramdisk)
        tell(v, &(struct need){r->fs->symbol, NULL, true, NO_ROOT}, s, place, as, true);
    if (mos_has(r->def->volume->compress)) /* what they are about, where there is such a thing */
        place = r->def->volume->compress->place;
    for (; more && more->symbol; more++) {
        s = mos_map_get(&v->plan->config, more->symbol);
        if (s && strcmp(s->value, "n") == 0)
            tell(v, &(struct need){more->symbol, NULL, false, more->why}, s, place, as, false);
    }
}

static void check_file_systems(const struct kernel_view *v) {
    const struct mos_system *system = v->plan->board->system;
    struct mos_arena *arena = v->plan->ctx->arena;
    if (v->root && v->root->fs)
        check_file_system(v, v->root, true, v->root->def->volume->kind->place,
                          mos_printf(arena, "its root in region %s", v->root->name));
    for (size_t i = 0; system && i < system->mounts.count; i++) {
        const struct mos_mount *m = system->mounts.items[i];
        const struct mos_region_plan *r = mos_plan_region(v->plan, m->r.name);
        if (r && r->fs && r != v->root)
            check_file_system(v, r, false, m->r.key_place,
                              mos_printf(arena, "mounting %s", r->name));
    }
}

void mos_rule_kernel(const struct mos_plan *plan) {
    struct kernel_view v = {
        .plan = plan, .list = &plan->ctx->findings, .root = mos_plan_root(plan)};
    if (!plan->has_config || !plan->entries.count)
        return;
    v.e = mos_vec_pointer(&plan->entries, 0);
    for (size_t i = 0; v.root && i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < m->regions.count; k++)
            if (mos_vec_pointer(&m->regions, k) == v.root)
                v.medium = m;
    }
    for (size_t i = 0; i < sizeof needs / sizeof *needs; i++)
        check_symbol(&v, &needs[i]);
    check_file_systems(&v);
}
