/* What files of a volume say, in lines that hold no secret: an archive is read for it once, and the
 * lines are kept by its content. */
#include "plan/fills.h"

#include "base/bytes.h"
#include "content/content.h"
#include "linux/match.h"
#include "linux/module-index.h"
#include "linux/module.h"
#include "plan/steps.h"
#include "store/store.h"

#include <string.h>

enum { MOST_MODULE = 32 << 20, MOST_UNIT = 64 << 10 };

struct reader;

/* What is read: which files, and what of them. */
struct subject {
    const char *name;                                    /* of what is kept */
    bool (*wants)(struct mos_arena *, const char *name); /* of a file: its last part */
    size_t most;                                         /* bytes of a file */
    void (*tell)(struct reader *r);
};

struct reader {
    const struct subject *subject;
    struct mos_ctx *ctx;
    struct mos_arena *arena;
    const char *folder; /* without a leading slash; "": anywhere */
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
    size_t n = strlen(r->folder);
    r->path = NULL;
    const char *slash = strrchr(path, '/');
    if (e->type != MOS_ENTRY_FILE || e->size > r->subject->most ||
        (n && (strncmp(path, r->folder, n) != 0 || path[n] != '/')) || strchr(path, '\n') ||
        !r->subject->wants(r->arena, slash ? slash + 1 : path))
        return true;
    r->path = mos_strdup(r->arena, path + n + (n != 0));
    r->size = (size_t)e->size;
    if (r->room <= r->size) {
        r->room = r->size * 2 + 1;
        r->bytes = mos_alloc(r->arena, r->room);
    }
    if (r->room)
        memset(r->bytes, 0, r->size + 1);
    return true;
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct reader *r = self;
    if (r->path && bytes && offset < r->size)
        memcpy(r->bytes + offset, bytes, (size_t)mos_min(length, r->size - offset));
    return true;
}

static bool take_end(void *self, uint64_t sum) {
    struct reader *r = self;
    (void)sum;
    if (r->path)
        r->subject->tell(r);
    r->path = NULL;
    return true;
}

static bool wants_modules(struct mos_arena *arena, const char *name) {
    return mos_module_name(arena, name) != NULL;
}

/* What the module that goes by says; it lives as long as `aside`.  false: it is none. */
static bool read_module(struct reader *r, struct mos_ctx *aside, struct mos_module_info *info,
                        const uint8_t **bytes, size_t *length) {
    *bytes = r->bytes;
    *length = r->size;
    return *length && mos_unpack_bytes(aside, bytes, length, MOST_MODULE) &&
           mos_module_read(aside->arena, *bytes, *length, info);
}

/* + or -, processor, release, path; "?" for what is not known. */
static void tell_module(struct reader *r) {
    struct mos_ctx aside = *r->ctx;
    struct mos_module_info info;
    const uint8_t *bytes;
    size_t length;
    aside.arena = mos_arena_child(r->arena);
    bool good = read_module(r, &aside, &info, &bytes, &length);
    mos_buf_printf(r->out, "%c %s %s %s\n", good ? '+' : '-', good && info.cpu ? info.cpu : "?",
                   good && info.release ? info.release : "?", r->path);
    mos_arena_free(aside.arena);
}

/* What an index is made of: a letter and a text a line, the path first. */
static void tell_names(struct reader *r) {
    struct mos_ctx aside = *r->ctx;
    struct mos_module_info info;
    const uint8_t *bytes;
    size_t length;
    aside.arena = mos_arena_child(r->arena);
    if (read_module(r, &aside, &info, &bytes, &length)) {
        struct mos_vec symbols = mos_vec_make(aside.arena, sizeof(char *));
        struct mos_vec tables = mos_vec_make(aside.arena, sizeof(char *));
        const struct mos_vec *lists[] = {&info.needs, &info.aliases, &info.soft,
                                         &info.weak,  &symbols,      &tables};
        mos_module_symbols(aside.arena, bytes, length, &symbols);
        mos_match_tables(aside.arena, bytes, length, bytes[4] == 2, &tables); /* ELFCLASS64 */
        mos_buf_printf(r->out, "m%s\n", r->path);
        for (size_t i = 0; i < sizeof lists / sizeof *lists; i++)
            for (size_t k = 0; k < lists[i]->count; k++)
                if (!strchr(mos_vec_pointer(lists[i], k), '\n'))
                    mos_buf_printf(r->out, "%c%s\n", "nafwyc"[i],
                                   (const char *)mos_vec_pointer(lists[i], k));
    }
    mos_arena_free(aside.arena);
}

static bool wants_units(struct mos_arena *arena, const char *name) {
    const char *dot = strrchr(name, '.');
    (void)arena;
    return dot && dot > name && strcmp(dot, ".service") == 0;
}

/* The programs that a unit starts, without their arguments: its name, program. */
static void tell_unit(struct reader *r) {
    const char *p = (const char *)r->bytes;
    for (; (p = strstr(p, "ExecStart")); p += 9) {
        const char *equals = p + strcspn(p, "=\n");
        if ((p != (const char *)r->bytes && p[-1] != '\n') || *equals != '=')
            continue;
        const char *program = equals + 1 + strspn(equals + 1, " \t@-:+!|");
        size_t n = strcspn(program, " \t\n");
        if (*program == '/' && !memchr(program, '%', n) && !memchr(program, '$', n))
            mos_buf_printf(r->out, "%s %.*s\n", r->path, (int)n, program);
    }
}

static const struct subject modules = {"module-facts", wants_modules, MOST_MODULE, tell_module};
static const struct subject module_names = {"module-names-2", wants_modules, MOST_MODULE,
                                            tell_names};
static const struct subject units = {"units", wants_units, MOST_UNIT, tell_unit};

