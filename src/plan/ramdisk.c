/* Ramdisks that are made from a list: files, modules with what they need, a small first program. */
#include "plan/ramdisk_internal.h"

#include "base/bytes.h"
#include "base/text.h"
#include "plan/steps.h"
#include "store/store.h"

#include <assert.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_FILE = 256 << 20, ROOM = 1 << 30 };

/* ---- the list ---- */

/* "c 5 1" */
static bool read_device(const char *text, struct ramdisk_item *x) {
    char kind;
    unsigned major, minor;
    int end = 0;
    if (sscanf(text, "%c %u %u%n", &kind, &major, &minor, &end) != 3 || text[end] ||
        (kind != 'c' && kind != 'b') || major > 4095 || minor > 0xfffff)
        return false;
    x->type = kind == 'c' ? MOS_ENTRY_CHAR : MOS_ENTRY_BLOCK;
    x->major = major;
    x->minor = minor;
    return true;
}

static bool read_mode(const struct mos_value *v, uint16_t *mode) {
    char *end;
    unsigned long value = strtoul(v->text, &end, 8);
    *mode = (uint16_t)value;
    return *v->text && !*end && value <= 07777;
}

static void wrong_form(struct ramdisk *m, const struct mos_ramdisk_file *f) {
    struct mos_finding *x = ramdisk_complain(
        m, MOS_RULE_BOARD_SCHEMA, f->r.key_place,
        mos_printf(m->plan->ctx->arena, "%s needs one source, and just one.", f->r.name));
    mos_finding_try(
        &m->plan->ctx->findings, x,
        "Add file: …, or in: PIECE with path: …, or text: …, or link: …, or device: \"c 5 1\".");
}

/* A file's own row; its bytes, where they lie in an archive, come later. */
static bool add_file(struct ramdisk *m, const struct mos_ramdisk_file *f) {
    struct mos_ctx *ctx = m->plan->ctx;
    int sources = (f->file != NULL) + (f->in != NULL) + (f->text != NULL) + (f->link != NULL) +
                  (f->device != NULL);
    if (f->r.broken || !mos_has(f->to)) {
        m->wrong = true;
        return true;
    }
    if (sources != 1 || (f->in != NULL) != (f->path != NULL)) {
        wrong_form(m, f);
        return true;
    }
    if (!ramdisk_stays_inside(m, f->to))
        return true;
    struct ramdisk_item *x = ramdisk_add(m, f->to->text, f->link ? MOS_ENTRY_LINK : MOS_ENTRY_FILE,
                                         f->link     ? 0777
                                         : f->device ? 0600
                                                     : 0644);
    x->def = f;
    if (f->mode && !read_mode(f->mode, &x->mode))
        ramdisk_complain(m, MOS_RULE_BOARD_SCHEMA, f->mode->place,
                         "a mode is octal, as in \"0755\".");
    if (f->device && !read_device(f->device->text, x))
        ramdisk_complain(m, MOS_RULE_BOARD_SCHEMA, f->device->place,
                         "a device is given as in \"c 5 1\": kind, major and minor number.");
    x->target = f->link ? f->link->text : NULL;
    if (f->text) {
        x->bytes = (const uint8_t *)f->text->text;
        x->length = strlen(f->text->text);
    }
    if (mos_has(f->in)) {
        struct mos_buf path = {.arena = ctx->arena};
        x->in = mos_plan_piece(m->plan, f->in->target);
        x->path = mos_entry_path(&path, f->path->text);
    }
    if (!mos_has(f->file))
        return true;
    char *data;
    const char *full;
    struct mos_file_info info;
    const char *what = mos_printf(ctx->arena, "Ramdisk %s", m->piece->def->r.name);
    if (!mos_plan_reach(m->plan, f->file->text, MOS_FILE_REGULAR, what, f->file->place, &full,
                        &info)) {
        m->wrong = true;
        return true;
    }
    if (!mos_read_file(ctx, full, MOST_FILE, &data, &x->length))
        return false;
    x->bytes = (const uint8_t *)data;
    return true;
}

/* ---- the archive ---- */

/* Each row is a source of its own: two of them must not become one file. */
static bool stream_items(struct ramdisk *m, struct mos_volume_base *v,
                         const struct mos_sink *sink) {
    for (size_t i = 0; i < m->items.count; i++) {
        v->fill = (uint16_t)i;
        const struct ramdisk_item *x = mos_vec_at(&m->items, i);
        uint32_t there; /* a folder on the way to what came before is there already */
        if (x->type == MOS_ENTRY_FOLDER && mos_inv_find(v->inventory, x->to, &there))
            continue;
        struct mos_entry e = {.path = x->to,
                              .type = x->type,
                              .mode = x->mode,
                              .uid = x->uid,
                              .gid = x->gid,
                              .mtime = m->plan->board->date,
                              .size = x->length,
                              .major = x->major,
                              .minor = x->minor,
                              .target = x->target};
        if (x->type == MOS_ENTRY_FILE ? !mos_bytes_stream(&e, x->bytes, x->length, sink)
                                      : !sink->entry(sink->self, &e))
            return false;
    }
    return true;
}

