/* Writes an image to storage devices: looks, judges, shows what will be lost, asks, writes, reads
 * back, and notes it. */
#include "api/write.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { SECOND = 1000000000 };

static struct mos_findings *findings(struct write_job *w) {
    return &w->m->ctx.findings;
}

static bool takes_part(const struct write_device *x) {
    return !x->refused && !x->given_up;
}

static void refuse(struct write_job *w, struct write_device *x, enum mos_rule_id rule,
                   const char *message, const char *why, const char *remedy) {
    struct mos_finding *f = mos_find(findings(w), rule, "%s", message);
    mos_finding_at(findings(w), f, (struct mos_place){.thing = x->d.path});
    if (why)
        mos_finding_why(findings(w), f, "%s", why);
    mos_finding_try(findings(w), f, "%s", remedy);
    if (f->severity == MOS_SEVERITY_ERROR) {
        x->refused = true;
        w->m->refused = true;
    }
}

/* ---- which devices ---- */

static bool holds(const char *const *tokens, const char *token) {
    for (; tokens && *tokens && *token; tokens++)
        if (mos_media_token_is(token, *tokens))
            return true;
    return false;
}

static void find_device(struct write_job *w, struct write_device *x, const char *path) {
    const struct mos_computer *c = w->m->ctx.host->computer;
    bool is_device = false;
    uint64_t number;
    int e = c->device_of(c, path, &is_device, &number);
    struct mos_block *b = !e && is_device ? mos_storage_find(&w->storage, number) : NULL;
    *x = (struct write_device){
        .device = -1, .d = {.path = path}, .keep = mos_vec_make(w->m->arena, sizeof(void *))};
    if (!b) {
        refuse(w, x, MOS_RULE_WRITE_NOT_A_DEVICE,
               e ? mos_printf(w->m->arena, "%s: %s.", path, mos_errno_text(e))
                 : mos_printf(w->m->arena, "%s is no storage device.", path),
               NULL, "Name one that mosaicum devices lists.");
        return;
    }
    media_look(w->m, b, &x->d);
    /* nothing is asked for that could not be written anyway */
    if (x->d.look.errnum == EACCES && c->ask_for && !b->system && !b->mounts.count &&
        !c->ask_for(c, b->path))
        media_look(w->m, b, &x->d);
    x->d.path = path;
}

static bool is_named_twice(const struct write_job *w, size_t index) {
    for (size_t i = 0; i < index; i++)
        if (w->devices[i].d.block && w->devices[i].d.block == w->devices[index].d.block)
            return true;
    return false;
}

/* Only what is ours to release: a card's or stick's own mounts, in our own namespace. */
static void release(struct write_job *w, const struct mos_block *b) {
    const struct mos_computer *c = w->m->ctx.host->computer;
    for (size_t i = b->mounts.count; i-- > 0 && mos_block_is_pluggable(b) && !b->system;) {
        const struct mos_mounted *mounted = mos_vec_at(&b->mounts, i);
        int e = mounted->process ? 0 : c->unmount(c, mounted->at);
        if (e)
            mos_fail(&w->m->error, MOS_ERROR_SYSTEM, e, "%s cannot be released from %s", b->path,
                     mounted->at);
    }
}

static bool find_devices(struct write_job *w) {
    const struct mosaicum_write *r = w->request;
    if (!mos_storage_read(&w->m->ctx, &w->storage))
        return false;
    if (r->unmount && !r->only_show) {
        const struct mos_computer *c = w->m->ctx.host->computer;
        for (size_t i = 0; i < r->device_count; i++) {
            bool is_device;
            uint64_t number;
            struct mos_block *b =
                c->device_of(c, r->devices[i], &is_device, &number) == 0 && is_device
                    ? mos_storage_find(&w->storage, number)
                    : NULL;
            for (size_t k = 0; b && k < b->parts.count; k++)
                release(w, mos_vec_pointer(&b->parts, k));
            if (b)
                release(w, b);
        }
        if (w->m->error.kind || !mos_storage_read(&w->m->ctx, &w->storage))
            return false;
    }
    w->count = r->device_count;
    w->devices = mos_alloc_array(w->m->arena, w->count + 1, sizeof *w->devices);
    for (size_t i = 0; i < w->count; i++) {
        find_device(w, &w->devices[i], r->devices[i]);
        if (is_named_twice(w, i))
            return mos_fail(&w->m->error, MOS_ERROR_USAGE, 0, "%s is named twice", r->devices[i]);
    }
    return true;
}

