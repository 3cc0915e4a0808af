#include "build/build.h"

#include "base/bytes.h"
#include "base/out.h"
#include "build/image.h"
#include "build/set.h"
#include "ledger/ledger.h"
#include "model/facts.h"
#include "plan/bytes.h"

#include <string.h>

struct medium_image {
    const struct mos_medium_plan *medium;
    const char *file;
    struct mos_image *image; /* NULL: not begun, or closed */
};

enum { SMALL = 8 << 20 }; /* an image is hashed as a whole without being asked to */

struct mos_build {
    struct mos_plan *plan;
    bool whole; /* so is every image */
    struct mos_ctx *ctx;
    struct mos_set set;
    struct mos_vec images; /* of struct medium_image */
    struct mos_vec files;  /* of struct mos_built_file */
    struct mos_ledger *ledger;
    const char *stamp;
    const char *former; /* what the volumes of the output that is replaced were made of, or NULL */
    const char *former_folder; /* that output */
    size_t taken;              /* volumes out of it */
};

struct mos_build *mos_build_begin(struct mos_plan *plan, const char *out_folder, bool whole) {
    struct mos_build *b = mos_alloc(plan->ctx->arena, sizeof *b);
    b->whole = whole;
    b->plan = plan;
    b->ctx = plan->ctx;
    b->images = mos_vec_make(b->ctx->arena, sizeof(struct medium_image));
    b->files = mos_vec_make(b->ctx->arena, sizeof(struct mos_built_file));
    for (size_t i = 0; i < plan->media.count; i++) {
        struct medium_image *m = mos_vec_push(&b->images);
        m->medium = mos_vec_pointer(&plan->media, i);
        m->file = mos_printf(b->ctx->arena, "%s.img", m->medium->name);
    }
    b->ledger =
        mos_ledger_new(plan->board->workspace_name, plan->board->selector, "mosaicum " MOS_VERSION);
    b->former = mos_build_former(plan, out_folder);
    b->former_folder = mos_path_join(b->ctx->arena, out_folder, plan->board->selector);
    struct mos_vec precious = mos_vec_make(b->ctx->arena, sizeof(char *));
    mos_vec_push_pointer(&precious, plan->board->root);
    for (size_t i = 0; i < plan->pieces.count; i++) {
        const struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->found && p->path)
            mos_vec_push_pointer(&precious, p->path);
    }
    if (b->ledger && mos_set_begin(&b->set, b->ctx, out_folder, plan->board->selector,
                                   (const char *const *)precious.items, precious.count))
        return b;
    mos_ledger_free(b->ledger);
    return NULL;
}

/* ---- images ---- */

static struct medium_image *image_of(struct mos_build *b, const struct mos_medium_plan *medium) {
    for (size_t i = 0; i < b->images.count; i++) {
        struct medium_image *m = mos_vec_at(&b->images, i);
        if (m->medium == medium)
            return m;
    }
    return NULL;
}

static bool erase_flash(struct mos_build *b, struct medium_image *m);

static bool open_image(struct mos_build *b, struct medium_image *m) {
    if (m->image)
        return true;
    const char *path = mos_set_path(&b->set, m->file);
    m->image = path ? mos_image_create(b->ctx, path, m->medium->size) : NULL;
    return m->image && (!mos_plan_is_flash(m->medium) || erase_flash(b, m));
}

static int fill_ones(struct mos_io *io, const uint8_t *ones, size_t size, uint64_t from,
                     uint64_t to) {
    int e = 0;
    for (uint64_t n; !e && from < to; from += n) {
        n = mos_min(size, to - from);
        e = mos_io_write(io, ones, (size_t)n, from);
    }
    return e;
}

/* Flash that was erased reads as ones, and what nobody writes stays so.  What a region holds is not
 * touched: its zeros are left out when it is written, and count.  Regions with a file system are
 * counted on to be zero. */
