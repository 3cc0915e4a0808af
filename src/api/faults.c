/* rehearse --faults: the same boot with one thing broken at a time. */
#include "api/rig.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_FILE = 256 << 20, MOST_FAULTS = 400 };

enum file_fault { MISSING, HALF, FLIPPED };
static const char *const file_faults[] = {"missing", "cut in half", "its middle bit flipped"};

/* What becomes of the board, the worst first; each with its word. */
enum outcome { DEAD, UNKNOWN, UNSEEN, FALLS, BOOTS, OUTCOMES };
static const char *const outcomes[OUTCOMES] = {"DEAD", "cannot tell", "not noticed",
                                               "boots the fallback", "boots"};

struct tried {
    const char *thing, *fault, *reason;
    enum outcome outcome;
    size_t order;
};

struct trial {
    mosaicum *m;
    const struct run_rig *whole;
    const struct mos_rehearsal *sound; /* how it goes with nothing broken */
    struct mos_vec tried;              /* of struct tried */
    struct mos_vec dead;               /* of const char *: what it does not survive */
    struct mos_vec shared; /* of const struct mos_touched *: what the fallback needs, too */
    size_t counts[OUTCOMES];
    /* of the fault being tried */
    struct mos_arena *arena;
    struct mos_ctx ctx;
    struct mos_error error;
    struct mos_rig rig;
    struct mos_rig_medium *media;
    struct mos_rig_environment *environments;
};

/* A rig of its own for one fault: every medium may be changed, in memory. */
static bool begin(struct trial *t) {
    const struct mos_rig *w = &t->whole->rig;
    t->arena = mos_arena_new(&t->m->out_of_memory);
    if (!t->arena)
        return mos_fail(&t->m->error, MOS_ERROR_SYSTEM, ENOMEM, "The work was stopped");
    t->ctx = t->m->ctx;
    t->error = (struct mos_error){0};
    t->ctx.arena = t->arena;
    t->ctx.error = &t->error;
    t->ctx.findings = mos_findings_make(t->arena);
    t->rig = *w;
    t->media = mos_alloc_array(t->arena, w->media_count + 1, sizeof *t->media);
    t->environments = mos_alloc_array(t->arena, w->environment_count + 1, sizeof *t->environments);
    for (size_t i = 0; i < w->media_count; i++) {
        struct mos_io *io = mos_alloc(t->arena, sizeof *io);
        *io = mos_io_overlay(t->arena, w->media[i].io);
        t->media[i] = w->media[i];
        t->media[i].io = io;
    }
    for (size_t i = 0; i < w->environment_count; i++) {
        t->environments[i] = w->environments[i];
        t->environments[i].medium = &t->media[w->environments[i].medium - w->media];
    }
    t->rig.media = t->media;
    t->rig.environments = t->environments;
    return true;
}

static bool same_boot(const struct mos_rehearsal *a, const struct mos_rehearsal *b) {
    return a->entry && b->entry && strcmp(a->entry, b->entry) == 0 && a->arguments &&
           b->arguments && strcmp(a->arguments, b->arguments) == 0;
}

/* Only the default entry needs it: this is what the fallback is for. */
static bool is_own(const struct trial *t, const struct mos_touched *x) {
    for (size_t i = 0; i < t->shared.count; i++) {
        const struct mos_touched *y = mos_vec_pointer(&t->shared, i);
        if (y->medium != x->medium || y->partition != x->partition)
            continue;
        if (!x->path || (y->path && strcmp(x->path, y->path) == 0))
            return false;
    }
    return true;
}

static enum outcome outcome_of(const struct trial *t, const char *fault,
                               const struct mos_rehearsal *r) {
    if (r->end != MOS_END_BOOTS)
        return r->end == MOS_END_UNKNOWN ? UNKNOWN : DEAD;
    if (!same_boot(r, t->sound))
        return FALLS;
    return fault == file_faults[HALF] || fault == file_faults[FLIPPED] ? UNSEEN : BOOTS;
}

static void note(struct trial *t, const char *thing, const char *fault, bool own,
                 const struct mos_rehearsal *r) {
    struct mos_arena *arena = t->m->arena;
    enum outcome outcome = outcome_of(t, fault, r);
    const char *reason = outcome == UNSEEN  ? "nothing checks it: it is used as it is"
                         : outcome == BOOTS ? NULL
                         : outcome == FALLS ? (r->entry ? r->entry : "another entry")
                                            : (r->reason ? r->reason : "");
    *(struct tried *)mos_vec_push(&t->tried) =
        (struct tried){mos_strdup(arena, thing), fault, reason ? mos_strdup(arena, reason) : NULL,
                       outcome, t->tried.count};
    t->counts[outcome]++;
    if (outcome == DEAD && own)
        mos_vec_push_pointer(&t->dead, mos_printf(arena, "%s %s", thing, fault));
}

