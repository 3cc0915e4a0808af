/* Several pieces in one: one behind the other with a table of their places or of their contents, or
 * as a parcel whose first part is started and whose others are only put in place. */
#include "plan/steps.h"

#include "base/bytes.h"
#include "base/text.h"
#include "boot/contents.h"
#include "loaders/loaders.h"
#include "store/store.h"

#include <string.h>

enum { MOST_PACK = 256 << 20, USUAL_ALIGN = 512 };

struct maker {
    struct mos_plan *plan;
    struct mos_piece_plan *piece;
    const struct mos_packed *def;
    struct mos_buf out;
    bool wrong;
};

static struct mos_finding *complain(struct maker *m, struct mos_place place, const char *text) {
    struct mos_findings *list = &m->plan->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_STAGES, "Pack %s: %s", m->piece->def->r.name, text);
    mos_finding_at(list, f, place);
    m->wrong = true;
    return f;
}

/* Ramdisks are made last, packs in their order. */
static bool comes_later(const struct maker *m, const struct mos_piece_plan *part) {
    const struct mos_vec *all = &m->plan->pieces;
    size_t i = 0;
    while (mos_vec_pointer(all, i) != part && mos_vec_pointer(all, i) != m->piece)
        i++;
    return part->def->ramdisk || (part->def->packed && mos_vec_pointer(all, i) == m->piece);
}

/* The bytes of every part; NULL where one is not there (it has its finding) or after an error. */
static const uint8_t *part_bytes(struct maker *m, const struct mos_packed_part *part,
                                 uint64_t *length) {
    struct mos_piece_plan *p =
        mos_has(part->piece) ? mos_plan_piece(m->plan, part->piece->target) : NULL;
    *length = p ? p->size : 0;
    if (p && comes_later(m, p))
        mos_finding_try(
            &m->plan->ctx->findings,
            complain(m, part->piece->place,
                     mos_printf(m->plan->ctx->arena, "%s is made after it.", p->def->r.name)),
            "Put it behind %s, or use a file or a piece of an archive.", p->def->r.name);
    if (!mos_plan_is_there(p) || p == m->piece) {
        m->wrong = true;
        return NULL;
    }
    if (p->size > MOST_PACK) {
        complain(m, part->r.key_place,
                 mos_printf(m->plan->ctx->arena, "%s is larger than 256 MiB.", part->r.name));
        return NULL;
    }
    return mos_plan_piece_bytes(m->plan, p);
}

/* Keys of the one form in the other do nothing. */
static void idle(struct maker *m, const struct mos_value *v, const char *key, const char *form) {
    struct mos_findings *list = &m->plan->ctx->findings;
    if (!v)
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_SCHEMA, "Pack %s: %s does nothing here.",
                                     m->piece->def->r.name, key);
    mos_finding_at(list, f, v->place);
    mos_finding_try(list, f, "Remove it, or set as: %s.", form);
    m->wrong = true;
}

static void check_idle(struct maker *m, enum mos_pack as) {
    bool parcel = as == MOS_PACK_PARCEL, legacy = as == MOS_PACK_LEGACY,
         contents = as == MOS_PACK_CONTENTS;
    if (parcel || legacy)
        idle(m, m->def->align, "align", "plain");
    if (parcel || legacy || contents)
        idle(m, m->def->table_at, "table-at", "plain");
    if (!parcel)
        idle(m, m->def->starts, "starts", "parcel");
    if (parcel || contents)
        idle(m, m->def->compress, "compress", "plain");
    if (!legacy)
        idle(m, m->def->label, "image-name", "legacy");
    for (size_t i = 0; i < m->def->parts.count; i++) {
        const struct mos_packed_part *part = m->def->parts.items[i];
        if (!contents)
            idle(m, part->compress, "compress", "contents");
        if (parcel || legacy)
            idle(m, part->at, "at", "plain");
        if (parcel || legacy || contents)
            continue;
        idle(m, part->load, "load", "parcel");
        idle(m, part->entry, "entry", "parcel");
        idle(m, part->type, "type", "parcel");
    }
}

