/* inspect --files: every file of every volume that can be read. */
#include "api/survey.h"

#include "base/text.h"
#include "content/attributes.h"
#include "content/content.h"

#include <string.h>

static const struct mosaicum_column columns[] = {
    {"path", "path", false},   {"kind", "kind", false},       {"size", "size", true},
    {"mode", "mode", true},    {"owner", "owner", true},      {"to", "to", false},
    {"extra", "extra", false}, {"changed", "changed", false},
};
enum { COLUMNS = sizeof columns / sizeof *columns };

/* The rows of one volume: what was found, kept small; see content/index-form.h. */
struct listing {
    struct mosaicum_rows rows;
    struct mos_index *index;
    uint64_t files; /* without the root folder */
};

/* Making them. */
struct making {
    struct report_table row;
    struct mos_arena *arena; /* of some rows: each would keep its texts otherwise */
    size_t made;
    bool (*to)(void *self, const struct mosaicum_cell *cells);
    void *self;
};
enum { ROWS_AN_ARENA = 256 };

static const char *kind_text(enum mos_entry_type type) {
    static const char *const names[] = {
        [MOS_ENTRY_FILE] = "",          [MOS_ENTRY_FOLDER] = "folder",
        [MOS_ENTRY_LINK] = "link",      [MOS_ENTRY_HARD_LINK] = "same file",
        [MOS_ENTRY_CHAR] = "character", [MOS_ENTRY_BLOCK] = "block",
        [MOS_ENTRY_FIFO] = "pipe",      [MOS_ENTRY_SOCKET] = "socket"};
    return names[type];
}

/* "2026-11-23" of seconds since 1970. */
static const char *date_text(struct mos_arena *arena, int64_t seconds) {
    int64_t year, month, day;
    mos_date_of_days(seconds / 86400 - (seconds % 86400 < 0), &year, &month, &day);
    return mos_printf(arena, "%04lld-%02lld-%02lld", (long long)year, (long long)month,
                      (long long)day);
}

static bool make_row(void *self, const struct mos_entry *e) {
    struct making *x = self;
    struct report_table *t = &x->row;
    if (!*e->path) /* the root folder says nothing of its own */
        return true;
    if (x->made++ % ROWS_AN_ARENA == 0) {
        struct mos_arena *fresh = mos_arena_child(x->arena);
        mos_arena_free(t->cells.arena);
        t->cells = mos_vec_make(fresh, sizeof(struct mosaicum_cell));
    }
    struct mos_arena *arena = t->cells.arena;
    bool file = e->type == MOS_ENTRY_FILE, device = e->type == MOS_ENTRY_CHAR;
    device |= e->type == MOS_ENTRY_BLOCK;
    t->cells.count = 0;
    cell_text(t, e->path);
    cell_text(t, kind_text(e->type));
    if (file)
        cell_size(t, e->size);
    else
        cell_text(t, NULL);
    cell_text(t, mos_printf(arena, "%04o", e->mode));
    cell_text(t, mos_printf(arena, "%u:%u", (unsigned)e->uid, (unsigned)e->gid));
    cell_text(t, device       ? mos_printf(arena, "%u, %u", e->major, e->minor)
                 : *e->target ? e->target
                              : NULL);
    cell_text(t, mos_attribute_names(arena, e->attributes, e->attributes_length));
    cell_text(t, date_text(arena, e->mtime));
    return x->to(x->self, t->cells.items);
}

static bool make_rows(mosaicum *m, const struct mosaicum_rows *rows,
                      bool (*row)(void *to, const struct mosaicum_cell *cells), void *to) {
    const struct listing *l = (const struct listing *)rows;
    struct making x = {.arena = m->arena, .to = row, .self = to};
    struct mos_sink sink = {&x, make_row, mos_ignore_data, mos_ignore_end};
    bool good = mos_index_replay(&m->ctx, l->index, &sink);
    mos_arena_free(x.row.cells.arena);
    return good;
}

static bool count_entry(void *self, const struct mos_entry *e) {
    struct listing *l = self;
    l->files += *e->path != 0;
    return true;
}

static bool list_files(struct survey *s, const struct survey_span *x) {
    struct listing *l = mos_alloc(s->m->arena, sizeof *l);
    const char *name = survey_name(s, x);
    l->rows.make = make_rows;
    l->index = mos_index_new(&s->m->ctx);
    struct mos_sink counter = {l, count_entry, mos_ignore_data, mos_ignore_end},
                    sink = mos_index_recorder(l->index, &counter);
    struct mos_read_request request = {.sink = &sink, .wants = mos_wants_no_data};
    if (!survey_stream(s, x, &request))
        return false;
    const char *key = mos_printf(s->m->arena, "files %s", name),
               *title = mos_printf(s->m->arena, "%s, %s: %llu entries", name, x->volume.kind,
                                   (unsigned long long)l->files);
    struct report_table t = report_start(&s->m->report, key, title, columns, COLUMNS);
    report_end_later(&s->m->report, &t, &l->rows, (size_t)l->files);
    return true;
}

bool inspect_files(struct survey *s) {
    const struct survey_span *x;
    for (size_t i = 0; (x = survey_at(s, i)); i++)
        if (survey_has_files(x) && !list_files(s, x))
            return false;
    return true;
}
