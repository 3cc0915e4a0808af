/* Pieces that a command makes: run in a build only, in a clean environment and with a time limit,
 * and only when an input has changed since. */
#include "plan/made/made.h"

#include "base/bytes.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

enum { MINUTES = 10, LOG_LIMIT = 64 << 20 };

/* ---- has an input changed? ---- */

struct digest {
    struct mos_sha256 *hash;
};

static bool digest_entry(void *self, const struct mos_entry *e) {
    struct digest *d = self;
    uint8_t head[16] = {(uint8_t)e->type, (uint8_t)e->mode, (uint8_t)(e->mode >> 8)};
    mos_put_le64(head + 8, e->size);
    mos_sha256_update(d->hash, head, sizeof head);
    mos_sha256_update(d->hash, e->path, strlen(e->path) + 1);
    if (e->type == MOS_ENTRY_LINK)
        mos_sha256_update(d->hash, e->target, strlen(e->target) + 1);
    return true;
}

static bool digest_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct digest *d = self;
    uint8_t head[8];
    mos_put_le64(head, offset);
    mos_sha256_update(d->hash, head, sizeof head);
    mos_sha256_update(d->hash, bytes, length);
    return true;
}

static bool digest_end(void *self, uint64_t sum) {
    (void)self;
    (void)sum;
    return true;
}

/* The hash of the command and of all it is made from; false when an input is missing. */
static bool input_hash(struct mos_plan *plan, const struct mos_piece_plan *p,
                       struct mos_sha256 *hash, bool *missing) {
    const struct mos_made_by *m = p->def->made_by;
    struct digest d = {hash};
    const char *what = mos_printf(plan->ctx->arena, "Piece %s is made from this", p->def->r.name);
    struct mos_sink sink = {&d, digest_entry, digest_data, digest_end};
    for (size_t i = 0; i < m->run.count; i++)
        mos_sha256_update(hash, m->run.items[i]->text, strlen(m->run.items[i]->text) + 1);
    for (size_t i = 0; i < m->inputs.count; i++) {
        const struct mos_value *v = m->inputs.items[i];
        struct mos_file_info info;
        const char *path;
        if (!mos_has(v))
            continue;
        if (!mos_plan_reach(plan, v->text, MOS_FILE_OTHER, what, v->place, &path, &info)) {
            *missing = true;
            continue;
        }
        struct mos_entry as = {.path = v->text, .mode = info.mode & 0111 ? 0755 : 0644};
        if (info.kind == MOS_FILE_FOLDER ? !mos_folder_stream(plan->ctx, path, 0, &sink)
                                         : !mos_file_stream(plan->ctx, path, &as, &sink, NULL))
            return false;
    }
    return true;
}

/* ---- running ---- */

/* A log or a state: without it the work is done again, so failing is no error. */
static void keep_text(struct mos_plan *plan, const char *path, const char *text, size_t length) {
    struct mos_error ignored = {0}, *saved = plan->ctx->error;
    plan->ctx->error = &ignored;
    mos_write_file(plan->ctx, path, text, length);
    plan->ctx->error = saved;
}

static const char *absolute(struct mos_plan *plan, const char *path) {
    char *real;
    if (plan->ctx->host->real_path(plan->ctx->host, mos_path_folder(plan->ctx->arena, path), &real))
        return path;
    const char *slash = strrchr(path, '/');
    const char *out = mos_path_join(plan->ctx->arena, real, slash ? slash + 1 : path);
    free(real);
    return out;
}

/* The last lines that a command printed, one below the other, as a part of an error. */
static const char *last_lines(struct mos_plan *plan, const struct mos_buf *log) {
    enum { LINES = 8, LONGEST = 160 };
    struct mos_buf out = {.arena = plan->ctx->arena};
    const char *lines[LINES];
    size_t lengths[LINES], count = 0;
    for (size_t end = log->length, at; end && count < LINES; end = at ? at - 1 : 0) {
        for (at = end; at && log->data[at - 1] != '\n';)
            at--;
        if (end == at)
            continue;
        lines[count] = log->data + at;
        lengths[count++] = end - at;
    }
    while (count--)
        mos_buf_printf(&out, "\n  | %.*s%s", (int)mos_min(lengths[count], LONGEST), lines[count],
                       lengths[count] > LONGEST ? " …" : "");
    return out.length ? mos_buf_string(&out) : "\n  | (it printed nothing)";
}