/* The bytes in a compression that is asked for, kept by what they are; false with ctx->error. */
static bool compressed(struct maker *m, const char *kind, const void *bytes, size_t length,
                       struct mos_buf *out) {
    struct mos_ctx *ctx = m->plan->ctx;
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65], *kept;
    size_t kept_length;
    if (!mos_sha256(bytes, length, hash))
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "No memory for a hash");
    mos_sha256_hex(hash, hex);
    const char *key = mos_printf(ctx->arena, "packed-%s-%s", kind, hex);
    if (mos_store_get(ctx, key, &kept, &kept_length)) {
        *out = (struct mos_buf){ctx->arena, kept, kept_length, 0};
        return true;
    }
    struct mos_buf copy = {.arena = ctx->arena};
    mos_buf_add(&copy, bytes, length);
    if (!mos_pack_memory(ctx, kind, copy.data, copy.length, out))
        return false;
    mos_store_put(ctx, key, out->data, out->length);
    return true;
}

/* ---- one behind the other ---- */

static void check_place(struct maker *m, const struct mos_packed_part *part, uint64_t at,
                        uint64_t end, const char *before) {
    struct mos_arena *arena = m->plan->ctx->arena;
    if (at >= end)
        return;
    struct mos_finding *f =
        complain(m, mos_has(part->at) ? part->at->place : part->r.key_place,
                 mos_printf(arena, "%s begins at %s, before the end of %s at %s.", part->r.name,
                            mos_size_text(arena, at), before, mos_size_text(arena, end)));
    mos_finding_try(&m->plan->ctx->findings, f, "Set at: %s.",
                    mos_size_exact(arena, mos_round_up(end, USUAL_ALIGN)));
}

static uint64_t alignment(struct maker *m) {
    const struct mos_value *v = m->def->align;
    uint64_t align = mos_has(v) ? v->number : USUAL_ALIGN;
    if (align && !(align & (align - 1)))
        return align;
    complain(m, v->place, "parts are aligned to 1, 2, 4, 8 … bytes.");
    return USUAL_ALIGN;
}

/* Where the parts begin, whose places and lengths *table tells; false: nothing tells them. */
static bool find_table(struct maker *m, bool contents, uint64_t *table, uint64_t *end) {
    size_t count = m->def->parts.count;
    *table = *end = 0;
    if (contents)
        *end = mos_contents_room(count);
    else if (mos_has(m->def->table_at))
        *end = (*table = m->def->table_at->number) + 8 * count;
    return *end != 0;
}

static const char *kind_of(struct maker *m, const struct mos_packed_part *part) {
    const struct mos_board *b = m->plan->board;
    const void *piece = part->piece->target;
    for (size_t i = 0; i < b->stages.count; i++) {
        const struct mos_stage *s = b->stages.items[i];
        if (mos_has(s->piece) && s->piece->target == piece)
            return "stage";
    }
    for (size_t i = 0; b->boot && i < b->boot->entries.count; i++) {
        const struct mos_boot_entry *e = b->boot->entries.items[i];
        if (mos_has(e->ramdisk) && e->ramdisk->target == piece)
            return "ramdisk";
        if (mos_has(e->kernel) && e->kernel->target == piece)
            return "kernel";
    }
    return b->kernel && mos_has(b->kernel->image) && b->kernel->image->target == piece ? "kernel"
                                                                                       : "file";
}

/* A text of the table has so much room. */
static void check_room(struct maker *m, struct mos_place place, const char *text, size_t most) {
    if (strlen(text) > most)
        mos_finding_try(&m->plan->ctx->findings,
                        complain(m, place,
                                 mos_printf(m->plan->ctx->arena,
                                            "%s is too long for the table of contents.", text)),
                        "Use at most %zu characters.", most);
}

