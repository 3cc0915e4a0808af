#include "base/guard.h"

#include <assert.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>

struct place {
    struct place *next;
    const char *path; /* real, absolute */
    size_t length;
    unsigned reach;
};

struct mos_guard {
    struct mos_host host;
    const struct mos_host *real;
    struct mos_arena *arena;
    struct place *places;
};

enum { LONGEST = 4096 };

static const struct mos_guard *of(const struct mos_host *h) {
    return h->user;
}

/* ---- where does a path lead? ---- */

static bool has_dots(const char *path) {
    for (const char *p = path; *p;) {
        size_t n = strcspn(p, "/");
        if (n == 2 && p[0] == '.' && p[1] == '.')
            return true;
        p += n;
        p += *p == '/';
    }
    return false;
}

/* The real, absolute form of a path whose last parts need not exist: what exists of it with its
 * links followed, then the rest as it is.  An errno value. */
static int real_form(const struct mos_host *real, const char *path, char out[LONGEST]) {
    char head[LONGEST];
    size_t n = strlen(path), tail = n; /* path + tail: what does not exist */
    if (!n)
        return ENOENT;
    if (n >= sizeof head)
        return ENAMETOOLONG;
    for (;;) {
        char *found;
        memcpy(head, path, tail);
        head[tail] = 0;
        while (tail > 1 && head[tail - 1] == '/')
            head[--tail] = 0;
        int e = real->real_path(real, tail ? head : ".", &found);
        if (!e) {
            size_t length = strlen(found);
            const char *rest = path + tail + (tail && path[tail] == '/');
            bool fits = length + 1 + strlen(rest) < LONGEST && !has_dots(rest);
            if (fits) {
                memcpy(out, found, length);
                if (*rest && (length == 0 || out[length - 1] != '/'))
                    out[length++] = '/';
                strcpy(out + length, rest);
            }
            free(found);
            return fits ? 0 : MOS_OUT_OF_REACH;
        }
        if ((e != ENOENT && e != ENOTDIR) || !tail || strcmp(head, "/") == 0)
            return e;
        while (tail && path[tail - 1] != '/')
            tail--;
        if (!tail && path[0] == '/')
            tail = 1;
    }
}

/* The same for an entry of a folder: the last name is not followed where it is a link. */
static int entry_form(const struct mos_host *real, const char *path, char out[LONGEST]) {
    const char *slash = strrchr(path, '/'), *name = slash ? slash + 1 : path;
    char folder[LONGEST];
    if (!*name || strcmp(name, ".") == 0 || strcmp(name, "..") == 0)
        return real_form(real, path, out);
    size_t n = slash ? (size_t)(slash - path) : 0;
    if (n >= sizeof folder)
        return ENAMETOOLONG;
    memcpy(folder, path, n);
    folder[n] = 0;
    int e = real_form(real, n ? folder : slash ? "/" : ".", out);
    if (e)
        return e;
    n = strlen(out);
    if (n + 1 + strlen(name) >= LONGEST)
        return ENAMETOOLONG;
    if (out[n - 1] != '/')
        out[n++] = '/';
    strcpy(out + n, name);
    return 0;
}

static bool ends_in_part(const char *text) {
    size_t n = strlen(text);
    return text[0] == '.' && n >= 5 && strcmp(text + n - 5, ".part") == 0 && !strchr(text, '/');
}

static bool reaches(const struct mos_guard *g, const char *path, unsigned reach) {
    for (const struct place *p = g->places; p; p = p->next) {
        if ((p->reach & reach) != reach || strncmp(path, p->path, p->length) != 0)
            continue;
        const char *rest = path + p->length;
        if (!*rest || *rest == '/' || p->path[p->length - 1] == '/' || ends_in_part(rest))
            return true;
    }
    return false;
}

static int may(const struct mos_host *h, const char *path, unsigned reach, bool follow) {
    char form[LONGEST];
    const struct mos_guard *g = of(h);
    int e = follow ? real_form(g->real, path, form) : entry_form(g->real, path, form);
    return e ? e : reaches(g, form, reach) ? 0 : MOS_OUT_OF_REACH;
}

/* ---- the host ---- */

static int guarded_open(const struct mos_host *h, const char *path, enum mos_open_mode mode,
                        int *file) {
    int e = may(h, path, mode == MOS_OPEN_READ ? MOS_REACH_READ : MOS_REACH_WRITE,
                mode != MOS_OPEN_NEW);
    return e ? e : of(h)->real->open(of(h)->real, path, mode, file);
}

