/* inspect --files: every file of every volume that can be read. */
#include "api/survey.h"

#include "base/text.h"
#include "content/attributes.h"

#include <string.h>

static const struct mosaicum_column columns[] = {
    {"path", "path", false},   {"kind", "kind", false},       {"size", "size", true},
    {"mode", "mode", true},    {"owner", "owner", true},      {"to", "to", false},
    {"extra", "extra", false}, {"changed", "changed", false},
};
enum { COLUMNS = sizeof columns / sizeof *columns };

struct listing {
    mosaicum *m;
    struct report_table table;
    uint64_t files, bytes;
};

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

static bool take_entry(void *self, const struct mos_entry *e) {
    struct listing *l = self;
    struct mos_arena *arena = l->m->arena;
    struct report_table *t = &l->table;
    if (!*e->path) /* the root folder says nothing of its own */
        return true;
    bool file = e->type == MOS_ENTRY_FILE, device = e->type == MOS_ENTRY_CHAR;
    device |= e->type == MOS_ENTRY_BLOCK;
    cell_text(t, mos_strdup(arena, e->path));
    cell_text(t, kind_text(e->type));
    if (file)
        cell_size(t, e->size);
    else
        cell_text(t, NULL);
    cell_text(t, mos_printf(arena, "%04o", e->mode));
    cell_text(t, mos_printf(arena, "%u:%u", (unsigned)e->uid, (unsigned)e->gid));
    cell_text(t, device      ? mos_printf(arena, "%u, %u", e->major, e->minor)
                 : e->target ? mos_strdup(arena, e->target)
                             : NULL);
    cell_text(t, mos_attribute_names(arena, e->attributes, e->attributes_length));
    cell_text(t, date_text(arena, e->mtime));
    l->files++;
    l->bytes += e->size;
    return true;
}

bool inspect_files(struct survey *s) {
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *x = mos_vec_at(&s->spans, i);
        if (!x->has_volume || !x->volume.driver)
            continue;
        struct listing l = {.m = s->m};
        const char *name = survey_name(s, x);
        l.table =
            report_start(s->m, mos_printf(s->m->arena, "files %s", name), NULL, columns, COLUMNS);
        struct mos_sink sink = {&l, take_entry, mos_ignore_data, mos_ignore_end};
        struct mos_read_request request = {.sink = &sink, .wants = mos_wants_no_data};
        if (!survey_stream(s, x, &request))
            return false;
        l.table.table.title = mos_printf(s->m->arena, "%s, %s: %llu entries", name, x->volume.kind,
                                         (unsigned long long)l.files);
        report_end(s->m, &l.table);
    }
    return true;
}