/* Once to count, once to write. */
static bool write_archive(struct ramdisk *m, struct mos_buf *out) {
    struct mos_ctx *ctx = m->plan->ctx;
    struct mos_volume_wish wish = {
        .size = ROOM, .sector = 512, .label = "", .date = m->plan->board->date};
    struct mos_volume_result result = {0};
    uint8_t *bytes = NULL;
    for (int writing = 0; writing < 2; writing++) {
        struct mos_io io = mos_io_memory(ctx->arena, bytes, wish.size);
        struct mos_volume_base *v = mos_fs_cpio.begin(ctx, writing ? &io : NULL, &wish);
        struct mos_sink sink = mos_fs_cpio.sink(v);
        if (!stream_items(m, v, &sink) || !mos_fs_cpio.finish(v, &result))
            return false;
        if (v->inventory->clashes.count) {
            const struct mos_inv_clash *c = mos_vec_at(&v->inventory->clashes, 0);
            ramdisk_complain(m, MOS_RULE_VOLUME_TWO_SOURCES, m->piece->def->r.key_place,
                             mos_printf(ctx->arena, "two rows of its list become /%s.", c->path));
            return true;
        }
        if (!result.fits) {
            ramdisk_complain(m, MOS_RULE_VOLUME_DOES_NOT_FIT, m->piece->def->r.key_place,
                             "it would be larger than 1 GiB.");
            return true;
        }
        wish.size = result.content;
        assert(result.content && result.content <= ROOM);
        bytes = bytes ? bytes : mos_alloc(ctx->arena, (size_t)wish.size);
    }
    if (mos_ramdisk_form_of(m->def->compress) != MOS_RAMDISK_PLAIN)
        return mos_pack_memory(ctx, mos_text_or(m->def->compress, "gz"), bytes, (size_t)wish.size,
                               out);
    mos_buf_add(out, bytes, (size_t)wish.size);
    return true;
}

/* ---- what was made before ---- */

static void sum_text(struct mos_sha256 *h, const char *text) {
    assert(h);
    text = text ? text : "";
    mos_sha256_update(h, text, strlen(text) + 1);
}

/* All that it is made from, in one hash: the store keeps it under that. */
static bool key_of(struct ramdisk *m, struct mos_piece_plan *const *archives, size_t count,
                   const char **key) {
    struct mos_arena *arena = m->plan->ctx->arena;
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    struct mos_sha256 *h = mos_sha256_new();
    if (!h)
        return mos_fail(m->plan->ctx->error, MOS_ERROR_SYSTEM, 0, "No memory for a hash");
    sum_text(h, MOS_VERSION);
    sum_text(h, "3"); /* one more where the same list gives another ramdisk */
    sum_text(h, mos_text_or(m->def->compress, "gz"));
    sum_text(h, mos_printf(arena, "%lld", (long long)m->plan->board->date));
    for (size_t i = 0; i < m->items.count; i++) {
        const struct ramdisk_item *x = mos_vec_at(&m->items, i);
        sum_text(h, mos_printf(arena, "%s %d %o %u %u %s %s %zu", x->to, x->type, x->mode, x->major,
                               x->minor, x->target ? x->target : "", x->path ? x->path : "",
                               x->length));
        sum_text(h, x->def && x->def->mode ? x->def->mode->text : "");
        if (x->bytes)
            mos_sha256_update(h, x->bytes, x->length);
    }
    const struct mos_list *const filters[] = {&m->def->only, &m->def->except};
    for (size_t k = 0; k < 2; k++)
        for (size_t i = 0; mos_has(m->def->archive) && i < filters[k]->count; i++)
            sum_text(h, mos_printf(arena, "%zu %s", k, mos_text_or(filters[k]->items[i], "")));
    sum_text(h, mos_text_or(m->def->archive, ""));
    for (size_t i = 0; m->def->modules && i < m->def->modules->names.count; i++)
        sum_text(h, mos_text_or(m->def->modules->names.items[i], ""));
    sum_text(h, m->def->modules ? ramdisk_order_file(m->def) : "");
    for (size_t i = 0; i < count; i++)
        mos_sha256_update(h, archives[i]->sha256, MOS_SHA256_SIZE);
    mos_sha256_final(h, hash);
    mos_sha256_free(h);
    mos_sha256_hex(hash, hex);
    *key = mos_printf(arena, "ramdisk-%s", hex);
    return true;
}

static void add_archive(const struct mos_plan *plan, struct mos_piece_plan **archives,
                        size_t *count, const struct mos_piece_plan *p) {
    for (size_t i = 0; i < *count; i++)
        if (archives[i] == p)
            return;
    archives[(*count)++] = mos_plan_piece(plan, p->def);
}

/* ---- one ramdisk ---- */

/* Members that are not found under their paths: where the archive's own links lead to.  *again:
 * there was one. */
