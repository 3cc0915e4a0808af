/* Files and folders that a definition names: one place that looks whether they are there, are what
 * they should be, and lie where they may be read. */
#include "plan/steps.h"

#include "base/text.h"
#include "content/content.h"

#include <errno.h>
#include <string.h>

static struct mos_finding *cannot(struct mos_plan *plan, enum mos_rule_id rule, const char *what,
                                  const char *path, const char *problem, struct mos_place place) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, rule, "%s: %s %s.", what, path, problem);
    mos_finding_at(list, f, place);
    return f;
}

static void leads_out(struct mos_plan *plan, const char *what, const char *path,
                      struct mos_place place) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = cannot(plan, MOS_RULE_PIECE_PATH, what, path,
                                   "is a link that leads out of the workspace", place);
    mos_finding_why(list, f,
                    "Only what lies below the workspace, or below a folder that mosaicum.yaml "
                    "names under roots, is read.");
    mos_finding_try(list, f,
                    "Put a copy of it into the workspace, or name its folder under roots.");
}

/* A name in the same folder that is meant, perhaps; NULL: there is none. */
static const char *near_path(struct mos_plan *plan, const char *path, const char *full) {
    struct mos_arena *arena = plan->ctx->arena;
    const char *slash = strrchr(path, '/'), *name = slash ? slash + 1 : path;
    struct mos_vec names;
    if (!*name || mos_folder_names(plan->ctx, mos_path_folder(arena, full), &names) || !names.count)
        return NULL;
    const char *near = mos_near(name, (const char *const *)names.items, names.count);
    return near ? mos_printf(arena, "%.*s%s", (int)(name - path), path, near) : NULL;
}

static void not_there(struct mos_plan *plan, const char *what, const char *path, const char *full,
                      int e, enum mos_file_kind want, struct mos_place place) {
    const char *problem = e == ENOENT || e == ENOTDIR ? "is not there"
                          : e                         ? mos_errno_text(e)
                          : want == MOS_FILE_FOLDER   ? "is not a folder"
                                                      : "is not a file";
    struct mos_finding *f = cannot(plan, MOS_RULE_PIECE_MISSING, what, path, problem, place);
    const char *near = e == ENOENT ? near_path(plan, path, full) : NULL;
    if (near)
        mos_finding_try(&plan->ctx->findings, f, "Write %s.", near);
    else if (e == ENOENT)
        mos_finding_try(&plan->ctx->findings, f,
                        want == MOS_FILE_FOLDER
                            ? "Make the folder, or correct the path (it starts at the workspace)."
                            : "Put the file there, or correct the path (it starts at the "
                              "workspace).");
}

bool mos_plan_reach(struct mos_plan *plan, const char *path, enum mos_file_kind want,
                    const char *what, struct mos_place place, const char **full,
                    struct mos_file_info *info) {
    struct mos_ctx *ctx = plan->ctx;
    *full = mos_workspace_path(ctx, plan->board->root, path);
    if (!*full) {
        struct mos_finding *f =
            cannot(plan, MOS_RULE_PIECE_PATH, what, path,
                   "begins with a root that mosaicum.yaml does not name", place);
        mos_finding_try(&ctx->findings, f, "Add roots: {NAME: FOLDER} to mosaicum.yaml.");
        return false;
    }
    int e = ctx->host->info(ctx->host, *full, true, info);
    bool either =
        want == MOS_FILE_OTHER && (info->kind == MOS_FILE_REGULAR || info->kind == MOS_FILE_FOLDER);
    if (!e && (info->kind == want || either))
        return true;
    if (e == MOS_OUT_OF_REACH)
        leads_out(plan, what, path, place);
    else
        not_there(plan, what, path, *full, e, want, place);
    return false;
}

const struct mos_source *mos_plan_source(struct mos_plan *plan, const struct mos_value *path,
                                         const char *what) {
    enum { TEXT_LIMIT = 64 << 20 };
    struct mos_file_info info;
    const char *full;
    if (!mos_plan_reach(plan, path->text, MOS_FILE_REGULAR, what, path->place, &full, &info))
        return NULL;
    return mos_source_load(plan->ctx, full, path->text, TEXT_LIMIT);
}