/* ---- may they be written ---- */

static void judge(struct write_job *w, struct write_device *x) {
    mosaicum *m = w->m;
    const struct write_image *image = &w->image;
    char *real = NULL;
    struct mos_media_wish wish = {.least = image->least,
                                  .most = image->ledger.most,
                                  .sector = image->sector,
                                  .volume = image->volume,
                                  .also = holds(w->request->also, x->d.token)};
    if (!image->pattern && !image->piped &&
        m->ctx.host->real_path(m->ctx.host, image->path, &real) == 0)
        wish.image = mos_strdup(m->arena, real);
    free(real);
    struct mos_vec all = mos_media_judge(&m->ctx, &w->storage, x->d.block, &x->d.look, &wish);
    for (size_t i = 0; i < all.count; i++) {
        const struct mos_objection *o = mos_vec_at(&all, i);
        bool twice = o->rule == MOS_RULE_WRITE_NOT_REMOVABLE || o->rule == MOS_RULE_WRITE_TOO_LARGE;
        refuse(w, x, o->rule, o->message, o->why,
               twice && *x->d.token
                   ? mos_printf(m->arena, "Add --also %s where it is really meant.", x->d.token)
                   : o->remedy);
    }
    if (x->refused)
        return;
    if (x->d.look.errnum || !*x->d.token) {
        x->given_up = true;
        x->why = mos_printf(m->arena, "it cannot be read: %s",
                            mos_errno_text(x->d.look.errnum ? x->d.look.errnum : EIO));
        if (x->d.look.errnum == EACCES || x->d.look.errnum == EPERM)
            x->why = mos_printf(m->arena, "%s (with sudo in front of the command it can)", x->why);
        m->failed_devices++;
    }
}

static void judge_layout(struct write_job *w, struct write_device *x) {
    const struct write_image *image = &w->image;
    x->carries = write_carries(image, &x->d);
    if (w->request->regions && *w->request->regions && !x->carries && image->driver)
        refuse(w, x, MOS_RULE_WRITE_OTHER_LAYOUT,
               mos_printf(w->m->arena, "%s has another layout than %s.", x->d.path, image->path),
               NULL, "Write all of the image, without --region.");
    for (size_t i = 0; x->carries && image->has_ledger && i < image->ledger.regions.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(&image->ledger.regions, i);
        if (write_may_stay(w, r))
            mos_vec_push_pointer(&x->keep, r);
    }
}

/* The same identifiers on another medium that is attached now: who mounts by them gets either. */
static void judge_twins(struct write_job *w) {
    static const uint8_t none[16];
    const struct write_image *image = &w->image;
    if (!image->driver || memcmp(image->table.id, none, sizeof none) == 0)
        return;
    struct mos_finding *f = NULL;
    for (size_t i = 0; i < w->storage.blocks.count; i++) {
        struct mos_block *b = mos_vec_pointer(&w->storage.blocks, i);
        struct media_device d;
        bool ours = !media_is_shown(b);
        for (size_t k = 0; k < w->count && !ours; k++)
            ours = w->devices[k].d.block == b;
        if (ours)
            continue;
        media_look(w->m, b, &d);
        if (!d.driver || memcmp(d.table.id, image->table.id, sizeof none) != 0)
            continue;
        if (!f) {
            f = mos_find(findings(w), MOS_RULE_WRITE_TWIN,
                         "Other media that are attached have the identifiers of %s.", image->path);
            mos_finding_at(findings(w), f, (struct mos_place){.thing = image->path});
            mos_finding_try(findings(w), f,
                            "Pull the others out before anything of them is mounted.");
        }
        mos_finding_at(findings(w), f, (struct mos_place){.thing = b->path});
    }
}