static bool follow_links(struct ramdisk *m, struct mos_piece_plan *archive, bool *again) {
    *again = false;
    for (size_t i = 0; i < m->items.count; i++) {
        struct ramdisk_item *x = mos_vec_at(&m->items, i);
        const char *near;
        if (x->in != archive || x->bytes)
            continue;
        if (!mos_plan_index(m->plan, archive))
            return false;
        const char *path = mos_plan_member_path(m->plan, archive, x->path, &near);
        *again = *again || path;
        x->path = path ? path : x->path;
    }
    return true;
}

static void missing_members(struct ramdisk *m) {
    for (size_t i = 0; i < m->items.count; i++) {
        const struct ramdisk_item *x = mos_vec_at(&m->items, i);
        const char *near;
        if (!x->in || x->bytes)
            continue;
        mos_plan_member_path(m->plan, x->in, x->path, &near);
        struct mos_finding *f =
            ramdisk_complain(m, MOS_RULE_PIECE_MISSING, x->def->path->place,
                             mos_printf(m->plan->ctx->arena, "there is no file %s in %s.",
                                        x->def->path->text, x->in->def->r.name));
        if (near)
            mos_finding_try(&m->plan->ctx->findings, f, "Write path: %s.", near);
    }
}

static bool make(struct ramdisk *m, struct mos_piece_plan **archives, size_t count,
                 struct mos_piece_plan *modules, struct mos_buf *out) {
    for (size_t i = 0; i < count; i++) {
        bool again;
        if (!ramdisk_gather(m, archives[i]) || !follow_links(m, archives[i], &again) ||
            (again && !ramdisk_gather(m, archives[i])))
            return false;
    }
    if (modules && !ramdisk_take_modules(m, modules))
        return false;
    missing_members(m);
    if (mos_has(m->def->archive) &&
        !ramdisk_take_archive(m, mos_plan_piece(m->plan, m->def->archive->target)))
        return false;
    if (mos_has(m->def->archive) && mos_true(m->def->init))
        ramdisk_check_programs(m);
    if (m->wrong)
        return true;
    if (m->def->modules)
        ramdisk_add_modules(m);
    return write_archive(m, out);
}

static bool settle(struct mos_plan *plan, struct mos_piece_plan *p) {
    struct mos_ctx *ctx = plan->ctx;
    struct ramdisk m = {.plan = plan,
                        .piece = p,
                        .def = p->def->ramdisk,
                        .items = mos_vec_make(ctx->arena, sizeof(struct ramdisk_item)),
                        .modules = mos_vec_make(ctx->arena, sizeof(struct ramdisk_module *)),
                        .order = mos_vec_make(ctx->arena, sizeof(struct ramdisk_module *)),
                        .sought = mos_vec_make(ctx->arena, sizeof(char *))};
    struct mos_piece_plan **archives =
        mos_alloc_array(ctx->arena, m.def->files.count + 2, sizeof *archives);
    struct mos_piece_plan *modules = NULL;
    size_t count = 0;
    if (m.def->r.broken)
        return true;
    ramdisk_add_folders(&m);
    for (size_t i = 0; i < m.def->files.count; i++)
        if (!add_file(&m, m.def->files.items[i]))
            return false;
    if (mos_has(m.def->folder) && !ramdisk_take_folder(&m))
        return false;
    ramdisk_add_init(&m);
    if (m.def->modules && mos_has(m.def->modules->in))
        modules = mos_plan_piece(plan, m.def->modules->in->target);
    for (size_t i = 0; i < m.items.count; i++)
        if (((struct ramdisk_item *)mos_vec_at(&m.items, i))->in)
            add_archive(plan, archives, &count,
                        ((struct ramdisk_item *)mos_vec_at(&m.items, i))->in);
    if (modules)
        add_archive(plan, archives, &count, modules);
    if (mos_has(m.def->archive))
        add_archive(plan, archives, &count, mos_plan_piece(plan, m.def->archive->target));
    for (size_t i = 0; i < count; i++) {
        if (!mos_plan_is_there(archives[i])) /* it has its finding */
            return true;
        if (!mos_plan_hash(plan, archives[i]))
            return false;
    }
    const char *key = NULL;
    char *data;
    size_t length;
    if (m.wrong)
        return true;
    if (!key_of(&m, archives, count, &key))
        return false;
    struct mos_buf out = {.arena = ctx->arena};
    if (mos_store_get(ctx, key, &data, &length))
        mos_buf_add(&out, data, length);
    else if (!make(&m, archives, count, modules, &out))
        return mos_while(ctx->error, "making ramdisk %s", p->def->r.name);
    else if (!m.wrong)
        mos_store_put(ctx, key, out.data, out.length);
    if (!m.wrong)
        mos_plan_take_bytes(p, out.data, out.length);
    return true;
}

bool mos_plan_ramdisks(struct mos_plan *plan) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->def->ramdisk && !settle(plan, p))
            return false;
    }
    return true;
}