static int worst_first(const void *a, const void *b) {
    const struct tried *x = a, *y = b;
    return x->outcome != y->outcome ? (x->outcome > y->outcome) - (x->outcome < y->outcome)
                                    : (x->order > y->order) - (x->order < y->order);
}

static void end(struct trial *t, const char *thing, const char *fault, bool own) {
    struct mos_rehearsal r;
    if (mos_rehearse(&t->ctx, &t->rig, &r))
        note(t, thing, fault, own, &r);
    else
        t->m->error = t->error;
    mos_arena_free(t->arena);
    t->arena = NULL;
}

/* ---- files ---- */

static struct mos_io window_of(struct trial *t, const struct mos_touched *x) {
    struct mos_io *io = t->media[x->medium - t->whole->rig.media].io;
    struct mos_vec problems = mos_vec_make(t->arena, sizeof(char *));
    struct mos_table_data table;
    bool has_table = x->partition && mos_table_read(io, t->arena, &table, &problems);
    const struct mos_partition *p = has_table ? mos_table_partition(&table, x->partition) : NULL;
    if (p)
        return mos_io_window(t->arena, io, p->first_lba * table.sector,
                             (p->last_lba - p->first_lba + 1) * table.sector);
    return mos_io_window(t->arena, io, 0, io->size);
}

struct content {
    const char *path;
    uint8_t *bytes;
    uint64_t size;
    bool taking;
};

static bool content_wanted(void *self, const struct mos_entry *e) {
    return strcmp(((struct content *)self)->path, e->path) == 0;
}
static bool content_entry(void *self, const struct mos_entry *e) {
    struct content *c = self;
    c->taking = e->type == MOS_ENTRY_FILE && strcmp(c->path, e->path) == 0;
    return true;
}
static bool content_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct content *c = self;
    if (c->taking && offset < c->size)
        memcpy(c->bytes + offset, bytes, (size_t)mos_min(length, c->size - offset));
    return true;
}

/* Changes one file through the file system's own editor. */
static bool break_file(struct trial *t, const struct mos_touched *x, enum file_fault fault) {
    struct mos_volume_info info;
    struct mos_io volume = window_of(t, x);
    const char *why;
    uint64_t before;
    if (!mos_fs_probe(&volume, t->arena, &info) || !info.driver || !info.driver->edit)
        return false;
    struct content c = {.path = x->path, .size = x->length};
    if (fault != MISSING) {
        struct mos_vec problems = mos_vec_make(t->arena, sizeof(char *));
        struct mos_sink sink = {&c, content_entry, content_data, mos_ignore_end};
        struct mos_read_request request = {
            .sink = &sink, .wants = content_wanted, .self = &c, .problems = &problems};
        c.bytes = mos_alloc(t->arena, (size_t)c.size + 1);
        if (!info.driver->stream(&t->ctx, &volume, &request))
            return false;
        c.bytes[c.size / 2] ^= fault == FLIPPED ? 0x10 : 0;
    }
    struct mos_editor *e = info.driver->edit(&t->ctx, &volume, 0, &why);
    if (!e)
        return false;
    struct mos_io content = mos_io_memory(t->arena, c.bytes, fault == HALF ? c.size / 2 : c.size);
    return (fault == MISSING ? e->remove(e, x->path, &before)
                             : e->put(e, x->path, &content, 0644, &before)) &&
           e->finish(e);
}

static void try_file(struct trial *t, const struct mos_touched *x) {
    const char *name =
        x->partition ? mos_printf(t->m->arena, "%s:%u %s", x->medium->name, x->partition, x->path)
                     : mos_printf(t->m->arena, "%s %s", x->medium->name, x->path);
    for (enum file_fault f = MISSING; f <= FLIPPED && x->length <= MOST_FILE; f++) {
        if ((f != MISSING && !x->length) || !begin(t))
            continue;
        if (break_file(t, x, f)) {
            end(t, name, file_faults[f], is_own(t, x));
        } else {
            mos_arena_free(t->arena);
            t->arena = NULL;
        }
    }
}

/* ---- regions ---- */