static int guarded_info(const struct mos_host *h, const char *path, bool follow,
                        struct mos_file_info *out) {
    int e = may(h, path, MOS_REACH_READ, follow);
    return e ? e : of(h)->real->info(of(h)->real, path, follow, out);
}

static int guarded_list(const struct mos_host *h, const char *path,
                        bool (*each)(void *self, const char *name), void *self) {
    int e = may(h, path, MOS_REACH_READ, true);
    return e ? e : of(h)->real->list(of(h)->real, path, each, self);
}

static int guarded_survey(const struct mos_host *h, const char *path,
                          bool (*each)(void *self, const char *name,
                                       const struct mos_file_info *info),
                          void *self) {
    int e = may(h, path, MOS_REACH_READ, true);
    return e ? e : of(h)->real->survey(of(h)->real, path, each, self);
}

static int guarded_read_link(const struct mos_host *h, const char *path, char *to, size_t size) {
    int e = may(h, path, MOS_REACH_READ, false);
    return e ? e : of(h)->real->read_link(of(h)->real, path, to, size);
}

static int guarded_make_link(const struct mos_host *h, const char *target, const char *path) {
    int e = may(h, path, MOS_REACH_WRITE, false);
    return e ? e : of(h)->real->make_link(of(h)->real, target, path);
}

static int guarded_make_folder(const struct mos_host *h, const char *path) {
    struct mos_file_info info;
    int e = may(h, path, MOS_REACH_WRITE, true);
    if (e == MOS_OUT_OF_REACH && of(h)->real->info(of(h)->real, path, true, &info) == 0 &&
        info.kind == MOS_FILE_FOLDER)
        return 0; /* nothing would be made */
    return e ? e : of(h)->real->make_folder(of(h)->real, path);
}

static int guarded_remove_tree(const struct mos_host *h, const char *path) {
    int e = may(h, path, MOS_REACH_WRITE, false);
    return e ? e : of(h)->real->remove_tree(of(h)->real, path);
}

static int may_both(const struct mos_host *h, const char *a, const char *b) {
    int e = may(h, a, MOS_REACH_WRITE, false);
    return e ? e : may(h, b, MOS_REACH_WRITE, false);
}

static int guarded_rename(const struct mos_host *h, const char *from, const char *to) {
    int e = may_both(h, from, to);
    return e ? e : of(h)->real->rename(of(h)->real, from, to);
}

static int guarded_rename_new(const struct mos_host *h, const char *from, const char *to) {
    int e = may_both(h, from, to);
    return e ? e : of(h)->real->rename_new(of(h)->real, from, to);
}

static int guarded_exchange(const struct mos_host *h, const char *a, const char *b) {
    int e = may_both(h, a, b);
    return e ? e : of(h)->real->exchange(of(h)->real, a, b);
}

static int guarded_lock(const struct mos_host *h, const char *path, const char *name, bool wait,
                        int *file) {
    int e = may(h, path, MOS_REACH_WRITE, false);
    return e ? e : of(h)->real->lock(of(h)->real, path, name, wait, file);
}

/* What follows asks the real host as it is: it names no file, or reads and writes none. */

static void plain_close(const struct mos_host *h, int file) {
    of(h)->real->close(of(h)->real, file);
}

static int plain_pread(const struct mos_host *h, int file, void *to, size_t length, uint64_t offset,
                       size_t *got) {
    return of(h)->real->pread(of(h)->real, file, to, length, offset, got);
}

static int plain_pwrite(const struct mos_host *h, int file, const void *from, size_t length,
                        uint64_t offset) {
    return of(h)->real->pwrite(of(h)->real, file, from, length, offset);
}

static int plain_copy(const struct mos_host *h, int from, uint64_t at, int to, uint64_t to_at,
                      uint64_t length) {
    return of(h)->real->copy(of(h)->real, from, at, to, to_at, length);
}

static int plain_resize(const struct mos_host *h, int file, uint64_t size) {
    return of(h)->real->resize(of(h)->real, file, size);
}

static int plain_sync(const struct mos_host *h, int file) {
    return of(h)->real->sync(of(h)->real, file);
}

static void plain_settle(const struct mos_host *h, int file, uint64_t offset, uint64_t length) {
    of(h)->real->settle(of(h)->real, file, offset, length);
}

static int plain_next_data(const struct mos_host *h, int file, uint64_t from, uint64_t *start,
                           uint64_t *end) {
    return of(h)->real->next_data(of(h)->real, file, from, start, end);
}

static int plain_file_info(const struct mos_host *h, int file, struct mos_file_info *out) {
    return of(h)->real->file_info(of(h)->real, file, out);
}

