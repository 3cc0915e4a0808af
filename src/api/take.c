/* take: copies a file, a folder (as an archive) or a whole region out of an image. */
#include "api/survey.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <string.h>

enum { PIECE = 1 << 20 };

struct out {
    mosaicum *m;
    const char *path;
    int file;
    uint64_t size;
};

static bool out_open(struct out *o) {
    const struct mos_host *h = o->m->ctx.host;
    int e = h->open(h, o->path, MOS_OPEN_NEW, &o->file);
    if (e == EEXIST)
        return mos_fail(&o->m->error, MOS_ERROR_SAFETY, 0,
                        "%s is there already; name another file with -o", o->path);
    return e ? mos_fail(&o->m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", o->path) : true;
}

/* Gives the file its length and closes it; what is not whole does not stay. */
static bool out_close(struct out *o, bool good) {
    const struct mos_host *h = o->m->ctx.host;
    int e = good ? h->resize(h, o->file, o->size) : 0;
    if (good && !e)
        e = h->sync(h, o->file);
    h->close(h, o->file);
    if (e)
        good = mos_fail(&o->m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", o->path);
    if (!good)
        h->remove_tree(h, o->path);
    return good;
}

static bool out_write(struct out *o, const void *bytes, size_t length, uint64_t offset) {
    const struct mos_host *h = o->m->ctx.host;
    int e = h->pwrite(h, o->file, bytes, length, offset);
    return e ? mos_fail(&o->m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", o->path) : true;
}

/* ---- regions ---- */

static bool copy_span(struct survey *s, const struct survey_span *x, struct out *o) {
    struct mos_io window = survey_window(s, x);
    uint8_t *piece = mos_alloc(s->m->arena, PIECE);
    o->size = window.size;
    for (uint64_t at = 0, data, hole; at < window.size;) {
        int e = mos_io_next_data(&window, at, &data, &hole);
        for (at = data; !e && at < hole;) {
            size_t n = (size_t)mos_min(PIECE, hole - at);
            e = mos_io_read(&window, piece, n, at);
            if (!e && !out_write(o, piece, n, at))
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
    struct out out; /* a file's */
    bool writing;
    bool is_found, passing;
    bool looking;       /* the first time through: what is it? */
    bool is_folder;     /* a folder */
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

static bool begin(struct pick *p, const struct mos_entry *e) {
    struct mos_arena *arena = p->m->arena;
    const char *name = mos_strdup(arena, *e->path ? base_name(e->path) : "root");
    p->is_found = true;
    if (e->type == MOS_ENTRY_FOLDER) {
        const char *to = p->to ? p->to : mos_printf(arena, "%s.tar", name);
        if (!strstr(base_name(to), ".tar"))
            return mos_fail(&p->m->error, MOS_ERROR_USAGE, 0,
                            "/%s is a folder: it is taken as an archive, so that owners, modes "
                            "and links stay; name one with -o (NAME.tar, .tar.gz, .tar.zst)",
                            e->path);
        if (mos_exists(&p->m->ctx, to))
            return mos_fail(&p->m->error, MOS_ERROR_SAFETY, 0,
                            "%s is there already; name another file with -o", to);
        p->out.path = to;
        p->archive = mos_tar_new(&p->m->ctx, to, &p->tar);
        return p->archive != NULL;
    }
    if (e->type == MOS_ENTRY_LINK)
        return mos_fail(&p->m->error, MOS_ERROR_USAGE, 0, "/%s is a link to %s; take that instead",
                        e->path, e->target);
    if (e->type != MOS_ENTRY_FILE)
        return mos_fail(&p->m->error, MOS_ERROR_USAGE, 0, "/%s is a device, pipe or socket",
                        e->path);
    p->out = (struct out){.m = p->m, .path = p->to ? p->to : name, .size = e->size};
    p->writing = out_open(&p->out);
    return p->writing;
}

static bool take_entry(void *self, const struct mos_entry *e) {
    struct pick *p = self;
    p->passing = inside(p, e->path);
    if (p->passing && p->looking) {
        p->is_found = true;
        p->is_folder |= e->type == MOS_ENTRY_FOLDER;
        p->outside_links |= e->type == MOS_ENTRY_HARD_LINK && !inside(p, e->target);
    }
    if (!p->passing || p->looking)
        return true;
    if (!p->is_found && !begin(p, e))
        return false;
    if (!p->archive)
        return true;
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
                      : out_write(&p->out, bytes, length, offset);
}

static bool take_end(void *self, uint64_t sum) {
    struct pick *p = self;
    return !p->passing || p->looking || !p->archive || p->tar.end(p->tar.self, sum);
}

static bool wants(void *self, const struct mos_entry *e) {
    const struct pick *p = self;
    return !p->looking && inside(p, e->path);
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
    struct mos_read_request request = {.sink = &sink, .wants = wants, .self = p};
    p->looking = true;
    if (!survey_stream(s, x, &request))
        return false;
    if (!p->is_found)
        return mos_fail(&s->m->error, MOS_ERROR_USAGE, 0, "Region %s has no file /%s",
                        survey_name(s, x), clean);
    p->looking = p->is_found = false;
    s->problems.count = 0; /* the same ones come again */
    request.whole_links = !p->is_folder || p->outside_links;
    bool ok = survey_stream(s, x, &request);
    if (p->archive)
        ok = mos_tar_end(p->archive, ok);
    else if (p->writing)
        ok = out_close(&p->out, ok);
    return ok;
}

/* ---- everything that a region holds ---- */

bool survey_has_files(const struct survey_span *x) {
    return x->has_volume && x->volume.driver;
}

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
    struct out o = {.m = s->m, .path = path};
    return !*kept || (out_open(&o) && out_close(&o, copy_span(s, x, &o)));
}

static void report(mosaicum *m, const char *what, const char *file, uint64_t size) {
    static const struct mosaicum_column columns[] = {
        {"taken", "taken", false}, {"file", "file", false}, {"size", "size", true}};
    struct report_table t = report_start(m, "taken", NULL, columns, 3);
    cell_text(&t, what);
    cell_text(&t, file);
    cell_size(&t, size);
    report_end(m, &t);
}

static void take(struct survey *s, const char *what, const char *to) {
    const char *colon = strchr(what, ':');
    char *region = mos_strndup(s->m->arena, what, colon ? (size_t)(colon - what) : strlen(what));
    struct survey_span *x = survey_find(s, region);
    if (!x)
        return;
    if (colon) {
        struct pick p = {.m = s->m, .to = to};
        if (copy_path(s, x, colon + 1, &p)) {
            struct mos_file_info info = {0};
            s->m->ctx.host->info(s->m->ctx.host, p.out.path, true, &info);
            report(s->m, mos_printf(s->m->arena, "%s:/%s", survey_name(s, x), p.path), p.out.path,
                   info.size);
        }
        return;
    }
    struct out o = {
        .m = s->m, .path = to ? to : mos_printf(s->m->arena, "%s.img", *region ? region : "whole")};
    if (out_open(&o) && out_close(&o, copy_span(s, x, &o)))
        report(s->m, survey_name(s, x), o.path, o.size);
}

enum mosaicum_status mosaicum_take(mosaicum *m, const char *image, const char *what,
                                   const char *to) {
    struct survey s;
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    if (survey_open(m, image, &s)) {
        s.problems.count = 0; /* only what is wrong with what is taken matters here */
        take(&s, what, to);
        survey_report_problems(&s);
        survey_close(&s);
    }
    return run_status(m);
}
