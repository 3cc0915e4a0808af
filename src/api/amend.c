/* amend: a new image from one that is there, with files, regions or variables exchanged.  What is
 * not named stays byte for byte. */
#include "api/amend_internal.h"

#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"

#include <errno.h>
#include <string.h>

enum { PIECE = 1 << 20 };

static bool wrong(struct amend *a, const struct change *c, const char *why) {
    return mos_fail(&a->m->error, MOS_ERROR_USAGE, 0, "%s: %s", c->text, why);
}

static bool parse(struct amend *a, const char *text, struct change *c) {
    struct mos_arena *arena = a->m->arena;
    size_t n = strcspn(text, ":=");
    *c = (struct change){.text = text, .region = mos_strndup(arena, text, n)};
    if (text[n] == ':') {
        const char *path = text + n + 1, *equals = strchr(path, '=');
        c->removes = *path == '~';
        if (c->removes == (equals != NULL) && !c->removes)
            return wrong(a, c, "a change is REGION:PATH=FILE, REGION:~PATH or REGION=FILE");
        c->path = c->removes ? path + 1 : mos_strndup(arena, path, (size_t)(equals - path));
        c->from = c->removes ? NULL : equals + 1;
    } else if (text[n] == '=') {
        c->from = text + n + 1;
    } else {
        return wrong(a, c, "a change is REGION:PATH=FILE, REGION:~PATH or REGION=FILE");
    }
    if (c->path && !*c->path)
        return wrong(a, c, "the path is empty");
    c->span = survey_find(&a->s, c->region);
    if (c->span && c->span->held)
        return mos_fail(
            &a->m->error, MOS_ERROR_SAFETY, 0,
            "%s cannot be changed: volumes in %s are only read.  Take it, change it and "
            "build the whole again",
            survey_name(&a->s, c->span), c->span->holder);
    return c->span != NULL;
}

static void touched(struct amend *a, const struct change *c, const char *path) {
    *(struct amend_touched *)mos_vec_push(&a->touched) =
        (struct amend_touched){c->span, mos_strdup(a->m->arena, path), c->removes};
}

static void row(struct amend *a, const struct change *c, const char *thing, const char *before,
                const char *after) {
    cell_text(&a->report, survey_name(&a->s, c->span));
    cell_text(&a->report, thing);
    cell_text(&a->report, before);
    cell_text(&a->report, after);
}

/* ---- the copy ---- */

static bool copy_all(struct amend *a) {
    const struct mos_host *h = a->m->ctx.host;
    uint8_t *piece = mos_alloc(a->m->arena, PIECE);
    struct mos_io *from = &a->s.io;
    int e = h->resize(h, a->file, from->size);
    for (uint64_t at = 0, data, hole; !e && at < from->size;) {
        e = mos_io_next_data(from, at, &data, &hole);
        for (at = data; !e && at < hole;) {
            size_t n = (size_t)mos_min(PIECE, hole - at);
            e = mos_io_read(from, piece, n, at);
            if (!e)
                e = h->pwrite(h, a->file, piece, n, at);
            at += n;
        }
    }
    return e ? mos_fail(&a->m->error, MOS_ERROR_SYSTEM, e, "Cannot copy %s to %s", a->s.path,
                        a->part)
             : true;
}

/* ---- one change ---- */

/* The host file of a change as bytes, and whether it may be executed there; close *file. */
static bool open_content(struct amend *a, const struct change *c, int *file, struct mos_io *out,
                         bool *executable) {
    const struct mos_host *h = a->m->ctx.host;
    struct mos_file_info info;
    run_allow(a->m, c->from, MOS_REACH_READ);
    int e = h->open(h, c->from, MOS_OPEN_READ, file);
    if (e)
        return mos_fail(&a->m->error, MOS_ERROR_USAGE, e, "Cannot open %s", c->from);
    e = h->file_info(h, *file, &info);
    if (!e && info.kind == MOS_FILE_FOLDER)
        e = EISDIR;
    if (e) {
        h->close(h, *file);
        return mos_fail(&a->m->error, MOS_ERROR_USAGE, e, "Cannot read %s", c->from);
    }
    *out = mos_io_file(a->m->arena, h, *file, info.size);
    *executable = info.mode & 0111;
    return true;
}

