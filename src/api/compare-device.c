/* compare IMAGE DEVICE: is this what was built?  What came by running is told apart from what was
 * edited, and an edit with the change to make in the definition. */
#include "api/compare.h"

#include "base/text.h"
#include "ledger/ledger.h"
#include "linux/running.h"
#include "model/yaml.h"

#include <string.h>

enum { MOST_ROWS = 20 }; /* of files that are fetched one by one */

static bool is(const char *text, const char *other) {
    return strcmp(text, other) == 0;
}

static bool is_file(const struct difference *d) {
    return d->thing && *d->thing == '/';
}

static bool is_variable(const struct difference *d) {
    return d->at && d->at->environment_size && d->thing && !is(d->change, "bytes");
}

/* Why it differs without anybody's edit; NULL: somebody edited it. */
static const char *by_running(const struct difference *d, const struct mos_ledger_region_last *r) {
    if (r && is_variable(d) && mos_map_get(&r->units, d->thing) && d->b)
        return "each board has its own";
    if (r && r->owner && is(r->owner, "device"))
        return "belongs to the running board";
    if (r && r->owner && is(r->owner, "factory"))
        return "belongs to the factory";
    if (r && r->grows && d->larger)
        return "takes what the device has more";
    if (d->equal_files)
        return "the file system's own, all files are equal";
    if (is(d->change, "dates"))
        return "files were used";
    return is_file(d) ? mos_made_by_running(d->thing + 1) : NULL;
}

/* ---- the change to make ---- */

struct advice {
    mosaicum *m;
    struct survey *image, *device;
    struct report_table table;
};

/* "2 (root)" for the command line: the name in it. */
static const char *short_name(struct advice *x, const struct survey_span *at) {
    const struct mos_ledger_region_last *r = survey_region(x->image, at);
    const char *name = r                                       ? r->name
                       : at->partition && *at->partition->name ? at->partition->name
                                                               : NULL;
    struct mos_error ignored = x->m->error;
    const struct survey_span *found = name ? survey_find(x->device, name) : NULL;
    x->m->error = ignored; /* it is a question */
    return found && found->start == at->start ? name : survey_name(x->device, at);
}

static const char *yaml_text(struct mos_arena *arena, const char *text) {
    struct mos_buf b = {.arena = arena};
    mos_yaml_scalar(&b, text);
    return mos_buf_string(&b);
}

static void advise(struct advice *x, const struct survey_span *at, const char *change) {
    const struct mos_ledger_region_last *r = at ? survey_region(x->image, at) : NULL;
    cell_text(&x->table, r && r->from ? r->from : "");
    cell_text(&x->table, at ? survey_name(x->image, at) : "");
    cell_text(&x->table, change);
}

static const char *fetch(struct advice *x, const char *what, const char *to) {
    struct mos_arena *arena = x->m->arena;
    return mos_printf(arena, "mosaicum take %s %s -o %s", mos_shell_word(arena, x->device->path),
                      mos_shell_word(arena, what), mos_shell_word(arena, to));
}

static bool lies_below(const struct difference *d, const struct difference *folder) {
    size_t n = strlen(folder->thing);
    return d->at == folder->at && is_file(d) && d->b && strncmp(d->thing, folder->thing, n) == 0 &&
           d->thing[n] == '/';
}

/* Does another edit lie below it, so that it comes with that? */
static bool has_below(const struct mos_vec *edits, const struct difference *folder) {
    for (size_t i = 0; i < edits->count; i++)
        if (lies_below(mos_vec_pointer(edits, i), folder))
            return true;
    return false;
}

