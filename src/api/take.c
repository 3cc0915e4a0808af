/* take: copies a file, a folder (as an archive) or a whole region out of an image. */
#include "api/survey.h"

#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"

#include <errno.h>
#include <string.h>

enum { PIECE = 1 << 20 };

/* Where a file goes that is taken out.  A name that comes from the image becomes one of the current
 * folder; one that the user gave is used as it is. */
static const char *named_after(mosaicum *m, const char *name, const char *ending) {
    const char *path = mos_file_name(m->arena, mos_printf(m->arena, "%s%s", name, ending));
    run_allow(m, path, MOS_REACH_READ | MOS_REACH_WRITE);
    return path;
}

/* The folders on the way to what the user named are made. */
static bool make_way(mosaicum *m, const char *to) {
    const struct mos_host *h = m->ctx.host;
    const char *folder = to && strcmp(to, "-") != 0 ? mos_path_folder(m->arena, to) : NULL;
    if (!folder || mos_exists(&m->ctx, folder))
        return true;
    run_allow(m, folder, MOS_REACH_READ | MOS_REACH_WRITE);
    int e = h->make_folder(h, folder);
    return !e || mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot make the folder %s", folder);
}

static bool put(mosaicum *m, struct mos_out *o, const void *bytes, size_t length, uint64_t offset) {
    int e = mos_out_write(o, bytes, length, offset);
    return e ? mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", o->path) : true;
}

/* Names it when all went well, else leaves nothing. */
static bool end_output(struct mos_out *o, bool good, uint64_t size) {
    if (good)
        return mos_out_commit(o, size, true);
    mos_out_abandon(o);
    return false;
}

/* ---- regions ---- */