/* How far a span may reach: a partition's own length, else up to what comes behind it. */
static uint64_t room_of(const struct amend *a, const struct survey_span *x) {
    uint64_t end = a->s.io.size;
    if (x->partition || a->s.spans.count == 1)
        return x->length;
    for (size_t i = 0; i < a->s.spans.count; i++) {
        const struct survey_span *o = mos_vec_at(&a->s.spans, i);
        if (o->start > x->start)
            end = mos_min(end, o->start);
    }
    if (a->s.driver)
        for (size_t i = 0; i < a->s.table_span_count; i++)
            if (a->s.table_spans[i].start > x->start)
                end = mos_min(end, a->s.table_spans[i].start);
    return end - x->start;
}

static bool exchange_region(struct amend *a, const struct change *c) {
    struct mos_io content;
    int file;
    bool executable;
    uint8_t *piece = mos_alloc(a->m->arena, PIECE);
    uint64_t room = room_of(a, c->span);
    if (!open_content(a, c, &file, &content, &executable))
        return false;
    int e = 0;
    if (content.size > room)
        mos_fail(&a->m->error, MOS_ERROR_USAGE, 0, "%s has %s; region %s has room for %s", c->from,
                 mos_size_exact(a->m->arena, content.size), survey_name(&a->s, c->span),
                 mos_size_exact(a->m->arena, room));
    uint64_t end = mos_max(content.size, c->span->length); /* what was there becomes zero */
    for (uint64_t at = 0; !e && !a->m->error.kind && at < end; at += PIECE) {
        size_t n = (size_t)mos_min(PIECE, end - at),
               have = (size_t)mos_min(n, content.size > at ? content.size - at : 0);
        memset(piece + have, 0, n - have);
        e = have ? mos_io_read(&content, piece, have, at) : 0;
        if (!e)
            e = mos_io_write(&a->io, piece, n, c->span->start + at);
    }
    a->m->ctx.host->close(a->m->ctx.host, file);
    if (e)
        mos_fail(&a->m->error, MOS_ERROR_SYSTEM, e, "Cannot write region %s of %s", c->region,
                 a->part);
    row(a, c, "the whole region", mos_size_about(a->m->arena, c->span->length),
        mos_size_text(a->m->arena, content.size));
    return !a->m->error.kind;
}

