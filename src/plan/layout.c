/* Steps 2 and 4: identities of regions, and where each one lies. */
#include "plan/steps.h"

#include "base/bytes.h"
#include "base/text.h"
#include "ledger/ledger.h"

#include <assert.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PARTITION_ALIGN = 1 << 20, RAW_ALIGN = 4096, SECTOR = 512 };
/* The bit that tells a running system to grow a file system into its partition, and that into what
 * is free behind it (Discoverable Partitions Specification). */
#define GROWS (1ull << 59)

static struct mos_finding *complain(struct mos_plan *plan, struct mos_place place,
                                    const char *message) {
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_BOARD_SCHEMA, "%s", message);
    mos_finding_at(&plan->ctx->findings, f, place);
    return f;
}

static void derive_id(struct mos_plan *plan, const char *what, const char *medium,
                      const char *region, uint8_t out[16]) {
    assert(what && medium && region);
    mos_uuid_from_name(mos_printf(plan->ctx->arena, "%s/%s/%s/%s/%s", plan->board->workspace_name,
                                  plan->board->r.name, medium, region, what),
                       out);
}

/* An identifier that is stated, or else derived. */
/* "1a2b-3c4d", as FAT's is shown: 32 bits, stored with the last byte first. */
static bool fat_id(const char *text, uint8_t out[16]) {
    char digits[9] = "";
    if (strlen(text) != 9 || text[4] != '-')
        return false;
    memcpy(digits, text, 4);
    memcpy(digits + 4, text + 5, 4);
    if (strspn(digits, "0123456789abcdefABCDEF") != 8)
        return false;
    memset(out, 0, 16);
    mos_put_le32(out, (uint32_t)strtoul(digits, NULL, 16));
    return true;
}

static void state_id(struct mos_plan *plan, const struct mos_value *stated, const char *what,
                     const char *medium, const char *region, uint8_t out[16]) {
    derive_id(plan, what, medium, region, out);
    if (!mos_has(stated) || mos_uuid_parse(stated->text, out))
        return;
    if (strlen(stated->text) == 8) { /* the signature of an MBR */
        char long_form[37];
        snprintf(long_form, sizeof long_form, "%s-0000-0000-0000-000000000000", stated->text);
        if (mos_uuid_parse(long_form, out))
            return;
    }
    if (strcmp(what, "volume") == 0 && fat_id(stated->text, out))
        return;
    struct mos_finding *f = complain(
        plan, stated->place, mos_printf(plan->ctx->arena, "%s is no identifier.", stated->text));
    mos_finding_try(&plan->ctx->findings, f,
                    "Write a UUID such as 0fc63daf-8483-4772-8e79-3d69d8477de4.");
}

/* A size in bytes, sectors counted out. */
static uint64_t bytes_of(const struct mos_medium_plan *m, const struct mos_value *v) {
    assert(mos_has(v));
    uint64_t bytes = v->number;
    return v->sectors && !mos_mul(v->number, m->sector, &bytes) ? UINT64_MAX / 2 : bytes;
}

/* ---- the medium ---- */

static bool good_sector(uint64_t bytes) {
    return bytes == 512 || bytes == 4096;
}

static const struct mos_table_driver *find_table(struct mos_plan *plan,
                                                 const struct mos_table *def) {
    if (!def || !mos_has(def->kind))
        return NULL;
    const struct mos_table_driver *t = mos_table_find(def->kind->text);
    if (t)
        return t;
    struct mos_finding *f =
        complain(plan, def->kind->place,
                 mos_printf(plan->ctx->arena, "There is no partition table %s.", def->kind->text));
    struct mos_buf known = {.arena = plan->ctx->arena};
    for (size_t i = 0; (t = mos_table_at(i)); i++)
        mos_buf_printf(&known, "%s%s", i ? ", " : "", t->name);
    mos_finding_try(&plan->ctx->findings, f, "Choose one of these: %s.", mos_buf_string(&known));
    return NULL;
}

