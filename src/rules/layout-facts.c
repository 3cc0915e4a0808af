/* The layout against what ROM and loader are known to do. */
#include "rules/layout-view.h"
#include "rules/loader-facts.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

/* ---- names and types ---- */

static void name_too_long(const struct layout_view *v, const struct mos_value *name,
                          const char *what, size_t units, size_t most, const char *unit) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_NAME_TOO_LONG, "The %s %s has %zu %s; %zu is the most.",
                 what, name->text, units, unit, most);
    mos_finding_at(v->list, f, name->place);
    mos_finding_why(v->list, f,
                    "The rest would be cut off, and nothing would find it by its name.");
    mos_finding_try(v->list, f, "Choose a name of at most %zu %s.", most, unit);
}

static void check_names(const struct layout_view *v) {
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        if (r->copy)
            continue;
        struct mos_value own = {.text = r->name, .place = r->def->r.key_place};
        const struct mos_value *label = r->def->label ? r->def->label : &own;
        if (r->number && v->m->table && mos_has(label) && v->m->table->longest_name) {
            size_t units = mos_utf16_from_utf8(label->text, NULL, 0);
            if (units != SIZE_MAX && units > v->m->table->longest_name)
                name_too_long(v, label, "partition name", units, v->m->table->longest_name,
                              "UTF-16 units");
        }
        label = r->fs ? r->def->volume->label : NULL;
        if (mos_has(label) && r->fs->heeds & MOS_HEEDS_LABEL &&
            strlen(label->text) > r->fs->longest_label)
            name_too_long(v, label, "volume label", strlen(label->text), r->fs->longest_label,
                          "bytes");
    }
}

static void check_types(const struct layout_view *v) {
    for (size_t i = 0; i < v->m->regions.count && v->m->table; i++) {
        const struct mos_region_plan *r = region(v, i);
        uint8_t usual[16];
        const char *purpose = r->fs ? r->fs->partition : "raw";
        if (!r->number || !mos_has(r->def->type) || !v->m->table->type_for(purpose, usual))
            continue;
        const char *stated = v->m->table->type_name(r->type);
        if (!stated || !v->m->table->type_fits || v->m->table->type_fits(r->type, purpose))
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_TYPE_MISMATCH,
                                         "Partition %s is marked as %s, but holds %s.", r->name,
                                         stated, r->fs ? r->fs->name : "no file system");
        mos_finding_at(v->list, f, r->def->type->place);
        mos_finding_at(v->list, f, r->fs ? r->def->volume->kind->place : r->def->r.key_place);
        mos_finding_why(v->list, f, "Installers and start-up programs go by the type.");
        mos_finding_try(v->list, f, "Remove type: it follows from the content.");
    }
}

/* ---- ROM ---- */

static const struct mos_first_place *rom_place(const struct layout_view *v,
                                               const struct mos_region_plan *r) {
    assert(r->def);
    return r->copy ? NULL : mos_board_first_place(v->plan->board, r->def, v->m->def->r.name);
}

static void no_place(const struct layout_view *v, const struct mos_first_place *p) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOARD_SCHEMA,
                 "The first-stage place on %s says nothing about where.", v->m->name);
    mos_finding_at(v->list, f, p->r.key_place);
    mos_finding_try(v->list, f, "Write {at: 32 KiB}, {ends-at-top: yes} or {file: …}.");
}