/* Files of one volume: what is fetched, and the fills that bring it. */
static void advise_files(struct advice *x, const struct mos_vec *edits,
                         const struct survey_span *at) {
    struct mos_arena *arena = x->m->arena;
    struct mos_buf gone = {.arena = arena}, only = {.arena = arena};
    const char *name = short_name(x, at);
    size_t come = 0;
    bool archive = false; /* which keeps owners, modes and empty folders */
    for (size_t i = 0; i < edits->count; i++) {
        const struct difference *d = mos_vec_pointer(edits, i);
        if (d->at != at || !is_file(d))
            continue;
        bool folder = d->b && is(d->b, "folder");
        if (folder && has_below(edits, d))
            continue;
        archive |= folder; /* an empty one */
        struct mos_buf *list = is(d->change, "removed") ? &gone : &only;
        mos_buf_printf(list, "%s%s", list->length ? ", " : "", yaml_text(arena, d->thing + 1));
        come += list == &only;
        archive |= is(d->change, "owner or mode");
    }
    if (archive || come > MOST_ROWS) {
        advise(x, at, fetch(x, name, mos_printf(arena, "edits/%s.tar.zst", name)));
        advise(x, at,
               mos_printf(arena,
                          "a piece of it, and behind the other fills: edits: {archive: PIECE, "
                          "replaces: yes, only: [%s]}",
                          mos_buf_string(&only)));
    } else if (come) {
        for (size_t i = 0; i < edits->count; i++) {
            const struct difference *d = mos_vec_pointer(edits, i);
            if (d->at == at && is_file(d) && d->b && !has_below(edits, d))
                advise(x, at,
                       fetch(x, mos_printf(arena, "%s:%s", name, d->thing),
                             mos_printf(arena, "edits/%s%s", name, d->thing)));
        }
        advise(x, at,
               mos_printf(arena, "behind the other fills: edits: {folder: %s, replaces: yes}",
                          yaml_text(arena, mos_printf(arena, "edits/%s", name))));
    }
    if (gone.length)
        advise(
            x, at,
            mos_printf(arena, "in the fill that brings them: except: [%s]", mos_buf_string(&gone)));
}

static void advise_variables(struct advice *x, const struct mos_vec *edits,
                             const struct survey_span *at) {
    struct mos_arena *arena = x->m->arena;
    struct mos_buf set = {.arena = arena};
    for (size_t i = 0; i < edits->count; i++) {
        const struct difference *d = mos_vec_pointer(edits, i);
        if (d->at != at || !is_variable(d))
            continue;
        if (!d->b)
            advise(x, at, mos_printf(arena, "its environment without %s", d->thing));
        else
            mos_buf_printf(&set, "%s%s: %s", set.length ? ", " : "", yaml_text(arena, d->thing),
                           yaml_text(arena, d->b));
    }
    if (set.length)
        advise(x, at, mos_printf(arena, "in its environment: values: {%s}", mos_buf_string(&set)));
}

static void advise_bytes(struct advice *x, const struct mos_vec *edits,
                         const struct survey_span *at) {
    for (size_t i = 0; i < edits->count; i++) {
        const struct difference *d = mos_vec_pointer(edits, i);
        const char *name = short_name(x, at);
        if (d->at != at || is_file(d) || is_variable(d))
            continue;
        if (is(d->change, "bytes"))
            advise(x, at,
                   mos_printf(x->m->arena, "%s, as the region's piece",
                              fetch(x, name, mos_printf(x->m->arena, "edits/%s.bin", name))));
        else if (is(d->change, "removed"))
            advise(x, at, "without it in the layout");
        else
            advise(x, at,
                   mos_printf(x->m->arena, "its %s in the layout as it is there", d->change));
    }
}

static const struct mosaicum_column keep_columns[] = {
    {"from", "stated at", false}, {"region", "region", false}, {"change", "do", false}};

static void report_advice(mosaicum *m, const struct mos_vec *edits, struct survey *image,
                          struct survey *device) {
    struct advice x = {
        m, image, device,
        report_start(&m->report, "keep",
                     "To keep them, in the definition (if the card is of this build: mosaicum list "
                     "--written)",
                     keep_columns, 3)};
    const struct survey_span *last = NULL;
    for (size_t i = 0; i < edits->count; i++) {
        const struct difference *d = mos_vec_pointer(edits, i);
        if (!d->at || d->at == last)
            continue;
        last = d->at; /* they come region by region */
        advise_files(&x, edits, d->at);
        advise_variables(&x, edits, d->at);
        advise_bytes(&x, edits, d->at);
    }
    if (x.table.cells.count)
        report_end(&m->report, &x.table);
}

/* ---- what differs ---- */