static bool erase_flash(struct mos_build *b, struct medium_image *m) {
    enum { PIECE = 1 << 18 };
    struct mos_io *io = mos_image_io(m->image);
    uint8_t *ones = mos_alloc(b->ctx->arena, PIECE);
    memset(ones, 0xff, PIECE);
    int e = 0;
    struct mos_vec regions = mos_plan_by_place(b->plan, m->medium);
    uint64_t at = 0;
    for (size_t i = 0; i <= regions.count && !e; i++) {
        const struct mos_region_plan *r = i < regions.count ? mos_vec_pointer(&regions, i) : NULL;
        uint64_t from = !r ? m->medium->size : r->fs ? r->start : r->start + r->content_at;
        e = fill_ones(io, ones, PIECE, at, from);
        at = r ? from + mos_min(r->fs ? r->length : r->content, r->length) : from;
    }
    return e ? mos_fail(b->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", m->file) : true;
}

static struct mos_io *open_region(void *self, const struct mos_medium_plan *medium,
                                  const struct mos_region_plan *region) {
    struct mos_build *b = self;
    struct medium_image *m = image_of(b, medium);
    if (!open_image(b, m))
        return NULL;
    struct mos_io *window = mos_alloc(b->ctx->arena, sizeof *window);
    *window = mos_io_window(b->ctx->arena, mos_image_io(m->image), region->start, region->length);
    return window;
}

struct mos_plan_target mos_build_target(struct mos_build *build) {
    return (struct mos_plan_target){build, open_region};
}

/* ---- raw regions ---- */

struct raw {
    struct mos_io *io;
    uint64_t at; /* where its content begins */
    int errnum;
};

static bool raw_entry(void *self, const struct mos_entry *entry) {
    (void)self;
    (void)entry;
    return true;
}

static bool raw_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct raw *r = self;
    r->errnum = mos_io_write(r->io, bytes, length, r->at + offset);
    return r->errnum == 0;
}

/* No region that should hold something is left empty, whatever the reason. */
static bool incomplete(struct mos_build *b, const struct medium_image *m,
                       const struct mos_region_plan *r) {
    return mos_fail(b->ctx->error, MOS_ERROR_SAFETY, 0,
                    "Nothing is built: what region %s of %s should hold is not there", r->name,
                    m->medium->name);
}

static bool write_raw(struct mos_build *b, const struct mos_medium_plan *medium,
                      const struct mos_region_plan *r) {
    struct mos_io *io = open_region(b, medium, r);
    struct raw raw = {.io = io, .at = r->content_at};
    if (!io)
        return false;
    if (r->environment && r->environment->needed > r->environment->size)
        return incomplete(b, image_of(b, medium), r);
    if (r->environment) {
        struct mos_buf block = {.arena = b->ctx->arena};
        b->plan->dialect->stored->write(&block, &r->environment->variables, r->environment->size,
                                        r->environment->flag_byte);
        raw.errnum = mos_io_write(io, block.data, block.length, 0);
    } else if (r->piece) {
        if (!mos_plan_is_there(r->piece))
            return incomplete(b, image_of(b, medium), r);
        struct mos_sink sink = {&raw, raw_entry, raw_data, mos_ignore_end};
        struct mos_entry as = {.path = r->name};
        if (!mos_plan_stream_piece(b->plan, r->piece, &as, &sink) && !raw.errnum)
            return false;
    }
    return raw.errnum ? mos_fail(b->ctx->error, MOS_ERROR_SYSTEM, raw.errnum,
                                 "Cannot write region %s of %s", r->name, medium->name)
                      : true;
}