static void tell_contents(struct maker *m, const struct mos_packed_part *part,
                          struct mos_contents_row *r, uint64_t size) {
    r->name = part->r.name;
    r->kind = mos_has(part->type) ? part->type->text : kind_of(m, part);
    r->compression = mos_text_or(part->compress, "none");
    r->size = size;
    r->has_load = mos_has(part->load);
    r->load = r->has_load ? part->load->number : 0;
    r->has_entry = r->has_load || mos_has(part->entry);
    r->entry = mos_has(part->entry) ? part->entry->number : r->load;
    check_room(m, part->r.key_place, r->name, MOS_CONTENTS_NAME);
    if (mos_has(part->type))
        check_room(m, part->type->place, r->kind, MOS_CONTENTS_KIND);
}

/* The bytes of a part as they are stored. */
static bool stored_bytes(struct maker *m, const struct mos_packed_part *part, const uint8_t **bytes,
                         uint64_t *length) {
    struct mos_buf packed = {.arena = m->plan->ctx->arena};
    if (!mos_has(part->compress))
        return true;
    if (!compressed(m, part->compress->text, *bytes, (size_t)*length, &packed))
        return false;
    *bytes = (const uint8_t *)packed.data;
    *length = packed.length;
    return true;
}

static bool pack_in_a_row(struct maker *m, bool contents) {
    const struct mos_named *parts = &m->def->parts;
    uint64_t align = alignment(m), end, table;
    const char *before = "the table";
    bool has_table = find_table(m, contents, &table, &end);
    if (contents && parts->count > MOS_CONTENTS_ROWS)
        complain(m, m->def->r.key_place, "a table of contents has at most 4096 rows.");
    struct mos_contents list = {
        .count = parts->count,
        .rows = mos_alloc_array(m->plan->ctx->arena, parts->count, sizeof *list.rows)};
    for (size_t i = 0; i < parts->count; i++) {
        const struct mos_packed_part *part = parts->items[i];
        uint64_t length, at = mos_has(part->at) ? part->at->number : mos_round_up(end, align);
        const uint8_t *bytes = part_bytes(m, part, &length);
        if (!bytes)
            return m->wrong;
        struct mos_contents_row *row = &list.rows[i];
        if (contents)
            tell_contents(m, part, row, length);
        if (contents && !stored_bytes(m, part, &bytes, &length))
            return false;
        check_place(m, part, at, end, before);
        if (!m->wrong && (at > MOST_PACK || length > MOST_PACK - at))
            complain(m, mos_has(part->at) ? part->at->place : part->r.key_place,
                     mos_printf(m->plan->ctx->arena, "%s would end behind 256 MiB.", part->r.name));
        if (m->wrong)
            return true;
        mos_buf_zeros(&m->out, (size_t)(at - m->out.length));
        mos_buf_add(&m->out, bytes, (size_t)length);
        row->offset = at;
        row->stored = length;
        row->sum = contents ? mos_crc32(0, bytes, (size_t)length) : 0;
        end = at + length;
        before = part->r.name;
    }
    list.length = m->out.length;
    if (contents && !m->wrong)
        mos_contents_write(&list, (uint8_t *)m->out.data);
    for (size_t i = 0; i < parts->count && has_table && !contents; i++) {
        uint8_t *to = (uint8_t *)m->out.data + table + 8 * i;
        mos_put_le32(to, (uint32_t)list.rows[i].offset);
        mos_put_le32(to + 4, (uint32_t)list.rows[i].stored);
    }
    return true;
}

/* ---- a parcel ---- */

static const char *type_of(const struct mos_packed_part *part) {
    return mos_text_or(part->type, "firmware");
}

static bool is_tree(const struct mos_packed_part *part) {
    return strcmp(type_of(part), "flat_dt") == 0;
}