static void report_edits(mosaicum *m, const struct mos_vec *edits, struct survey *image,
                         struct survey *device, bool knows_regions) {
    bool unread = image->problems.count || device->problems.count || image->trouble.errnum ||
                  device->trouble.errnum;
    struct mosaicum_column *columns = mos_alloc_array(m->arena, 5, sizeof *columns);
    columns[0] = (struct mosaicum_column){"region", "region", false};
    columns[1] = (struct mosaicum_column){"change", "change", false};
    columns[2] = (struct mosaicum_column){"thing", "thing", false};
    columns[3] = (struct mosaicum_column){"a", image->path, false};
    columns[4] = (struct mosaicum_column){"b", device->path, false};
    size_t n = edits->count;
    const char *title =
        n ? mos_printf(m->arena, "%zu thing%s on %s %s not from this build", n, n == 1 ? "" : "s",
                       device->path, n == 1 ? "is" : "are")
        : unread ? mos_printf(m->arena,
                              "Nothing that was edited was found on %s, but not all is in order",
                              device->path)
                 : mos_printf(m->arena, "%s is what was built: nothing was edited.", device->path);
    if (!knows_regions)
        title = mos_printf(m->arena,
                           "%s (no ledger lies beside %s: regions of the running board are "
                           "not known)",
                           title, image->path);
    struct report_table t = report_start(&m->report, "edited", title, columns, 5);
    for (size_t i = 0; i < edits->count; i++) {
        const struct difference *d = mos_vec_pointer(edits, i);
        cell_text(&t, d->region);
        cell_text(&t, d->change);
        cell_text(&t, d->thing);
        cell_text(&t, d->a);
        cell_text(&t, d->b);
    }
    t.table.alarm = n || unread;
    report_end(&m->report, &t);
}

/* By region and reason: how many, and the first of them. */
struct group {
    const char *region, *why, *thing;
    size_t count;
};

static void report_running(mosaicum *m, const struct mos_vec *groups, size_t count) {
    static const struct mosaicum_column columns[] = {{"region", "region", false},
                                                     {"count", "things", true},
                                                     {"thing", "such as", false},
                                                     {"why", "why", false}};
    struct report_table t =
        report_start(&m->report, "running",
                     mos_printf(m->arena, "%zu thing%s differ%s by running", count,
                                count == 1 ? "" : "s", count == 1 ? "s" : ""),
                     columns, 4);
    for (size_t i = 0; i < groups->count; i++) {
        const struct group *g = mos_vec_at(groups, i);
        cell_text(&t, g->region);
        cell_number(&t, g->count);
        cell_text(&t, g->thing);
        cell_text(&t, g->why);
    }
    report_end(&m->report, &t);
}

static void add_to_group(struct mos_vec *groups, const struct difference *d, const char *why) {
    for (size_t i = 0; i < groups->count; i++) {
        struct group *g = mos_vec_at(groups, i);
        if (is(g->region, d->region) && is(g->why, why)) {
            g->count++;
            return;
        }
    }
    *(struct group *)mos_vec_push(groups) =
        (struct group){.region = d->region, .why = why, .thing = d->thing, .count = 1};
}

/* The same of a new folder, which is as good as what is in it: NULL where that is an edit, or
 * nothing. */
static const char *folder_by_running(const struct mos_vec *list, const struct difference *folder,
                                     struct survey *image) {
    const char *why = NULL;
    if (!is_file(folder) || !is(folder->change, "added") || !is(folder->b, "folder"))
        return NULL;
    for (size_t i = 0; i < list->count; i++) {
        const struct difference *d = mos_vec_at(list, i);
        if (!lies_below(d, folder) || is(d->b, "folder"))
            continue;
        const char *its = by_running(d, survey_region(image, d->at));
        if (!its)
            return NULL;
        why = why ? why : its;
    }
    return why;
}

void compare_report_device(mosaicum *m, const struct mos_vec *list, struct survey *image,
                           struct survey *device) {
    struct mos_vec edits = mos_vec_make(m->arena, sizeof(void *));
    struct mos_vec groups = mos_vec_make(m->arena, sizeof(struct group));
    size_t running = 0;
    for (size_t i = 0; i < list->count; i++) {
        struct difference *d = mos_vec_at(list, i);
        const char *why = by_running(d, d->at ? survey_region(image, d->at) : NULL);
        why = why ? why : folder_by_running(list, d, image);
        running += why != NULL;
        if (is(d->change, "dates"))
            d->thing = mos_printf(m->arena, "dates %s", d->thing);
        if (why)
            add_to_group(&groups, d, why);
        else
            mos_vec_push_pointer(&edits, d);
    }
    report_edits(m, &edits, image, device, !list->count || image->regions.count != 0);
    report_advice(m, &edits, image, device);
    if (running)
        report_running(m, &groups, running);
    m->damaged |= edits.count != 0;
}
