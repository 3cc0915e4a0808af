/* The files that boards may have: those of their builds, as they were built, and those that their
 * definitions list. */
#include "api/serve.h"

#include "base/address.h"
#include "base/bytes.h"
#include "base/hash.h"
#include "base/text.h"
#include "build/image.h"
#include "ledger/ledger.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { AHEAD = 64 << 10 }; /* the largest block of TFTP */

/* ---- what there is ---- */

static struct mos_ctx ctx_of(struct serve_job *j, struct serve_board *b, struct mos_error *error) {
    struct mos_ctx c = mos_ctx_quiet(&j->m->ctx, error);
    c.arena = b->arena;
    return c;
}

static void add_stated(struct serve_job *j, struct serve_board *b) {
    for (size_t i = 0; i < b->def->serve.count; i++) {
        const struct mos_serve_def *d = b->def->serve.items[i];
        const char *path = mos_workspace_path(&j->m->ctx, b->def->root, d->file->text);
        struct serve_file *f = mos_vec_push(&b->files);
        *f = (struct serve_file){.name = mos_text_or(d->as, d->r.name),
                                 .path = path ? mos_strdup(b->arena, path) : NULL,
                                 .stated = true};
        if (path && j->m->ctx.host->info(j->m->ctx.host, path, true, &f->seen) == 0)
            f->size = f->seen.size;
    }
}

static void add_built(struct serve_board *b, const struct mos_vec *listing) {
    for (size_t i = 0; i < listing->count; i++) {
        const struct mos_ledger_file *l = mos_vec_at(listing, i);
        struct serve_file *f = mos_vec_push(&b->files);
        *f = (struct serve_file){.name = l->name,
                                 .path = mos_path_join(b->arena, b->out, l->name),
                                 .hash = l->hash,
                                 .chunks = l->image,
                                 .size = l->size};
    }
}

/* The list anew, as the ledger is now. */
static void read_ledger(struct serve_job *j, struct serve_board *b) {
    struct mos_error error = {0};
    struct mos_vec listing;
    struct mos_ledger_last last;
    const struct mos_host *host = j->m->ctx.host;
    mos_arena_free(b->arena);
    b->arena = mos_arena_new(&j->m->out_of_memory);
    b->files = mos_vec_make(b->arena, sizeof(struct serve_file));
    b->why = NULL;
    add_stated(j, b);
    struct mos_ctx c = ctx_of(j, b, &error);
    const char *path = mos_path_join(b->arena, b->out, "ledger.json");
    if (host->info(host, path, true, &b->ledger))
        b->ledger = (struct mos_file_info){0};
    if (mos_ledger_last(&c, b->out, &last) && last.stamp &&
        mos_ledger_listing(&c, path, last.stamp, &listing))
        add_built(b, &listing);
    else
        b->why = "it is not built now";
}

static bool same_file(const struct mos_file_info *a, const struct mos_file_info *b) {
    return a->size == b->size && a->mtime_s == b->mtime_s && a->mtime_ns == b->mtime_ns &&
           a->ctime_s == b->ctime_s && a->ctime_ns == b->ctime_ns && a->inode == b->inode &&
           a->device == b->device;
}

/* Somebody has built it once more. */
static void follow_build(struct serve_job *j, struct serve_board *b) {
    struct mos_file_info now;
    const struct mos_host *host = j->m->ctx.host;
    if (host->info(host, mos_path_join(j->scratch, b->out, "ledger.json"), true, &now))
        now = (struct mos_file_info){0};
    if (same_file(&now, &b->ledger))
        return;
    read_ledger(j, b);
    serve_note(j, b->why != NULL,
               mos_printf(j->scratch, "%s: %s", b->selector,
                          b->why ? "what was built of it is gone or is being built"
                                 : "it was built once more: its files are the new ones"));
}

bool serve_load(struct serve_job *j, struct serve_board *b) {
    b->arena = mos_arena_new(&j->m->out_of_memory);
    run_allow(j->m, b->out, MOS_REACH_READ);
    read_ledger(j, b);
    if (b->why)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s is not built: mosaicum build %s",
                        b->selector, b->selector);
    for (size_t i = 0; i < b->files.count; i++) {
        const struct serve_file *f = mos_vec_at(&b->files, i);
        if (f->stated && (!f->path || !f->seen.inode))
            return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                            "%s is to be served as its definition says, and is not there: %s",
                            f->name, f->path ? f->path : "no such root");
    }
    return true;
}

/* ---- which one is meant ---- */

