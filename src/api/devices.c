/* This computer's storage devices: what they are, what is on them, and which may be written. */
#include "api/media.h"

#include <stdio.h>
#include <string.h>

static const struct mosaicum_column columns[] = {
    {"device", "device", false}, {"verdict", "may be written", false},
    {"token", "token", false},   {"size", "size", false},
    {"what", "what", false},     {"holds", "holds", false},
};
enum { COLUMNS = sizeof columns / sizeof *columns };

static void look(mosaicum *m, const struct mos_storage *s, struct mos_block *b,
                 struct media_device *d) {
    const struct mos_media_wish wish = {0};
    media_look(m, b, d);
    d->objections = mos_media_judge(&m->ctx, s, b, &d->look, &wish);
}

static const char *verdict(mosaicum *m, const struct media_device *d) {
    if (d->objections.count) {
        const struct mos_objection *o = mos_vec_at(&d->objections, 0);
        return mos_printf(m->arena, "no: %s", o->brief);
    }
    if (!*d->token)
        return "not known: it cannot be read";
    return "yes";
}

static bool row(mosaicum *m, struct report_table *t, const struct mos_storage *s,
                struct mos_block *b) {
    struct media_device d;
    look(m, s, b, &d);
    bool may = !d.objections.count && *d.token;
    cell_text(t, b->path);
    cell_text(t, verdict(m, &d));
    cell_text(t, *d.token ? mos_strdup(m->arena, d.token) : NULL);
    if (b->size)
        cell_bytes(t, b->size, mos_storage_size(m->arena, b->size));
    else
        cell_text(t, NULL);
    cell_text(t, media_title(m, b));
    cell_text(t, media_content(m, &d));
    return may;
}

static void tell_unseen(mosaicum *m, const struct mos_storage *s) {
    if (s->unseen)
        mos_vec_push_pointer(
            &m->not_proved,
            mos_printf(m->arena,
                       "whether %zu programs of other users have a device open: run it with sudo",
                       s->unseen));
}

static void devices(mosaicum *m) {
    struct mos_storage s;
    size_t shown = 0, may = 0;
    if (!mos_storage_read(&m->ctx, &s))
        return;
    struct report_table t = report_start(&m->report, "devices", NULL, columns, COLUMNS);
    for (size_t i = 0; i < s.blocks.count; i++) {
        struct mos_block *b = mos_vec_pointer(&s.blocks, i);
        if (!media_is_shown(b))
            continue;
        shown++;
        may += row(m, &t, &s, b);
    }
    t.table.title = mos_printf(m->arena, "%zu storage device%s, %zu of them may be written", shown,
                               shown == 1 ? "" : "s", may);
    report_end(&m->report, &t);
    tell_unseen(m, &s);
}

enum mosaicum_status mosaicum_devices(mosaicum *m) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    devices(m);
    return run_status(m);
}

/* ---- what comes and goes ---- */

struct watch {
    mosaicum *m;
    bool (*tell)(void *self, bool here, const struct mosaicum_cell *cells);
    void *self;
    struct mos_vec known; /* of struct known */
};

/* A device as it was told of; its texts outlive the look. */
struct known {
    uint64_t number, sequence, size;
    char path[64], what[160], size_text[48], holds[320], token[MOS_TOKEN_LETTERS + 1], verdict[160];
    bool seen;
};

static struct known *find(struct watch *w, const struct mos_block *b) {
    for (size_t i = 0; i < w->known.count; i++) {
        struct known *k = mos_vec_at(&w->known, i);
        if (*k->path && k->number == b->number && k->sequence == b->sequence && k->size == b->size)
            return k;
    }
    return NULL;
}

static bool tell(struct watch *w, const struct known *k, bool here) {
    const char *const texts[COLUMNS] = {k->path,      k->verdict, k->token,
                                        k->size_text, k->what,    k->holds};
    struct mosaicum_cell cells[COLUMNS];
    for (size_t i = 0; i < COLUMNS; i++)
        cells[i] = (struct mosaicum_cell){*texts[i] ? MOSAICUM_TEXT : MOSAICUM_EMPTY, texts[i], 0};
    return w->tell(w->self, here, cells);
}

static bool note(struct watch *w, struct mos_storage *s, struct mos_block *b, bool first) {
    struct known *k = NULL;
    mosaicum *m = w->m;
    for (size_t i = 0; i < w->known.count && !k; i++)
        if (!*((struct known *)mos_vec_at(&w->known, i))->path)
            k = mos_vec_at(&w->known, i);
    k = k ? k : mos_vec_push(&w->known);
    *k = (struct known){b->number, b->sequence, b->size, .seen = true};
    snprintf(k->path, sizeof k->path, "%s", b->path);
    if (first)
        return true;
    struct media_device d;
    look(m, s, b, &d);
    snprintf(k->what, sizeof k->what, "%s", media_title(m, b));
    snprintf(k->size_text, sizeof k->size_text, "%s",
             b->size ? mos_storage_size(m->arena, b->size) : "");
    snprintf(k->holds, sizeof k->holds, "%s", media_content(m, &d));
    snprintf(k->verdict, sizeof k->verdict, "%s", verdict(m, &d));
    memcpy(k->token, d.token, sizeof k->token);
    return tell(w, k, true);
}

/* One look at all of them, in an arena that goes again; false: that is enough. */
static bool look_once(struct watch *w, bool first) {
    mosaicum *m = w->m;
    struct mos_storage s;
    struct mos_arena *keep = m->arena, *arena = mos_arena_child(keep);
    bool more = true;
    m->arena = m->ctx.arena = arena;
    bool ok = mos_storage_read(&m->ctx, &s);
    for (size_t i = 0; i < w->known.count; i++)
        ((struct known *)mos_vec_at(&w->known, i))->seen = false;
    for (size_t i = 0; ok && i < s.blocks.count && more; i++) {
        struct mos_block *b = mos_vec_pointer(&s.blocks, i);
        struct known *k = media_is_shown(b) ? find(w, b) : NULL;
        if (k)
            k->seen = true;
        else if (media_is_shown(b))
            more = note(w, &s, b, first);
    }
    for (size_t i = 0; ok && i < w->known.count && more; i++) {
        struct known *k = mos_vec_at(&w->known, i);
        if (*k->path && !k->seen) {
            more = tell(w, k, false);
            *k->path = 0;
        }
    }
    m->arena = m->ctx.arena = keep;
    mos_arena_free(arena);
    return ok && more;
}

enum mosaicum_status mosaicum_devices_wait(mosaicum *m,
                                           bool (*told)(void *self, bool here,
                                                        const struct mosaicum_cell *cells),
                                           void *self) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    struct watch w = {
        .m = m, .tell = told, .self = self, .known = mos_vec_make(m->arena, sizeof(struct known))};
    const struct mos_computer *c = m->ctx.host->computer;
    if (look_once(&w, true))
        while (c->wait(c) && look_once(&w, false))
            ;
    return run_status(m);
}
