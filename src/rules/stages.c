/* The chain from the ROM to the loader: does each stage get the next one, in a form that it can
 * start, from where it looks, and no larger than there is room? */
#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"
#include "boot/parcel.h"
#include "loaders/loaders.h"
#include "plan/bytes.h"

#include <string.h>
#include <strings.h>

struct stages_view {
    const struct mos_plan *plan;
    const struct mos_stage *s;
    const struct mos_piece_plan *p; /* NULL: not known */
    struct mos_findings *list;
    struct mos_arena *arena;
};

static struct mos_finding *complain(const struct stages_view *v, struct mos_place place,
                                    const char *text) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOOT_STAGES, "%s", text);
    mos_finding_at(v->list, f, place);
    return f;
}

/* ---- who starts whom ---- */

/* Does the way back to the ROM come by here again? */
static bool in_circle(const struct stages_view *v) {
    const struct mos_stage *s = v->s;
    for (size_t i = 0;
         i <= v->plan->board->stages.count && s && mos_has(s->by) && !mos_stage_is_first(s); i++) {
        s = s->by->target;
        if (s == v->s)
            return true;
    }
    return false;
}

/* A circle is told once, at its first stage. */
static void check_way(const struct stages_view *v, size_t index) {
    const struct mos_stage *s = v->s;
    bool circle = in_circle(v);
    for (size_t k = 0; k < index && circle; k++) {
        struct stages_view w = *v;
        w.s = v->plan->board->stages.items[k];
        circle = !in_circle(&w);
    }
    bool described = false; /* somebody has begun to say who starts whom */
    for (size_t k = 0; k < v->plan->board->stages.count; k++)
        described |= ((struct mos_stage *)v->plan->board->stages.items[k])->by != NULL;
    if ((s->by && !circle) || !described)
        return;
    struct mos_finding *f = complain(
        v, s->by ? s->by->place : s->r.key_place,
        s->by ? mos_printf(v->arena, "Stage %s is started by what it starts itself.", s->r.name)
              : mos_printf(v->arena, "Nobody starts stage %s.", s->r.name));
    mos_finding_why(v->list, f,
                    "The chain begins with the ROM: what it does not lead to never runs.");
    mos_finding_try(v->list, f,
                    "Set by: rom for the first one, and the stage before it for others.");
}

/* ---- where it is read ---- */

static bool holds(const struct mos_region_plan *r, const struct stages_view *v) {
    const struct mos_region *d = r->def;
    return (mos_has(d->stage) && d->stage->target == v->s) || (v->p && r->piece == v->p);
}

static void check_region(const struct stages_view *v) {
    if (!mos_has(v->s->from) || !v->p || !v->s->from->target)
        return;
    const struct mos_region *d = v->s->from->target;
    const struct mos_region_plan *r = mos_plan_region(v->plan, d->r.name);
    if (!r || d->r.broken || d->volume || holds(r, v))
        return;
    struct mos_finding *f =
        complain(v, v->s->from->place,
                 mos_printf(v->arena, "Stage %s is read from region %s, which does not hold it.",
                            v->s->r.name, d->r.name));
    mos_finding_at(v->list, f, d->r.key_place);
    mos_finding_why(v->list, f, "The stage before it would start whatever lies there.");
    mos_finding_try(v->list, f, "Write %s: {…, stage: %s}.", d->r.name, v->s->r.name);
}

static void check_size(const struct stages_view *v) {
    if (!mos_has(v->s->limit) || !v->p || v->p->size <= v->s->limit->number)
        return;
    struct mos_finding *f = complain(v, v->s->limit->place,
                                     mos_printf(v->arena, "Stage %s has %s, and room for %s.",
                                                v->s->r.name, mos_size_about(v->arena, v->p->size),
                                                mos_size_text(v->arena, v->s->limit->number)));
    mos_finding_at(v->list, f, v->p->def->r.key_place);
    mos_finding_why(v->list, f, "What is beyond is not read, or lies over something else.");
    mos_finding_try(v->list, f, "Use a build of it that is smaller by %s.",
                    mos_size_about(v->arena, v->p->size - v->s->limit->number));
}

