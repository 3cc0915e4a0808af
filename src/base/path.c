/* Paths as texts, and how they are shown. */
#include "base/ctx.h"

#include <assert.h>
#include <string.h>

const char *mos_path_join(struct mos_arena *arena, const char *folder, const char *name) {
    assert(folder && name);
    if (!*folder || strcmp(folder, ".") == 0)
        return mos_strdup(arena, name);
    size_t n = strlen(folder);
    return mos_printf(arena, "%s%s%s", folder, folder[n - 1] == '/' ? "" : "/", name);
}

const char *mos_workspace_path(const struct mos_ctx *ctx, const char *root, const char *path) {
    size_t n = *path == '<' ? strcspn(path, ">") : 0;
    if (!n || path[n] != '>' || (path[n + 1] && path[n + 1] != '/'))
        return mos_path_join(ctx->arena, root, path);
    for (size_t i = 0; i < ctx->root_count; i++)
        if (strlen(ctx->roots[i].name) == n - 1 && memcmp(ctx->roots[i].name, path + 1, n - 1) == 0)
            return mos_path_join(ctx->arena, ctx->roots[i].path,
                                 path + n + 1 + (path[n + 1] == '/'));
    return NULL;
}

const char *mos_path_folder(struct mos_arena *arena, const char *path) {
    const char *slash = strrchr(path, '/');
    if (!slash)
        return ".";
    return slash == path ? "/" : mos_strndup(arena, path, (size_t)(slash - path));
}