static struct mos_parcel_choice choice_of(struct maker *m) {
    struct mos_arena *arena = m->plan->ctx->arena;
    const struct mos_named *parts = &m->def->parts;
    struct mos_parcel_choice c = {.name = "early",
                                  .about = m->piece->def->r.name,
                                  .trees = mos_vec_make(arena, sizeof(char *)),
                                  .loadables = mos_vec_make(arena, sizeof(char *)),
                                  .firmware = mos_text_or(m->def->starts, NULL)};
    for (size_t i = 0; i < parts->count; i++) {
        const struct mos_packed_part *part = parts->items[i];
        if (is_tree(part))
            mos_vec_push_pointer(&c.trees, part->r.name);
        else if (!c.firmware || strcmp(c.firmware, part->r.name) == 0)
            c.firmware = part->r.name;
        else
            mos_vec_push_pointer(&c.loadables, part->r.name);
    }
    return c;
}

static bool pack_parcel(struct maker *m) {
    struct mos_ctx *ctx = m->plan->ctx;
    const struct mos_named *parts = &m->def->parts;
    const struct mos_hardware *h = m->plan->board->hardware;
    const char *cpu = h ? mos_text_or(h->cpu, "arm64") : "arm64";
    struct mos_parcel_item *items = mos_alloc_array(ctx->arena, parts->count + 1, sizeof *items);
    struct mos_parcel_wish wish = {.about = m->piece->def->r.name,
                                   .date = m->plan->board->date,
                                   .items = items,
                                   .item_count = parts->count,
                                   .choices =
                                       mos_vec_make(ctx->arena, sizeof(struct mos_parcel_choice))};
    for (size_t i = 0; i < parts->count; i++) {
        const struct mos_packed_part *part = parts->items[i];
        uint64_t length, load = mos_has(part->load) ? part->load->number : 0;
        const uint8_t *bytes = part_bytes(m, part, &length);
        if (!bytes)
            return m->wrong;
        items[i] =
            (struct mos_parcel_item){.name = part->r.name,
                                     .about = part->piece->text,
                                     .type = type_of(part),
                                     .os = is_tree(part) ? NULL : m->plan->dialect->name,
                                     .cpu = mos_parcel_cpu(cpu),
                                     .compression = "none",
                                     .has_load = part->load != NULL,
                                     .has_entry = part->load != NULL && !is_tree(part),
                                     .load = load,
                                     .entry = mos_has(part->entry) ? part->entry->number : load,
                                     .data = bytes,
                                     .length = (size_t)length,
                                     .hash = "sha256"};
        if (!part->load && !is_tree(part))
            mos_finding_try(
                &ctx->findings,
                complain(m, part->r.key_place,
                         mos_printf(ctx->arena, "%s does not say where it is put.", part->r.name)),
                "Add load: with the address in RAM, such as load: 0x40000000.");
    }
    if (mos_has(m->def->starts) && !mos_named_get(parts, m->def->starts->text))
        complain(m, m->def->starts->place, "there is no part of that name to start.");
    *(struct mos_parcel_choice *)mos_vec_push(&wish.choices) = choice_of(m);
    return m->wrong || mos_parcel_write(ctx, &wish, &m->out);
}

/* ---- behind the loader's old header ---- */

/* Where a kernel starts in the board's RAM: Documentation/arm/booting.rst, arm64/booting.rst and
 * riscv/boot.rst; 0: its RAM is not known. */
static uint64_t usual_start(const struct mos_hardware *h) {
    enum { ARM_OFFSET = 0x8000, OTHER_OFFSET = 2 << 20 };
    uint64_t start, least;
    if (!h || !h->ram.count || !mos_ram_least(h->ram.items[0], &start, &least))
        return 0;
    return start + (mos_cpu_of(h->cpu) == MOS_CPU_ARM ? ARM_OFFSET : OTHER_OFFSET);
}