static void break_span(struct trial *t, size_t medium, uint64_t start, uint64_t length,
                       const char *name, const char *fault, bool own) {
    if (!begin(t))
        return;
    struct mos_io *io = mos_alloc(t->arena, sizeof *io);
    *io = mos_io_broken(t->arena, t->media[medium].io, start, length, EIO);
    t->media[medium].io = io;
    end(t, name, fault, own);
}

static void half_written(struct trial *t, size_t medium, uint64_t start, uint64_t length,
                         const char *name, bool own) {
    uint8_t zeros[16 << 10] = {0};
    if (!begin(t))
        return;
    struct mos_io *io = t->media[medium].io;
    /* what a write that stopped half way leaves: the rest as it was before, here nothing; only
     * stored spans matter */
    for (uint64_t at = start + length / 2, data, stop; at < start + length;) {
        if (mos_io_next_data(&t->whole->rig.media[medium].io[0], at, &data, &stop) ||
            data >= start + length)
            break;
        stop = mos_min(stop, start + length);
        for (at = mos_max(at, data); at < stop; at += sizeof zeros)
            mos_io_write(io, zeros, (size_t)mos_min(sizeof zeros, stop - at), at);
        at = stop;
    }
    end(t, name, "half written", own);
}

static void try_regions(struct trial *t) {
    const struct mos_rig *w = &t->whole->rig;
    for (size_t m = 0; m < w->media_count; m++) {
        struct mos_vec problems = mos_vec_make(t->m->arena, sizeof(char *));
        struct mos_table_data table;
        if (!mos_table_read(w->media[m].io, t->m->arena, &table, &problems))
            continue;
        for (size_t k = 0; k < table.partitions.count; k++) {
            const struct mos_partition *p = mos_vec_at(&table.partitions, k);
            uint64_t start = p->first_lba * table.sector;
            uint64_t length = (p->last_lba - p->first_lba + 1) * table.sector;
            const char *name =
                mos_printf(t->m->arena, "%s:%u %s", w->media[m].name, p->number, p->name);
            struct mos_touched x = {.medium = &w->media[m], .partition = p->number};
            bool own = is_own(t, &x);
            break_span(t, m, start, length, name, "unreadable", own);
            half_written(t, m, start, length, name, own);
        }
    }
}

/* ---- the environment ---- */

static void damage(struct mos_io *io, uint64_t at, uint64_t length, uint8_t with) {
    uint8_t bytes[4096];
    memset(bytes, with, sizeof bytes);
    for (uint64_t done = 0; done < length; done += sizeof bytes)
        mos_io_write(io, bytes, (size_t)mos_min(sizeof bytes, length - done), at + done);
}

static void try_environment(struct trial *t, size_t index) {
    static const char *const faults[] = {"lost", "torn", "first copy bad", "second copy bad"};
    const struct mos_rig_environment *e = &t->whole->rig.environments[index];
    bool two = e->copy_at != UINT64_MAX;
    for (size_t f = 0; f < (two ? 4u : 2u) && !e->file; f++) {
        if (!begin(t))
            return;
        struct mos_io *io = t->environments[index].medium->io;
        if (f != 3)
            damage(io, e->at + (f == 1 ? e->size / 2 : 0), f == 1 ? e->size / 2 : e->size, 0xff);
        if (two && (f == 0 || f == 3))
            damage(io, e->copy_at, e->size, 0xff);
        end(t, e->what, faults[f], false);
    }
}

static void try_unconfirmed(struct trial *t) {
    if (!begin(t))
        return;
    t->rig.never_confirms = true;
    end(t, "the system", "never confirms", true);
}

/* What a board with a fallback does not survive is a finding. */
static void judge(struct trial *t) {
    mosaicum *m = t->m;
    struct mos_buf b = {.arena = m->arena};
    if (!t->whole->fallback || (!t->dead.count && t->counts[FALLS]))
        return;
    for (size_t i = 0; i < t->dead.count && i < 4; i++)
        mos_buf_printf(&b, "%s%s", i ? "; " : "", (const char *)mos_vec_pointer(&t->dead, i));
    if (t->dead.count > 4)
        mos_buf_printf(&b, "; and %zu more", t->dead.count - 4);
    struct mos_finding *f = mos_find(
        &m->ctx.findings, MOS_RULE_BOOT_FALLBACK_FAILS,
        t->counts[FALLS] ? "The fallback does not hold in %zu of %zu cases."
                         : "Nothing that was broken leads to the fallback; %zu of %zu cases end "
                           "before it.",
        t->dead.count, t->tried.count);
    f->selector = t->whole->title;
    mos_finding_at(&m->ctx.findings, f, t->whole->claim);
    if (b.length)
        mos_finding_why(&m->ctx.findings, f, "%s.", mos_buf_string(&b));
    mos_finding_try(
        &m->ctx.findings, f,
        "Set tries: 3 in boot, and add panic: 10 and init: /sbin/init to the arguments: a kernel "
        "that finds no root or no init starts the board again then.");
}