static bool copy_span(struct survey *s, const struct survey_span *x, struct mos_out *o) {
    struct mos_io window = survey_window(s, x);
    uint8_t *piece = mos_alloc(s->m->arena, PIECE);
    for (uint64_t at = 0, data, hole; at < window.size;) {
        int e = mos_io_next_data(&window, at, &data, &hole);
        for (at = data; !e && at < hole;) {
            size_t n = (size_t)mos_min(PIECE, hole - at);
            e = mos_io_read(&window, piece, n, at);
            if (!e && !put(s->m, o, piece, n, at))
                return false;
            at += n;
        }
        if (e)
            return mos_fail(&s->m->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", s->path);
    }
    return true;
}

/* ---- files ---- */

/* Passes on what lies at a path, or below it. */
struct pick {
    mosaicum *m;
    const char *path; /* in normal form */
    size_t length;
    const char *to;      /* -o, or NULL */
    struct mos_sink tar; /* a folder's */
    struct mos_tar *archive;
    struct mos_out out; /* a file's */
    const char *made;   /* the path of what is written */
    uint64_t size;      /* of the file */
    bool begun, passing;
    bool looking;       /* the first time through: what is it? */
    bool is_folder;     /* a folder, also one that only its files tell of */
    size_t files, seen; /* entries with just that path; the last of several counts */
    bool outside_links; /* with hard links to what is not in it */
};

static bool inside(const struct pick *p, const char *path) {
    return strncmp(path, p->path, p->length) == 0 &&
           (!p->length || path[p->length] == 0 || path[p->length] == '/');
}

static const char *base_name(const char *path) {
    const char *slash = strrchr(path, '/');
    return slash ? slash + 1 : path;
}

static bool begin_folder(struct pick *p) {
    const char *name = *p->path ? base_name(p->path) : "root";
    const char *to = p->to ? p->to : named_after(p->m, name, ".tar");
    if (!strstr(base_name(to), ".tar") && strcmp(to, "-") != 0)
        return mos_fail(&p->m->error, MOS_ERROR_USAGE, 0,
                        "/%s is a folder: it is taken as an archive, so that owners, modes "
                        "and links stay; name one with -o (NAME.tar, .tar.gz, .tar.zst)",
                        p->path);
    p->made = to;
    p->archive = mos_tar_new(&p->m->ctx, to, &p->tar);
    return p->archive != NULL;
}

static bool begin_file(struct pick *p, const struct mos_entry *e) {
    if (e->type == MOS_ENTRY_LINK)
        return mos_fail(&p->m->error, MOS_ERROR_USAGE, 0, "/%s is a link to %s; take that instead",
                        e->path, e->target);
    if (e->type != MOS_ENTRY_FILE)
        return mos_fail(&p->m->error, MOS_ERROR_USAGE, 0, "/%s is a device, pipe or socket",
                        e->path);
    p->size = e->size;
    p->made = p->to ? p->to : named_after(p->m, base_name(e->path), "");
    return mos_out_open(&p->out, &p->m->ctx, p->made, true);
}

static void look_at_entry(struct pick *p, const struct mos_entry *e) {
    bool itself = e->path[p->length] == 0;
    p->is_folder |= e->type == MOS_ENTRY_FOLDER || !itself || !p->length;
    p->files += itself && e->type != MOS_ENTRY_FOLDER;
    p->outside_links |= e->type == MOS_ENTRY_HARD_LINK && !inside(p, e->target);
}

static bool take_entry(void *self, const struct mos_entry *e) {
    struct pick *p = self;
    p->passing = inside(p, e->path);
    if (p->passing && p->looking)
        look_at_entry(p, e);
    if (!p->passing || p->looking)
        return true;
    if (!p->is_folder) {
        p->passing = ++p->seen == p->files;
        p->begun |= p->passing;
        return !p->passing || begin_file(p, e);
    }
    struct mos_entry moved = *e; /* paths begin with the folder that is taken */
    size_t cut = p->length - strlen(base_name(p->path));
    moved.path = e->path + cut;
    if (e->type == MOS_ENTRY_HARD_LINK)
        moved.target = e->target + cut;
    return p->tar.entry(p->tar.self, &moved);
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct pick *p = self;
    if (!p->passing || p->looking)
        return true;
    return p->archive ? p->tar.data(p->tar.self, offset, bytes, length)
                      : put(p->m, &p->out, bytes, length, offset);
}

static bool take_end(void *self, uint64_t sum) {
    struct pick *p = self;
    return !p->passing || p->looking || !p->archive || p->tar.end(p->tar.self, sum);
}

static bool wants(void *self, const struct mos_entry *e) {
    const struct pick *p = self;
    return !p->looking && inside(p, e->path);
}

/* Half a file under its name would look whole: what cannot be read is not taken. */
static bool taken_whole(struct survey *s, const struct pick *p, bool lost) {
    const char *first = s->problems.count ? mos_vec_pointer(&s->problems, 0) : "";
    if (s->trouble.errnum || lost)
        return mos_fail(&s->m->error, MOS_ERROR_SYSTEM, s->trouble.errnum,
                        "/%s is not taken, for it cannot be read whole%s%s", p->path,
                        *first ? ": " : "", first);
    return true;
}

static bool copy_path(struct survey *s, const struct survey_span *x, const char *path,
                      struct pick *p) {
    struct mos_buf normal = {.arena = s->m->arena};
    const char *clean = mos_entry_path(&normal, path);
    if (!x->has_volume || !x->volume.driver)
        return mos_fail(&s->m->error, MOS_ERROR_USAGE, 0,
                        "Region %s has no file system that can be read; without :%s it is taken "
                        "whole",
                        survey_name(s, x), path);
    if (!clean)
        return mos_fail(&s->m->error, MOS_ERROR_USAGE, 0, "%s has .. in it", path);
    p->path = clean;
    p->length = strlen(clean);
    struct mos_sink sink = {p, take_entry, take_data, take_end};
    bool lost = false;
    struct mos_read_request request = {
        .sink = &sink, .wants = wants, .self = p, .within = clean, .lost = &lost};
    p->looking = true;
    if (!survey_stream(s, x, &request))
        return false;
    if (!p->is_folder && !p->files && lost)
        return taken_whole(s, p, true);
    if (!p->is_folder && !p->files)
        return mos_fail(&s->m->error, MOS_ERROR_USAGE, 0, "Region %s has no file /%s",
                        survey_name(s, x), clean);
    if (!make_way(s->m, p->to))
        return false;
    p->looking = false;
    s->problems.count = 0; /* the same ones come again */
    request.whole_links = !p->is_folder || p->outside_links;
    bool ok = (!p->is_folder || begin_folder(p)) && survey_stream(s, x, &request);
    ok = ok && taken_whole(s, p, lost);
    return p->is_folder ? p->archive && mos_tar_end(p->archive, ok)
                        : end_output(&p->out, ok, p->size);
}

/* ---- everything that a region holds ---- */

/* Counts what is worth keeping: all but the root folder and lost+found. */
static bool count_entry(void *self, const struct mos_entry *e) {
    size_t *count = self;
    *count += *e->path && strcmp(e->path, "lost+found") != 0;
    return true;
}

static bool keep_files(struct survey *s, const struct survey_span *x, const char *path,
                       bool *kept) {
    size_t count = 0;
    struct mos_sink counter = {&count, count_entry, mos_ignore_data, mos_ignore_end}, sink;
    struct mos_read_request request = {.sink = &counter, .wants = mos_wants_no_data};
    size_t problems = s->problems.count;
    if (!survey_stream(s, x, &request))
        return false;
    s->problems.count = problems; /* the second time says the same */
    *kept = count != 0;
    if (!count)
        return true;
    struct mos_tar *tar = mos_tar_new(&s->m->ctx, path, &sink);
    request = (struct mos_read_request){.sink = &sink};
    return tar && mos_tar_end(tar, survey_stream(s, x, &request));
}

/* Is there anything but zeros? */
static bool has_bytes(struct survey *s, const struct survey_span *x) {
    struct mos_io window = survey_window(s, x);
    uint8_t *piece = mos_alloc(s->m->arena, PIECE);
    for (uint64_t at = 0, data, hole; at < window.size;) {
        if (mos_io_next_data(&window, at, &data, &hole))
            return false;
        for (at = data; at < hole; at += PIECE) {
            size_t n = (size_t)mos_min(PIECE, hole - at);
            if (mos_io_read(&window, piece, n, at))
                return false;
            if (piece[0] || memcmp(piece, piece + 1, n - 1) != 0)
                return true;
        }
        at = hole;
    }
    return false;
}

bool survey_keep(struct survey *s, const struct survey_span *x, const char *path, bool *kept) {
    const struct mos_host *h = s->m->ctx.host;
    *kept = false;
    int e = h->make_folder(h, mos_path_folder(s->m->arena, path));
    if (e)
        return mos_fail(&s->m->error, MOS_ERROR_SYSTEM, e, "Cannot make the folder of %s", path);
    if (survey_has_files(x))
        return keep_files(s, x, path, kept);
    *kept = has_bytes(s, x);
    struct mos_out o;
    return !*kept || (mos_out_open(&o, &s->m->ctx, path, true) &&
                      end_output(&o, copy_span(s, x, &o), survey_window(s, x).size));
}

static void report(mosaicum *m, const char *what, const char *file) {
    static const struct mosaicum_column columns[] = {
        {"taken", "taken", false}, {"file", "file", false}, {"size", "size", true}};
    struct mos_file_info info;
    if (strcmp(file, "-") == 0 || m->ctx.host->info(m->ctx.host, file, true, &info))
        return; /* standard output has what was asked for, and nothing else */
    struct report_table t = report_start(&m->report, "taken", NULL, columns, 3);
    cell_text(&t, what);
    cell_text(&t, file);
    cell_size(&t, info.size);
    report_end(&m->report, &t);
}

static void take(struct survey *s, const char *what, const char *to) {
    const char *colon = strchr(what, ':');
    char *region = mos_strndup(s->m->arena, what, colon ? (size_t)(colon - what) : strlen(what));
    struct survey_span *x = survey_find(s, region);
    if (!x)
        return;
    if (colon) {
        struct pick p = {.m = s->m, .to = to};
        if (copy_path(s, x, colon + 1, &p))
            report(s->m, mos_printf(s->m->arena, "%s:/%s", survey_name(s, x), p.path), p.made);
        return;
    }
    struct mos_out o;
    const char *path = to ? to : named_after(s->m, *region ? region : "whole", ".img");
    if (make_way(s->m, to) && mos_out_open(&o, &s->m->ctx, path, true) &&
        end_output(&o, copy_span(s, x, &o), survey_window(s, x).size))
        report(s->m, survey_name(s, x), path);
}

enum mosaicum_status mosaicum_take(mosaicum *m, const char *image, const char *what,
                                   const char *to) {
    struct survey s;
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    run_allow(m, image, MOS_REACH_READ);
    run_allow(m, to, MOS_REACH_READ | MOS_REACH_WRITE);
    if (survey_open(m, image, &s)) {
        s.problems.count = 0; /* only what is wrong with what is taken matters here */
        take(&s, what, to);
        survey_report_problems(&s);
        survey_close(&s);
    }
    return run_status(m);
}