static void set_up_table(struct mos_plan *plan, struct mos_medium_plan *m) {
    const struct mos_table *def = m->def->table;
    m->usable_end = m->size;
    m->table = find_table(plan, def);
    if (!m->table)
        return;
    m->entries = mos_has(def->entries) ? (uint32_t)def->entries->number : m->table->default_entries;
    if (m->entries == 0 || m->entries > m->table->most_entries) {
        struct mos_finding *f =
            complain(plan, def->entries->place,
                     mos_printf(plan->ctx->arena, "A %s cannot have %u entries.", m->table->title,
                                m->entries));
        mos_finding_try(&plan->ctx->findings, f, "Choose 1 to %u.", m->table->most_entries);
        m->entries = m->table->default_entries;
    }
    if (mos_has(def->entries_at) && !m->table->entries_move)
        mos_finding_try(&plan->ctx->findings,
                        complain(plan, def->entries_at->place,
                                 mos_printf(plan->ctx->arena, "The entries of a %s cannot move.",
                                            m->table->title)),
                        "Remove partition-entries-at.");
    else if (mos_has(def->entries_at))
        m->entries_at = bytes_of(m, def->entries_at);
    if (m->entries_at % m->sector || (m->entries_at && m->entries_at < 2 * (uint64_t)m->sector) ||
        m->entries_at > m->size / 2) {
        mos_finding_try(&plan->ctx->findings,
                        complain(plan, def->entries_at->place,
                                 "The entries begin at a sector behind the header."),
                        "Set partition-entries-at: %s or more, in the first half of the medium.",
                        mos_size_exact(plan->ctx->arena, 2 * (uint64_t)m->sector));
        m->entries_at = 0;
    }
    m->span_count = m->table->spans(m->sector, m->size, m->entries, m->entries_at, m->spans, 8);
    for (size_t i = 0; i < m->span_count; i++)
        if (m->spans[i].start < m->size / 2)
            m->usable_start = mos_max(m->usable_start, m->spans[i].end);
        else
            m->usable_end = mos_min(m->usable_end, m->spans[i].start);
}

static void check_settings(struct mos_plan *plan, const struct mos_medium *medium) {
    const struct mos_emmc *s = medium->settings;
    if (s && mos_has(medium->kind) && mos_medium_kind_of(medium->kind) != MOS_MEDIUM_EMMC)
        mos_finding_try(&plan->ctx->findings,
                        complain(plan, s->r.key_place,
                                 mos_printf(plan->ctx->arena,
                                            "Medium %s is no eMMC: it has nothing "
                                            "to set.",
                                            medium->r.name)),
                        "Remove settings, or set kind: emmc.");
    if (s && mos_has(s->bus_width) && s->bus_width->number != 1 && s->bus_width->number != 4 &&
        s->bus_width->number != 8)
        mos_finding_try(&plan->ctx->findings,
                        complain(plan, s->bus_width->place, "An eMMC has no such number of lines."),
                        "Choose 1, 4 or 8.");
}