static void check_rom_place(const struct layout_view *v) {
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        const struct mos_first_place *p = rom_place(v, r);
        if (p && !p->at && !p->ends_at_top && !p->file)
            no_place(v, p);
        if (!p || !r->placed)
            continue;
        struct mos_finding *f = NULL;
        if (mos_has(p->at) && mos_has(r->def->at) && r->start != p->at->number) {
            f = mos_find(v->list, MOS_RULE_LAYOUT_ROM_PLACE,
                         "The ROM looks for its first stage at %s of %s, but %s lies at %s.",
                         mos_size_exact(v->arena, p->at->number), v->m->name, r->name,
                         mos_size_exact(v->arena, r->start));
            mos_finding_at(v->list, f, r->def->at->place);
            mos_finding_at(v->list, f, p->at->place);
            mos_finding_try(v->list, f, "Remove at: from %s; its place comes from the ROM.",
                            r->name);
        } else if (mos_has(p->limit) && mos_plan_is_there(r->piece) &&
                   r->piece->size > p->limit->number) {
            f = mos_find(v->list, MOS_RULE_LAYOUT_ROM_PLACE,
                         "The ROM reads at most %s of its first stage; %s has %s.",
                         mos_size_exact(v->arena, p->limit->number), r->piece->def->r.name,
                         mos_size_exact(v->arena, r->piece->size));
            mos_finding_at(v->list, f, p->limit->place);
            mos_finding_at(v->list, f, r->piece->def->r.key_place);
            mos_finding_try(v->list, f, "Use a first stage that is smaller by %s.",
                            mos_size_exact(v->arena, r->piece->size - p->limit->number));
        }
        if (f)
            mos_finding_why(v->list, f, "The board would stay silent from the first moment.");
    }
}

static void check_top(const struct layout_view *v) {
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        const struct mos_first_place *p = rom_place(v, r);
        if (!p || !r->placed || !mos_true(p->ends_at_top) || r->start + r->length == v->m->size)
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_TOP_ALIGNED,
                                         "Region %s ends at %s of %s, not at its top, %s.", r->name,
                                         mos_size_exact(v->arena, r->start + r->length), v->m->name,
                                         mos_size_exact(v->arena, v->m->size));
        mos_finding_at(v->list, f, stated_place(r));
        mos_finding_at(v->list, f, p->ends_at_top->place);
        mos_finding_why(v->list, f, "The processor starts at the last bytes of the flash.");
        mos_finding_try(
            v->list, f, "Remove at: from %s, or set at: %s.", r->name,
            mos_size_exact(v->arena, v->m->size > r->length ? v->m->size - r->length : 0));
    }
}

/* Raw NAND is sold with bad blocks, and more come with the years. */
static void check_flash(const struct layout_view *v) {
    if (mos_medium_kind_of(v->m->medium->kind) != MOS_MEDIUM_NAND)
        return;
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        uint64_t spare = !mos_has(r->def->spare)  ? 0
                         : r->def->spare->percent ? r->length / 100 * r->def->spare->number
                                                  : r->def->spare->number;
        if (r->copy || !r->placed || (spare && r->content + spare <= r->length))
            continue;
        struct mos_finding *f =
            spare
                ? mos_find(v->list, MOS_RULE_LAYOUT_FLASH_SPARE,
                           "The content of region %s leaves less than its spare %s for bad blocks.",
                           r->name, r->def->spare->text)
                : mos_find(v->list, MOS_RULE_LAYOUT_FLASH_SPARE,
                           "Region %s of %s keeps no room for bad blocks.", r->name, v->m->name);
        mos_finding_at(v->list, f, spare ? r->def->spare->place : r->def->r.key_place);
        mos_finding_at(v->list, f, v->m->medium->kind->place);
        mos_finding_why(v->list, f, "What is written moves up by each bad block before it.");
        mos_finding_try(v->list, f, "%s", spare ? "Set a larger size." : "Add bad-blocks: 4%.");
    }
}

static bool names_kind(const struct mos_list *list, const char *kind) {
    for (size_t i = 0; i < list->count; i++)
        if (!mos_has(list->items[i]) || strcmp(list->items[i]->text, kind) == 0)
            return true;
    return list->count == 0;
}