static void judge_speed(struct write_job *w, struct write_device *x) {
    const struct mos_block *b = x->d.block;
    if (!b->speed || b->speed > 480 || (b->speed == 480 && !b->could_be_faster))
        return;
    refuse(w, x, MOS_RULE_WRITE_SLOW,
           mos_printf(w->m->arena, "%s hangs on a USB port that runs at %u Mbit/s.", x->d.path,
                      b->speed),
           NULL, "Use another port, or another cable.");
}

/* false: it is for another one. */
static bool judge_board(struct write_job *w) {
    const struct write_image *image = &w->image;
    const char *board = w->request->board, *built = image->ledger.board;
    size_t n = board ? strlen(board) : 0;
    /* a variant is the board, too */
    if (!board ||
        (image->has_ledger && strncmp(board, built, n) == 0 && (!built[n] || built[n] == '+')))
        return true;
    struct mos_finding *f =
        image->has_ledger
            ? mos_find(findings(w), MOS_RULE_WRITE_WRONG_BOARD, "%s was built for %s, not for %s.",
                       image->path, image->ledger.board, board)
            : mos_find(findings(w), MOS_RULE_WRITE_WRONG_BOARD,
                       "%s has no ledger, so that nobody knows whether it is for %s.", image->path,
                       board);
    mos_finding_at(
        findings(w), f,
        (struct mos_place){.thing = image->has_ledger ? image->ledger_path : image->path});
    mos_finding_why(findings(w), f,
                    "The ledger beside an image says which board it was built for.");
    mos_finding_try(findings(w), f, "Write what was built for %s, or leave out --for.", board);
    w->m->refused = true;
    return false;
}

/* ---- the screen before a write ---- */

static const char *what_stays(struct write_job *w, const struct write_device *x) {
    struct mos_buf b = {.arena = w->m->arena};
    for (size_t i = 0; i < x->keep.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_pointer(&x->keep, i);
        mos_buf_printf(&b, "%s%s (%s)", i ? ", " : "", r->name,
                       strcmp(r->owner, "device") == 0 ? "the board's own" : "the factory's");
    }
    return b.length ? mos_buf_string(&b) : NULL;
}

static const char *what_is_written(struct write_job *w, const struct write_device *x,
                                   uint64_t total) {
    struct mos_arena *arena = w->m->arena;
    const char *const *names = w->request->regions;
    struct mos_buf b = {.arena = arena};
    mos_buf_printf(&b, "%s of %s", mos_size_about(arena, total),
                   mos_size_text(arena, w->image.io->size));
    for (size_t i = 0; names && names[i]; i++)
        mos_buf_printf(&b, "%s%s", i ? ", " : ": ", names[i]);
    if (w->request->changed)
        mos_buf_text(&b, ", only what differs");
    if (x->goes_on)
        mos_buf_printf(&b, "; an interrupted write goes on, %s are looked at again",
                       mos_size_about(arena, x->done_before));
    return mos_buf_string(&b);
}

static struct mos_media_job media_job(struct write_job *w) {
    return (struct mos_media_job){.ctx = &w->m->ctx,
                                  .content = &w->content,
                                  .spans = w->spans.items,
                                  .span_count = w->spans.count};
}

static const char *time_text(struct write_job *w, const struct write_device *x, uint64_t total) {
    if (!x->rate)
        return "not known";
    uint64_t seconds = total / x->rate + 1;
    const char *rate = mos_size_about(w->m->arena, x->rate);
    return seconds < 120
               ? mos_printf(w->m->arena, "about %llu s, at %s/s", (unsigned long long)seconds, rate)
               : mos_printf(w->m->arena, "about %llu min, at %s/s",
                            (unsigned long long)((seconds + 59) / 60), rate);
}

/* What such a port moves, both ways, where nothing better is known. */
static uint64_t usual_rate(const struct mos_block *b) {
    switch (b->bus) {
    case MOS_BUS_USB:
        return (b->speed >= 5000 ? 60ull : b->speed == 12 ? 1ull : 15ull) << 20;
    case MOS_BUS_SD:
        return 12ull << 20;
    default:
        return 100ull << 20;
    }
}