/* What the last start of a board reads whose first entry never confirms, or whose root is gone. */
static struct mos_vec fallback_needs(struct trial *t) {
    struct mos_vec out = mos_vec_make(t->m->arena, sizeof(void *));
    struct mos_rehearsal r;
    if (!t->whole->fallback)
        return out;
    struct mos_rig rig = t->whole->rig;
    rig.never_confirms = true;
    if (!mos_rehearse(&t->m->ctx, &rig, &r) || r.end != MOS_END_BOOTS || same_boot(&r, t->sound))
        return out;
    for (size_t i = 0; i < r.files.count; i++) {
        const struct mos_touched *x = mos_vec_pointer(&r.files, i);
        if (x->start == r.starts)
            mos_vec_push_pointer(&out, x);
    }
    return out;
}

/* "7 of 31 faults leave avocet dead, 1 cannot be told, 8 are not noticed, …" */
static const char *sum_text(const struct trial *t) {
    static const char *const texts[OUTCOMES][2] = {
        [UNKNOWN] = {"cannot be told", "cannot be told"},
        [UNSEEN] = {"is not noticed", "are not noticed"},
        [FALLS] = {"boots the fallback", "boot the fallback"},
        [BOOTS] = {"changes nothing", "change nothing"}};
    struct mos_buf b = {.arena = t->m->arena};
    size_t dead = t->counts[DEAD], all = t->tried.count;
    mos_buf_printf(&b, "%zu of %zu fault%s leave%s %s dead", dead, all, all == 1 ? "" : "s",
                   dead == 1 ? "s" : "", t->whole->title);
    for (enum outcome o = UNKNOWN; o < OUTCOMES; o++)
        if (t->counts[o])
            mos_buf_printf(&b, ", %zu %s", t->counts[o], texts[o][t->counts[o] != 1]);
    mos_buf_text(&b, ".");
    return mos_buf_string(&b);
}

static void try_all(struct trial *t) {
    const struct mos_rehearsal *whole = t->sound;
    for (size_t i = 0; i < whole->files.count && t->tried.count < MOST_FAULTS && !t->m->error.kind;
         i++) {
        const struct mos_touched *x = mos_vec_pointer(&whole->files, i);
        bool seen = !x->path;
        for (size_t k = 0; k < i && !seen; k++) {
            const struct mos_touched *y = mos_vec_pointer(&whole->files, k);
            seen = y->path && y->medium == x->medium && y->partition == x->partition &&
                   strcmp(x->path, y->path) == 0;
        }
        if (!seen)
            try_file(t, x);
    }
    try_regions(t);
    for (size_t i = 0; i < t->whole->rig.environment_count; i++)
        try_environment(t, i);
    if (t->whole->fallback)
        try_unconfirmed(t);
}

struct run_faults rehearse_faults(mosaicum *m, const struct run_rig *rig,
                                  const struct mos_rehearsal *whole) {
    static const struct mosaicum_column columns[] = {{"result", "the board", false},
                                                     {"thing", "when", false},
                                                     {"fault", "is", false},
                                                     {"reason", "where it ends", false}};
    struct trial t = {.m = m,
                      .whole = rig,
                      .sound = whole,
                      .tried = mos_vec_make(m->arena, sizeof(struct tried)),
                      .dead = mos_vec_make(m->arena, sizeof(char *))};
    t.shared = fallback_needs(&t);
    try_all(&t);
    if (t.tried.count)
        qsort(t.tried.items, t.tried.count, sizeof(struct tried), worst_first);
    struct run_faults out = {report_start(&m->report, "faults", NULL, columns, 4), sum_text(&t),
                             t.counts[DEAD]};
    for (size_t i = 0; i < t.tried.count; i++) {
        const struct tried *x = mos_vec_at(&t.tried, i);
        (x->outcome <= UNKNOWN ? cell_alarm : cell_text)(&out.table, outcomes[x->outcome]);
        cell_text(&out.table, x->thing);
        cell_text(&out.table, x->fault);
        cell_text(&out.table, x->reason);
    }
    judge(&t);
    return out;
}