static void check_table(const struct layout_view *v) {
    const struct mos_rom *rom = v->plan->board->rom;
    const struct mos_loader *l = v->plan->board->loader;
    const struct mos_list *lists[] = {rom ? &rom->tables : NULL,
                                      l && l->facts ? &l->facts->tables : NULL};
    static const char *const readers[] = {"The ROM", "The loader"};
    for (size_t i = 0; i < 2 && v->m->table; i++) {
        if (!lists[i] || names_kind(lists[i], v->m->table->name))
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_LAYOUT_TABLE_UNSUPPORTED, "%s cannot read the %s of %s.",
                     readers[i], v->m->table->title, v->m->name);
        mos_finding_at(v->list, f, v->m->def->table->kind->place);
        mos_finding_at(v->list, f, lists[i]->items[0]->place);
        mos_finding_try(v->list, f, "Set table: {kind: %s}.", lists[i]->items[0]->text);
        return;
    }
}

static void check_boot_mark(const struct layout_view *v) {
    const struct mos_rom *rom = v->plan->board->rom;
    const struct mos_loader *l = v->plan->board->loader;
    const struct mos_value *fact = rom && mos_true(rom->boot_mark) ? rom->boot_mark
                                   : l && l->facts                 ? l->facts->boot_mark
                                                                   : NULL;
    if (!mos_true(fact) || !v->m->table)
        return;
    const struct mos_region_plan *marked[2];
    size_t count = 0;
    for (size_t i = 0; i < v->m->regions.count; i++)
        if (region(v, i)->number && region(v, i)->bootable) {
            if (count < 2)
                marked[count] = region(v, i);
            count++;
        }
    if (count == 1)
        return;
    struct mos_finding *f =
        count ? mos_find(v->list, MOS_RULE_LAYOUT_BOOT_MARK,
                         "%zu partitions of %s are marked bootable; the board takes one.", count,
                         v->m->name)
              : mos_find(v->list, MOS_RULE_LAYOUT_BOOT_MARK,
                         "No partition of %s is marked bootable; the board looks for one.",
                         v->m->name);
    for (size_t i = 0; i < count && i < 2; i++)
        mos_finding_at(v->list, f,
                       marked[i]->def->bootable ? marked[i]->def->bootable->place
                                                : marked[i]->def->r.key_place);
    mos_finding_at(v->list, f, fact->place);
    mos_finding_try(v->list, f,
                    count ? "Set bootable: no for all but one."
                          : "Set bootable: yes for the partition with the boot files.");
}

/* ---- loader ---- */

static void expects(const struct layout_view *v, const struct mos_region_plan *r, const char *what,
                    const struct mos_setting *s, uint64_t there) {
    struct mos_finding *f = mos_find(
        v->list, MOS_RULE_LAYOUT_LOADER_EXPECTS,
        "The loader was built to find %s at %s of %s; region %s is at %s.", what,
        mos_size_exact(v->arena, there), v->m->name, r->name, mos_size_exact(v->arena, r->start));
    mos_finding_at(v->list, f, stated_place(r));
    mos_finding_at(v->list, f, s->place);
    mos_finding_why(v->list, f, "It goes there without looking at any table.");
    mos_finding_try(v->list, f, "Set at: %s for %s, or build the loader for the other place.",
                    mos_size_exact(v->arena, there), r->name);
}

/* How the first stage was built to find the next one, where that is no sector. */
static const struct mos_setting *other_way(const struct layout_view *v, const char **what,
                                           uint64_t *partition) {
    const struct mos_loader_symbols *n = &v->plan->dialect->symbols;
    const struct mos_setting *by_sector = loader_fact(v->plan, n->next_stage_by_sector);
    const struct mos_setting *by_partition = loader_fact(v->plan, n->next_stage_by_partition);
    const struct mos_setting *file = loader_fact(v->plan, n->next_stage_file);
    *partition = 0;
    if (by_partition && strcmp(by_partition->value, "y") == 0) {
        const struct mos_setting *s = loader_fact(v->plan, n->next_stage_partition);
        if (!loader_number(s, partition))
            return NULL;
        *what = mos_printf(v->arena, "partition %llu", (unsigned long long)*partition);
        return s;
    }
    if (by_sector && strcmp(by_sector->value, "y") != 0 && file) {
        *what = mos_printf(v->arena, "the file %s", file->value);
        return file;
    }
    return NULL;
}