static void screen_row(struct report_table *t, const char *key, const char *text) {
    if (!text)
        return;
    cell_text(t, key);
    cell_text(t, text);
}

static void screen(struct write_job *w, struct write_device *x) {
    static const struct mosaicum_column columns[] = {{"what", "", false}, {"text", "", false}};
    mosaicum *m = w->m;
    const struct mos_media_job job = media_job(w);
    const struct mos_media_target like = {.keeps = x->carries};
    uint64_t total = mos_media_total(&job, &like);
    x->rate = x->rate ? x->rate : usual_rate(x->d.block);
    struct report_table t = report_start(&m->report, "before",
                                         mos_printf(m->arena, "%s to %s: %s, %s", w->image.path,
                                                    x->d.path, media_title(m, x->d.block),
                                                    mos_storage_size(m->arena, x->d.block->size)),
                                         columns, 2);
    screen_row(&t, "is lost", x->lost);
    screen_row(&t, "stays", what_stays(w, x));
    screen_row(&t, "is written", what_is_written(w, x, total));
    if (write_unit_text(w))
        screen_row(&t, "its own",
                   mos_printf(m->arena, "%s, for %s", write_unit_text(w), w->request->unit));
    screen_row(&t, "takes", time_text(w, x, total));
    screen_row(&t, "is saved",
               w->image.pattern ? "nothing"
               : x->folder      ? mos_printf(m->arena, "the old table, in %s", x->saved)
                                : "nothing, and no record: there is no workspace");
    if (w->storage.unseen)
        screen_row(&t, "not known",
                   mos_printf(m->arena,
                              "whether one of %zu programs of other users has it open (with sudo "
                              "it is)",
                              w->storage.unseen));
    screen_row(&t, "token", mos_strdup(m->arena, x->d.token));
    report_end(&m->report, &t);
}

static void show(struct write_job *w) {
    mosaicum *m = w->m;
    if (!w->request->show)
        return;
    run_publish_workspace(m);
    run_merge(m);
    w->request->show(w->request->ask_self, m);
    m->published.count = m->finding_count = 0;
    m->report.tables.count = 0;
}

/* ---- consent ---- */

static void ask(struct write_job *w, struct write_device *x) {
    const struct mosaicum_write *r = w->request;
    if (holds(r->yes, x->d.token) ||
        (x->goes_on && x->token_before && holds(r->yes, x->token_before)))
        return;
    if (r->ask && r->ask(r->ask_self, x->d.path, x->d.token))
        return;
    x->given_up = true;
    x->why = r->ask ? "nobody has consented"
                    : mos_printf(w->m->arena,
                                 "nobody has consented: --yes %s does, for the medium that is in "
                                 "it now",
                                 x->d.token);
    w->m->refused = true;
}

/* Where no device is left, what kept each from being written is all there is to say. */
static void tell_why_none(struct write_job *w) {
    for (size_t i = 0; i < w->count; i++) {
        const struct write_device *x = &w->devices[i];
        if (x->given_up && x->why)
            mos_fail(&w->m->error, w->m->failed_devices ? MOS_ERROR_SYSTEM : MOS_ERROR_SAFETY, 0,
                     "%s is not written: %s", x->d.path, x->why);
    }
}

/* It fails before anything was written to it; the others go on. */
static void give_up(struct write_job *w, struct write_device *x, const char *why) {
    x->given_up = true;
    x->why = why;
    w->m->failed_devices++;
}