/* The medium of a layout, or one area of it. */
static struct mos_medium_plan *new_medium(struct mos_plan *plan, const struct mos_layout *def,
                                          const struct mos_area *area) {
    const struct mos_board *b = plan->board;
    const struct mos_medium *medium =
        b->hardware ? mos_named_get(&b->hardware->media, def->r.name) : NULL;
    if (!medium || medium->r.broken || !medium->size || !mos_has(medium->size->at_least))
        return NULL;
    struct mos_medium_plan *m = mos_alloc(plan->ctx->arena, sizeof *m);
    m->def = def;
    m->medium = medium;
    m->name = area ? mos_printf(plan->ctx->arena, "%s.%s", def->r.name, area->r.name) : def->r.name;
    m->area = area;
    m->regions = mos_vec_make(plan->ctx->arena, sizeof(void *));
    m->sector = SECTOR;
    if (mos_has(medium->sector) && good_sector(medium->sector->number))
        m->sector = (uint32_t)medium->sector->number;
    else if (mos_has(medium->sector))
        mos_finding_try(&plan->ctx->findings,
                        complain(plan, medium->sector->place, "A sector has 512 or 4096 bytes."),
                        "Choose 512 B or 4096 B.");
    const struct mos_value *size = area ? area->size : medium->size->at_least;
    if (!mos_has(size))
        return NULL;
    m->size = mos_round_down(bytes_of(m, size), m->sector);
    if (mos_has(medium->size->at_most) &&
        medium->size->at_most->number < medium->size->at_least->number)
        mos_finding_try(
            &plan->ctx->findings,
            complain(plan, medium->size->at_most->place,
                     mos_printf(plan->ctx->arena, "Medium %s is at least %s, but at most %s.",
                                def->r.name, medium->size->at_least->text,
                                medium->size->at_most->text)),
            "Write {at-least: the smallest, at-most: the largest that is fitted}.");
    m->align = PARTITION_ALIGN;
    if (mos_has(medium->erase) && medium->erase->number > m->align &&
        medium->erase->number % PARTITION_ALIGN == 0)
        m->align = medium->erase->number;
    if (!area)
        check_settings(plan, medium);
    if (m->size < 64 * (uint64_t)m->sector) {
        complain(plan, size->place,
                 mos_printf(plan->ctx->arena, "Medium %s is too small to hold anything.", m->name));
        return NULL;
    }
    state_id(plan, def->table ? def->table->id : NULL, "disk", m->name, "", m->id);
    m->usable_end = m->size;
    if (!area)
        set_up_table(plan, m);
    return m;
}

/* ---- regions ---- */

static const struct mos_environment_plan *find_environment(const struct mos_plan *plan,
                                                           const struct mos_environment *def) {
    assert(def);
    for (size_t i = 0; i < plan->environments.count; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        if (e->def == def)
            return e;
    }
    return NULL;
}

static void find_fs(struct mos_plan *plan, struct mos_region_plan *r) {
    const struct mos_volume *v = r->def->volume;
    if (!v || !mos_has(v->kind))
        return;
    r->fs = mos_fs_find(v->kind->text);
    r->strange_fs = !r->fs;
    if (r->fs)
        return;
    const char *names[16];
    size_t count = 0;
    for (const struct mos_fs_driver *d; count < 16 && (d = mos_fs_at(count)); count++)
        names[count] = d->name;
    const char *near = mos_near(v->kind->text, names, count);
    struct mos_buf known = {.arena = plan->ctx->arena};
    for (size_t i = 0; i < count; i++)
        mos_buf_printf(&known, "%s%s", i ? ", " : "", names[i]);
    struct mos_finding *f =
        complain(plan, v->kind->place,
                 mos_printf(plan->ctx->arena, "There is no file system %s.", v->kind->text));
    mos_finding_try(&plan->ctx->findings, f, near ? "Write %s." : "Choose one of these: %s.",
                    near ? near : mos_buf_string(&known));
}

/* A region holds exactly one kind of content, or none. */
static void check_content(struct mos_plan *plan, const struct mos_region *d) {
    const struct mos_place places[] = {d->stage ? d->stage->place : (struct mos_place){0},
                                       d->environment ? d->environment->place
                                                      : (struct mos_place){0},
                                       d->piece ? d->piece->place : (struct mos_place){0},
                                       d->tree ? d->tree->place : (struct mos_place){0},
                                       d->volume ? d->volume->r.key_place : (struct mos_place){0}};
    enum { PLACES = sizeof places / sizeof *places };
    size_t count = 0;
    for (size_t i = 0; i < PLACES; i++)
        count += places[i].source != NULL;
    if (count < 2)
        return;
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_BOARD_SCHEMA,
                                     "Region %s holds more than one thing.", d->r.name);
    for (size_t i = 0; i < PLACES; i++)
        mos_finding_at(&plan->ctx->findings, f, places[i]);
    mos_finding_try(&plan->ctx->findings, f, "Give each its own region.");
}

