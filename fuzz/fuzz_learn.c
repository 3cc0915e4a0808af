/* What a board says at a prompt.  The first byte is even: an answer to every question, as it is
 * stored; whatever they are, the definition that is drafted of them can be read.  It is odd: a
 * terminal, in pieces with their times, to who is greeted there and to who logs in and asks; both
 * come to an end, and type no more than they may. */
#include "harness.h"

#include "learning/greeting.h"
#include "link/shell.h"
#include "model/model.h"
#include "model/schema.h"
#include "mosaicum/mosaicum.h"

#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

/* ---- answers ---- */

static char folder[64];

static void remove_folder(void) {
    char command[100];
    snprintf(command, sizeof command, "rm -rf '%s'", folder);
    if (*folder && system(command))
        abort();
}

static const char *make_folder(void) {
    if (!*folder) {
        snprintf(folder, sizeof folder, "/dev/shm/mosaicum-learn.XXXXXX");
        if (!mkdtemp(folder)) {
            snprintf(folder, sizeof folder, "/tmp/mosaicum-learn.XXXXXX");
            if (!mkdtemp(folder))
                abort();
        }
        atexit(remove_folder);
    }
    return folder;
}

static const char *in_folder(struct mos_ctx *ctx, const char *name) {
    return mos_path_join(ctx->arena, folder, name);
}

static void forget(struct mos_ctx *ctx) {
    static const char *const names[] = {
        "boards/told.yaml",   "loader/told.config", "loader/told-variables.txt",
        "kernel/told.config", "tree/told.dtb",      "learned/told.txt",
        "mosaicum.yaml"};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        unlink(in_folder(ctx, names[i]));
}

static void answers(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    make_folder();
    forget(ctx);
    const char *stored = in_folder(ctx, "stored.txt");
    FILE *f = fopen(stored, "w");
    if (!f || fwrite(data, 1, size, f) != size || fclose(f))
        abort();
    struct mosaicum_options o = {.host = ctx->host, .workspace = folder, .no_run = true};
    struct mosaicum_learn request = {.name = "told", .stored = stored};
    mosaicum *m = mosaicum_new(&o);
    if (!m)
        return;
    enum mosaicum_status status = mosaicum_learn(m, &request);
    mosaicum_free(m);
    const char *draft = in_folder(ctx, "boards/told.yaml");
    if (status)
        return;
    const struct mos_source *s = mos_source_load(ctx, draft, draft, 64 << 20);
    struct mos_board *board = mos_alloc(ctx->arena, sizeof *board);
    struct mos_node *node = s ? mos_yaml_parse(ctx, s) : NULL;
    if (!node)
        abort();
    mos_schema_read(ctx, &mos_board_keys, node, MOS_READ_WHOLE, board);
    if (mos_findings_count(&ctx->findings, MOS_SEVERITY_ERROR))
        abort();
}

/* ---- a terminal ---- */

struct pieces {
    const uint8_t *data;
    size_t size;
    int64_t at; /* when the next one comes */
};

/* The bytes that are there by now. */
static size_t next_piece(struct pieces *p, int64_t now, const uint8_t **bytes) {
    if (p->size < 2 || p->at > now)
        return 0;
    size_t n = p->data[1] < p->size - 2 ? p->data[1] : p->size - 2;
    *bytes = p->data + 2;
    p->at = now + p->data[0] * 20 * MS;
    p->data += 2 + n;
    p->size -= 2 + n;
    return n;
}

static void greet(struct mos_ctx *ctx, struct pieces p) {
    enum { WITHIN = 30 };
    struct mos_greeting g;
    size_t typed = 0;
    int64_t now = 0;
    mos_greeting_begin(&g, ctx->arena, "\003", WITHIN * SECOND, now);
    while (g.state == MOS_GREETING_LISTENS) {
        const uint8_t *bytes = NULL;
        size_t n = next_piece(&p, now, &bytes);
        mos_greeting_hear(&g, bytes, n, now);
        typed += strlen(mos_greeting_next(&g, now));
        int64_t due = mos_greeting_due(&g, now);
        if (now > (WITHIN + 1) * SECOND || typed > 500)
            abort();
        now = p.size >= 2 && p.at < due && p.at > now ? p.at : due > now ? due : now + MS;
    }
    if (strlen(g.prompt) >= sizeof g.prompt || (g.state == MOS_GREETING_PROMPT && !*g.prompt))
        abort();
}

static void log_in(struct mos_ctx *ctx, struct pieces p) {
    struct mos_shell s;
    int64_t now = 0;
    unsigned commands = 0;
    mos_shell_begin(&s, ctx->arena, "root", "low water", 30 * SECOND, now);
    while (s.state != MOS_SHELL_FAILED && commands < 4) {
        const uint8_t *bytes = NULL;
        uint8_t out[200];
        if (s.state == MOS_SHELL_READY) {
            if (commands && (strchr(s.output, '\r') || strchr(s.output, 0x1b)))
                abort();
            commands++;
            mos_shell_run(&s, "cat /proc/cmdline", 5 * SECOND, now);
        }
        size_t n = next_piece(&p, now, &bytes);
        mos_shell_hear(&s, bytes, n, now);
        if (mos_shell_next(&s, now, out, sizeof out) > MOS_SHELL_AT_ONCE)
            abort();
        int64_t due = mos_shell_due(&s, now);
        if (now > 1000 * SECOND)
            abort();
        now = p.size >= 2 && p.at < due && p.at > now ? p.at : due > now ? due : now + MS;
    }
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    if (!size)
        return;
    struct pieces p = {.data = data + 1, .size = size - 1};
    if (data[0] % 2 == 0) {
        answers(ctx, data + 1, size - 1);
        return;
    }
    greet(ctx, p);
    log_in(ctx, p);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