/* From here on it is ours alone; is it still what was shown? */
static bool open_device(struct write_job *w, struct write_device *x) {
    mosaicum *m = w->m;
    const struct mos_computer *c = m->ctx.host->computer;
    const struct mos_block *b = x->d.block;
    struct mos_device_info info = {0};
    char token[MOS_TOKEN_LETTERS + 1] = "";
    int e = c->open_to_write(c, b->path, &x->device);
    if (e) {
        x->device = -1;
        if (e == EBUSY)
            refuse(w, x, MOS_RULE_WRITE_IN_USE,
                   mos_printf(m->arena, "The kernel says that %s is in use.", x->d.path), NULL,
                   "Find out who holds it, or plug it out and in again.");
        else
            refuse(w, x, e == EROFS ? MOS_RULE_WRITE_READ_ONLY : MOS_RULE_WRITE_NOT_A_DEVICE,
                   mos_printf(m->arena, "%s cannot be opened to write: %s%s.", x->d.path,
                              mos_errno_text(e),
                              e == EACCES || e == EPERM ? " (with sudo in front it can be)" : ""),
                   NULL, "Look whether it is still there, and who may write to it.");
        return false;
    }
    e = c->info(c, x->device, &info);
    if (!e && info.read_only)
        e = EROFS;
    bool same =
        !e && info.number == b->number && info.size == b->size && info.sequence == b->sequence;
    if (same && media_token_of(m, b, x->device, token, &e))
        same = strcmp(token, x->d.token) == 0;
    if (!e && !same) {
        refuse(w, x, MOS_RULE_WRITE_EXCHANGED,
               mos_printf(m->arena, "The medium in %s is not the one that was shown.", x->d.path),
               NULL, "Look at it again: mosaicum devices.");
        return false;
    }
    if (e == EROFS)
        refuse(w, x, MOS_RULE_WRITE_READ_ONLY, mos_printf(m->arena, "%s is read-only.", x->d.path),
               NULL, "Set the card's switch, or use another one.");
    else if (e)
        give_up(w, x, mos_printf(m->arena, "could not be read: %s", mos_errno_text(e)));
    return !e;
}

/* ---- the outcome ---- */

static const char *place_of_error(struct write_job *w, const struct mos_media_target *t) {
    return mos_printf(w->m->arena, "%s%s%s at %s", t->error_region ? "in " : "",
                      t->error_region ? t->error_region : "", t->error_region ? "," : "",
                      mos_span_text(w->m->arena, t->error_at, t->error_at + t->error_length));
}

/* What the kernel's block layer makes of a device's answer, where its words mislead. */
static const char *device_error_text(int e) {
    return e == ENODATA     ? "the medium is damaged there"
           : e == EREMOTEIO ? "the device itself failed"
           : e == EILSEQ    ? "the device says that its bytes were damaged on the way"
                            : mos_errno_text(e);
}

static const char *result_text(struct write_job *w, const struct mos_media_target *t) {
    static const char *const steps[] = {[MOS_MEDIA_WRITES] = "could not be written",
                                        [MOS_MEDIA_READS] = "could not be read",
                                        [MOS_MEDIA_FLUSHES] = "could not be flushed"};
    struct mos_arena *arena = w->m->arena;
    int e = atomic_load(&((struct mos_media_target *)(uintptr_t)t)->errnum);
    if (e)
        return mos_printf(arena, "%s %s: %s", steps[t->step],
                          t->step == MOS_MEDIA_FLUSHES ? "" : place_of_error(w, t),
                          device_error_text(e));
    if (t->differs)
        return "read back is something else";
    if (!t->proved)
        return "not finished";
    return t->written ? "written, and read back" : "nothing differed";
}

static void tell_target(struct write_job *w, struct write_device *x,
                        const struct mos_media_target *t) {
    if (!t->differs)
        return;
    struct mos_arena *arena = w->m->arena;
    struct mos_finding *f = mos_find(findings(w), MOS_RULE_WRITE_READ_BACK,
                                     "%s gives back other bytes than were written%s%s.", x->d.path,
                                     t->differs_region ? ", in region " : "",
                                     t->differs_region ? t->differs_region : "");
    mos_finding_at(
        findings(w), f,
        (struct mos_place){.thing = mos_printf(arena, "%s, byte %llu and %s in all", x->d.path,
                                               (unsigned long long)t->differs_at,
                                               mos_size_text(arena, t->differing))});
    mos_finding_at(findings(w), f, (struct mos_place){.thing = w->image.path});
    if (!w->image.pattern)
        return;
    uint64_t size = write_true_size(w, x, t->differs_at);
    if (size)
        mos_finding_why(findings(w), f, "It says that it has %s, and really has %s at most.",
                        mos_storage_size(arena, x->d.block->size), mos_storage_size(arena, size));
    mos_finding_try(findings(w), f, "Give it back: nothing that is written to it is safe.");
}