/* ---- its form ---- */

const char *mos_piece_form(const struct mos_piece_plan *p) {
    if (mos_parcel_is(p->head, p->head_length))
        return "parcel";
    const char *form = mos_loaders_recognise(NULL, p->head, p->head_length, NULL);
    if (form)
        return form;
    return p->head_length >= 4 && memcmp(p->head, "\177ELF", 4) == 0 ? "program" : "plain";
}

static void check_form(const struct stages_view *v) {
    const struct mos_stage *before =
        mos_has(v->s->by) && !mos_stage_is_first(v->s) ? v->s->by->target : NULL;
    if (!v->p)
        return;
    const char *seen = mos_piece_form(v->p), *form = mos_text_or(v->s->format, seen);
    if (mos_has(v->s->format) && strcmp(form, seen) != 0) {
        struct mos_finding *f =
            complain(v, v->s->format->place,
                     mos_printf(v->arena, "Stage %s is said to be %s; its first bytes say %s.",
                                v->s->r.name, form, seen));
        mos_finding_at(v->list, f, v->p->def->r.key_place);
        mos_finding_try(v->list, f, "Set format: %s, or use the right file.", seen);
        return;
    }
    bool accepted = !before || !before->accepts.count;
    for (size_t i = 0; !accepted && i < before->accepts.count; i++)
        accepted =
            !mos_has(before->accepts.items[i]) || strcmp(before->accepts.items[i]->text, form) == 0;
    if (accepted)
        return;
    struct mos_finding *f =
        complain(v, v->s->piece->place,
                 mos_printf(v->arena, "Stage %s is %s, which stage %s cannot start.", v->s->r.name,
                            form, before->r.name));
    mos_finding_at(v->list, f, before->accepts.items[0]->place);
    mos_finding_why(v->list, f, "It would find no header that it knows, and stop without a word.");
    mos_finding_try(v->list, f, "Use the %s form of the program.", before->accepts.items[0]->text);
}

/* ---- is it a program at all? ---- */

/* Nothing but one byte, that of an erased or of an empty medium. */
static bool is_blank(const struct stages_view *v) {
    const struct mos_piece_plan *p = v->p;
    uint8_t byte = p->head[0];
    if (byte && byte != 0xff)
        return false;
    for (size_t i = 0; i < p->head_length; i++)
        if (p->head[i] != byte)
            return false;
    struct mos_plan *plan = v->plan->self;
    const uint8_t *bytes = mos_plan_piece_bytes(plan, p); /* only where it begins like that */
    for (uint64_t i = 0; bytes && i < p->size; i++)
        if (bytes[i] != byte)
            return false;
    return bytes != NULL;
}

static bool is_page(const struct mos_piece_plan *p) {
    static const char *const begins[] = {"<!doctype", "<html", "<?xml", "<head"};
    for (size_t i = 0; i < sizeof begins / sizeof *begins; i++)
        if (p->head_length > 16 &&
            strncasecmp((const char *)p->head, begins[i], strlen(begins[i])) == 0)
            return true;
    return false;
}

/* A program with headers, for a debugger, where nobody has said that such a one is started. */
static bool is_with_headers(const struct stages_view *v) {
    const struct mos_stage *before =
        mos_has(v->s->by) && !mos_stage_is_first(v->s) ? v->s->by->target : NULL;
    return !mos_has(v->s->format) &&
           (mos_stage_is_first(v->s) || (before && !before->accepts.count)) &&
           strcmp(mos_piece_form(v->p), "program") == 0;
}

static void check_bytes(const struct stages_view *v) {
    if (!v->p)
        return;
    bool headers = is_with_headers(v);
    const char *what =
        !v->p->size   ? "is empty"
        : is_blank(v) ? v->p->head[0] ? "has nothing but 0xff in it" : "has nothing but zeros in it"
        : is_page(v->p) ? "is a page from a server, no program"
        : headers       ? "is an ELF file, with headers in front of the program"
                        : NULL;
    if (!what)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_PIECE_FORMAT, "Piece %s of stage %s %s.",
                                     v->p->def->r.name, v->s->r.name, what);
    mos_finding_at(v->list, f, v->p->def->file ? v->p->def->file->place : v->p->def->r.key_place);
    mos_finding_at(v->list, f, v->s->piece->place);
    mos_finding_why(v->list, f,
                    "What starts it jumps to its first byte, and the board stays silent.");
    mos_finding_try(
        v->list, f,
        headers ? "Use its plain binary, or set format: program where what starts it reads ELF."
                : "Build or fetch it again.");
}