/* Whose header it is: the loader's, or (a stage is one of a loader's parts, as a rule) any. */
static const struct mos_dialect *wrapper(const struct mos_plan *plan) {
    const struct mos_dialect *d = plan->dialect;
    for (size_t i = 0; d && !d->wrap && mos_board_is_direct(plan->board) && mos_dialect_at(i); i++)
        d = mos_dialect_at(i)->wrap ? mos_dialect_at(i) : d;
    return d && d->wrap ? d : NULL;
}

static bool pack_legacy(struct maker *m) {
    struct mos_ctx *ctx = m->plan->ctx;
    const struct mos_hardware *h = m->plan->board->hardware;
    const struct mos_packed_part *part = m->def->parts.items[0];
    uint64_t length, load = mos_has(part->load) ? part->load->number : usual_start(h);
    if (m->def->parts.count > 1)
        complain(m, ((const struct mos_packed_part *)m->def->parts.items[1])->r.key_place,
                 "behind a legacy header stands one part.");
    const struct mos_dialect *dialect = wrapper(m->plan);
    if (!dialect)
        mos_finding_try(&ctx->findings,
                        complain(m, m->def->as->place, "nobody says what a legacy header is."),
                        "Add loader: {dialect: …} with a loader that has one.");
    const uint8_t *bytes = part_bytes(m, part, &length);
    if (!bytes || m->wrong)
        return m->wrong;
    struct mos_buf packed = {.arena = ctx->arena};
    if (mos_has(m->def->compress) &&
        !compressed(m, m->def->compress->text, bytes, (size_t)length, &packed))
        return false;
    struct mos_wrapped w = {.name = mos_text_or(m->def->label, m->piece->def->r.name),
                            .cpu = h ? mos_text_or(h->cpu, "") : "",
                            .type = mos_text_or(part->type, "kernel"),
                            .compression = mos_text_or(m->def->compress, NULL),
                            .load = (uint32_t)load,
                            .entry = mos_has(part->entry) ? (uint32_t)part->entry->number
                                                          : (uint32_t)load,
                            .date = m->plan->board->date,
                            .bytes = packed.length ? (const void *)packed.data : bytes,
                            .length = packed.length ? packed.length : (size_t)length};
    bool wide = load > UINT32_MAX || (mos_has(part->entry) && part->entry->number > UINT32_MAX);
    const char *problem = wide ? "its address needs more than 32 bits."
                          : !load && strcmp(w.type, "kernel") == 0
                              ? "nobody says where its kernel starts."
                              : dialect->wrap(&w, &m->out);
    if (problem)
        mos_finding_try(&ctx->findings, complain(m, part->r.key_place, problem),
                        "Set load: to an address of the board's RAM, or choose another form.");
    return true;
}

static bool pack(struct maker *m) {
    enum mos_pack as = mos_pack_of(m->def->as);
    struct mos_buf packed = {.arena = m->plan->ctx->arena};
    check_idle(m, as);
    if (as == MOS_PACK_PARCEL)
        return pack_parcel(m);
    if (as == MOS_PACK_LEGACY)
        return pack_legacy(m);
    if (!pack_in_a_row(m, as == MOS_PACK_CONTENTS))
        return false;
    if (!mos_has(m->def->compress) || m->wrong)
        return true;
    if (!compressed(m, m->def->compress->text, m->out.data, m->out.length, &packed))
        return false;
    m->out = packed;
    return true;
}

bool mos_plan_packs(struct mos_plan *plan) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        struct maker m = {plan, p, p->def->packed, {.arena = plan->ctx->arena}, false};
        if (!m.def || m.def->r.broken || !m.def->parts.count)
            continue;
        if (!pack(&m))
            return mos_while(plan->ctx->error, "packing %s", p->def->r.name);
        if (!m.wrong)
            mos_plan_take_bytes(p, m.out.data, m.out.length);
    }
    return true;
}
