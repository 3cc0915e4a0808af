#include "model/schema.h"

#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

/* Nothing states a date: a fixed one, so that outputs stay the same. */
enum { FIXED_DATE = 1767225600 }; /* 2026-01-01 */

struct lister {
    struct mos_ctx *ctx;
    struct mos_vec *names;
};

static bool add_board(void *self, const char *name) {
    struct lister *l = self;
    size_t n = strlen(name);
    if (n > 5 && strcmp(name + n - 5, ".yaml") == 0 && name[0] != '.')
        mos_vec_push_pointer(l->names, mos_strndup(l->ctx->arena, name, n - 5));
    return true;
}

static int by_name(const void *a, const void *b) {
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

static void list_boards(struct mos_ctx *ctx, struct mos_workspace *w) {
    struct lister l = {ctx, &w->board_names};
    ctx->host->list(ctx->host, mos_path_join(ctx->arena, w->root, "boards"), add_board, &l);
    if (w->board_names.count)
        qsort(w->board_names.items, w->board_names.count, sizeof(char *), by_name);
}

struct mos_workspace *mos_workspace_load(struct mos_ctx *ctx, const char *root) {
    const struct mos_source *source = mos_source_load(
        ctx, mos_path_join(ctx->arena, root, "mosaicum.yaml"), "mosaicum.yaml", MOS_YAML_LIMIT);
    if (!source) {
        ctx->error->kind = MOS_ERROR_USAGE;
        return NULL;
    }
    struct mos_node *node = mos_yaml_parse(ctx, source);
    if (!node)
        return NULL;
    struct mos_workspace *w = mos_alloc(ctx->arena, sizeof *w);
    mos_schema_read(ctx, &mos_workspace_keys, node, w);
    w->root = root;
    w->board_names = mos_vec_make(ctx->arena, sizeof(char *));
    list_boards(ctx, w);
    return w;
}

static int64_t choose_date(struct mos_ctx *ctx, const struct mos_workspace *w) {
    uint64_t seconds;
    if (mos_has(w->date))
        return (int64_t)w->date->number;
    const char *epoch = ctx->host->environment(ctx->host, "SOURCE_DATE_EPOCH");
    if (epoch && mos_integer_parse(epoch, &seconds) == MOS_NUMBER_OK && seconds <= UINT32_MAX)
        return (int64_t)seconds;
    return FIXED_DATE;
}

static void name_agrees(struct mos_ctx *ctx, const struct mos_board *board, const char *name) {
    if (!mos_has(board->board) || strcmp(board->board->text, name) == 0)
        return;
    struct mos_finding *f =
        mos_find(&ctx->findings, MOS_RULE_BOARD_SCHEMA,
                 "This file is boards/%s.yaml, but its board is %s.", name, board->board->text);
    mos_finding_at(&ctx->findings, f, board->board->place);
    mos_finding_try(&ctx->findings, f, "board: %s, or rename the file.", name);
}

struct mos_board *mos_board_load(struct mos_ctx *ctx, const struct mos_workspace *workspace,
                                 const char *name) {
    const char *shown = mos_printf(ctx->arena, "boards/%s.yaml", name);
    ctx->findings.selector = mos_strdup(ctx->arena, name);
    const struct mos_source *source = mos_source_load(
        ctx, mos_path_join(ctx->arena, workspace->root, shown), shown, MOS_YAML_LIMIT);
    if (!source) {
        ctx->error->kind = MOS_ERROR_USAGE;
        return NULL;
    }
    struct mos_node *node = mos_yaml_parse(ctx, source);
    if (!node)
        return NULL;
    struct mos_board *board = mos_alloc(ctx->arena, sizeof *board);
    mos_schema_read(ctx, &mos_board_keys, node, board);
    board->r.name = mos_strdup(ctx->arena, name);
    board->workspace_name = mos_text_or(workspace->name, "unnamed");
    board->root = workspace->root;
    board->date = choose_date(ctx, workspace);
    name_agrees(ctx, board, name);
    mos_schema_refer(ctx, board);
    return board;
}