/* Where the processor itself begins, sixteen bytes below 4 GiB, there must be an instruction (Intel
 * 64 and IA-32 manual, volume 3, "First Instruction Executed"). */
static void check_first_instruction(const struct stages_view *v) {
    enum { FROM_END = 16 };
    const struct mos_board *b = v->plan->board;
    if (!v->p || !mos_stage_is_first(v->s) || !b->hardware || !b->rom ||
        mos_cpu_of(b->hardware->cpu) != MOS_CPU_X86_64 || v->p->size < FROM_END)
        return;
    const struct mos_first_place *place = NULL;
    for (size_t i = 0; i < b->rom->first_stage.count && !place; i++) {
        place = b->rom->first_stage.items[i];
        place = mos_true(place->ends_at_top) ? place : NULL;
    }
    const uint8_t *bytes = place && !is_blank(v)
                               ? mos_plan_piece_bytes(v->plan->self, (struct mos_piece_plan *)v->p)
                               : NULL;
    uint8_t byte = bytes ? bytes[v->p->size - FROM_END] : 1;
    if (byte && byte != 0xff)
        return;
    struct mos_finding *f = complain(
        v, v->s->piece->place,
        mos_printf(v->arena, "Stage %s has no instruction %d bytes before its end, but 0x%02x.",
                   v->s->r.name, FROM_END, byte));
    mos_finding_at(v->list, f, place->ends_at_top->place);
    mos_finding_why(v->list, f,
                    "The processor reads its first instruction at 0xfffffff0: sixteen bytes before "
                    "the end of the flash.");
    mos_finding_try(v->list, f,
                    "Use the file that ends with the reset vector, without padding behind it.");
}

/* ---- parcels from outside ---- */

static void bad_parcel(const struct stages_view *v, const struct mos_piece_plan *p,
                       const char *text) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_PARCEL, "Parcel %s: %s.", p->def->r.name, text);
    mos_finding_at(v->list, f, p->def->r.key_place);
    mos_finding_why(v->list, f, "Whoever is given it refuses to start it.");
    mos_finding_try(v->list, f, "Make it again from its parts.");
}

static bool check_names(const struct stages_view *v, const struct mos_piece_plan *p,
                        const struct mos_parcel *parcel) {
    for (size_t i = 0; i < parcel->choices.count; i++) {
        const struct mos_parcel_choice *c = mos_vec_at(&parcel->choices, i);
        struct mos_vec names = mos_parcel_uses(v->arena, c);
        for (size_t k = 0; k < names.count; k++) {
            const char *name = mos_vec_pointer(&names, k);
            if (!mos_parcel_part(parcel, name)) {
                bad_parcel(v, p,
                           mos_printf(v->arena, "configuration %s wants %s, which is not in it",
                                      c->name, name));
                return false;
            }
        }
    }
    return true;
}

/* Whole, as far as its own hashes tell?  What was right is remembered by the file's hash. */
static void check_parcel(const struct stages_view *v, struct mos_piece_plan *p) {
    struct mos_plan *plan = v->plan->self;
    const char *problem, *names;
    const uint8_t *bytes = mos_plan_piece_bytes(plan, p);
    struct mos_parcel *parcel =
        bytes ? mos_parcel_read(v->plan->ctx, bytes, (size_t)p->size, &problem) : NULL;
    if (!bytes)
        return;
    if (!parcel) {
        bad_parcel(v, p, problem);
        return;
    }
    if (!check_names(v, p, parcel))
        return;
    if (parcel->usual && !mos_parcel_choice(parcel, NULL)) {
        bad_parcel(v, p,
                   mos_printf(v->arena, "its usual configuration %s is not in it", parcel->usual));
        return;
    }
    for (size_t i = 0; i < parcel->parts.count; i++) {
        const struct mos_parcel_part *part = mos_vec_at(&parcel->parts, i);
        if (part->data && !mos_parcel_check_part(v->arena, part, &names)) {
            bad_parcel(
                v, p,
                mos_printf(v->arena, "the bytes of %s are not those of its hash", part->name));
            return;
        }
    }
}