static void outcome(struct write_job *w, struct mos_media_job *job, uint64_t ns) {
    static const struct mosaicum_column columns[] = {
        {"device", "device", false},  {"unit", "unit", false},         {"result", "result", false},
        {"written", "written", true}, {"there", "there before", true}, {"rate", "rate", true}};
    mosaicum *m = w->m;
    size_t good = 0, all = 0, next = 0;
    struct report_table t = report_start(&m->report, "written", NULL, columns, 6);
    for (size_t i = 0; i < w->count; i++) {
        struct write_device *x = &w->devices[i];
        all++;
        cell_text(&t, x->d.path);
        cell_text(&t, w->request->unit);
        if (!takes_part(x)) {
            cell_alarm(&t,
                       x->refused ? "refused" : mos_printf(m->arena, "not written: %s", x->why));
            cell_text(&t, NULL), cell_text(&t, NULL), cell_text(&t, NULL);
            continue;
        }
        const struct mos_media_target *target = &job->targets[next++];
        const char *text = result_text(w, target);
        good += target->proved;
        if (target->proved)
            cell_text(&t, text);
        else
            cell_alarm(&t, !target->invalid ? text
                           : target->stuck
                               ? mos_printf(m->arena, "%s; what is on it is not known", text)
                               : mos_printf(m->arena, "%s; it has no table now", text));
        cell_about(&t, target->written);
        if (target->kept)
            cell_about(&t, target->kept);
        else
            cell_text(&t, NULL);
        cell_text(&t, ns && target->written
                          ? mos_printf(m->arena, "%s/s",
                                       mos_size_about(m->arena, (uint64_t)((double)target->written *
                                                                           SECOND / (double)ns)))
                          : NULL);
        tell_target(w, x, target);
        if (!target->proved && !target->differs)
            m->failed_devices++;
        if (!w->image.pattern)
            write_end_record(w, x, text, target->proved, ns / (SECOND / 10), target->written);
    }
    t.table.title = w->image.pattern
                        ? mos_printf(m->arena, "%s",
                                     good ? "It is as large as it says" : "It is not what it says")
                        : mos_printf(m->arena, "%zu of %zu device%s carr%s %s", good, all,
                                     all == 1 ? "" : "s", good == 1 ? "ies" : "y", w->image.path);
    t.table.alarm = good < all;
    w->proved = good;
    report_end(&m->report, &t);
}

/* ---- all of it ---- */

static void mark(void *self, uint64_t done) {
    struct write_job *w = self;
    for (size_t i = 0; i < w->count; i++)
        if (takes_part(&w->devices[i]) && *w->image.hash)
            write_mark_record(w, &w->devices[i], done);
}

/* Nobody has changed the image since it was hashed; else what was written is nobody's build. */
static bool is_same(void *self) {
    struct write_job *w = self;
    const struct write_image *x = &w->image;
    return x->pattern || x->piped ||
           mos_file_unchanged(&w->m->ctx, x->file.file, &x->before, x->path);
}

static void make_target(struct write_job *w, struct write_device *x, struct mos_media_target *t) {
    t->computer = w->m->ctx.host->computer;
    t->device = x->device;
    t->patches = x->patches.items;
    t->patch_count = x->patches.count;
    t->voids = x->voids.items;
    t->void_count = x->voids.count;
    t->keeps = x->carries;
    t->compares = w->request->changed;
    t->compare_until = x->goes_on ? x->done_before : 0;
}

static bool prepare(struct write_job *w, struct write_device *x) {
    if (open_device(w, x) && write_make_patches(w, x) && write_begin_record(w, x))
        return true;
    if (x->why && takes_part(x))
        give_up(w, x, x->why);
    return false;
}