static void set_number(struct mos_plan *plan, const struct mos_medium_plan *m,
                       struct mos_region_plan *r) {
    const struct mos_value *number = r->def->number;
    if (!mos_has(number) || (m->def->table && !m->table))
        return;
    if (m->table && number->number >= 1 && number->number <= m->entries) {
        r->number = (unsigned)number->number;
        assert(r->number);
        return;
    }
    if (m->table && number->number > m->entries &&
        number->number <= m->entries + m->table->most_logical) {
        r->number = (unsigned)number->number;
        r->logical = true;
        return;
    }
    struct mos_finding *f =
        complain(plan, number->place,
                 mos_printf(plan->ctx->arena, "Region %s cannot be partition %s of %s.", r->name,
                            number->text, m->name));
    if (m->table)
        mos_finding_try(&plan->ctx->findings, f, "Choose 1 to %u.",
                        m->entries + m->table->most_logical);
    else
        mos_finding_try(&plan->ctx->findings, f, "Set table: {kind: %s} for %s.",
                        mos_table_at(0)->name, m->name);
}

/* A tree's bytes come later, when it is compiled: mos_plan_tree_regions. */
static struct mos_piece_plan *tree_piece(struct mos_plan *plan, const struct mos_region *def) {
    const struct mos_record *blob = def->tree->target;
    struct mos_piece *piece = mos_alloc(plan->ctx->arena, sizeof *piece);
    struct mos_piece_plan *p = mos_alloc(plan->ctx->arena, sizeof *p);
    piece->r = blob ? *blob : def->r;
    p->def = piece;
    p->file = piece->r.name;
    p->made = true;
    return p;
}

void mos_plan_tree_regions(struct mos_plan *plan) {
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            for (size_t k = 0; mos_has(r->def->tree) && k < plan->blobs.count; k++) {
                const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, k);
                if (b->def != r->def->tree->target || !b->tree)
                    continue;
                mos_plan_take_bytes(r->piece, b->blob.data, b->blob.length);
                r->content = b->blob.length;
            }
        }
    }
}

static struct mos_region_plan *new_region(struct mos_plan *plan, struct mos_medium_plan *m,
                                          const struct mos_region *def) {
    struct mos_region_plan *r = mos_alloc(plan->ctx->arena, sizeof *r);
    r->def = def;
    r->name = def->r.name;
    r->place = def->r.key_place;
    check_content(plan, def);
    find_fs(plan, r);
    if (mos_has(def->stage) && def->stage->target) {
        const struct mos_stage *s = def->stage->target;
        r->piece = mos_has(s->piece) ? mos_plan_piece(plan, s->piece->target) : NULL;
    } else if (mos_has(def->piece)) {
        r->piece = mos_plan_piece(plan, def->piece->target);
    } else if (mos_has(def->tree)) {
        r->piece = tree_piece(plan, def);
    } else if (mos_has(def->environment)) {
        r->environment = find_environment(plan, def->environment->target);
    }
    set_number(plan, m, r);
    r->label = mos_text_or(def->label, r->name);
    r->bootable = mos_true(def->bootable);
    r->attributes = mos_has(def->attributes) ? def->attributes->number : 0;
    if (mos_true(def->grows))
        r->attributes |= GROWS;
    state_id(plan, def->id, "partition", m->name, r->name, r->id);
    if (m->table) {
        const char *purpose = r->fs ? r->fs->partition : "raw";
        if (r->number)
            m->table->partition_id(m->id, r->number, r->id, r->id_text);
        if (mos_has(def->type)
                ? !m->table->type_parse(def->type->text, r->type)
                : !m->table->type_for(purpose, r->type) && !m->table->type_for("raw", r->type)) {
            struct mos_finding *f = complain(
                plan, def->type ? def->type->place : def->r.key_place,
                mos_printf(plan->ctx->arena, "The type of region %s is no identifier.", r->name));
            mos_finding_try(&plan->ctx->findings, f, "Remove type: it follows from the content.");
        }
    }
    mos_vec_push_pointer(&m->regions, r);
    return r;
}