static bool write_table(struct mos_build *b, struct medium_image *m) {
    const struct mos_medium_plan *p = m->medium;
    if (!p->table)
        return true;
    const struct mos_table_data t = mos_plan_table(b->plan, p);
    const char *why;
    int e = mos_table_write(p->table, mos_image_io(m->image), &t, b->ctx->arena, &why);
    if (e == ENOTSUP)
        return mos_fail(b->ctx->error, MOS_ERROR_SAFETY, 0,
                        "The %s of %s cannot hold this layout, whatever was accepted of it: %s",
                        p->table->title, p->name, why);
    return e ? mos_fail(b->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write the table of %s", p->name)
             : true;
}

/* ---- the ledger ---- */

static const char *place_text(struct mos_build *b, struct mos_place place) {
    if (!place.source)
        return place.thing ? place.thing : "";
    struct mos_position p = mos_source_position(place.source, place.offset);
    return mos_printf(b->ctx->arena, "%s:%u:%u", place.source->shown_path, p.line, p.column);
}

static const char *holds(const struct mos_region_plan *r) {
    return r->fs                   ? r->fs->name
           : r->environment        ? "environment"
           : mos_has(r->def->tree) ? "tree"
           : r->piece              ? "piece"
                                   : "nothing";
}

static void ledger_spans(struct mos_build *b, const struct mos_region_plan *r) {
    static const char *const kinds[] = {"data", "zero", "any"};
    for (size_t i = 0; i < r->result.spans.count; i++) {
        const struct mos_span *s = mos_vec_at(&r->result.spans, i);
        mos_ledger_span(b->ledger, r->start + s->offset, s->length, kinds[s->kind]);
    }
    if (r->fs)
        return;
    uint64_t from = r->start + r->content_at, end = from + r->content;
    if (r->content_at)
        mos_ledger_span(b->ledger, r->start, r->content_at, kinds[MOS_SPAN_FREE]);
    if (r->content)
        mos_ledger_span(b->ledger, from, r->content, kinds[MOS_SPAN_DATA]);
    if (r->start + r->length > end)
        mos_ledger_span(b->ledger, end, r->start + r->length - end, kinds[MOS_SPAN_FREE]);
}

static void ledger_image(struct mos_build *b, const struct medium_image *m,
                         const uint8_t hash[MOS_SHA256_SIZE], const uint8_t *whole) {
    const struct mos_medium_plan *p = m->medium;
    mos_ledger_image(b->ledger, m->file, p->name, p->size, p->sector, hash, whole);
    const struct mos_medium_size *limits = p->medium->size;
    mos_ledger_medium(b->ledger, mos_text_or(p->medium->kind, NULL),
                      limits && mos_has(limits->at_most) ? limits->at_most->number : 0);
    for (size_t i = 0; i < p->span_count; i++)
        mos_ledger_span(b->ledger, p->spans[i].start, p->spans[i].end - p->spans[i].start, "data");
    for (size_t i = 0; i < p->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&p->regions, i);
        if (!r->placed)
            continue;
        if (r->logical)
            mos_ledger_span(b->ledger, r->table_at, p->sector, "data");
        mos_ledger_region(b->ledger, r->name, holds(r), mos_text_or(r->def->owner, "build"),
                          r->number, r->id_text, r->start, r->length, place_text(b, r->place));
        mos_ledger_region_is(b->ledger, mos_true(r->def->grows),
                             mos_has(r->def->stage) && r->def->stage->target &&
                                 mos_stage_is_first(r->def->stage->target));
        for (size_t k = 0; r->environment && k < r->environment->def->per_unit.count; k++) {
            const struct mos_variable *v = r->environment->def->per_unit.items[k];
            if (mos_has(v->value))
                mos_ledger_region_unit(b->ledger, r->environment->size, v->r.name, v->value->text);
        }
        ledger_spans(b, r);
    }
    for (size_t i = 0; i < mos_image_chunks(m->image); i++)
        mos_ledger_chunk(b->ledger, mos_image_chunk_hash(m->image, i));
}

static bool ledger_inputs(struct mos_build *b) {
    for (size_t i = 0; i < b->plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&b->plan->pieces, i);
        if (!mos_plan_is_there(p))
            continue;
        if (!mos_plan_hash(b->plan, p))
            return false;
        mos_ledger_input(b->ledger, p->def->r.name, p->made ? NULL : p->file, p->member,
                         p->file_size ? p->file_size : p->size, p->sha256,
                         place_text(b, p->def->r.key_place));
        mos_ledger_input_fact(b->ledger, "release", mos_text_or(p->def->release, NULL));
        mos_ledger_input_fact(b->ledger, "license", mos_text_or(p->def->license, NULL));
    }
    return true;
}

static void note_file(struct mos_build *b, const char *name, uint64_t size,
                      const uint8_t hash[MOS_SHA256_SIZE], bool image) {
    struct mos_built_file *f = mos_vec_push(&b->files);
    f->name = name;
    f->size = size;
    f->image = image;
    memcpy(f->hash, hash, MOS_SHA256_SIZE);
}

static bool small_file(struct mos_build *b, const char *name, const void *bytes, size_t length) {
    uint8_t hash[MOS_SHA256_SIZE];
    if (!mos_sha256(bytes, length, hash) || !mos_set_file(&b->set, name, bytes, length))
        return false;
    mos_ledger_output(b->ledger, name, length, hash);
    note_file(b, name, length, hash, false);
    return true;
}

/* ---- outputs beside the images ---- */