static int plain_protect(const struct mos_host *h, const char *path, uint32_t mode) {
    int e = may(h, path, MOS_REACH_WRITE, false);
    return e ? e : of(h)->real->protect(of(h)->real, path, mode);
}

static int guarded_own_like(const struct mos_host *h, const char *path, const char *like) {
    int e = may(h, path, MOS_REACH_WRITE, false);
    return e ? e : of(h)->real->own_like(of(h)->real, path, like);
}

static int plain_temporary(const struct mos_host *h, int *file) {
    return of(h)->real->temporary(of(h)->real, file);
}

static int plain_read_input(const struct mos_host *h, void *to, size_t length, size_t *got) {
    return of(h)->real->read_input(of(h)->real, to, length, got);
}

static int plain_sync_folder(const struct mos_host *h, const char *path) {
    return of(h)->real->sync_folder(of(h)->real, path);
}

static int plain_real_path(const struct mos_host *h, const char *path, char **out) {
    return of(h)->real->real_path(of(h)->real, path, out);
}

static int plain_run(const struct mos_host *h, const struct mos_program *program,
                     struct mos_program_result *result) {
    return of(h)->real->run(of(h)->real, program, result);
}

static const char *plain_environment(const struct mos_host *h, const char *name) {
    return of(h)->real->environment(of(h)->real, name);
}

static int64_t plain_now_ns(const struct mos_host *h) {
    return of(h)->real->now_ns(of(h)->real);
}

static int64_t plain_wall_ns(const struct mos_host *h) {
    return of(h)->real->wall_ns(of(h)->real);
}

static int64_t plain_today(const struct mos_host *h) {
    return of(h)->real->today(of(h)->real);
}

static int plain_room(const struct mos_host *h, const char *path, uint64_t *bytes) {
    return of(h)->real->room(of(h)->real, path, bytes);
}

static bool plain_has_program(const struct mos_host *h, const char *name) {
    return of(h)->real->has_program(of(h)->real, name);
}

static unsigned plain_cores(const struct mos_host *h) {
    return of(h)->real->cores(of(h)->real);
}

static struct mos_worker *plain_worker_start(const struct mos_host *h,
                                             void (*work)(void *self, void *job), void *self) {
    return of(h)->real->worker_start(of(h)->real, work, self);
}

struct mos_guard *mos_guard_new(struct mos_arena *arena, const struct mos_host *real) {
    struct mos_guard *g = mos_alloc(arena, sizeof *g);
    *g = (struct mos_guard){.real = real, .arena = arena};
    g->host = (struct mos_host){
        .user = g,
        .wires = real->wires,
        .computer = real->computer, /* has a guard of its own: media/guard.h */
        .open = guarded_open,
        .close = plain_close,
        .pread = plain_pread,
        .pwrite = plain_pwrite,
        .copy = plain_copy,
        .resize = plain_resize,
        .sync = plain_sync,
        .settle = plain_settle,
        .next_data = plain_next_data,
        .info = guarded_info,
        .file_info = plain_file_info,
        .protect = plain_protect,
        .own_like = guarded_own_like,
        .list = guarded_list,
        .survey = guarded_survey,
        .read_link = guarded_read_link,
        .make_link = guarded_make_link,
        .make_folder = guarded_make_folder,
        .remove_tree = guarded_remove_tree,
        .rename = guarded_rename,
        .rename_new = guarded_rename_new,
        .exchange = guarded_exchange,
        .sync_folder = plain_sync_folder,
        .temporary = plain_temporary,
        .read_input = plain_read_input,
        .lock = guarded_lock,
        .real_path = plain_real_path,
        .run = plain_run,
        .environment = plain_environment,
        .now_ns = plain_now_ns,
        .wall_ns = plain_wall_ns,
        .today = plain_today,
        .room = plain_room,
        .has_program = plain_has_program,
        .cores = plain_cores,
        .worker_start = plain_worker_start,
        .worker_submit = real->worker_submit, /* these two know their worker */
        .worker_finish = real->worker_finish,
    };
    return g;
}

const struct mos_host *mos_guard_host(const struct mos_guard *guard) {
    return &guard->host;
}

void mos_guard_allow(struct mos_guard *guard, const char *path, unsigned reach) {
    assert(reach);
    char form[LONGEST];
    if (!guard || !path || real_form(guard->real, path, form))
        return; /* what cannot be resolved cannot be opened either */
    if (reaches(guard, form, reach))
        return;
    struct place *p = mos_alloc(guard->arena, sizeof *p);
    p->path = mos_strdup(guard->arena, form);
    p->length = strlen(form);
    p->reach = reach;
    p->next = guard->places;
    guard->places = p;
    assert(p->length && p->path[0] == '/');
}