/* What the content asks for when no size is stated; 0: nothing is known. */
static uint64_t natural_size(const struct mos_medium_plan *m, const struct mos_region_plan *r) {
    uint64_t size = 0;
    if (mos_has(r->def->stage) && r->def->stage->target) {
        const struct mos_stage *s = r->def->stage->target;
        if (mos_has(s->limit))
            size = bytes_of(m, s->limit);
    }
    if (!size && mos_plan_is_there(r->piece))
        size = r->piece->size;
    if (r->environment)
        size = r->environment->size;
    return mos_round_up(size, m->sector);
}

static const struct mos_first_place *rom_place(const struct mos_plan *plan,
                                               const struct mos_medium_plan *m,
                                               const struct mos_region_plan *r) {
    const struct mos_first_place *p = mos_board_first_place(plan->board, r->def, m->def->r.name);
    bool placed = p && (mos_has(p->at) || (mos_true(p->ends_at_top)));
    if (!placed || (mos_has(p->area) ? p->area->target : NULL) != m->area)
        return NULL;
    return p;
}

/* A region without a size has no place: said here, or where what it names is missing. */
static void tell_no_size(struct mos_plan *plan, const struct mos_region_plan *r) {
    const struct mos_value *size = r->def->size;
    const struct mos_piece *piece = r->piece ? r->piece->def : NULL;
    bool made_here = piece && (piece->ramdisk || piece->packed || mos_has(r->def->tree));
    bool said = (r->piece && !mos_plan_is_there(r->piece) && !made_here) || r->def->r.broken ||
                (size && size->broken) || (r->def->stage && !r->piece) ||
                (r->def->environment && !r->environment);
    if (said)
        return;
    struct mos_finding *f =
        complain(plan, size ? size->place : r->def->r.key_place,
                 mos_printf(plan->ctx->arena, "Region %s has no size.", r->name));
    if (made_here && !size)
        mos_finding_why(&plan->ctx->findings, f,
                        "%s %s is made here, after the regions have their places.",
                        mos_has(r->def->tree) ? "Tree" : "Piece", piece->r.name);
    mos_finding_try(&plan->ctx->findings, f, "Set size: 64 MiB, or size: rest.");
}

static void set_size(struct mos_plan *plan, struct mos_medium_plan *m, struct mos_region_plan *r) {
    const struct mos_value *size = r->def->size;
    const struct mos_first_place *rom = rom_place(plan, m, r);
    if (mos_has(size) && size->percent) {
        uint64_t whole = m->usable_end - m->usable_start;
        r->length = mos_round_down(whole / 100 * size->number, mos_min(m->align, PARTITION_ALIGN));
        if (!r->length)
            r->length = mos_round_down(whole / 100 * size->number, m->sector);
    } else if (mos_has(size) && !size->rest) {
        r->length = bytes_of(m, size);
    } else if (!size) {
        r->length = rom && mos_has(rom->limit) ? bytes_of(m, rom->limit) : natural_size(m, r);
    }
    if (!r->length && !(size && size->rest))
        tell_no_size(plan, r);
    if (mos_plan_is_there(r->piece))
        r->content = r->piece->size;
    if (r->environment)
        r->content = r->environment->size;
}

static void fix_start(struct mos_plan *plan, struct mos_medium_plan *m, struct mos_region_plan *r) {
    const struct mos_first_place *rom = rom_place(plan, m, r);
    if (mos_has(r->def->at)) {
        r->start = bytes_of(m, r->def->at);
        r->place = r->def->at->place;
    } else if (rom && !r->def->at && mos_has(rom->at)) {
        r->start = bytes_of(m, rom->at);
        r->place = rom->at->place;
        r->from_rom = true;
    } else if (rom && !r->def->at && r->length <= m->size) {
        r->start = mos_round_down(m->size - r->length, m->sector);
        r->place = rom->ends_at_top->place;
        r->from_rom = true;
        /* the processor starts at the last bytes of the program, not of its region */
        r->content_at = r->length - mos_min(r->content, r->length);
    } else {
        return;
    }
    r->placed = r->length != 0;
}