bool mos_read_module_names(struct mos_ctx *ctx, const char *folder,
                           bool (*stream)(void *self, const struct mos_sink *sink), void *self,
                           struct mos_buf *out) {
    struct reader r = {.subject = &module_names,
                       .ctx = ctx,
                       .arena = ctx->arena,
                       .folder = without_usr(folder),
                       .out = out};
    struct mos_sink sink = {&r, take_entry, take_data, take_end};
    return stream(self, &sink);
}

static void add_patterns(struct mos_buf *b, const struct mos_list *list) {
    mos_buf_printf(b, "%zu\n", list->count);
    for (size_t i = 0; i < list->count; i++)
        mos_buf_printf(b, "%s\n", mos_text_or(list->items[i], ""));
}

/* The lines about all that a fill brings into a folder; NULL: it cannot be read. */
static const char *lines_of(struct mos_plan *plan, const struct subject *subject,
                            const struct mos_region_plan *region, const struct mos_fill *fill,
                            const char *folder) {
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
        mos_buf_printf(&b, "%s\n%s\n", mos_text_or(fill->to, ""), folder);
        add_patterns(&b, &fill->only);
        add_patterns(&b, &fill->except);
        if (mos_sha256(b.data, b.length, hash)) {
            mos_sha256_hex(hash, hex);
            key = mos_printf(ctx->arena, "%s-%s", subject->name, hex);
        }
    }
    if (key && mos_store_get(ctx, key, &kept, &length))
        return mos_strndup(ctx->arena, kept, length);
    struct mos_buf out = {.arena = ctx->arena};
    struct reader r = {
        .subject = subject, .ctx = ctx, .arena = ctx->arena, .folder = folder, .out = &out};
    struct mos_sink sink = {&r, take_entry, take_data, take_end};
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored;
    bool good = mos_fill_makes(fill, MOS_MADE_SYSTEM)
                    ? mos_plan_stream_system(plan, region, &sink)
                    : mos_plan_stream_brought(plan, fill, false, &sink);
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

/* The lines about everything below a folder of a volume, fill by fill; NULL: not to be had. */
static const char *all_lines(struct mos_plan *plan, const struct subject *subject,
                             const struct mos_region_plan *region, uint32_t folder) {
    struct mos_arena *arena = plan->ctx->arena;
    const struct mos_inventory *inv = region->volume->inventory;
    const char *path = without_usr(mos_inv_path(arena, inv, folder) + 1);
    size_t count = region->def->volume->fills.count;
    bool *fills = mos_alloc_array(arena, count + 1, sizeof *fills);
    struct mos_buf out = {.arena = arena};
    note_fills(inv, folder, fills);
    for (size_t i = 0; i < count; i++) {
        const struct mos_fill *f = mos_plan_fill_at(region, (unsigned)i);
        if (!fills[i] || (!mos_has(f->archive) && !mos_has(f->folder) && !mos_has(f->piece)))
            continue;
        const char *text = lines_of(plan, subject, region, f, path);
        if (!text)
            return NULL;
        mos_buf_text(&out, text);
    }
    return mos_buf_string(&out);
}

bool mos_plan_modules(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t folder,
                      struct mos_vec *out) {
    const char *text = all_lines(plan, &modules, region, folder);
    if (text)
        read_lines(plan->ctx->arena, text, out);
    return text != NULL;
}

bool mos_plan_units(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t folder,
                    struct mos_vec *out) {
    const char *text = all_lines(plan, &units, region, folder);
    for (const char *line = text; line && *line;) {
        size_t n = strcspn(line, "\n"), name = strcspn(line, " \n");
        if (name < n)
            *(struct mos_unit_fact *)mos_vec_push(out) = (struct mos_unit_fact){
                mos_strndup(plan->ctx->arena, line, name),
                mos_strndup(plan->ctx->arena, line + name + 1, n - name - 1)};
        line += n + (line[n] == '\n');
    }
    return text != NULL;
}

/* A new module begins with its path; what follows is of it.  Of two at one path the later fill's is
 * there in the end. */
void mos_plan_read_module_names(struct mos_arena *arena, const char *text, struct mos_vec *out) {
    struct mos_indexed_module *m = NULL;
    struct mos_map by_path = mos_map_make(arena);
    for (size_t n; *text; text += n + (text[n] == '\n')) {
        n = strcspn(text, "\n");
        if (!n)
            continue;
        const char *word = mos_strndup(arena, text + 1, n - 1);
        if (*text == 'm') {
            m = mos_alloc(arena, sizeof *m);
            *m = (struct mos_indexed_module){.name = mos_module_name(arena, word), .path = word};
            struct mos_vec *lists[] = {&m->needs, &m->aliases, &m->soft,
                                       &m->weak,  &m->symbols, &m->tables};
            for (size_t i = 0; i < sizeof lists / sizeof *lists; i++)
                *lists[i] = mos_vec_make(arena, sizeof(char *));
            mos_map_set(&by_path, word, m);
            continue;
        }
        struct mos_vec *to = !m             ? NULL
                             : *text == 'n' ? &m->needs
                             : *text == 'a' ? &m->aliases
                             : *text == 'f' ? &m->soft
                             : *text == 'w' ? &m->weak
                             : *text == 'y' ? &m->symbols
                             : *text == 'c' ? &m->tables
                                            : NULL;
        if (to)
            mos_vec_push_pointer(to, word);
    }
    for (size_t i = 0; i < by_path.count; i++)
        mos_vec_push_pointer(out, by_path.items[i].value);
}

const char *mos_plan_module_names(struct mos_plan *plan, const struct mos_region_plan *region,
                                  uint32_t folder) {
    return all_lines(plan, &module_names, region, folder);
}