static void check_other_way(const struct layout_view *v) {
    const char *what;
    uint64_t partition;
    const struct mos_setting *s = other_way(v, &what, &partition);
    for (size_t i = 0; i < v->m->regions.count && s; i++) {
        const struct mos_region_plan *r = region(v, i);
        const struct mos_stage *stage = mos_has(r->def->stage) ? r->def->stage->target : NULL;
        if (!stage || r->copy || !r->placed || !mos_has(stage->from) ||
            stage->from->target != r->def || (partition && r->number == partition))
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_LAYOUT_LOADER_EXPECTS,
                     "The loader was built to find stage %s in %s; it lies in region %s of %s.",
                     stage->r.name, what, r->name, v->m->name);
        mos_finding_at(v->list, f, stated_place(r));
        mos_finding_at(v->list, f, s->place);
        mos_finding_why(v->list, f, "The first stage looks nowhere else, and stops there.");
        mos_finding_try(v->list, f,
                        "Put the stage there, or build the loader for where it lies (%s).",
                        v->plan->dialect->symbols.next_stage_sector);
    }
}

static void check_next_stage(const struct layout_view *v) {
    const struct mos_setting *s = loader_fact(v->plan, v->plan->dialect->symbols.next_stage_sector);
    const struct mos_setting *used =
        loader_fact(v->plan, v->plan->dialect->symbols.next_stage_by_sector);
    uint64_t sector;
    if (!loader_number(s, &sector) || sector > UINT32_MAX ||
        (used && strcmp(used->value, "y") != 0))
        return;
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        const struct mos_stage *stage = mos_has(r->def->stage) ? r->def->stage->target : NULL;
        if (!stage || r->copy || !r->placed || !mos_has(stage->from) ||
            stage->from->target != r->def || r->start == sector * 512)
            continue;
        expects(v, r, mos_printf(v->arena, "stage %s", stage->r.name), s, sector * 512);
    }
}

static void check_stages(const struct layout_view *v) {
    check_next_stage(v);
    check_other_way(v);
}

/* The regions that hold an environment on this medium; at most two are copies of each other. */
static size_t environment_copies(const struct layout_view *v, const struct mos_environment_plan *e,
                                 const struct mos_region_plan *out[2]) {
    size_t count = 0;
    for (size_t i = 0; i < v->m->regions.count && count < 2; i++)
        if (region(v, i)->environment == e && region(v, i)->placed)
            out[count++] = region(v, i);
    return count;
}

static void check_copies(const struct layout_view *v) {
    const struct mos_value *erase = v->m->medium->erase;
    for (size_t i = 0; i < v->plan->environments.count && mos_has(erase) && erase->number; i++) {
        const struct mos_region_plan *c[2];
        if (environment_copies(v, mos_vec_pointer(&v->plan->environments, i), c) < 2 ||
            c[0]->start / erase->number != c[1]->start / erase->number)
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_LAYOUT_COPIES_TOGETHER,
                     "Both copies of environment %s, %s and %s, lie in one erase block of %s.",
                     c[0]->environment->def->r.name, c[0]->name, c[1]->name,
                     mos_size_text(v->arena, erase->number));
        mos_finding_at(v->list, f, stated_place(c[0]));
        mos_finding_at(v->list, f, stated_place(c[1]));
        mos_finding_at(v->list, f, erase->place);
        mos_finding_why(v->list, f, "A power cut while that block is rewritten takes both.");
        mos_finding_try(
            v->list, f, "Set at: %s for %s.",
            mos_size_exact(v->arena, mos_round_up(c[0]->start + c[0]->length, erase->number)),
            c[1]->name);
    }
}

/* ---- areas and gaps ---- */

