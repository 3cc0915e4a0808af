/* Where in the definition a symptom has its reason: a list of places each. */
#include "api/listen.h"

#include "base/text.h"
#include "linux/devices.h"

#include <string.h>

enum { MOST_PLACES = 4 };

struct look {
    struct listen_job *j;
    struct mos_finding *f;
    const struct mos_board *board;
    const struct mos_entry_plan *entry; /* that starts first; NULL: there is none */
    const char *file;                   /* that is asked for; NULL */
    size_t before;                      /* places that are no part of the definition */
};

static bool has(const struct look *k, struct mos_place p) {
    for (size_t i = 0; i < k->f->places.count; i++) {
        const struct mos_place *q = mos_vec_at(&k->f->places, i);
        if (q->source == p.source && q->offset == p.offset)
            return true;
    }
    return false;
}

static void put(struct look *k, struct mos_place p) {
    if (p.source && k->f->places.count - k->before < MOST_PLACES && !has(k, p))
        mos_finding_at(&k->j->m->ctx.findings, k->f, p);
}

static void put_value(struct look *k, const struct mos_value *v) {
    if (mos_has(v))
        put(k, v->place);
}

static void put_record(struct look *k, const struct mos_record *r) {
    if (r)
        put(k, r->key_place.source ? r->key_place : r->place);
}

/* An argument of the kernel, where it is stated. */
static void put_argument(struct look *k, const char *name) {
    const struct mos_argument *a = k->entry ? mos_named_get(&k->entry->def->arguments, name) : NULL;
    if (a && a->values.count) /* of several the last one counts */
        put_value(k, a->values.items[a->values.count - 1]);
}

static void put_flag(struct look *k, const char *name) {
    const struct mos_list *flags = k->entry ? &k->entry->def->flags : NULL;
    for (size_t i = 0; flags && i < flags->count; i++)
        if (mos_has(flags->items[i]) && strcmp(flags->items[i]->text, name) == 0)
            put_value(k, flags->items[i]);
}

static void put_region(struct look *k, const struct mos_region_plan *r) {
    if (r)
        put_record(k, &r->def->r);
}

/* The first fill of the root's volume: what brings the system. */
static void put_system(struct look *k) {
    const struct mos_region_plan *root = mos_plan_root(k->j->plan);
    const struct mos_volume *v = root ? root->def->volume : NULL;
    if (v && v->fills.count)
        put_record(k, v->fills.items[0]);
    put_region(k, root);
}

static void put_stage(struct look *k, bool first) {
    const struct mos_named *stages = &k->board->stages;
    for (size_t i = 0; i < stages->count; i++) {
        const struct mos_stage *s = stages->items[i];
        bool by_rom = mos_has(s->by) && strcmp(s->by->text, "rom") == 0;
        if (by_rom == first)
            put_record(k, &s->r);
    }
}

static void put_first_stage(struct look *k) {
    const struct mos_rom *rom = k->board->rom;
    if (rom && rom->first_stage.count)
        put_record(k, rom->first_stage.items[0]);
    put_stage(k, true);
}

/* What asks for the file, and the fill that should bring it. */
static void put_file(struct look *k) {
    const struct mos_boot_entry *def = k->entry ? k->entry->def : NULL;
    if (!k->file || !def)
        return;
    const struct mos_boot_step *s = &k->entry->step;
    const struct {
        const char *file;
        const struct mos_value *value;
    } files[] = {
        {s->kernel_file, def->kernel}, {s->tree_file, def->tree}, {s->ramdisk_file, def->ramdisk}};
    for (size_t i = 0; i < 3; i++)
        if (files[i].file &&
            (mos_text_ends(k->file, files[i].file) || mos_text_ends(files[i].file, k->file)))
            put_value(k, files[i].value);
    const struct mos_region_plan *boot = k->j->plan->boot_region;
    const struct mos_volume *v = boot ? boot->def->volume : NULL;
    for (size_t i = 0; v && i < v->fills.count; i++) {
        const struct mos_fill *fill = v->fills.items[i];
        if (mos_has(fill->made) && strcmp(fill->made->text, "boot") == 0)
            put_record(k, &fill->r);
    }
}

