/* What the kernel modules of a volume say of themselves: read once an archive, then kept. */
#include "plan/plan.h"

#include "base/bytes.h"
#include "linux/module.h"
#include "store/store.h"

#include <string.h>

enum { MOST_MODULE = 32 << 20 };

struct reader {
    struct mos_arena *arena;
    struct mos_ctx *ctx;
    const char *folder; /* without a leading slash */
    struct mos_buf *out;
    char *path; /* of the module that goes by; NULL: none does */
    uint8_t *bytes;
    size_t size, room;
};

/* lib may be a link to usr/lib, and a fill may come by either. */
static const char *without_usr(const char *path) {
    return strncmp(path, "usr/lib/", 8) == 0 ? path + 4 : path;
}

static bool take_entry(void *self, const struct mos_entry *e) {
    struct reader *r = self;
    const char *path = without_usr(e->path);
    size_t n = strlen(r->folder), length = strlen(path);
    r->path = NULL;
    if (e->type != MOS_ENTRY_FILE || e->size > MOST_MODULE || length < n + 5 ||
        strncmp(path, r->folder, n) != 0 || path[n] != '/' ||
        strcmp(path + length - 3, ".ko") != 0 || strchr(path, '\n'))
        return true; /* a compressed one is not looked into */
    r->path = mos_strdup(r->arena, path + n + 1);
    r->size = (size_t)e->size;
    if (r->room < r->size) {
        r->room = r->size * 2;
        r->bytes = mos_alloc(r->arena, r->room);
    }
    if (r->size)
        memset(r->bytes, 0, r->size);
    return true;
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct reader *r = self;
    if (r->path && bytes && offset < r->size)
        memcpy(r->bytes + offset, bytes, (size_t)mos_min(length, r->size - offset));
    return true;
}

/* One line: + or -, processor, release, path; "?" for what is not known. */
static bool take_end(void *self, uint64_t sum) {
    struct reader *r = self;
    struct mos_module_info info;
    (void)sum;
    if (!r->path)
        return true;
    bool good = r->size && mos_module_read(r->arena, r->bytes, r->size, &info);
    mos_buf_printf(r->out, "%c %s %s %s\n", good ? '+' : '-', good && info.cpu ? info.cpu : "?",
                   good && info.release ? info.release : "?", r->path);
    r->path = NULL;
    return true;
}

/* The same for all modules that a fill brings into the folder; NULL: it cannot be read. */
static const char *facts_of(struct mos_plan *plan, const struct mos_region_plan *region,
                            const struct mos_fill *fill, const char *folder) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_piece_plan *archive =
        mos_has(fill->archive) ? mos_plan_piece(plan, fill->archive->target) : NULL;
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65], *kept;
    size_t length;
    const char *key = NULL;
    if (archive && archive->hashed) {
        struct mos_buf b = {.arena = ctx->arena};
        mos_buf_add(&b, archive->sha256, MOS_SHA256_SIZE);
        mos_buf_printf(&b, "%s\n%s", mos_text_or(fill->to, ""), folder);
        if (mos_sha256(b.data, b.length, hash)) {
            mos_sha256_hex(hash, hex);
            key = mos_printf(ctx->arena, "modules2-%s", hex);
        }
    }
    if (key && mos_store_get(ctx, key, &kept, &length))
        return mos_strndup(ctx->arena, kept, length);
    struct mos_buf out = {.arena = ctx->arena};
    struct reader r = {.arena = ctx->arena, .ctx = ctx, .folder = folder, .out = &out};
    struct mos_sink sink = {&r, take_entry, take_data, take_end};
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored;
    bool good = mos_plan_stream_fill(plan, region, fill, false, &sink);
    ctx->error = saved;
    if (good && key)
        mos_store_put(ctx, key, mos_buf_string(&out), out.length);
    return good ? mos_buf_string(&out) : NULL;
}

static void read_lines(struct mos_arena *arena, const char *text, struct mos_vec *out) {
    while (*text) {
        size_t n = strcspn(text, "\n");
        char *line = mos_strndup(arena, text, n), *words[4], *at = line;
        for (int i = 0; i < 4; i++) {
            words[i] = at;
            at = i < 3 ? strchr(at, ' ') : NULL;
            if (!at)
                break;
            *at++ = 0;
        }
        *(struct mos_module_fact *)mos_vec_push(out) =
            (struct mos_module_fact){.path = words[3],
                                     .good = *words[0] == '+',
                                     .cpu = *words[1] == '?' ? NULL : words[1],
                                     .release = *words[2] == '?' ? NULL : words[2]};
        text += n + (text[n] == '\n');
    }
}

/* Which fills have brought anything below a folder. */
static void note_fills(const struct mos_inventory *inv, uint32_t folder, bool *fills) {
    for (uint32_t i = mos_inv_node(inv, folder)->first_child; i; i = mos_inv_node(inv, i)->next) {
        fills[mos_inv_node(inv, i)->fill] = true;
        if (mos_inv_node(inv, i)->type == MOS_ENTRY_FOLDER)
            note_fills(inv, i, fills);
    }
}

bool mos_plan_modules(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t folder,
                      struct mos_vec *out) {
    struct mos_arena *arena = plan->ctx->arena;
    const struct mos_inventory *inv = region->volume->inventory;
    const char *path = without_usr(mos_inv_path(arena, inv, folder) + 1);
    size_t count = region->def->volume->fills.count;
    bool *fills = mos_alloc_array(arena, count + 1, sizeof *fills);
    note_fills(inv, folder, fills);
    for (size_t i = 0; i < count; i++) {
        const struct mos_fill *f = mos_plan_fill_at(region, (unsigned)i);
        if (!fills[i] || (!mos_has(f->archive) && !mos_has(f->folder)))
            continue;
        const char *text = facts_of(plan, region, f, path);
        if (!text)
            return false;
        read_lines(arena, text, out);
    }
    return true;
}