struct serve_board *serve_board_at(struct serve_job *j, uint32_t address) {
    uint8_t ethernet[6];
    struct serve_board *found = NULL;
    bool known = j->wires->neighbour && j->wires->neighbour(j->wires, address, ethernet) == 0;
    for (size_t i = 0; i < j->boards.count; i++) {
        struct serve_board *b = mos_vec_pointer(&j->boards, i);
        bool is_leased = j->leased == address && j->by_dhcp && b->has_ethernet &&
                         memcmp(j->dhcp.ethernet, b->ethernet, sizeof b->ethernet) == 0;
        if (b->has_ethernet &&
            (is_leased || (known && memcmp(ethernet, b->ethernet, sizeof ethernet) == 0)))
            found = b;
    }
    return found ? found : j->boards.count == 1 ? mos_vec_pointer(&j->boards, 0) : NULL;
}

/* What is behind "FOLDER/" of a name; NULL: that is not how it begins. */
static const char *within(const char *name, const char *folder) {
    size_t n = strlen(folder);
    return n && strncmp(name, folder, n) == 0 && name[n] == '/' ? name + n + 1 : NULL;
}

struct hit {
    struct serve_board *board;
    struct serve_file *file;
    bool several;
};

static void look_in(struct hit *h, struct serve_board *b, const char *name) {
    for (size_t i = 0; i < b->files.count; i++) {
        struct serve_file *f = mos_vec_at(&b->files, i);
        if (strcmp(f->name, name) != 0 || h->file == f)
            continue;
        bool same = h->file && h->file->hash && f->hash && strcmp(h->file->hash, f->hash) == 0;
        h->several = h->several || (h->file && !same);
        if (!h->file)
            *h = (struct hit){b, f, h->several};
    }
}

/* Of the board that asks, where that is known; else of any. */
static struct hit look_up(struct serve_job *j, const struct serve_board *who, const char *name) {
    struct hit h = {0};
    for (size_t i = 0; i < j->boards.count; i++) {
        struct serve_board *b = mos_vec_pointer(&j->boards, i);
        const char *inside = within(name, b->selector);
        inside = inside ? inside : within(name, b->folder);
        if (inside)
            look_in(&h, b, inside);
        if (!who || who == b)
            look_in(&h, b, name);
    }
    return h;
}

/* The file that was perhaps meant, of any board; NULL: none is like it. */
static const char *nearest(struct serve_job *j, const char *name) {
    struct mos_vec all = mos_vec_make(j->scratch, sizeof(char *));
    const char *last = strrchr(name, '/'), *near = NULL;
    last = last ? last + 1 : name;
    for (size_t i = 0; i < j->boards.count; i++) {
        const struct serve_board *b = mos_vec_pointer(&j->boards, i);
        for (size_t k = 0; k < b->files.count; k++) {
            const char *own = ((struct serve_file *)mos_vec_at(&b->files, k))->name;
            near = near || strcmp(own, last) != 0 ? near : own;
            mos_vec_push_pointer(&all, own);
        }
    }
    near = near ? near : mos_near(last, (const char *const *)all.items, all.count);
    for (size_t i = 0; near && i < j->boards.count && j->boards.count > 1; i++) {
        struct hit h = {0};
        look_in(&h, mos_vec_pointer(&j->boards, i), near);
        if (h.file)
            return mos_printf(j->scratch, "%s/%s", h.board->selector, near);
    }
    return near;
}

static struct serve_open *refuse(struct serve_job *j, const char *who, const char *name,
                                 const char **why, const char *words, const char *more) {
    j->asked_in_vain++;
    *why = words;
    serve_note(j, true, mos_printf(j->scratch, "%s asks for %s: %s%s", who, name, words, more));
    return NULL;
}

/* ---- its bytes ---- */

/* They are those that were built. */
static bool is_as_built(struct serve_job *j, struct serve_file *f, const char **why) {
    struct mos_file_info now;
    struct mos_error error = {0};
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    const struct mos_host *host = j->m->ctx.host;
    if (!f->path || host->info(host, f->path, true, &now)) {
        *why = "the file is gone";
        return false;
    }
    if (f->stated) {
        f->size = now.size;
        return true;
    }
    if (now.size == f->size && f->good && same_file(&now, &f->seen))
        return true;
    f->good = false;
    *why = "the file is no longer what was built";
    if (now.size != f->size)
        return false;
    struct mos_ctx quiet = mos_ctx_quiet(&j->m->ctx, &error);
    quiet.arena = j->scratch;
    if (!(f->chunks ? mos_image_hash_of(&quiet, f->path, hash)
                    : mos_hash_file(host, f->path, hash, &error)))
        return false;
    mos_sha256_hex(hash, hex);
    if (strcmp(hex, f->hash) != 0)
        return false;
    f->seen = now;
    f->good = true;
    return true;
}