static void check_area(const struct layout_view *v) {
    if (!v->m->area)
        return;
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        uint64_t end = r->start + mos_max(r->length, r->content);
        if (!r->placed || end <= v->m->size)
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_AREA_TOO_SMALL,
                                         "Region %s needs %s of area %s, which has %s.", r->name,
                                         mos_size_exact(v->arena, end), v->m->area->r.name,
                                         mos_size_exact(v->arena, v->m->size));
        mos_finding_at(v->list, f, stated_place(r));
        mos_finding_at(v->list, f, v->m->area->size->place);
        mos_finding_try(v->list, f, "Make the region smaller, or choose another place for it.");
    }
}

enum { GAP_NOTE = 64 << 20 };

static int by_start(const void *a, const void *b) {
    const struct mos_region_plan *x = *(struct mos_region_plan *const *)a;
    const struct mos_region_plan *y = *(struct mos_region_plan *const *)b;
    return (x->start > y->start) - (x->start < y->start);
}

static void gap(const struct layout_view *v, uint64_t from, uint64_t to,
                const struct mos_region_plan *after) {
    const struct mos_value *limit = v->m->def->gap_note;
    if (to <= from || to - from <= (mos_has(limit) ? limit->number : GAP_NOTE))
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_GAP, "%s of %s, from %s on, are unused.",
                 mos_size_about(v->arena, to - from), v->m->name, mos_size_about(v->arena, from));
    mos_finding_at(v->list, f, after ? after->def->r.key_place : v->m->def->r.key_place);
    mos_finding_try(v->list, f,
                    "Set size: rest for the last region, or gap-note: %s if it is meant.",
                    mos_size_exact(v->arena, mos_round_up(to - from, 1 << 20)));
}

static void check_gaps(const struct layout_view *v) {
    size_t count = 0;
    const struct mos_region_plan **sorted =
        mos_alloc_array(v->arena, v->m->regions.count, sizeof *sorted);
    for (size_t i = 0; i < v->m->regions.count; i++) {
        if (!region(v, i)->placed)
            return; /* something is wrong with it, and said */
        sorted[count++] = region(v, i);
    }
    if (!count || v->m->overflows || v->m->area)
        return;
    qsort(sorted, count, sizeof *sorted, by_start);
    uint64_t at = v->m->usable_start;
    const struct mos_region_plan *before = NULL;
    for (size_t i = 0; i < count; i++) {
        gap(v, at, sorted[i]->start, before);
        at = mos_max(at, sorted[i]->start + sorted[i]->length);
        before = sorted[i];
    }
    gap(v, at, v->m->usable_end, before);
}

/* A volume that nobody finds: without a number it is in no partition, and a table is all that the
 * kernel goes by.  A mount of it has its own finding. */
static void check_unlisted(const struct layout_view *v) {
    const struct mos_system *s = v->plan->board->system;
    for (size_t i = 0; i < v->m->regions.count && v->m->table && !v->m->area; i++) {
        const struct mos_region_plan *r = region(v, i);
        if (!r->def->volume || r->number || r->def->number || r->def->r.broken ||
            (s && mos_named_get(&s->mounts, r->name)))
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_LAYOUT_UNLISTED,
                     "Region %s holds a volume and is in no partition of %s.", r->name, v->m->name);
        mos_finding_at(v->list, f, r->def->r.key_place);
        mos_finding_at(v->list, f, v->m->def->table->r.key_place);
        mos_finding_why(v->list, f, "The kernel finds volumes by the table alone.");
        mos_finding_try(v->list, f, "Set number: %zu for %s, or a number that is free.", i + 1,
                        r->name);
    }
}

void mos_rule_layout_facts(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        struct layout_view v = view_of(plan, i);
        check_names(&v);
        check_types(&v);
        check_rom_place(&v);
        check_top(&v);
        check_flash(&v);
        check_table(&v);
        check_boot_mark(&v);
        check_copies(&v);
        check_area(&v);
        check_gaps(&v);
        check_unlisted(&v);
        if (plan->dialect)
            check_stages(&v);
    }
}