static bool run_command(struct mos_plan *plan, const struct mos_piece_plan *p, const char *out,
                        const char *log) {
    const struct mos_made_by *m = p->def->made_by;
    struct mos_ctx *ctx = plan->ctx;
    const char **arguments = mos_alloc_array(ctx->arena, m->run.count + 1, sizeof *arguments);
    for (size_t i = 0; i < m->run.count; i++)
        arguments[i] = m->run.items[i]->text;
    const char *const environment[] = {
        mos_printf(ctx->arena, "MOSAICUM_OUT=%s", absolute(plan, out)),
        mos_printf(ctx->arena, "MOSAICUM_PIECE=%s", p->def->r.name),
        mos_printf(ctx->arena, "SOURCE_DATE_EPOCH=%lld", (long long)plan->board->date), NULL};
    unsigned minutes = mos_has(m->minutes) ? (unsigned)m->minutes->number : MINUTES;
    struct mos_program program = {.arguments = arguments,
                                  .environment = environment,
                                  .folder = plan->board->root,
                                  .output_limit = LOG_LIMIT,
                                  .seconds = minutes * 60};
    struct mos_program_result r = {0};
    int e = ctx->host->run(ctx->host, &program, &r);
    struct mos_buf text = {.arena = ctx->arena};
    mos_buf_add(&text, r.output, r.output ? r.output_length : 0);
    mos_buf_add(&text, r.errors, r.errors ? r.errors_length : 0);
    keep_text(plan, log, mos_buf_string(&text), text.length);
    free(r.output);
    free(r.errors);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Piece %s: cannot run %s", p->def->r.name,
                        arguments[0]);
    if (r.overflow)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0,
                        "Piece %s: %s was ended, for it printed more than %d MiB; its log is %s",
                        p->def->r.name, arguments[0], LOG_LIMIT >> 20, log);
    if (r.timeout)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0,
                        "Piece %s: %s took longer than %u min; run build again to go on.  Its log "
                        "is %s and ends with%s",
                        p->def->r.name, arguments[0], minutes, log, last_lines(plan, &text));
    if (r.status)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0,
                        "Piece %s: %s ended with status %d; run build again to go on.  Its log is "
                        "%s and ends with%s",
                        p->def->r.name, arguments[0], r.status, log, last_lines(plan, &text));
    return true;
}

/* The hash of the inputs and that of the file they gave, in one text. */
static bool state_text(struct mos_plan *plan, const struct mos_piece_plan *p, const char inputs[65],
                       const char **out) {
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    if (!mos_hash_file(plan->ctx->host, p->path, hash, plan->ctx->error))
        return false;
    mos_sha256_hex(hash, hex);
    *out = mos_printf(plan->ctx->arena, "inputs %s\nmade %s\n", inputs, hex);
    return true;
}

static bool is_current(struct mos_plan *plan, const struct mos_piece_plan *p, const char *state,
                       const char inputs[65]) {
    char *data;
    size_t length;
    const char *now;
    return mos_exists(plan->ctx, p->path) && mos_exists(plan->ctx, state) &&
           mos_read_aside(plan->ctx, state, 4096, &data, &length) &&
           state_text(plan, p, inputs, &now) && strcmp(now, data) == 0;
}

static bool make_now(struct mos_plan *plan, struct mos_piece_plan *p, const char *state,
                     const char *log, const char inputs[65]) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_host *h = ctx->host;
    const char *part = mos_printf(ctx->arena, "%s.part", p->path), *text;
    p->made_log = log;
    if (!run_command(plan, p, part, log))
        return false;
    if (!mos_exists(ctx, part))
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0,
                        "Piece %s: the command ended well but wrote no file $MOSAICUM_OUT; "
                        "its log is %s",
                        p->def->r.name, log);
    int e = h->rename(h, part, p->path);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", p->path);
    if (!state_text(plan, p, inputs, &text))
        return false;
    keep_text(plan, state, text, strlen(text));
    return true;
}

bool mos_plan_commands_begin(struct mos_plan *plan) {
    struct mos_ctx *ctx = plan->ctx;
    const char *folder = mos_path_join(ctx->arena, plan->board->root, "made"),
               *path = mos_path_join(ctx->arena, folder, ".lock");
    int lock, e = ctx->host->make_folder(ctx->host, folder);
    assert(!ctx->held);
    e = e ? e : ctx->host->lock(ctx->host, path, "commands", true, &lock);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot lock %s", folder);
    ctx->held = lock + 1;
    return true;
}

void mos_plan_commands_end(struct mos_plan *plan) {
    assert(plan->ctx->held);
    plan->ctx->host->close(plan->ctx->host, plan->ctx->held - 1);
    plan->ctx->held = 0;
}

static bool make_once(struct mos_plan *plan, struct mos_piece_plan *p, const char *state,
                      const char *log, const char inputs[65]) {
    struct mos_ctx *ctx = plan->ctx;
    int e = ctx->host->make_folder(ctx->host, mos_path_folder(ctx->arena, p->path));
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot make the folder of %s", p->path);
    if (!mos_plan_commands_begin(plan))
        return false;
    bool good = is_current(plan, p, state, inputs) ||
                (!ctx->error->kind && make_now(plan, p, state, log, inputs));
    mos_plan_commands_end(plan);
    return good;
}

bool mos_plan_make_piece(struct mos_plan *plan, struct mos_piece_plan *p, bool *current) {
    struct mos_ctx *ctx = plan->ctx;
    const char *base = mos_printf(ctx->arena, "made/%s", p->def->r.name);
    const char *state =
        mos_path_join(ctx->arena, plan->board->root, mos_printf(ctx->arena, "%s.state", base));
    const char *log =
        mos_path_join(ctx->arena, plan->board->root, mos_printf(ctx->arena, "%s.log", base));
    uint8_t hash[MOS_SHA256_SIZE];
    char inputs[65];
    bool missing = false;
    *current = false;
    struct mos_sha256 *h = mos_sha256_new();
    bool ok = h && input_hash(plan, p, h, &missing);
    if (h)
        mos_sha256_final(h, hash);
    mos_sha256_free(h);
    if (!ok)
        return false;
    if (missing)
        return true;
    mos_sha256_hex(hash, inputs);
    *current = is_current(plan, p, state, inputs);
    if (*current || ctx->error->kind || !ctx->may_make || ctx->no_run)
        return ctx->error->kind == MOS_ERROR_NONE;
    return *current = make_once(plan, p, state, log, inputs);
}