struct serve_open *serve_find(struct serve_job *j, const struct mos_peer *from, const char *name,
                              const char **why) {
    const struct mos_host *host = j->m->ctx.host;
    struct serve_board *asks = serve_board_at(j, from->address);
    const char *address = mos_ipv4_text(j->scratch, from->address);
    const char *who = asks ? mos_printf(j->scratch, "%s (%s)", asks->selector, address) : address;
    while (*name == '/' || strncmp(name, "./", 2) == 0)
        name++;
    for (size_t i = 0; i < j->boards.count; i++)
        follow_build(j, mos_vec_pointer(&j->boards, i));
    struct hit h = look_up(j, asks, name);
    if (h.several)
        return refuse(j, who, name, why, "several boards have it",
                      mos_printf(j->scratch,
                                 "; ask for %s/%s, or state ethernet of its unit in the bench file",
                                 h.board->selector, name));
    if (!h.file) {
        const char *near = nearest(j, name);
        const char *not_built = asks && asks->why ? asks->why : NULL;
        return refuse(j, who, name, why, not_built ? not_built : "there is no such file here",
                      near ? mos_printf(j->scratch, "; there is %s", near) : "");
    }
    int file;
    if (!is_as_built(j, h.file, why))
        return refuse(
            j, who, name, why, *why,
            mos_printf(j->scratch, "; mosaicum build %s makes it anew", h.board->selector));
    if (host->open(host, h.file->path, MOS_OPEN_READ, &file))
        return refuse(j, who, name, why, "the file cannot be opened", "");
    struct serve_open *f = calloc(1, sizeof *f);
    const char *shown = j->boards.count == 1
                            ? h.file->name
                            : mos_printf(j->scratch, "%s/%s", h.board->selector, h.file->name);
    char *kept = f ? strdup(shown) : NULL;
    uint8_t *ahead = kept ? malloc(AHEAD) : NULL;
    if (!ahead) {
        free(kept);
        free(f);
        host->close(host, file);
        *why = "this computer has no more memory";
        return NULL;
    }
    *f = (struct serve_open){.board = asks ? asks : h.board,
                             .name = kept,
                             .peer = *from,
                             .file = file,
                             .size = h.file->size,
                             .length = h.file->size,
                             .began = serve_now(j),
                             .ahead = ahead};
    if (h.file->hash)
        memcpy(f->hash, h.file->hash, sizeof f->hash);
    return f;
}

void serve_read_ahead(struct serve_job *j, struct serve_open *f, uint64_t at, size_t length) {
    const struct mos_host *host = j->m->ctx.host;
    bool there = at >= f->ahead_at && at + length <= f->ahead_at + f->ahead_length;
    f->ahead_at = there ? f->ahead_at : at;
    if (!there && host->pread(host, f->file, f->ahead, AHEAD, at, &f->ahead_length))
        f->ahead_length = 0; /* it is told when it is wanted */
}

int serve_read(struct serve_job *j, struct serve_open *f, void *to, size_t length, uint64_t at) {
    const struct mos_host *host = j->m->ctx.host;
    uint8_t *p = to;
    while (length) {
        if (at < f->ahead_at || at >= f->ahead_at + f->ahead_length) {
            f->ahead_at = at;
            int e = host->pread(host, f->file, f->ahead, AHEAD, at, &f->ahead_length);
            if (e || !f->ahead_length)
                return e ? e : EIO; /* it has become shorter */
        }
        size_t from = (size_t)(at - f->ahead_at), n = mos_min(f->ahead_length - from, length);
        memcpy(p, f->ahead + from, n);
        p += n;
        at += n;
        length -= n;
    }
    return 0;
}

void serve_close(struct serve_job *j, struct serve_open *f) {
    j->m->ctx.host->close(j->m->ctx.host, f->file);
    free((char *)(uintptr_t)f->name);
    free(f->ahead);
    free(f);
}

const char *serve_index(struct serve_job *j) {
    struct mos_buf b = {.arena = j->scratch};
    for (size_t i = 0; i < j->boards.count; i++) {
        struct serve_board *x = mos_vec_pointer(&j->boards, i);
        follow_build(j, x);
        for (size_t k = 0; k < x->files.count; k++) {
            const struct serve_file *f = mos_vec_at(&x->files, k);
            mos_buf_printf(&b, "%12llu  %s/%s\n", (unsigned long long)f->size, x->selector,
                           f->name);
        }
    }
    return mos_buf_string(&b);
}