/* A medium of the board whose files the loader can read: where a programmer puts its files. */
static const char *files_medium(const struct mos_plan *plan) {
    const struct mos_named *media = &plan->board->hardware->media;
    for (size_t i = 0; i < media->count; i++) {
        const struct mos_medium *m = media->items[i];
        enum mos_medium_kind kind = mos_medium_kind_of(m->kind);
        if (mos_has(m->kind) && kind != MOS_MEDIUM_NOR && kind != MOS_MEDIUM_NAND &&
            mos_has(m->loader))
            return m->loader->text;
    }
    return mos_dialect_medium(plan->dialect, plan->ctx->arena, "usb");
}

/* The loader's commands that put those files into a NOR flash and read them back. */
static bool write_flash_program(struct mos_build *b, const struct mos_medium_plan *m,
                                const struct mos_vec *items, uint64_t longest) {
    const struct mos_plan *p = b->plan;
    enum mos_medium_kind kind = mos_medium_kind_of(m->medium->kind);
    uint64_t at = mos_round_up(p->ram.start + (16 << 20), 2 << 20);
    uint64_t back_at = mos_round_up(at + longest, 2 << 20);
    bool nand = kind == MOS_MEDIUM_NAND;
    if ((!nand && kind != MOS_MEDIUM_NOR) || !p->dialect || !p->dialect->write_flash_program ||
        !p->has_ram || back_at + longest > p->ram.top)
        return true;
    const struct mos_flash_program x = {.board = p->board->selector,
                                        .device = mos_plan_in_loader(p, m->medium),
                                        .nand = nand,
                                        .correction = mos_text_or(m->medium->correction, NULL),
                                        .files_on = files_medium(p),
                                        .at = at,
                                        .back_at = back_at,
                                        .items = items->items,
                                        .count = items->count};
    struct mos_buf text = {.arena = b->ctx->arena}, file = {.arena = b->ctx->arena};
    struct mos_boot_script script = {.board = x.board, .date = p->board->date};
    p->dialect->write_flash_program(&x, &text);
    p->dialect->wrap_script(&script, mos_buf_string(&text), text.length, &file);
    return small_file(b, mos_printf(b->ctx->arena, "%s-program.txt", m->name), text.data,
                      text.length) &&
           small_file(
               b, mos_printf(b->ctx->arena, "%s-program.%s", m->name, p->dialect->script_suffix),
               file.data, file.length);
}