static bool change_variable(struct amend *a, const struct change *c) {
    struct survey_span *x = (struct survey_span *)c->span;
    const struct mos_loader_variable *before = mos_map_get(&x->variables, c->path);
    struct mos_map next = mos_map_make(a->m->arena);
    struct mos_buf block = {.arena = a->m->arena};
    if (c->removes && !before)
        return wrong(a, c, "there is no such variable");
    for (size_t i = 0; i < x->variables.count; i++)
        if (strcmp(x->variables.items[i].key, c->path) != 0)
            mos_map_set(&next, x->variables.items[i].key, x->variables.items[i].value);
    if (!c->removes)
        mos_variables_set(a->m->arena, &next, c->path, c->from, (struct mos_place){0});
    x->variables = next;
    if (x->dialect->stored->size(&next, x->flag_byte) > x->environment_size)
        return wrong(a, c, "the environment is full");
    x->dialect->stored->write(&block, &next, x->environment_size, x->flag_byte);
    uint8_t flag = 0;
    size_t flag_at = x->dialect->stored->flag_at;
    if (x->flag_byte && !mos_io_read(&a->s.io, &flag, 1, x->start + flag_at))
        block.data[flag_at] = (char)flag; /* which copy is the newer one stays */
    int e = mos_io_write(&a->io, block.data, block.length, x->start);
    row(a, c, c->path, before ? before->value : "not set", c->removes ? "removed" : c->from);
    return e ? mos_fail(&a->m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", a->part) : true;
}

static bool change_file(struct amend *a, const struct change *c, struct mos_editor *editor);

/* A folder of the host, or (to be removed) of the volume: all files below it, a row for all. */
static bool change_folder(struct amend *a, const struct change *c, const char *path,
                          struct mos_editor *editor, bool *was_one) {
    struct mos_file_info info;
    struct mos_vec files = mos_vec_make(a->m->arena, sizeof(struct amend_file));
    if (!c->removes) {
        run_allow(a->m, c->from, MOS_REACH_READ);
        int e = a->m->ctx.host->info(a->m->ctx.host, c->from, true, &info);
        *was_one = !e && info.kind == MOS_FILE_FOLDER;
        if (!*was_one)
            return true;
    }
    if (!(c->removes ? amend_list_volume(a, c->span, path, &files)
                     : amend_list_folder(a, c, &files)))
        return false;
    *was_one = files.count != 0 || !c->removes;
    if (!*was_one)
        return true;
    if (!files.count)
        return wrong(a, c, "there is no file in this folder");
    size_t rows = a->report.cells.count;
    for (size_t i = 0; i < files.count; i++) {
        const struct amend_file *f = mos_vec_at(&files, i);
        const struct change one = {.text = c->text,
                                   .region = c->region,
                                   .path = *path ? mos_printf(a->m->arena, "%s/%s", path, f->path)
                                                 : f->path,
                                   .from = f->from,
                                   .removes = c->removes,
                                   .span = c->span};
        if (!change_file(a, &one, editor))
            return false;
    }
    a->report.cells.count = rows; /* one row for all of them */
    row(a, c, mos_printf(a->m->arena, "/%s", path), "",
        mos_printf(a->m->arena, c->removes ? "%zu file%s removed" : "%zu file%s", files.count,
                   files.count == 1 ? "" : "s"));
    return true;
}

static bool change_file(struct amend *a, const struct change *c, struct mos_editor *editor) {
    struct mos_buf normal = {.arena = a->m->arena};
    const char *path = mos_entry_path(&normal, c->path);
    uint64_t before = 0;
    struct mos_io content;
    int file;
    bool executable;
    bool folder = false;
    if (!path)
        return wrong(a, c, "this is no path of a file");
    path = mos_strdup(a->m->arena, path);
    if (!change_folder(a, c, path, editor, &folder) || folder)
        return !a->m->error.kind;
    if (!*path)
        return wrong(a, c, "this is no path of a file");
    touched(a, c, path);
    if (c->removes) {
        if (!editor->remove(editor, path, &before))
            return false;
        row(a, c, mos_printf(a->m->arena, "/%s", path), mos_size_text(a->m->arena, before),
            "removed");
        return true;
    }
    if (!open_content(a, c, &file, &content, &executable))
        return false;
    bool ok = editor->put(editor, path, &content, executable ? 0755 : 0644, &before);
    a->m->ctx.host->close(a->m->ctx.host, file);
    if (ok)
        row(a, c, mos_printf(a->m->arena, "/%s", path),
            before == UINT64_MAX ? "not there" : mos_size_text(a->m->arena, before),
            mos_size_text(a->m->arena, content.size));
    return ok;
}

/* All file changes of one region, in the order they were given. */
static bool change_volume(struct amend *a, const struct survey_span *x) {
    struct mos_io *window = mos_alloc(a->m->arena, sizeof *window);
    const char *why = NULL;
    *window = mos_io_window(a->m->arena, &a->io, x->start, x->length);
    struct mos_editor *editor =
        x->volume.driver->edit(&a->m->ctx, window, mos_date(&a->m->ctx), &why);
    if (!editor)
        return mos_fail(&a->m->error, MOS_ERROR_USAGE, 0, "Region %s cannot be changed: %s",
                        survey_name(&a->s, x), why ? why : "it is damaged.");
    for (size_t i = 0; i < a->changes.count; i++) {
        const struct change *c = mos_vec_at(&a->changes, i);
        if (c->span == x && c->path && !change_file(a, c, editor))
            return false;
    }
    return editor->finish(editor) && amend_renew_index(a, x);
}

static bool change_all(struct amend *a) {
    for (size_t i = 0; i < a->changes.count; i++) {
        const struct change *c = mos_vec_at(&a->changes, i);
        bool again = false; /* its region had its turn */
        for (size_t k = 0; k < i; k++)
            again |= ((struct change *)mos_vec_at(&a->changes, k))->span == c->span;
        if (!c->path) {
            if (!exchange_region(a, c))
                return false;
        } else if (c->span->environment_size) {
            if (!change_variable(a, c))
                return false;
        } else if (!c->span->has_volume || !c->span->volume.driver ||
                   !c->span->volume.driver->edit) {
            return wrong(a, c, "this region has no file system that can be changed");
        } else if (!again && !change_volume(a, c->span)) {
            return false;
        }
    }
    return true;
}

/* A table of which one copy was damaged is written again from the good one. */
static bool mend_table(struct amend *a) {
    if (!a->s.driver || !a->s.table.mendable)
        return true;
    const char *why;
    int e = mos_table_write(a->s.driver, &a->io, &a->s.table, a->m->arena, &why);
    if (e)
        return mos_fail(&a->m->error, MOS_ERROR_SYSTEM, e, "Cannot write the table of %s", a->part);
    cell_text(&a->report, a->s.driver->title);
    cell_text(&a->report, a->s.table.unseen ? "the MBR and both copies of the table"
                                            : "both copies of the table");
    cell_text(&a->report, a->s.table.unseen ? "nobody would look for it" : "one was damaged");
    cell_text(&a->report, "fixed");
    return true;
}

static bool was_there(const struct amend *a, const char *problem) {
    for (size_t i = 0; i < a->s.problems.count; i++)
        if (strcmp(mos_vec_pointer(&a->s.problems, i), problem) == 0)
            return true;
    return false;
}

/* What was made is looked at as any image: nothing may be wrong that was right before. */
static bool look_again(struct amend *a) {
    if (!survey_open_like(a->m, a->part, &a->s, &a->made))
        return false;
    bool found = amend_find_stale(a);
    survey_note_trouble(&a->made, &a->made.problems);
    const char *new = NULL;
    for (size_t i = 0; i < a->made.problems.count && !new; i++)
        if (!was_there(a, mos_vec_pointer(&a->made.problems, i)))
            new = mos_vec_pointer(&a->made.problems, i);
    survey_close(&a->made);
    if (!found)
        return false;
    return !new ||
           mos_fail(&a->m->error, MOS_ERROR_SYSTEM, 0, "The changed image is not sound: %s", new);
}

static bool make(struct amend *a) {
    const struct mos_host *h = a->m->ctx.host;
    struct mos_out out;
    if (!mos_out_open(&out, &a->m->ctx, a->to, true))
        return false;
    a->file = out.file;
    a->part = out.part;
    a->io = mos_io_file(a->m->arena, h, a->file, a->s.io.size);
    bool ok = copy_all(a) && change_all(a) && mend_table(a) && look_again(a);
    if (ok)
        return mos_out_commit(&out, a->s.io.size, true);
    mos_out_abandon(&out);
    return false;
}

static void amend(struct amend *a, const char *const *changes, size_t count) {
    static const struct mosaicum_column columns[] = {{"region", "region", false},
                                                     {"thing", "changed", false},
                                                     {"before", "before", false},
                                                     {"after", "after", false}};
    a->changes = mos_vec_make(a->m->arena, sizeof(struct change));
    a->stale = mos_vec_make(a->m->arena, sizeof(struct amend_stale));
    a->touched = mos_vec_make(a->m->arena, sizeof(struct amend_touched));
    for (size_t i = 0; i < count; i++) {
        struct change *c = mos_vec_push(&a->changes);
        if (!parse(a, changes[i], c))
            return;
    }
    a->report = report_start(&a->m->report, "changes", NULL, columns, 4);
    if (!make(a))
        return;
    a->report.table.title =
        mos_printf(a->m->arena, "%s, %s", a->to, mos_size_text(a->m->arena, a->s.io.size));
    report_end(&a->m->report, &a->report);
    amend_report_stale(a);
    survey_report_problems(&a->made); /* what was wrong before, and still is */
}

enum mosaicum_status mosaicum_amend(mosaicum *m, const char *image, const char *const *changes,
                                    size_t count, const char *to) {
    struct amend *a;
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    a = mos_alloc(m->arena, sizeof *a);
    *a = (struct amend){.m = m, .to = to};
    run_allow(m, image, MOS_REACH_READ);
    run_allow(m, to, MOS_REACH_READ | MOS_REACH_WRITE);
    if (strcmp(to, "-") == 0)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "amend goes back and forth in the new image: name a file with -o");
    else if (survey_open(m, image, &a->s)) {
        amend(a, changes, count);
        survey_close(&a->s);
    }
    return run_status(m);
}