/* The copies of a first stage that the ROM looks for. */
static void add_copies(struct mos_plan *plan, struct mos_medium_plan *m,
                       struct mos_region_plan *r) {
    const struct mos_first_place *rom = rom_place(plan, m, r);
    for (size_t i = 0; rom && r->placed && i < rom->copies.count; i++) {
        if (!mos_has(rom->copies.items[i]))
            continue;
        struct mos_region_plan *copy = mos_alloc(plan->ctx->arena, sizeof *copy);
        *copy = *r;
        copy->copy = (unsigned)i + 1;
        copy->name = mos_printf(plan->ctx->arena, "%s (copy %u)", r->name, copy->copy);
        copy->start = bytes_of(m, rom->copies.items[i]);
        copy->place = rom->copies.items[i]->place;
        copy->from_rom = true;
        copy->label = mos_printf(plan->ctx->arena, "%s-copy%u", r->name, copy->copy);
        copy->number = 0;
        copy->id_text[0] = 0;
        mos_vec_push_pointer(&m->regions, copy);
    }
}

/* ---- choosing places ---- */

/* What must be free in front of a region: the sector of a logical partition's own table. */
static uint64_t lead_of(const struct mos_medium_plan *m, const struct mos_region_plan *r) {
    return r->logical && r->start >= m->sector ? m->sector : 0;
}

/* The first region in the way of [start, start + length), or NULL. */
static const struct mos_region_plan *in_the_way(const struct mos_medium_plan *m, uint64_t start,
                                                uint64_t length) {
    assert(length);
    const struct mos_region_plan *found = NULL;
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *o = mos_vec_pointer(&m->regions, i);
        if (o->placed && o->start - lead_of(m, o) < start + length &&
            start < o->start + o->length && (!found || o->start < found->start))
            found = o;
    }
    return found;
}

static uint64_t next_fixed(const struct mos_medium_plan *m, uint64_t from) {
    uint64_t next = m->usable_end;
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *o = mos_vec_pointer(&m->regions, i);
        if (o->placed && o->start >= from)
            next = mos_min(next, o->start - lead_of(m, o));
    }
    return next;
}

static void choose_start(struct mos_medium_plan *m, struct mos_region_plan *r, uint64_t *cursor) {
    uint64_t unit = r->number ? m->align : mos_max(RAW_ALIGN, m->sector);
    assert(unit && mos_is_power_of_two(m->sector));
    uint64_t lead = r->logical ? m->sector : 0, start = mos_round_up(*cursor + lead, unit);
    const struct mos_region_plan *o;
    while ((o = in_the_way(m, start - lead, mos_max(r->length, 1) + lead)))
        start = mos_round_up(o->start + o->length + lead, unit);
    assert(start % unit == 0 && !in_the_way(m, start - lead, mos_max(r->length, 1) + lead));
    r->start = start;
    r->chosen = true;
    r->placed = true;
}

static void choose_rest(struct mos_medium_plan *m, struct mos_region_plan *r, uint64_t *cursor) {
    assert(!r->copy);
    if (!r->placed) {
        r->length = 0;
        if (!mos_has(r->def->at) || !r->start)
            choose_start(m, r, cursor);
    }
    uint64_t end = next_fixed(m, r->start + 1);
    end = mos_round_down(end, mos_is_power_of_two(m->align) ? PARTITION_ALIGN : m->sector);
    r->length = end > r->start ? end - r->start : 0;
    r->placed = r->length != 0;
}

static void place_regions(struct mos_medium_plan *m) {
    assert(m->usable_start <= m->usable_end || !m->table);
    uint64_t cursor = m->usable_start;
    for (size_t i = 0; i < m->regions.count; i++) {
        struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
        bool rest = mos_has(r->def->size) && r->def->size->rest;
        if (rest)
            choose_rest(m, r, &cursor);
        else if (!r->placed && r->length && !r->def->at)
            choose_start(m, r, &cursor);
        if (r->placed && !r->copy)
            cursor = mos_max(cursor, r->start + r->length);
        if (r->placed && r->chosen && r->start + r->length > m->usable_end) {
            m->overflows = true;
            m->needed = mos_max(m->needed, r->start + r->length + (m->size - m->usable_end));
        }
    }
}