void mos_rule_stages(const struct mos_plan *plan) {
    const struct mos_named *stages = &plan->board->stages;
    for (size_t i = 0; i < stages->count; i++) {
        const struct mos_stage *s = stages->items[i];
        struct stages_view v = {plan, s,
                                mos_has(s->piece) ? mos_plan_piece(plan, s->piece->target) : NULL,
                                &plan->ctx->findings, plan->ctx->arena};
        if (v.p && !mos_plan_is_there(v.p))
            v.p = NULL;
        if (s->r.broken)
            continue;
        check_way(&v, i);
        check_region(&v);
        check_size(&v);
        check_form(&v);
        check_bytes(&v);
        check_first_instruction(&v);
    }
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        struct stages_view v = {plan, NULL, p, &plan->ctx->findings, plan->ctx->arena};
        if (p->found && !p->made && mos_parcel_is(p->head, p->head_length))
            check_parcel(&v, p);
    }
}

/* ---- a first stage in a file ---- */

/* The FAT volume that a ROM looks into: the first of its medium. */
static const struct mos_region_plan *first_fat(const struct mos_medium_plan *m) {
    const struct mos_region_plan *first = NULL;
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
        if (r->number && r->fs && r->fs->firmware_reads && (!first || r->number < first->number))
            first = r;
    }
    return first;
}

static void check_first_file(const struct stages_view *v, const struct mos_medium_plan *m,
                             const struct mos_first_place *p) {
    const struct mos_region_plan *r = first_fat(m);
    struct mos_buf path = {.arena = v->arena};
    const char *name = mos_entry_path(&path, p->file->text);
    uint32_t index;
    if (!name || (r && (!r->volume || !r->counted)))
        return;
    if (r && mos_inv_find(r->volume->inventory, name, &index) && index) {
        uint64_t size = mos_inv_node(r->volume->inventory, index)->size;
        if (!mos_has(p->limit) || size <= p->limit->number)
            return;
        struct mos_finding *f =
            complain(v, p->limit->place,
                     mos_printf(v->arena, "The ROM reads at most %s of %s; it has %s.",
                                mos_size_text(v->arena, p->limit->number), name,
                                mos_size_about(v->arena, size)));
        mos_finding_at(v->list, f, r->def->r.key_place);
        mos_finding_try(v->list, f, "Use a first stage that is smaller by %s.",
                        mos_size_about(v->arena, size - p->limit->number));
        return;
    }
    struct mos_finding *f = complain(
        v, p->file->place,
        r ? mos_printf(v->arena, "The ROM starts %s of %s, which is not there.", name, r->name)
          : mos_printf(v->arena, "The ROM starts %s, and %s has no FAT volume.", name, m->name));
    if (r)
        mos_finding_at(v->list, f, r->def->r.key_place);
    mos_finding_why(v->list, f, "The board would stay silent from the first moment.");
    mos_finding_try(v->list, f, "Add fills: {first: {piece: …, to: %s}}.", name);
}

void mos_rule_stage_files(const struct mos_plan *plan) {
    const struct mos_rom *rom = plan->board->rom;
    struct stages_view v = {plan, NULL, NULL, &plan->ctx->findings, plan->ctx->arena};
    for (size_t i = 0; rom && i < rom->first_stage.count; i++) {
        const struct mos_first_place *p = rom->first_stage.items[i];
        for (size_t k = 0; mos_has(p->file) && k < plan->media.count; k++) {
            const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, k);
            if (!m->area && strcmp(m->medium->r.name, p->r.name) == 0)
                check_first_file(&v, m, p);
        }
    }
}