/* The line of the configuration that the medium's driver hangs on. */
static void put_config(struct look *k) {
    static const struct {
        const char *kind, *symbols[3];
    } rows[] = {{"sd", {"CONFIG_MMC_BLOCK", "CONFIG_MMC", NULL}},
                {"emmc", {"CONFIG_MMC_BLOCK", "CONFIG_MMC", NULL}},
                {"nvme", {"CONFIG_BLK_DEV_NVME", NULL, NULL}},
                {"usb", {"CONFIG_USB_STORAGE", "CONFIG_USB", NULL}},
                {"nor", {"CONFIG_MTD_SPI_NOR", "CONFIG_MTD", NULL}},
                {"nand", {"CONFIG_MTD_RAW_NAND", "CONFIG_MTD", NULL}},
                {"virtio", {"CONFIG_VIRTIO_BLK", NULL, NULL}}};
    const struct mos_medium_plan *medium = k->j->plan->boot_medium;
    const char *kind = medium ? mos_text_or(medium->medium->kind, "") : "";
    bool found = false;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        for (size_t s = 0; s < 3 && rows[i].symbols[s] && strcmp(rows[i].kind, kind) == 0; s++) {
            const struct mos_setting *set = mos_map_get(&k->j->plan->config, rows[i].symbols[s]);
            if (set)
                put(k, set->place);
            found |= set != NULL;
        }
    if (!found && k->board->kernel && k->board->kernel->config)
        put_record(k, &k->board->kernel->config->r);
}

static void put_modules(struct look *k) {
    const struct mos_plan *plan = k->j->plan;
    for (size_t i = 0; i < plan->indexes.count; i++) {
        const struct mos_module_folder *m = mos_vec_pointer(&plan->indexes, i);
        put_record(k, &m->fill->r);
    }
    if (k->board->kernel)
        put_value(k, k->board->kernel->release);
    put_system(k);
}

static void put_point(struct look *k, enum mos_point point) {
    const struct mos_board *b = k->board;
    const struct mos_plan *plan = k->j->plan;
    const struct mos_boot_entry *def = k->entry ? k->entry->def : NULL;
    switch (point) {
    case MOS_POINT_CONSOLE:
        if (b->hardware && b->hardware->console)
            put_record(k, &b->hardware->console->r);
        put_argument(k, "console");
        break;
    case MOS_POINT_FIRST_STAGE:
        put_first_stage(k);
        break;
    case MOS_POINT_LOADER:
        put_stage(k, false);
        if (b->loader)
            put_record(k, &b->loader->r);
        break;
    case MOS_POINT_ENVIRONMENT:
        for (size_t i = 0; b->loader && i < b->loader->environments.count; i++)
            put_record(k, b->loader->environments.items[i]);
        break;
    case MOS_POINT_MEDIUM:
        if (plan->boot_medium)
            put_record(k, &plan->boot_medium->medium->r);
        put_region(k, plan->boot_region);
        break;
    case MOS_POINT_BOOT:
        if (def)
            put_record(k, &def->r);
        break;
    case MOS_POINT_FILE:
        put_file(k);
        break;
    case MOS_POINT_KERNEL:
        if (def)
            put_value(k, def->kernel);
        if (k->entry && k->entry->kernel)
            put_record(k, &k->entry->kernel->def->r);
        break;
    case MOS_POINT_TREE:
        if (def)
            put_value(k, def->tree);
        break;
    case MOS_POINT_RAMDISK:
        if (def)
            put_value(k, def->ramdisk);
        break;
    case MOS_POINT_PLACES:
        if (def && def->addresses)
            put_record(k, &def->addresses->r);
        break;
    case MOS_POINT_RAM:
        if (b->hardware && b->hardware->ram.count)
            put_record(k, b->hardware->ram.items[0]);
        break;
    case MOS_POINT_NETWORK:
        if (b->boot && b->boot->network)
            put_record(k, &b->boot->network->r);
        break;
    case MOS_POINT_ROOT:
        put_argument(k, "root");
        put_flag(k, "rootwait");
        put_region(k, mos_plan_root(plan));
        break;
    case MOS_POINT_CONFIG:
        put_config(k);
        break;
    case MOS_POINT_MODULES:
        put_modules(k);
        break;
    case MOS_POINT_SYSTEM:
        put_argument(k, "init");
        put_system(k);
        break;
    case MOS_POINT_MOUNTS:
        for (size_t i = 0; b->system && i < b->system->mounts.count; i++)
            put_record(k, b->system->mounts.items[i]);
        break;
    case MOS_POINT_LOG_IN:
        if (b->system && b->system->log_in)
            put_record(k, &b->system->log_in->r);
        break;
    case MOS_POINT_WATCHDOG:
        if (b->loader && b->loader->facts)
            put_value(k, b->loader->facts->watchdog);
        break;
    case MOS_POINTS:
        break;
    }
}

void listen_places(struct listen_job *j, const struct mos_watch_verdict *v, struct mos_finding *f) {
    if (!j->plan)
        return;
    struct look k = {.j = j,
                     .f = f,
                     .board = j->plan->board,
                     .entry = j->plan->entries.count ? mos_vec_pointer(&j->plan->entries, 0) : NULL,
                     .file = v->value_count ? v->values[0] : NULL,
                     .before = f->places.count};
    for (unsigned p = 0; p < MOS_POINTS; p++)
        if (mos_symptom_rows[v->symptom].points & 1U << p)
            put_point(&k, (enum mos_point)p);
}