/* What a programmer writes into each region of a flash, a file each: whole pages. */
static bool write_flash_parts(struct mos_build *b, struct medium_image *m) {
    struct mos_vec regions = mos_plan_by_place(b->plan, m->medium);
    struct mos_vec items = mos_vec_make(b->ctx->arena, sizeof(struct mos_flash_item));
    uint64_t longest = 0;
    for (size_t i = 0; i < regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
        struct mos_flash_range x = mos_plan_flash_range(m->medium, r);
        if (!x.content)
            continue;
        uint8_t *bytes = mos_alloc(b->ctx->arena, (size_t)x.write_length);
        int e = mos_io_read(mos_image_io(m->image), bytes, (size_t)x.write_length, x.write_from);
        const char *own = r->copy ? r->label : r->name;
        const char *name = mos_printf(b->ctx->arena, "%s.%s.bin", m->medium->name, own);
        if (e)
            return mos_fail(b->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", m->file);
        if (!small_file(b, name, bytes, (size_t)x.write_length))
            return false;
        *(struct mos_flash_item *)mos_vec_push(&items) = (struct mos_flash_item){
            own, name, x.erase_from, x.erase_length, x.write_from, x.write_length};
        longest = mos_max(longest, x.write_length);
    }
    return !items.count || write_flash_program(b, m->medium, &items, longest);
}

/* The settings of an eMMC as commands of the loader, readable and as the file it runs. */
static bool write_emmc_setup(struct mos_build *b, const struct mos_medium_plan *m) {
    const struct mos_emmc *s = m->medium->settings;
    struct mos_arena *arena = b->ctx->arena;
    const struct mos_dialect *d = b->plan->dialect;
    if (!s || m->area || !d || !d->write_emmc_setup)
        return true;
    const struct mos_area *area = mos_has(s->boots_from) ? s->boots_from->target : NULL;
    struct mos_emmc_setup x = {
        .board = b->plan->board->selector,
        .device = mos_plan_in_loader(b->plan, m->medium),
        .area = !area                                ? 0
                : strcmp(area->r.name, "boot1") == 0 ? 2
                                                     : 1,
        .acknowledge = mos_true(s->acknowledge),
        .reset_pin = mos_true(s->reset_pin),
        .bus_width = mos_has(s->bus_width) ? (unsigned)s->bus_width->number : 0,
        .date = b->plan->board->date,
    };
    struct mos_buf text = {.arena = arena}, file = {.arena = arena};
    struct mos_boot_script script = {.board = x.board, .date = x.date};
    d->write_emmc_setup(&x, &text);
    d->wrap_script(&script, mos_buf_string(&text), text.length, &file);
    return small_file(b, mos_printf(arena, "%s-setup.txt", m->name), text.data, text.length) &&
           small_file(b, mos_printf(arena, "%s-setup.%s", m->name, d->script_suffix), file.data,
                      file.length);
}

/* "<board>-<release>" with what the names stand for, as one name. */
static const char *expand_name(struct mos_build *b, const struct mos_value *v) {
    const struct mos_board *board = b->plan->board;
    const struct {
        const char *name, *text;
    } known[] = {{"<board>", board->r.name},
                 {"<selector>", board->selector},
                 {"<release>", mos_text_or(board->release, "unreleased")}};
    struct mos_buf out = {.arena = b->ctx->arena};
    for (const char *p = v->text; *p;) {
        size_t taken = 0;
        for (size_t i = 0; i < 3 && !taken; i++)
            if (strncmp(p, known[i].name, strlen(known[i].name)) == 0) {
                mos_buf_text(&out, known[i].text);
                taken = strlen(known[i].name);
            }
        if (!taken)
            mos_buf_char(&out, *p);
        p += taken ? taken : 1;
    }
    return out.length ? mos_file_name(b->ctx->arena, mos_buf_string(&out)) : "";
}

/* A second name for a file, beside the one that stays the same from release to release. */
static bool add_name(struct mos_build *b, const struct mos_value *v, const char *file) {
    const char *name = expand_name(b, v), *ending = strchr(file, '.');
    const char *full = mos_printf(b->ctx->arena, "%s%s", name, ending ? ending : "");
    if (!*name || strcmp(full, file) == 0)
        return true;
    mos_ledger_name(b->ledger, full, file);
    return mos_set_link(&b->set, full, file);
}

/* The image compressed, and its name of this release. */
static bool write_output(struct mos_build *b, const struct medium_image *m) {
    const struct mos_output *o = mos_named_get(&b->plan->board->outputs, m->medium->def->r.name);
    const struct mos_host *h = b->ctx->host;
    struct mos_arena *arena = b->ctx->arena;
    if (!o || m->medium->area)
        return true;
    const char *file = m->file, *path = mos_set_path(&b->set, m->file);
    if (mos_has(o->compress)) {
        uint8_t hash[MOS_SHA256_SIZE];
        uint64_t size;
        int handle;
        file = mos_printf(arena, "%s.%s", m->file, o->compress->text);
        int e = h->open(h, path, MOS_OPEN_READ, &handle);
        if (e)
            return mos_fail(b->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot open %s", path);
        struct mos_io io = mos_io_file(arena, h, handle, m->medium->size);
        const char *packed = mos_set_path(&b->set, file);
        bool ok = packed && mos_pack_file(b->ctx, &io, packed, o->compress->text, &size);
        h->close(h, handle);
        if (!ok || !mos_hash_file(h, packed, hash, b->ctx->error))
            return false;
        mos_ledger_output(b->ledger, file, size, hash);
        note_file(b, file, size, hash, false);
    }
    return !mos_has(o->name) || add_name(b, o->name, file);
}

/* ---- volumes of the output before ---- */

static bool was_the_same(struct mos_build *b, const struct mos_medium_plan *medium,
                         const struct mos_region_plan *r) {
    char hex[65];
    mos_sha256_hex(r->key, hex);
    const char *line = mos_printf(b->ctx->arena, "%s %s %s\n", medium->name, r->name, hex);
    const char *found = b->former && r->has_key ? strstr(b->former, line) : NULL;
    return found && (found == b->former || found[-1] == '\n');
}

/* Takes a volume that has not changed out of the former image.  *taken false: it has to be written.
 */
static bool take_former(struct mos_build *b, struct medium_image *m, struct mos_region_plan *r,
                        bool *taken) {
    const struct mos_host *h = b->ctx->host;
    struct mos_arena *arena = b->ctx->arena;
    struct mos_file_info info;
    int file;
    *taken = false;
    if (!r->counted || !r->result.fits || !was_the_same(b, m->medium, r))
        return true;
    size_t count = 0;
    const uint8_t(*hashes)[MOS_SHA256_SIZE] = mos_ledger_chunks(
        b->ctx, mos_path_join(arena, b->former_folder, "ledger.json"), m->medium->name, &count);
    const char *path = mos_path_join(arena, b->former_folder, m->file);
    if (!hashes || h->open(h, path, MOS_OPEN_READ, &file))
        return true;
    int e = h->file_info(h, file, &info);
    *taken = !e && info.size >= r->start + r->length;
    if (*taken)
        e = mos_image_take(m->image, file, r->start, r->start + r->length, hashes,
                           info.size == m->medium->size || !count ? count : count - 1);
    h->close(h, file);
    r->written = *taken;
    b->taken += *taken;
    return e ? mos_fail(b->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot copy region %s of %s", r->name,
                        m->medium->name)
             : true;
}

/* ---- everything in order ---- */

static bool write_medium(struct mos_build *b, struct medium_image *m) {
    struct mos_plan_target target = mos_build_target(b);
    uint8_t hash[MOS_SHA256_SIZE], whole[MOS_SHA256_SIZE];
    bool as_whole = b->whole || m->medium->size <= SMALL;
    if (!open_image(b, m))
        return false;
    for (size_t i = 0; i < m->medium->regions.count; i++) {
        struct mos_region_plan *r = mos_vec_pointer(&m->medium->regions, i);
        bool taken = false;
        if (!r->placed || r->written)
            continue;
        if (r->fs && !take_former(b, m, r, &taken))
            return false;
        if (taken)
            continue;
        if (r->fs ? !mos_plan_fill(b->plan, m->medium, r, &target) : !write_raw(b, m->medium, r))
            return false;
        if (r->fs && !r->written)
            return incomplete(b, m, r);
    }
    if (!write_table(b, m))
        return false;
    if (mos_plan_is_flash(m->medium) && !write_flash_parts(b, m))
        return false;
    bool ok = mos_image_finish(m->image, hash);
    if (ok && as_whole)
        ok = mos_hash_file(b->ctx->host, mos_set_path(&b->set, m->file), whole, b->ctx->error);
    if (ok)
        ledger_image(b, m, hash, as_whole ? whole : NULL);
    m->image = NULL; /* it is closed */
    if (!ok)
        return false;
    note_file(b, m->file, m->medium->size, as_whole ? whole : hash, !as_whole);
    return write_output(b, m);
}

/* ---- from a server ---- */

/* A piece by its own name, for the server's folder. */
static bool server_file(struct mos_build *b, const struct mos_piece_plan *p) {
    for (size_t i = 0; p && i < b->files.count; i++)
        if (strcmp(((struct mos_built_file *)mos_vec_at(&b->files, i))->name, p->def->r.name) == 0)
            return true;
    const uint8_t *bytes = p ? mos_plan_piece_bytes(b->plan, p) : NULL;
    return !p || (bytes && small_file(b, p->def->r.name, bytes, (size_t)p->size));
}

/* The script for it, readable and as the loader reads it, and the files that are not here yet. */
static bool write_network(struct mos_build *b) {
    const struct mos_plan *p = b->plan;
    const struct mos_network *n = p->board->boot ? p->board->boot->network : NULL;
    struct mos_buf text = {.arena = b->ctx->arena}, file = {.arena = b->ctx->arena};
    if (!n || !p->dialect || !p->dialect->write_network || !p->script.count)
        return true;
    const struct mos_network_way way = {
        .automatic = mos_true(n->automatic),
        .address = mos_text_or(n->address, NULL),
        .netmask = mos_text_or(n->netmask, n->address ? "255.255.255.0" : NULL),
        .gateway = mos_text_or(n->gateway, NULL),
        .server = mos_text_or(n->server, NULL),
        .folder = mos_text_or(n->folder, p->board->selector)};
    p->dialect->write_network(&p->script, &way, &text);
    p->dialect->wrap_script(&p->script, mos_buf_string(&text), text.length, &file);
    for (size_t i = 0; i < p->entries.count && !p->parcel_file; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&p->entries, i);
        if (!server_file(b, e->kernel) || !server_file(b, e->ramdisk))
            return false;
    }
    return small_file(b, "network-boot.txt", text.data, text.length) &&
           small_file(b, mos_printf(b->ctx->arena, "network-boot.%s", p->dialect->script_suffix),
                      file.data, file.length);
}

/* As the sources settle them, else as they are asked for. */
static bool write_configs(struct mos_build *b) {
    struct mos_plan *p = b->plan;
    size_t length;
    const char *text = p->kernel_settled.config ? mos_kc_write(p->kernel_settled.config, &length)
                       : p->has_config          ? mos_config_text(b->ctx, &p->config, &length)
                                                : NULL;
    if (text && !small_file(b, "kernel.config", text, length))
        return false;
    text = p->loader_settled.config ? mos_kc_write(p->loader_settled.config, &length) : NULL;
    return !text || small_file(b, "loader.config", text, length);
}

static bool write_texts(struct mos_build *b) {
    struct mos_plan *p = b->plan;
    struct mos_arena *arena = b->ctx->arena;
    if (p->script_file.length &&
        (!small_file(b, "boot-script.txt", p->script_text.data, p->script_text.length) ||
         !small_file(b, p->dialect->script_file, p->script_file.data, p->script_file.length)))
        return false;
    for (size_t i = 0; i < p->boot_overlays.count; i++) {
        const struct mos_overlay_plan *o = mos_vec_pointer(&p->boot_overlays, i);
        if (!small_file(b, mos_printf(arena, "%s.dtbo", o->def->r.name), o->blob.data,
                        o->blob.length))
            return false;
    }
    if (p->menu_text.length &&
        !small_file(b, "boot-menu.txt", p->menu_text.data, p->menu_text.length))
        return false;
    if (p->parcel_file && !small_file(b, p->parcel_file, p->parcel.data, p->parcel.length))
        return false;
    for (size_t i = 0; i < p->blobs.count; i++) {
        const struct mos_blob_plan *t = mos_vec_pointer(&p->blobs, i);
        if (t->tree && !small_file(b, mos_printf(arena, "%s.dtb", t->def->r.name), t->blob.data,
                                   t->blob.length))
            return false;
    }
    if (!write_network(b))
        return false;
    for (size_t i = 0; i < p->media.count; i++)
        if (!write_emmc_setup(b, mos_vec_pointer(&p->media, i)))
            return false;
    return write_configs(b);
}

bool mos_build_finish(struct mos_build *b, const char *stamp) {
    b->stamp = stamp;
    for (size_t i = 0; i < b->images.count; i++)
        if (!write_medium(b, mos_vec_at(&b->images, i)))
            return false;
    struct mos_buf ledger = {.arena = b->ctx->arena};
    if (!write_texts(b) || !ledger_inputs(b))
        return false;
    for (size_t i = 0; i < b->plan->budgets.count; i++) {
        const struct mos_budget_plan *x = mos_vec_pointer(&b->plan->budgets, i);
        if (x->known)
            mos_ledger_budget(b->ledger, x->def->r.name, x->used, x->limit);
    }
    if (b->stamp)
        mos_ledger_stamp(b->ledger, b->stamp);
    mos_ledger_write(b->ledger, &ledger);
    uint8_t hash[MOS_SHA256_SIZE];
    if (!mos_sha256(ledger.data, ledger.length, hash) ||
        !mos_set_file(&b->set, "ledger.json", ledger.data, ledger.length))
        return false;
    note_file(b, "ledger.json", ledger.length, hash, false);
    bool ok = mos_set_commit(&b->set);
    mos_ledger_free(b->ledger);
    b->ledger = NULL;
    return ok;
}

void mos_build_abandon(struct mos_build *b) {
    if (!b)
        return;
    for (size_t i = 0; i < b->images.count; i++)
        mos_image_abandon(((struct medium_image *)mos_vec_at(&b->images, i))->image);
    mos_set_abandon(&b->set);
    mos_ledger_free(b->ledger);
    b->ledger = NULL;
}

const struct mos_vec *mos_build_files(const struct mos_build *build) {
    return &build->files;
}

size_t mos_build_taken(const struct mos_build *build) {
    return build->taken;
}

const char *mos_build_folder(const struct mos_build *build) {
    return build->set.final;
}