static void run(struct write_job *w) {
    mosaicum *m = w->m;
    struct mos_media_job job = media_job(w);
    job.targets = mos_alloc_array(m->arena, w->count + 1, sizeof *job.targets);
    for (size_t i = 0; i < w->count; i++)
        if (takes_part(&w->devices[i])) {
            if (prepare(w, &w->devices[i]))
                make_target(w, &w->devices[i], &job.targets[job.target_count++]);
            else if (m->error.kind)
                return; /* nothing was written yet */
        }
    job.mark = mark;
    job.is_same = is_same;
    job.self = w;
    int64_t from = m->ctx.host->now_ns(m->ctx.host);
    if (job.target_count)
        mos_media_write(&job);
    uint64_t ns = (uint64_t)(m->ctx.host->now_ns(m->ctx.host) - from);
    outcome(w, &job, ns);
    const struct mos_computer *c = m->ctx.host->computer;
    for (size_t i = 0; i < w->count; i++)
        if (w->devices[i].device >= 0)
            c->read_table(c, w->devices[i].device); /* busy: it is read when it is plugged in */
}

static void write_media(struct write_job *w) {
    mosaicum *m = w->m;
    if (!find_devices(w))
        return;
    bool is_for_it = judge_board(w);
    for (size_t i = 0; i < w->count; i++)
        if (takes_part(&w->devices[i]))
            judge(w, &w->devices[i]);
    if (w->image.pattern && w->count == 1 && takes_part(&w->devices[0]))
        write_make_pattern(w, w->devices[0].d.block->size);
    else if (w->image.pattern)
        return;
    if (!write_proves_image(w)) {
        m->refused = m->refused || !m->error.kind;
        return;
    }
    if (!write_suits_unit(w))
        return;
    write_judge_unit(w);
    size_t left = 0;
    for (size_t i = 0; i < w->count; i++) {
        struct write_device *x = &w->devices[i];
        if (takes_part(x))
            judge_layout(w, x);
        if (takes_part(x)) {
            judge_speed(w, x);
            if (!w->image.pattern)
                write_find_record(w, x);
            left++;
        }
    }
    if (!left)
        tell_why_none(w);
    if (!left || m->error.kind || !is_for_it)
        return;
    judge_twins(w);
    if (!w->image.pattern)
        write_judge_record(w);
    if (!write_make_spans(w))
        return;
    for (size_t i = 0; i < w->count; i++)
        if (takes_part(&w->devices[i])) {
            write_look_what_is_lost(w, &w->devices[i]);
            write_judge_what_stays(w, &w->devices[i]);
            screen(w, &w->devices[i]);
        }
    show(w);
    if (w->request->only_show)
        return;
    for (size_t i = 0; i < w->count; i++)
        if (takes_part(&w->devices[i]))
            ask(w, &w->devices[i]);
    left = 0;
    for (size_t i = 0; i < w->count; i++)
        left += takes_part(&w->devices[i]);
    if (left)
        run(w);
    else
        tell_why_none(w);
}

size_t write_all(mosaicum *m, const struct mosaicum_write *request) {
    size_t proved = 0;
    struct write_job *w = mos_alloc(m->arena, sizeof *w);
    *w = (struct write_job){.m = m, .request = request};
    w->image.pattern = !request->what;
    if (m->options.workspace && request->what)
        run_open_to_write(m);
    if (w->image.pattern) {
        w->image.path = "a pattern over all of it";
        w->image.file = (struct mos_unpacked){.file = -1, .spill = -1, .device = -1};
    }
    if (!m->error.kind && (w->image.pattern || write_open(w))) {
        write_media(w);
        proved = w->proved;
        for (size_t i = 0; i < w->count; i++)
            if (w->devices[i].device >= 0)
                m->ctx.host->computer->close(m->ctx.host->computer, w->devices[i].device);
        write_close(w);
    }
    return proved;
}

enum mosaicum_status mosaicum_write(mosaicum *m, const struct mosaicum_write *request) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    write_all(m, request);
    return run_status(m);
}