/* Where the tables of logical partitions go: a whole alignment unit in front where that is free. */
static void place_tables(struct mos_medium_plan *m) {
    for (size_t i = 0; i < m->regions.count; i++) {
        struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
        if (!r->logical || !r->placed || r->start < m->usable_start + m->sector)
            continue;
        r->table_at = r->start - m->sector;
        if (r->start >= m->usable_start + m->align &&
            !in_the_way(m, r->start - m->align, m->align - m->sector))
            r->table_at = r->start - m->align;
    }
}

static void set_unit(struct mos_plan *plan, const struct mos_medium_plan *m,
                     struct mos_region_plan *r) {
    const struct mos_value *unit = r->def->volume->unit;
    struct mos_arena *arena = plan->ctx->arena;
    const uint32_t *range = r->fs->units;
    uint64_t largest = r->fs->largest ? r->fs->largest(m->sector) : UINT64_MAX;
    if (r->length > largest)
        mos_finding_try(&plan->ctx->findings,
                        complain(plan, r->def->volume->kind->place,
                                 mos_printf(arena, "A %s volume cannot be larger than %s.",
                                            r->fs->name, mos_size_about(arena, largest))),
                        "Set kind: %s.", mos_fs_fat32.name);
    if (!mos_has(unit))
        return;
    if (mos_is_power_of_two(unit->number) && unit->number >= mos_max(range[0], m->sector) &&
        unit->number <= range[1]) {
        r->wish.unit = (uint32_t)unit->number;
        return;
    }
    const char *least = mos_size_text(arena, mos_max(range[0], m->sector)),
               *most = mos_size_text(arena, range[1]);
    struct mos_finding *f =
        complain(plan, unit->place,
                 mos_printf(arena, "An allocation unit of %s on %s cannot have %s.", r->fs->name,
                            m->name, unit->text));
    if (strcmp(least, most) == 0)
        mos_finding_try(&plan->ctx->findings, f, "Set %s.", most);
    else
        mos_finding_try(&plan->ctx->findings, f, "Choose %s to %s, doubled at each step.", least,
                        most);
}

/* Keys that this file system has no use for: they would be passed over without a word. */
static void check_heeded(struct mos_plan *plan, const struct mos_region_plan *r) {
    const struct mos_volume *v = r->def->volume;
    const struct {
        const struct mos_value *value;
        unsigned heeds;
        const char *key, *what;
    } keys[] = {{v->label, MOS_HEEDS_LABEL, "label", "label"},
                {v->id, MOS_HEEDS_ID, "volume-id", "identifier"},
                {v->reserved, MOS_HEEDS_RESERVED, "reserved", "reserved room"},
                {v->inodes, MOS_HEEDS_INODES, "inodes", "number of files to choose"},
                {v->journal, MOS_HEEDS_JOURNAL, "journal", "journal"},
                {v->compress, MOS_HEEDS_COMPRESS, "compress", "compression"}};
    for (size_t i = 0; i < sizeof keys / sizeof *keys; i++)
        if (mos_has(keys[i].value) && !(r->fs->heeds & keys[i].heeds))
            mos_finding_try(
                &plan->ctx->findings,
                complain(plan, keys[i].value->place,
                         mos_printf(plan->ctx->arena, "Region %s is %s, which has no %s.", r->name,
                                    r->fs->name, keys[i].what)),
                "Remove %s.", keys[i].key);
}

static void set_wish(struct mos_plan *plan, const struct mos_medium_plan *m,
                     struct mos_region_plan *r) {
    const struct mos_volume *v = r->def->volume;
    if (!r->fs || !r->placed)
        return;
    r->wish = (struct mos_volume_wish){.size = r->length,
                                       .region_offset = r->start,
                                       .sector = m->sector,
                                       .label = mos_text_or(v->label, ""),
                                       .date = plan->board->date};
    if (mos_has(v->spare))
        r->wish.spare =
            v->spare->percent ? r->length / 100 * v->spare->number : bytes_of(m, v->spare);
    if (mos_has(v->reserved))
        r->wish.reserved =
            v->reserved->percent ? r->length / 100 * v->reserved->number : bytes_of(m, v->reserved);
    r->wish.inodes = mos_has(v->inodes) ? mos_min(v->inodes->number, UINT32_MAX) : 0;
    r->wish.no_journal = mos_has(v->journal) && !v->journal->truth;
    r->wish.compress = mos_text_or(v->compress, NULL);
    check_heeded(plan, r);
    set_unit(plan, m, r);
    state_id(plan, v->id, "volume", m->name, r->name, r->wish.uuid);
    derive_id(plan, "hash-seed", m->name, r->name, r->wish.hash_seed);
}

static void find_boot_region(struct mos_plan *plan, struct mos_medium_plan *m,
                             struct mos_region_plan *r) {
    const struct mos_volume *v = r->def->volume;
    for (size_t k = 0; v && k < v->fills.count; k++) {
        const struct mos_fill *f = v->fills.items[k];
        if (!mos_fill_makes(f, MOS_MADE_BOOT) || plan->boot_region)
            continue;
        struct mos_buf path = {.arena = plan->ctx->arena};
        const char *to = mos_has(f->to) ? mos_entry_path(&path, f->to->text) : "";
        plan->boot_region = r;
        plan->boot_medium = m;
        plan->boot_prefix = to ? to : "";
        if (!r->def->bootable) /* the loader looks at the marked partition first */
            r->bootable = r->number != 0;
    }
}

/* Where a region lies: NULL in the main part. */
static const struct mos_area *area_of(const struct mos_region *r) {
    return mos_has(r->area) ? r->area->target : NULL;
}

/* The layout of the release that is out in the field. */
static void read_frozen(struct mos_plan *plan, struct mos_medium_plan *m) {
    const struct mos_value *v = m->def->frozen;
    if (!mos_has(v))
        return;
    const char *path = mos_path_join(plan->ctx->arena, plan->board->root, v->text);
    m->has_frozen = mos_ledger_regions(plan->ctx, path, m->name, &m->frozen);
    if (m->has_frozen || m->area)
        return;
    struct mos_finding *f = complain(
        plan, v->place,
        mos_printf(plan->ctx->arena, "%s is no ledger that knows a medium %s.", v->text, m->name));
    mos_finding_try(&plan->ctx->findings, f,
                    "Keep a copy of ledger.json of the release in the workspace, and name it.");
}

static void plan_medium(struct mos_plan *plan, const struct mos_layout *def,
                        const struct mos_area *area) {
    struct mos_medium_plan *m = new_medium(plan, def, area);
    if (!m)
        return;
    mos_vec_push_pointer(&plan->media, m);
    read_frozen(plan, m);
    for (size_t k = 0; k < def->regions.count; k++)
        if (area_of(def->regions.items[k]) == area)
            new_region(plan, m, def->regions.items[k]);
    size_t stated = m->regions.count;
    for (size_t k = 0; k < stated; k++) {
        struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
        set_size(plan, m, r);
        fix_start(plan, m, r);
        add_copies(plan, m, r);
    }
    place_regions(m);
    place_tables(m);
    for (size_t k = 0; k < m->regions.count; k++) {
        struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
        set_wish(plan, m, r);
        find_boot_region(plan, m, r);
    }
}

void mos_plan_layout(struct mos_plan *plan) {
    for (size_t i = 0; i < plan->board->layout.count; i++) {
        const struct mos_layout *def = plan->board->layout.items[i];
        const struct mos_hardware *h = plan->board->hardware;
        const struct mos_medium *medium = h ? mos_named_get(&h->media, def->r.name) : NULL;
        plan_medium(plan, def, NULL);
        for (size_t a = 0; medium && a < medium->areas.count; a++)
            for (size_t k = 0; k < def->regions.count; k++)
                if (area_of(def->regions.items[k]) == medium->areas.items[a]) {
                    plan_medium(plan, def, medium->areas.items[a]);
                    break;
                }
    }
}
